//! Where lines are put, and where they wait until their thread writes them.
//!
//! A pen writes lines of one layout. It ends when nobody holds it any longer, after what waits has been written.

use super::{Journal, locked};
use std::cell::Cell;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::Duration;

/// Buffers of a pen. Threads spread over them, so that they do not wait for each other.
const BUFFERS: usize = 8;
/// Octets that may wait to be written, all buffers together; what comes on top of them is counted and lost.
pub const MOST_WAITING: usize = 32 << 20;
/// Octets that are written without gathering more.
pub const MOST_GATHERED: usize = 1 << 20;
/// How long lines are gathered before they are written: waking a thread for every one would cost more than
/// everything else about it.
const GATHERING: Duration = Duration::from_millis(8);
/// How much of a buffer's room is kept when it has been emptied.
const ROOM: usize = 64 << 10;

/// What lines are written with.
pub struct Pen {
    /// Whose lines they are.
    pub journal: Arc<Journal>,
    pub(super) waiting: Arc<Waiting>,
}

/// Lines that wait to be written.
#[derive(Default)]
pub struct Waiting {
    buffers: [Buffer; BUFFERS],
    /// Octets that have been taken out of them and are not written yet.
    taken: AtomicUsize,
    asleep: AtomicBool,
    gate: Mutex<()>,
    wake: Condvar,
    stop: AtomicBool,
    reopen: AtomicBool,
    /// The generation that they are written to.
    generation: AtomicU64,
    trouble: Mutex<Option<String>>,
}

/// Lines of some threads.
#[derive(Default)]
#[repr(align(128))]
struct Buffer {
    lines: Mutex<Vec<u8>>,
    /// How many octets that is, for whoever counts all of them.
    octets: AtomicUsize,
}

impl Pen {
    /// Puts one line in, its end included. `line` appends it to the buffer it is given.
    pub fn put(&self, line: impl FnOnce(&mut Vec<u8>)) {
        let waiting = &self.waiting;
        let own = &waiting.buffers[own_buffer()];
        let mut buffer = locked(&own.lines);
        // As long as no share is used up, not all of them can be.
        if buffer.len() > MOST_WAITING / (2 * BUFFERS) && waiting.octets() > MOST_WAITING {
            self.journal.lost.fetch_add(1, Ordering::Relaxed);
            return;
        }
        line(&mut buffer);
        own.octets.store(buffer.len(), Ordering::Relaxed);
        drop(buffer);
        if waiting.asleep.load(Ordering::SeqCst) && waiting.asleep.swap(false, Ordering::SeqCst) {
            waiting.rouse();
        }
    }
}

impl Drop for Pen {
    fn drop(&mut self) {
        self.waiting.stop();
    }
}

impl Waiting {
    /// Writes what waits, and ends the thread that writes.
    pub fn stop(&self) {
        self.stop.store(true, Ordering::SeqCst);
        self.rouse();
    }

    /// Whether no more lines will come.
    pub fn is_stopping(&self) -> bool {
        self.stop.load(Ordering::SeqCst)
    }

    /// Looks whether the file is still where it was, and begins the next generation if it is not.
    pub fn reopen(&self) {
        self.reopen.store(true, Ordering::SeqCst);
        self.rouse();
    }

    /// Whether somebody asked to look whether the file is still there, since this was last asked.
    pub fn shall_reopen(&self) -> bool {
        self.reopen.swap(false, Ordering::SeqCst)
    }

    /// The generation that they are written to.
    pub fn generation(&self) -> u64 {
        self.generation.load(Ordering::SeqCst)
    }

    /// From now on they are written to that generation.
    pub fn go_on_in(&self, generation: u64) {
        self.generation.store(generation, Ordering::SeqCst);
    }

    /// Why lines cannot be written at the moment, if they cannot.
    pub fn trouble(&self) -> Option<String> {
        locked(&self.trouble).clone()
    }

    /// Makes known why lines cannot be written, or that they can; gives what was known before.
    pub fn set_trouble(&self, trouble: Option<String>) -> Option<String> {
        std::mem::replace(&mut *locked(&self.trouble), trouble)
    }

    /// Takes what is in the buffers, as far as `taken` may grow.
    pub fn gather(&self, taken: &mut Vec<u8>) {
        for Buffer { lines, octets } in &self.buffers {
            let mut lines = locked(lines);
            if taken.len() + lines.len() > MOST_WAITING {
                continue;
            }
            taken.extend_from_slice(&lines);
            lines.clear();
            lines.shrink_to(ROOM);
            octets.store(0, Ordering::Relaxed);
            self.taken.store(taken.len(), Ordering::Relaxed);
        }
    }

    /// So many octets of what was taken are not written yet.
    pub fn set_unwritten(&self, octets: usize) {
        self.taken.store(octets, Ordering::Relaxed);
    }

    /// Octets that wait, wherever.
    fn octets(&self) -> usize {
        let buffers = self.buffers.iter().map(|buffer| buffer.octets.load(Ordering::Relaxed));
        buffers.sum::<usize>() + self.taken.load(Ordering::Relaxed)
    }

    /// Sleeps until there is something to do, and then for as long as gathering takes.
    pub fn sleep(&self, most: Duration, gathering: bool) {
        let mut gate = locked(&self.gate);
        // While the disk fails, no line wakes us: there is nothing to be done about it sooner.
        self.asleep.store(gathering, Ordering::SeqCst);
        let told = || self.is_stopping() || self.reopen.load(Ordering::SeqCst);
        let size = || self.buffers.iter().map(|buffer| locked(&buffer.lines).len()).sum::<usize>();
        let busy = |gathering: bool| told() || (gathering && size() > 0);
        if !busy(gathering) {
            gate = self.wake.wait_timeout(gate, most).unwrap_or_else(PoisonError::into_inner).0;
        }
        self.asleep.store(false, Ordering::SeqCst);
        drop(gate);
        if gathering && !told() && (1..MOST_GATHERED).contains(&size()) {
            std::thread::sleep(GATHERING);
        }
    }

    fn rouse(&self) {
        let _gate = locked(&self.gate);
        self.wake.notify_all();
    }
}

/// The buffer that this thread puts its lines into.
fn own_buffer() -> usize {
    static NEXT: AtomicUsize = AtomicUsize::new(0);
    thread_local! {
        static OWN: Cell<usize> = const { Cell::new(usize::MAX) };
    }
    OWN.with(|own| {
        if own.get() == usize::MAX {
            own.set(NEXT.fetch_add(1, Ordering::Relaxed) % BUFFERS);
        }
        own.get()
    })
}
