//! What the service remembers, in two SQLite databases.
//!
//! `requests.db` holds the requests of the access logs as columns and can always be rebuilt from them
//! ([`records`]). `exedra.db` holds what cannot be rebuilt ([`secrets`]: sign-in links, sessions,
//! tokens; [`accounts`]: who may sign in by a name and a password; [`changes`]: what was changed, and by
//! whom; [`imports`]: logs of elsewhere; [`queries`]: statements; [`revisions`]: configurations; [`tallies`]: what remains of days whose requests are
//! no longer kept; [`watching`]: what has been told of alerts, and messages that wait; [`acting`]: findings set aside, and changes with what they
//! promised).
//!
//! - [`backup`]: both, copied while they are used, and brought back
//! - [`database`]: opening, migrating; damage, and what becomes of it
//! - [`salvage`]: what can be read of a damaged table
//! - [`schema`]: the tables, for Diesel

pub mod accounts;
pub mod acting;
pub mod backup;
pub mod changes;
pub mod database;
mod grant;
pub mod imports;
pub mod queries;
pub mod records;
pub mod revisions;
mod salvage;
pub mod schema;
pub mod secrets;
pub mod tallies;
pub mod watching;

pub use accounts::{Account, AccountChange, Accounts};
pub use acting::{Acting, Publication, PublicationState, SetAside};
pub use changes::{Change, ChangeRecord};
pub use database::{StoreError, Trouble};
pub use imports::{Import, Imports};
pub use queries::{Keeping, KeptQueries, KeptQuery};
pub use records::{Checkpoint, LogState, Records, Snapshot};
pub use revisions::{Revision, Revisions};
pub use secrets::{Holder, IssuedSecret, Purpose, Secrets};
pub use tallies::Tallies;
pub use watching::Watching;
