//! Where lines are put, and where they wait until they are written.
//!
//! An appender writes lines of one layout. It ends when nobody holds it any longer, after what waits has been written.

use super::Journal;
use super::wakeup::Wakeup;
use parking_lot::Mutex;
use std::cell::Cell;
use std::fs::File;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};

/// Buffers of an appender. Threads spread over them, so that they do not wait for each other.
const BUFFERS: usize = 8;
/// Octets that may wait to be written, all buffers together; what comes on top of them is counted and lost.
pub const MOST_WAITING: usize = 32 << 20;
/// How much of a buffer's room is kept when it has been emptied.
const ROOM: usize = 64 << 10;

/// What lines are written with.
pub struct Appender {
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
    /// Wakes the thread that writes.
    wakeup: Arc<Wakeup>,
    stop: AtomicBool,
    reopen: AtomicBool,
    /// The generation that they are written to, and its file.
    generation: AtomicU64,
    file: Mutex<Option<Arc<File>>>,
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

impl Appender {
    /// Puts one line in, its end included. `line` appends it to the buffer it is given.
    pub fn put(&self, line: impl FnOnce(&mut Vec<u8>)) {
        let waiting = &self.waiting;
        let own = &waiting.buffers[own_buffer()];
        let mut buffer = own.lines.lock();
        // As long as no share is used up, not all of them can be.
        if buffer.len() > MOST_WAITING / (2 * BUFFERS) && waiting.octets() > MOST_WAITING {
            self.journal.lost.fetch_add(1, Ordering::Relaxed);
            return;
        }
        line(&mut buffer);
        own.octets.store(buffer.len(), Ordering::Relaxed);
        drop(buffer);
        waiting.wakeup.wake_for_lines();
    }
}

impl Drop for Appender {
    fn drop(&mut self) {
        self.waiting.stop();
    }
}

impl Waiting {
    /// Lines that will be written by the thread of that wakeup.
    pub fn new(wakeup: Arc<Wakeup>) -> Self {
        Waiting { wakeup, ..Waiting::default() }
    }

    /// Has what waits written, and nothing after it.
    pub fn stop(&self) {
        self.stop.store(true, Ordering::SeqCst);
        self.wakeup.wake();
    }

    /// Whether no more lines will come.
    pub fn is_stopping(&self) -> bool {
        self.stop.load(Ordering::SeqCst)
    }

    /// Looks whether the file is still where it was, and begins the next generation if it is not.
    pub fn reopen(&self) {
        self.reopen.store(true, Ordering::SeqCst);
        self.wakeup.wake();
    }

    /// Whether somebody asked to look whether the file is still there, since this was last asked.
    pub fn shall_reopen(&self) -> bool {
        self.reopen.swap(false, Ordering::SeqCst)
    }

    /// The generation that they are written to.
    pub fn generation(&self) -> u64 {
        self.generation.load(Ordering::SeqCst)
    }

    /// The file of that generation, for whoever reads what is written without opening it anew.
    pub fn file(&self) -> Option<Arc<File>> {
        self.file.lock().clone()
    }

    /// From now on they are written to that generation.
    pub fn go_on_in(&self, generation: u64, file: Option<Arc<File>>) {
        *self.file.lock() = file;
        self.generation.store(generation, Ordering::SeqCst);
    }

    /// Why lines cannot be written at the moment, if they cannot.
    pub fn trouble(&self) -> Option<String> {
        self.trouble.lock().clone()
    }

    /// Makes known why lines cannot be written, or that they can; gives what was known before.
    pub fn set_trouble(&self, trouble: Option<String>) -> Option<String> {
        std::mem::replace(&mut *self.trouble.lock(), trouble)
    }

    /// Takes what is in the buffers, as far as `taken` may grow.
    pub fn gather(&self, taken: &mut Vec<u8>) {
        for Buffer { lines, octets } in &self.buffers {
            let mut lines = lines.lock();
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

    /// Octets in the buffers. Whoever has put a line in before this looks is seen.
    pub fn lines(&self) -> usize {
        self.buffers.iter().map(|buffer| buffer.lines.lock().len()).sum()
    }

    /// Whether somebody has asked for something else than writing lines.
    pub fn is_told(&self) -> bool {
        self.is_stopping() || self.reopen.load(Ordering::SeqCst)
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
