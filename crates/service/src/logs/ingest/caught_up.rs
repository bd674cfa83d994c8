//! Up to when everything that was written to the logs is in the records: whoever judges by what is not there has to know it.

use std::sync::atomic::{AtomicI64, Ordering};

/// A second since 1970 UTC; 0 before everything has been read once.
#[derive(Debug, Default)]
pub struct CaughtUp(AtomicI64);

impl CaughtUp {
    /// Everything that was written by then has been read.
    pub fn set(&self, second: i64) {
        self.0.store(second, Ordering::SeqCst);
    }

    /// The second before which everything has been read; nothing while the logs are read for the first time.
    pub fn until(&self) -> Option<i64> {
        Some(self.0.load(Ordering::SeqCst)).filter(|second| *second > 0)
    }
}
