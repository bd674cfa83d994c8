//! Files that lines are written to, behind the answers' backs: access logs and the log of errors.
//!
//! Whoever has a line puts it into a buffer of a [`Appender`]; one thread for all of them takes the buffers and writes each in one
//! go. Files have generations, and their names say which: `harbour.000001.log`. A new generation begins
//! as the configuration says, or when somebody takes the file away. A line is never split, and never joined
//! to a torn one.
//!
//! One generation is written in one layout. When another is asked for, another appender begins the next generation, while
//! the one before goes on with its own until the last request under way has been written down: then nobody holds it
//! any longer, and it ends. `harbour.layouts` says which generations were written how.
//!
//! - [`generations`]: the files, their names, and opening the newest
//! - [`layouts`]: how each of them was written
//! - [`appender`]: where lines are put
//! - [`writing`]: writing them, also when the disk is full for a while; [`thread`]: who does that
//! - [`keeping`]: past generations are compressed, and deleted after a while

pub mod appender;
pub mod generations;
pub mod keeping;
pub mod layouts;
pub mod thread;
mod wakeup;
mod writing;

pub use appender::Appender;
use appender::Waiting;
use exedra_answering::config::Keeping;
use exedra_reading::logs::Layout;
use generations::Listing;
use jiff::tz::TimeZone;
use layouts::Layouts;
use parking_lot::{Condvar, Mutex, MutexGuard};
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::SyncSender;
use std::sync::{Arc, Weak};
use thread::LogThread;
use writing::Writer;

/// Files that lines are written to, one after the other.
pub struct Journal {
    /// Its name: what stands before the number in its files' names.
    pub name: Arc<str>,
    folder: PathBuf,
    options: Mutex<(Keeping, TimeZone)>,
    /// The newest generation, and how each was written.
    files: Mutex<Files>,
    /// The appender that whoever asks is given.
    appender: Mutex<Option<(Layout, Weak<Appender>)>>,
    /// What every appender writes from, those included that are about to end.
    appenders: Mutex<Vec<Arc<Waiting>>>,
    /// Told when one of them has ended.
    has_ended: Condvar,
    thread: Arc<LogThread>,
    lost: AtomicU64,
    /// Held by whoever compresses, deletes or rewrites past generations.
    keeps_files: Mutex<()>,
}

/// What is known of a journal's files.
struct Files {
    newest: u64,
    layouts: Layouts,
}

impl Journal {
    /// A journal of that name, in a folder; its generations follow each other as `keeping` says, by the days of a zone.
    pub fn open(folder: &Path, name: &str, keeping: Keeping, zone: TimeZone) -> io::Result<Arc<Journal>> {
        Self::open_listed(folder, &Listing::of(folder)?, name, keeping, zone, Arc::default())
    }

    /// The same where somebody has looked at the folder, written by a thread that others share.
    pub fn open_listed(
        folder: &Path,
        listing: &Listing,
        name: &str,
        keeping: Keeping,
        zone: TimeZone,
        thread: Arc<LogThread>,
    ) -> io::Result<Arc<Journal>> {
        let layouts = Layouts::open(folder, name)?;
        let newest = listing.newest(name).max(layouts.last());
        Ok(Arc::new(Journal {
            name: name.into(),
            folder: folder.to_owned(),
            options: Mutex::new((keeping, zone)),
            files: Mutex::new(Files { newest, layouts }),
            appender: Mutex::default(),
            appenders: Mutex::default(),
            has_ended: Condvar::new(),
            thread,
            lost: AtomicU64::new(0),
            keeps_files: Mutex::default(),
        }))
    }

    /// From now on generations follow each other so.
    pub fn follow(&self, keeping: Keeping, zone: TimeZone) {
        *self.options.lock() = (keeping, zone);
    }

