//! What the service does by itself, minute by minute.
//!
//! - [`alerts`]: looks at the alerts of the configuration and decides what there is to be told
//! - [`messages`]: what recipients are told, until it is delivered

pub mod alerts;
pub mod messages;
