//! Writing the lines of an appender to a journal's files, also when the disk is full for a while.
//!
//! What could not be written stays in memory and is tried again, up to a bound; past it lines are lost, and
//! counted. A write that fails half way is undone to the last whole line.

use super::Journal;
use super::appender::Waiting;
use super::generations::{TORN, file_name};
use exedra_answering::config::Rotate;
use exedra_reading::logs::Layout;
use std::fs::File;
use std::io::{self, ErrorKind, Write};
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::sync::mpsc::SyncSender;
use std::time::{Duration, Instant, SystemTime};

/// Octets that are written without gathering more.
pub const MOST_GATHERED: usize = 1 << 20;
/// How long a failing disk is left alone.
const PAUSE: Duration = Duration::from_secs(1);
/// How often a failing disk is complained about.
const COMPLAINT: Duration = Duration::from_secs(60);

/// What takes the lines of an appender to the files of its journal.
pub struct Writer {
    journal: Arc<Journal>,
    waits: Arc<Waiting>,
    layout: Layout,
    heading: Vec<u8>,
    written: Option<SyncSender<()>>,
    file: Arc<File>,
    /// Octets in the file.
    length: u64,
    /// The day on which the file began, in days since 1970 in the service's zone.
    began: i64,
    /// Whether the file ends in the middle of a line.
    torn: bool,
    waiting: Vec<u8>,
    complained: Option<Instant>,
    /// When it is tried again, after it failed.
    again: Option<Instant>,
}

/// What comes after a writer's turn.
#[derive(PartialEq, Eq)]
pub enum Progress {
    /// Others.
    GoesOn,
    /// Nothing: it has written all it will.
    Ended,
}

impl Writer {
    /// Opens a generation to write to.
    pub fn open(
        journal: Arc<Journal>,
        waits: Arc<Waiting>,
        layout: Layout,
        written: Option<SyncSender<()>>,
    ) -> io::Result<Self> {
        let (number, file) = journal.file(&layout, true)?;
        let file = Arc::new(file);
        waits.go_on_in(number, Some(Arc::clone(&file)));
        let mut writer = Writer {
            journal,
            waits,
            heading: layout.heading(),
            layout,
            written,
            file,
            length: 0,
            began: 0,
            torn: false,
            waiting: Vec::new(),
            complained: None,
            again: None,
        };
        writer.measure()?;
        Ok(writer)
    }

    /// Writes what there is, and looks whether anything else is asked for.
    pub fn turn(&mut self) -> Progress {
        let stopping = self.waits.is_stopping();
        if !stopping && self.again.is_some_and(|again| Instant::now() < again) {
            return Progress::GoesOn;
        }
        self.waits.gather(&mut self.waiting);
        if !self.waiting.is_empty() {
            self.write_or_complain();
        } else if self.waits.shall_reopen() {
            let taken = self.take_again();
            self.heed(taken);
        }
        self.again = self.complained.map(|_| Instant::now() + PAUSE);
        if stopping && (self.waiting.is_empty() || self.complained.is_some()) {
            self.give_up();
            self.end();
            return Progress::Ended;
        }
        Progress::GoesOn
    }

    /// Whether there is something to be written at once.
    pub fn has_lines(&self) -> bool {
        self.lines() > 0
    }

    /// Octets that may be written at once: none while the disk is left alone.
    pub fn lines(&self) -> usize {
        if self.again.is_some() { 0 } else { self.waits.lines() }
    }

    /// Whether somebody has asked for something else than writing lines.
    pub fn is_told(&self) -> bool {
        self.waits.is_told()
    }

    /// It has panicked, and writes no more.
    pub fn has_failed(&mut self) {
        let log = self.path();
        tracing::error!(log = %log.display(), "is no longer written, because of a mistake in the program; a restart begins anew");
        self.waits.set_trouble(Some("the program has made a mistake; restart it".to_owned()));
        self.end();
    }

    fn end(&mut self) {
        self.waits.go_on_in(self.waits.generation(), None);
        self.journal.ended(&self.waits);
        // Whoever reads the log may now be done with this file.
        let _ = self.written.take().map(|written| written.try_send(()));
    }

