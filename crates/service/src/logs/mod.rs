//! Lines: appended, rotated, and taken into the records.
//!
//! - [`journal`]: files that lines are written to, their generations and layouts
//! - [`access_log`], [`error_log`]: what those lines say; [`error_reading`]: errors read back
//! - [`erasing`]: one client's lines taken out of them
//! - [`ingest`]: the lines into the records; [`closed_days`]: surveys of closed days, which are kept;
//!   [`retention`]: what is no longer kept; [`background_counter`]: what counts for both

pub mod access_log;
pub mod background_counter;
pub mod closed_days;
pub mod erasing;
pub mod error_log;
pub mod error_reading;
pub mod ingest;
pub mod journal;
mod retention;
pub mod view;
