//! What is counted while the service runs.

use parking_lot::Mutex;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// What is counted while the service runs. Each worker counts for itself.
#[derive(Debug, Default)]
pub struct Counters {
    all: Mutex<Vec<Arc<Counter>>>,
}

/// What one worker counts.
#[derive(Debug, Default)]
#[repr(align(128))]
pub struct Counter {
    answered: AtomicU64,
    sent: AtomicU64,
}

impl Counters {
    /// A counter for one worker.
    pub fn add(&self) -> Arc<Counter> {
        let counter = Arc::new(Counter::default());
        self.all.lock().push(Arc::clone(&counter));
        counter
    }

    /// Requests answered, and body bytes sent.
    pub fn sum(&self) -> (u64, u64) {
        let all = self.all.lock();
        let sum =
            |of: fn(&Counter) -> &AtomicU64| all.iter().map(|one| of(one).load(Ordering::Relaxed)).sum();
        (sum(|one| &one.answered), sum(|one| &one.sent))
    }
}

impl Counter {
    /// Counts one request, and the bytes of its body.
    pub fn count(&self, bytes: u64) {
        self.answered.fetch_add(1, Ordering::Relaxed);
        self.sent.fetch_add(bytes, Ordering::Relaxed);
    }
}