    fn write_or_complain(&mut self) {
        let result = self.prepare().and_then(|()| self.write());
        self.heed(result);
        self.waits.set_unwritten(self.waiting.len());
        self.waiting.shrink_to(4 * MOST_GATHERED);
        // When the reader has been told already and did not come yet, it will see these lines too.
        let _ = self.written.as_ref().map(|written| written.try_send(()));
    }

    /// Makes the outcome known.
    fn heed(&mut self, result: io::Result<()>) {
        let journal = &self.journal;
        match result {
            Ok(()) => {
                if self.waits.set_trouble(None).is_some() {
                    tracing::info!(log = %self.path().display(), lost = journal.lost(), "lines are written again");
                }
                self.complained = None;
            }
            Err(error) => {
                // The system's own number helps nobody.
                let words = error.to_string();
                let words = words.split(" (os error").next().unwrap_or_default();
                self.waits.set_trouble(Some(words.to_owned()));
                if self.complained.is_none_or(|last| last.elapsed() > COMPLAINT) {
                    let waiting = memchr::memchr_iter(b'\n', &self.waiting).count();
                    tracing::error!(log = %self.path().display(), waiting, lost = journal.lost(), "lines cannot be written: {error}");
                    self.complained = Some(Instant::now());
                }
            }
        }
    }

    /// Sees to it that the right file is open.
    fn prepare(&mut self) -> io::Result<()> {
        let asked = self.waits.shall_reopen();
        let gone = self.file.metadata()?.nlink() == 0;
        if asked || gone || self.complained.is_some() {
            self.take_again()?;
        }
        let due = match self.journal.keeping().rotate {
            Rotate::Never => false,
            Rotate::Days(days) => self.today() >= self.began.saturating_add_unsigned(days),
            Rotate::Size(most) => self.length + self.waiting.len() as u64 > most,
        };
        if due && self.length > 0 { self.next_generation() } else { Ok(()) }
    }

    /// Goes on with the file if it is where it was; otherwise the next generation begins.
    fn take_again(&mut self) -> io::Result<()> {
        let ours = self.file.metadata()?;
        match std::fs::metadata(self.path()) {
            Ok(there) if (there.dev(), there.ino()) == (ours.dev(), ours.ino()) => Ok(()),
            Ok(_) => self.next_generation(),
            Err(error) if error.kind() == ErrorKind::NotFound => self.next_generation(),
            Err(error) => Err(error),
        }
    }

    fn next_generation(&mut self) -> io::Result<()> {
        let (number, file) = self.journal.file(&self.layout, false)?;
        self.file = Arc::new(file);
        self.waits.go_on_in(number, Some(Arc::clone(&self.file)));
        self.torn = false;
        self.measure()
    }

    fn path(&self) -> PathBuf {
        self.journal.folder.join(file_name(&self.journal.name, self.waits.generation()))
    }

    fn measure(&mut self) -> io::Result<()> {
        let found = self.file.metadata()?;
        self.length = found.len();
        self.began = match self.length {
            0 => self.today(),
            // Where the file system does not tell when it began, it began when it was last written.
            _ => self.day(found.created().or_else(|_| found.modified())?),
        };
        Ok(())
    }

    fn today(&self) -> i64 {
        self.day(SystemTime::now())
    }

    fn day(&self, time: SystemTime) -> i64 {
        let time = jiff::Timestamp::try_from(time).unwrap_or_default();
        let offset = i64::from(self.journal.options.lock().1.to_offset(time).seconds());
        (time.as_second() + offset).div_euclid(86_400)
    }

