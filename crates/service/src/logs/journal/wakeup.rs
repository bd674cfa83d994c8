//! What wakes the thread that writes, and lets it sleep.

use parking_lot::{Condvar, Mutex};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// What wakes the thread.
#[derive(Default)]
pub struct Wakeup {
    /// Whether the thread sleeps, so that lines have to wake it.
    asleep: AtomicBool,
    rung: Mutex<bool>,
    condition: Condvar,
}

impl Wakeup {
    /// A line has been put somewhere.
    pub fn wake_for_lines(&self) {
        if self.asleep.load(Ordering::SeqCst) && self.asleep.swap(false, Ordering::SeqCst) {
            self.wake();
        }
    }

    /// Wakes the thread, or has it look once more before it sleeps.
    pub fn wake(&self) {
        *self.rung.lock() = true;
        self.condition.notify_all();
    }

    /// Sleeps until there is something to do, unless there is already.
    pub fn sleep(&self, most: Duration, has_work: impl FnOnce() -> bool) {
        self.asleep.store(true, Ordering::SeqCst);
        let mut rung = self.rung.lock();
        if !*rung && !has_work() {
            self.condition.wait_for(&mut rung, most);
        }
        *rung = false;
        drop(rung);
        self.asleep.store(false, Ordering::SeqCst);
    }
}
