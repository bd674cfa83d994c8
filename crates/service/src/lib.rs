//! The service: sockets in front, the core in the middle, disk behind.
//!
//! - [`preflight`]: what must be there before it starts
//! - [`running`]: starting and stopping everything in order
//! - [`connections`]: sockets, workers, time-outs; [`forwarded`]: whose word is believed
//! - [`respond`]: one request; [`attempt`]: answering it from memory, or saying what is lacking
//! - [`disk`]: the sites' folders, and small files in memory; [`encodings`]: their encodings, which settle
//! - [`body`]: what goes out, by way of [`buffers`]; [`finished`]: what is written down when it has gone
//! - [`journal`]: files that lines are written to; [`access_log`], [`error_log`]: what those lines say
//! - [`ingest`]: the lines into the records
//! - [`console`]: the console, its API and who may use them

pub mod access_log;
pub mod attempt;
pub mod body;
pub mod buffers;
pub mod connections;
pub mod console;
pub mod disk;
pub mod encodings;
pub mod error_log;
pub mod finished;
pub mod forwarded;
pub mod ingest;
pub mod journal;
pub mod preflight;
pub mod respond;
pub mod running;

pub use preflight::{preflight, raise_open_files};
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