    /// Writes what waits. What could not be written goes on waiting, whole lines only.
    fn write(&mut self) -> io::Result<()> {
        if self.length == 0 && !self.heading.is_empty() {
            if let Err(error) = (&*self.file).write_all(&self.heading) {
                self.file.set_len(0)?;
                return Err(error);
            }
            self.length = self.heading.len() as u64;
        }
        if self.torn {
            (&*self.file).write_all(TORN)?;
            self.torn = false;
            self.length = self.file.metadata()?.len();
        }
        let mut done = 0;
        let result = loop {
            match (&*self.file).write(&self.waiting[done..]) {
                Ok(0) => break Err(ErrorKind::WriteZero.into()),
                Ok(written) => done += written,
                Err(error) if error.kind() == ErrorKind::Interrupted => {}
                Err(error) => break Err(error),
            }
            if done == self.waiting.len() {
                break Ok(());
            }
        };
        let whole = memchr::memrchr(b'\n', &self.waiting[..done]).map_or(0, |end| end + 1);
        if whole < done {
            self.torn = self.file.set_len(self.length + whole as u64).is_err();
        }
        self.length += whole as u64;
        self.waiting.drain(..whole);
        result
    }

    /// What still waits in the end is lost.
    fn give_up(&mut self) {
        self.waits.gather(&mut self.waiting);
        let lost = memchr::memchr_iter(b'\n', &self.waiting).count() as u64;
        if lost > 0 {
            let lost = self.journal.lost.fetch_add(lost, Ordering::Relaxed) + lost;
            tracing::error!(log = %self.path().display(), lost, "lines could not be written and are lost");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Appender, generations};
    use super::*;
    use exedra_answering::config::Keeping;
    use jiff::tz::TimeZone;
    use std::path::Path;

    fn appender(folder: &Path, rotate: Rotate) -> Arc<Appender> {
        let keeping = Keeping { rotate, keep: None };
        Journal::open(folder, "a", keeping, TimeZone::UTC).unwrap().appender(&Layout::bare(), None).unwrap()
    }

    fn lines(folder: &Path) -> Vec<Vec<String>> {
        let all = generations::generations(folder, "a").unwrap();
        all.iter()
            .map(|file| std::fs::read_to_string(&file.path).unwrap().lines().map(str::to_owned).collect())
            .collect()
    }

    fn until(what: &str, mut holds: impl FnMut() -> bool) {
        let began = Instant::now();
        while !holds() {
            assert!(began.elapsed() < Duration::from_secs(30), "in vain: {what}");
            std::thread::sleep(Duration::from_millis(2));
        }
    }

    #[test]
    fn generations_by_size_hold_every_line_once_and_whole() {
        let folder = tempfile::tempdir().unwrap();
        let appender = appender(folder.path(), Rotate::Size(5_000));
        std::thread::scope(|scope| {
            for writer in 0..4 {
                let appender = &appender;
                scope.spawn(move || {
                    for line in 0..500 {
                        appender.put(|out| out.extend_from_slice(format!("{writer}-{line}\n").as_bytes()));
                    }
                });
            }
        });
        appender.journal.close();
        let generations = lines(folder.path());
        assert!(generations.len() < 4 || appender.journal.newest() > 1);
        let mut all: Vec<String> = generations.concat();
        all.sort();
        let mut expected: Vec<String> =
            (0..4).flat_map(|writer| (0..500).map(move |line| format!("{writer}-{line}"))).collect();
        expected.sort();
        assert_eq!(all, expected);
        assert_eq!(appender.journal.lost(), 0);
    }

    #[test]
    fn a_file_that_is_taken_away_is_followed_by_the_next() {
        let folder = tempfile::tempdir().unwrap();
        let appender = appender(folder.path(), Rotate::Never);
        appender.put(|out| out.extend_from_slice(b"one\n"));
        let first = folder.path().join("a.000001.log");
        until("the first line", || std::fs::read(&first).unwrap() == b"one\n");
        std::fs::rename(&first, folder.path().join("elsewhere")).unwrap();
        appender.journal.reopen();
        until("the next generation", || appender.journal.newest() == 2);
        appender.put(|out| out.extend_from_slice(b"two\n"));
        until("the second line", || lines(folder.path()) == [["two"]]);
        // Gone altogether, and the folder with it.
        std::fs::remove_dir_all(folder.path()).unwrap();
        appender.put(|out| out.extend_from_slice(b"three\n"));
        until("the third line", || folder.path().is_dir() && lines(folder.path()) == [["three"]]);
        appender.journal.close();
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
    }

    #[test]
    fn a_full_disk_is_waited_for() {
        let folder = tempfile::tempdir().unwrap();
        let first = folder.path().join("a.000001.log");
        std::os::unix::fs::symlink("/dev/full", &first).unwrap();
        let appender = appender(folder.path(), Rotate::Never);
        appender.put(|out| out.extend_from_slice(b"one\n"));
        until("trouble", || appender.journal.trouble().is_some());
        appender.put(|out| out.extend_from_slice(b"two\n"));
        // Room again: in the test by taking the full device away.
        std::fs::remove_file(&first).unwrap();
        until("both lines", || lines(folder.path()) == [["one", "two"]]);
        until("no trouble", || appender.journal.trouble().is_none());
        appender.journal.close();
        assert_eq!(appender.journal.lost(), 0);
    }

    #[test]
    fn nothing_is_lost_before_as_much_waits_as_is_promised() {
        let folder = tempfile::tempdir().unwrap();
        std::os::unix::fs::symlink("/dev/full", folder.path().join("a.000001.log")).unwrap();
        let appender = appender(folder.path(), Rotate::Never);
        let line = [[b'x'; 9_999].as_slice(), b"\n"].concat();
        let put = |octets: usize| {
            (0..octets / line.len()).for_each(|_| appender.put(|out| out.extend_from_slice(&line)))
        };
        // One thread, as quickly as it can, while its writer waits for the disk.
        put(31 << 20);
        assert_eq!(appender.journal.lost(), 0);
        put(5 << 20);
        assert!(appender.journal.lost() > 0, "and memory has a bound");
        appender.journal.close();
    }

    #[test]
    fn days_are_those_of_the_zone() {
        let folder = tempfile::tempdir().unwrap();
        let keeping = Keeping { rotate: Rotate::Days(1), keep: None };
        let zone = TimeZone::get("Pacific/Auckland").unwrap();
        let journal = Journal::open(folder.path(), "a", keeping, zone).unwrap();
        let writer = Writer::open(journal, Arc::default(), Layout::bare(), None).unwrap();
        // 11:59 and 12:00 UTC on 2026-06-01: midnight in Auckland.
        let day = |seconds| writer.day(SystemTime::UNIX_EPOCH + Duration::from_secs(seconds));
        assert_eq!((day(1_780_315_140), day(1_780_315_200)), (20_605, 20_606));
    }

    #[test]
    fn another_layout_has_another_generation_and_the_one_before_goes_on_while_somebody_holds_its_pen() {
        let folder = tempfile::tempdir().unwrap();
        let full = appender(folder.path(), Rotate::Never);
        let journal = Arc::clone(&full.journal);
        let extended = Layout::understand("extended").unwrap();
        full.put(|out| out.extend_from_slice(b"one\n"));
        let other = journal.appender(&extended, None).unwrap();
        assert!(Arc::ptr_eq(&other, &journal.appender(&extended, None).unwrap()));
        other.put(|out| out.extend_from_slice(b"two\n"));
        full.put(|out| out.extend_from_slice(b"three\n"));
        let written = || lines(folder.path()).iter().map(|file| file.last().cloned()).collect::<Vec<_>>();
        until("all lines", || written() == [Some("three".to_owned()), Some("two".to_owned())]);
        assert_eq!((journal.oldest_written(), journal.newest()), (1, 2));
        drop(full);
        until("the end of the first", || journal.oldest_written() == 2);
        assert_eq!(journal.layout_of(2).unwrap(), extended);
        assert!(lines(folder.path())[1][1].starts_with("#Fields: "));

        // The same layout after a restart goes on in the same file, another does not.
        journal.close();
        for (layout, newest) in [(&extended, 2), (&Layout::full(), 3)] {
            let keeping = Keeping { rotate: Rotate::Never, keep: None };
            let journal = Journal::open(folder.path(), "a", keeping, TimeZone::UTC).unwrap();
            let _pen = journal.appender(layout, None).unwrap();
            assert_eq!(journal.newest(), newest);
            journal.close();
        }
    }
}
