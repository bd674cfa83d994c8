//! Files that lines are written to, behind the answers' backs: access logs and the log of errors.
//!
//! Whoever has a line puts it into a buffer; one thread for each journal takes the buffers and writes them in
//! one go. Files have generations, and their names say which: `harbour.000001.log`. A new generation begins
//! as the configuration says, or when somebody takes the file away. A line is never split, and never joined
//! to a torn one.
//!
//! - [`generations`]: the files, their names, and opening the newest
//! - [`writing`]: the thread that writes, also when the disk is full for a while
//! - [`keeping`]: past generations are compressed, and deleted after a while

pub mod generations;
pub mod keeping;
pub mod writing;

use exedra_core::config::Keeping;
use jiff::tz::TimeZone;
use std::cell::Cell;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::mpsc::SyncSender;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;

/// Buffers of a journal. Threads spread over them, so that they do not wait for each other.
const BUFFERS: usize = 8;
/// Octets that may wait to be written, all buffers together; what comes on top of them is counted and lost.
const MOST_WAITING: usize = 32 << 20;

/// A file that lines are written to, or rather one after the other.
pub struct Journal {
    /// Its name: what stands before the number in its files' names.
    pub name: Arc<str>,
    folder: PathBuf,
    heading: Box<[u8]>,
    keeping: Keeping,
    zone: TimeZone,
    buffers: [Mutex<Vec<u8>>; BUFFERS],
    asleep: AtomicBool,
    gate: Mutex<()>,
    wake: Condvar,
    stop: AtomicBool,
    reopen: AtomicBool,
    lost: AtomicU64,
    generation: AtomicU64,
    trouble: Mutex<Option<String>>,
}

/// What a journal is opened with.
#[derive(Debug, Clone)]
pub struct Opening<'a> {
    /// The folder of its files.
    pub folder: &'a Path,
    /// Its name: what stands before the number in its files' names.
    pub name: &'a str,
    /// What every file begins with.
    pub heading: &'a [u8],
    /// How its generations follow each other.
    pub keeping: Keeping,
    /// Whose days those are.
    pub zone: TimeZone,
    /// Told whenever lines have reached the file.
    pub written: Option<SyncSender<()>>,
}

impl Journal {
    /// Opens the newest generation, or begins the first, and starts the thread that writes.
    pub fn open(opening: Opening<'_>) -> io::Result<(Arc<Journal>, JoinHandle<()>)> {
        let Opening { folder, name, heading, keeping, zone, written } = opening;
        let newest = generations::newest(folder, name)?;
        let journal = Arc::new(Journal {
            name: name.into(),
            folder: folder.to_owned(),
            heading: heading.into(),
            keeping,
            zone,
            buffers: Default::default(),
            asleep: AtomicBool::new(false),
            gate: Mutex::default(),
            wake: Condvar::new(),
            stop: AtomicBool::new(false),
            reopen: AtomicBool::new(false),
            lost: AtomicU64::new(0),
            generation: AtomicU64::new(newest),
            trouble: Mutex::default(),
        });
        let writer = writing::Writer::open(Arc::clone(&journal), written)?;
        let thread = std::thread::Builder::new().name(format!("log {name}")).spawn(move || writer.run())?;
        Ok((journal, thread))
    }

    /// Puts one line in, its end included. `line` appends it to the buffer it is given.
    pub fn put(&self, line: impl FnOnce(&mut Vec<u8>)) {
        let mut buffer = locked(&self.buffers[own_buffer()]);
        if buffer.len() > MOST_WAITING / BUFFERS {
            self.lost.fetch_add(1, Ordering::Relaxed);
            return;
        }
        line(&mut buffer);
        drop(buffer);
        if self.asleep.load(Ordering::SeqCst) && self.asleep.swap(false, Ordering::SeqCst) {
            self.rouse();
        }
    }

    /// Lines that were lost because they could not be written for too long.
    pub fn lost(&self) -> u64 {
        self.lost.load(Ordering::Relaxed)
    }

    /// Why lines cannot be written at the moment, if they cannot.
    pub fn trouble(&self) -> Option<String> {
        locked(&self.trouble).clone()
    }

    /// The number of the generation that is written.
    pub fn generation(&self) -> u64 {
        self.generation.load(Ordering::SeqCst)
    }

    /// The file that is written.
    pub fn path(&self) -> PathBuf {
        self.folder.join(generations::file_name(&self.name, self.generation()))
    }

    /// Its folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// How its generations follow each other.
    pub fn keeping(&self) -> Keeping {
        self.keeping
    }

    /// Looks whether the file is still where it was, and begins the next generation if it is not.
    pub fn reopen(&self) {
        self.reopen.store(true, Ordering::SeqCst);
        self.rouse();
    }

    /// Writes what waits, and ends the thread that writes.
    pub fn stop(&self) {
        self.stop.store(true, Ordering::SeqCst);
        self.rouse();
    }

    fn rouse(&self) {
        let _gate = locked(&self.gate);
        self.wake.notify_all();
    }
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
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
