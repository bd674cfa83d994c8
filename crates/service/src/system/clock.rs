//! A clock that costs nothing to read: somebody brings it up to date from time to time.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

/// Milliseconds since it was made, as of the last tick. Reading it costs nothing.
#[derive(Debug)]
pub struct Clock {
    began: Instant,
    ticked: AtomicU64,
}

impl Clock {
    /// A clock that begins now.
    pub fn new() -> Arc<Self> {
        Arc::new(Clock { began: Instant::now(), ticked: AtomicU64::new(0) })
    }

    /// Brings it up to date.
    pub fn tick(&self) {
        let now = u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX);
        self.ticked.fetch_max(now, Ordering::Relaxed);
    }

    /// Puts it to a time.
    #[cfg(test)]
    pub fn put(&self, milliseconds: u64) {
        self.ticked.store(milliseconds, Ordering::Relaxed);
    }

    /// Milliseconds, at most a tick old.
    pub fn now(&self) -> u64 {
        self.ticked.load(Ordering::Relaxed)
    }
}