    /// What lines in a layout are written with. `written` is told whenever lines have reached the file.
    pub fn appender(
        self: &Arc<Self>,
        layout: &Layout,
        written: Option<SyncSender<()>>,
    ) -> io::Result<Arc<Appender>> {
        let mut current = self.appender.lock();
        let same = current.as_ref().filter(|(known, _)| known == layout);
        if let Some(appender) = same.and_then(|(_, appender)| appender.upgrade()) {
            return Ok(appender);
        }
        let waiting = Arc::new(Waiting::new(self.thread.wakeup()));
        let writer = Writer::open(Arc::clone(self), Arc::clone(&waiting), layout.clone(), written)?;
        self.appenders.lock().push(Arc::clone(&waiting));
        self.thread.take(writer).inspect_err(|_| self.ended(&waiting))?;
        let appender = Arc::new(Appender { journal: Arc::clone(self), waiting });
        *current = Some((layout.clone(), Arc::downgrade(&appender)));
        Ok(appender)
    }

    /// Lines that were lost because they could not be written for too long.
    pub fn lost(&self) -> u64 {
        self.lost.load(Ordering::Relaxed)
    }

    /// Why lines cannot be written at the moment, if they cannot.
    pub fn trouble(&self) -> Option<String> {
        self.appenders.lock().iter().find_map(|waiting| waiting.trouble())
    }

    /// The number of the newest generation.
    pub fn newest(&self) -> u64 {
        self.files.lock().newest
    }

    /// The number of the oldest generation that still gets lines: those before it are past.
    pub fn oldest_written(&self) -> u64 {
        // In this order: an appender that begins after the second look has a newer generation than any that was seen.
        let newest = self.newest();
        let written = self.appenders.lock().iter().map(|waiting| waiting.generation()).min();
        written.map_or(newest, |written| written.min(newest))
    }

    /// How a generation was written; `None` where nobody wrote that down.
    pub fn layout_of(&self, generation: u64) -> Option<Layout> {
        self.files.lock().layouts.of(generation)
    }

    /// The newest file.
    pub fn path(&self) -> PathBuf {
        self.folder.join(generations::file_name(&self.name, self.newest()))
    }

    /// Its folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// How its generations follow each other.
    pub fn keeping(&self) -> Keeping {
        self.options.lock().0
    }

    /// While this is held, no past generation is compressed, deleted or rewritten by anybody else.
    pub fn keep_files(&self) -> MutexGuard<'_, ()> {
        self.keeps_files.lock()
    }

    /// Looks whether the file is still where it was, and begins the next generation if it is not.
    pub fn reopen(&self) {
        self.appenders.lock().iter().for_each(|waiting| waiting.reopen());
    }

    /// Has everything written that waits, and nothing after it.
    pub fn close(&self) {
        let mut appenders = self.appenders.lock();
        appenders.iter().for_each(|waiting| waiting.stop());
        while !appenders.is_empty() {
            self.has_ended.wait(&mut appenders);
        }
    }

    /// The file of a generation that still gets lines.
    pub fn written_file(&self, generation: u64) -> Option<Arc<File>> {
        let appenders = self.appenders.lock();
        appenders.iter().find(|waiting| waiting.generation() == generation)?.file()
    }

    /// A file that nobody writes to: the one that was written last, if an appender begins and it is in the same layout,
    /// otherwise the next.
    fn file(&self, layout: &Layout, begins: bool) -> io::Result<(u64, File)> {
        let mut files = self.files.lock();
        std::fs::create_dir_all(&self.folder)?;
        let there = generations::newest_from(&self.folder, &self.name, files.newest);
        let path = |number| self.folder.join(generations::file_name(&self.name, number));
        let is_written = self.appenders.lock().iter().any(|waiting| waiting.generation() == there);
        let fits = files.layouts.of(there).is_none_or(|before| before == *layout);
        let is_empty = || path(there).metadata().map_or(true, |found| found.len() == 0);
        let stays = begins && !is_written && (fits || is_empty());
        let number = if stays { there } else { there + 1 };
        files.layouts.begin(number, layout)?;
        let file = generations::open(&path(number))?;
        files.newest = number;
        Ok((number, file))
    }

    /// An appender has written its last line.
    fn ended(&self, waiting: &Arc<Waiting>) {
        self.appenders.lock().retain(|other| !Arc::ptr_eq(other, waiting));
        self.has_ended.notify_all();
    }
}
