//! The service: sockets in front, the core in the middle, disk behind.
//!
//! - [`preflight`]: what must be there before it starts
//! - [`running`]: starting and stopping everything in order
//! - [`listen`]: connections; [`respond`]: one request; [`forwarded`]: whose word is believed
//! - [`disk`]: the sites' folders, and small files in memory; [`encodings`]: their encodings, which settle
//! - [`body`]: what goes out
//! - [`access_log`]: one line for each request; [`ingest`]: the lines into the records
//! - [`console`]: the console, its API and who may use them

pub mod access_log;
pub mod body;
pub mod console;
pub mod disk;
pub mod encodings;
pub mod forwarded;
pub mod ingest;
pub mod listen;
pub mod preflight;
pub mod respond;
pub mod running;

pub use preflight::preflight;
pub use running::{Running, StartError, start};

use std::sync::atomic::AtomicU64;

/// What is counted while the service runs.
#[derive(Debug, Default)]
pub struct Counters {
    /// Requests answered.
    pub answered: AtomicU64,
    /// Body bytes sent.
    pub sent: AtomicU64,
}
