//! The configuration in force and how it changes; and what is told of it.
//!
//! - [`configuration`]: reading it; [`checking`]: what is wrong with it; [`changes`]: bringing it into force
//! - [`preflight`]: what must be there before it starts; [`start_error`]: why it could not
//! - [`runtime`]: what stays while configurations come and go
//! - [`on_disk`]: the sites' folders for whoever can wait for the disk: [`explaining`] why a request is answered as it is,
//!   and [`exposure`], what strangers could reach and should not; [`rehearsing`]: them for rehearsals; [`inventory`]: what is in them; [`weighing`]: what compression makes of their files

pub mod changes;
pub mod checking;
pub mod configuration;
pub mod explaining;
pub mod exposure;
pub mod inventory;
pub mod on_disk;
pub mod preflight;
pub mod rehearsing;
pub mod runtime;
pub mod start_error;
pub mod weighing;

pub use start_error::StartError;
