//! The one thread that writes all logs. It begins with the first writer and ends with the last.
//!
//! It sleeps until a line is put anywhere, gathers for some milliseconds, and then lets every writer have its turn. One
//! whose disk fails is left alone for a while; the others do not wait for it.

use super::locked;
use super::writing::{Turn, Writer};
use std::io;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::Duration;

/// How long lines are gathered before they are written: waking a thread for every one would cost more than
/// everything else about it.
const GATHERING: Duration = Duration::from_millis(8);
/// Octets that are written without gathering more.
pub const MOST_GATHERED: usize = 1 << 20;
/// How long the thread sleeps when nobody wakes it.
const MOST_SLEEP: Duration = Duration::from_secs(1);

/// The thread, and who shares it.
#[derive(Default)]
pub struct LogThread {
    bell: Arc<Bell>,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    /// Writers that the thread has not taken yet.
    fresh: Vec<Writer>,
    is_running: bool,
}

/// What wakes the thread.
#[derive(Default)]
pub struct Bell {
    /// Whether the thread sleeps, so that lines have to wake it.
    asleep: AtomicBool,
    rung: Mutex<bool>,
    wake: Condvar,
}

impl LogThread {
    /// What wakes it.
    pub fn bell(&self) -> Arc<Bell> {
        Arc::clone(&self.bell)
    }

    /// Has it write for one more. Begins it where it does not run.
    pub fn take(self: &Arc<Self>, writer: Writer) -> io::Result<()> {
        let mut state = locked(&self.state);
        if !state.is_running {
            let own = Arc::clone(self);
            std::thread::Builder::new().name("logs".to_owned()).spawn(move || own.run())?;
            state.is_running = true;
        }
        state.fresh.push(writer);
        drop(state);
        self.bell.ring();
        Ok(())
    }

    fn run(&self) {
        let mut writers: Vec<Writer> = Vec::new();
        loop {
            {
                let mut state = locked(&self.state);
                writers.append(&mut state.fresh);
                if writers.is_empty() {
                    state.is_running = false;
                    return;
                }
            }
            writers.retain_mut(|writer| {
                // A mistake of ours in one log must not cost the others.
                match catch_unwind(AssertUnwindSafe(|| writer.turn())) {
                    Ok(turn) => turn == Turn::GoesOn,
                    Err(_) => {
                        writer.has_failed();
                        false
                    }
                }
            });
            self.bell.sleep(&writers);
        }
    }
}

impl Bell {
    /// A line has been put somewhere.
    pub fn ring_for_lines(&self) {
        if self.asleep.load(Ordering::SeqCst) && self.asleep.swap(false, Ordering::SeqCst) {
            self.ring();
        }
    }

    /// Wakes the thread, or has it look once more before it sleeps.
    pub fn ring(&self) {
        *locked(&self.rung) = true;
        self.wake.notify_all();
    }

    /// Sleeps until there is something to do, and then for as long as gathering takes.
    fn sleep(&self, writers: &[Writer]) {
        self.asleep.store(true, Ordering::SeqCst);
        let mut rung = locked(&self.rung);
        if !*rung && !writers.iter().any(Writer::has_lines) {
            rung = self.wake.wait_timeout(rung, MOST_SLEEP).unwrap_or_else(PoisonError::into_inner).0;
        }
        *rung = false;
        drop(rung);
        self.asleep.store(false, Ordering::SeqCst);
        let is_told = writers.iter().any(Writer::is_told);
        if !is_told && (1..MOST_GATHERED).contains(&writers.iter().map(Writer::lines).sum()) {
            std::thread::sleep(GATHERING);
        }
    }
}
