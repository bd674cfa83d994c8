//! Who may come, go where, and how often.
//!
//! - [`guards`]: names and passwords; [`limits`]: how much one client may take
//! - [`descriptors`]: how many there are, and who may have them
//! - [`forwarded`]: whose word is believed about where a request comes from; [`authority`]: which host is asked
//! - [`certificates`]: how HTTPS is secured; [`countries`]: where addresses are

pub mod allowance;
pub mod authority;
pub mod certificates;
pub mod countries;
pub mod descriptors;
pub mod forwarded;
pub mod guards;
pub mod limits;
