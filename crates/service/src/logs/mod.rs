//! Lines: appended, rotated, and taken into the records.
//!
//! - [`journal`]: files that lines are written to, their generations and layouts
//! - [`access_log`], [`error_log`]: what those lines say
//! - [`ingest`]: the lines into the records; [`closed_days`]: surveys of closed days, which are kept

pub mod access_log;
pub mod closed_days;
pub mod error_log;
pub mod ingest;
pub mod journal;
