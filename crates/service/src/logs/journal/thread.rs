//! The one thread that writes all logs. It begins with the first writer and ends with the last.
//!
//! It sleeps until a line is put anywhere, gathers for some milliseconds, and then lets every writer have its turn. One
//! whose disk fails is left alone for a while; the others do not wait for it.

use super::wakeup::Wakeup;
use super::writing::{MOST_GATHERED, Progress, Writer};
use parking_lot::Mutex;
use std::io;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::time::Duration;

/// How long lines are gathered before they are written: waking a thread for every one would cost more than
/// everything else about it.
const GATHERING: Duration = Duration::from_millis(8);
/// How long the thread sleeps when nobody wakes it.
const MOST_SLEEP: Duration = Duration::from_secs(1);

/// The thread, and who shares it.
#[derive(Default)]
pub struct LogThread {
    wakeup: Arc<Wakeup>,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    /// Writers that the thread has not taken yet.
    fresh: Vec<Writer>,
    is_running: bool,
}

impl LogThread {
    /// What wakes it.
    pub fn wakeup(&self) -> Arc<Wakeup> {
        Arc::clone(&self.wakeup)
    }

    /// Has it write for one more. Begins it where it does not run.
    pub fn take(self: &Arc<Self>, writer: Writer) -> io::Result<()> {
        let mut state = self.state.lock();
        if !state.is_running {
            let own = Arc::clone(self);
            std::thread::Builder::new().name("logs".to_owned()).spawn(move || own.run())?;
            state.is_running = true;
        }
        state.fresh.push(writer);
        drop(state);
        self.wakeup.wake();
        Ok(())
    }

    fn run(&self) {
        let mut writers: Vec<Writer> = Vec::new();
        loop {
            {
                let mut state = self.state.lock();
                writers.append(&mut state.fresh);
                if writers.is_empty() {
                    state.is_running = false;
                    return;
                }
            }
            writers.retain_mut(|writer| {
                // A mistake of ours in one log must not cost the others.
                match catch_unwind(AssertUnwindSafe(|| writer.turn())) {
                    Ok(turn) => turn == Progress::GoesOn,
                    Err(_) => {
                        writer.has_failed();
                        false
                    }
                }
            });
            self.wakeup.sleep(MOST_SLEEP, || writers.iter().any(Writer::has_lines));
            let is_told = writers.iter().any(Writer::is_told);
            if !is_told && (1..MOST_GATHERED).contains(&writers.iter().map(Writer::lines).sum()) {
                std::thread::sleep(GATHERING);
            }
        }
    }
}
