//! The service: sockets in front, the core in the middle, disk behind.
//!
//! A folder for each of its jobs, from the top floor down; each uses only those below it:
//!
//! - [`run`]: starting and stopping everything in order
//! - [`console`]: the console, its API and who may use them
//! - [`jobs`]: what it does by itself: alerts, messages
//! - [`control`]: the configuration in force and how it changes; checking, explaining, what strangers could reach
//! - [`connections`]: sockets, TLS, workers, time-outs
//! - [`request`]: one request: resolved, answered, sent, written down
//! - [`active`]: the configuration in force, with all that belongs to it
//! - [`logs`]: lines appended, rotated, and taken into the records
//! - [`access`]: logins, limits, shares, forwarded addresses, certificates
//! - [`content`]: files, what folders say of themselves, encodings, and what is remembered of them
//! - [`system`]: what several rooms need of the operating system

pub mod access;
pub mod active;
pub mod connections;
pub mod console;
pub mod content;
pub mod control;
pub mod jobs;
pub mod logs;
pub mod request;
pub mod run;
pub mod system;
#[cfg(test)]
mod testing;

pub use control::StartError;
pub use control::preflight::{preflight, raise_open_files};
pub use run::{Running, start};
