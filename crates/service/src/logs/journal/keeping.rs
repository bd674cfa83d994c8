//! Past generations: compressed when the records have them, deleted after a while, by the dates of their own lines.

use super::Journal;
use super::generations::{Generation, Listing};
use exedra_answering::config::Keeping;
use exedra_common::Projection;
use exedra_reading::logs::{Layout, LineReader};
use exedra_store::Records;
use flate2::{Compression, GzBuilder};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::fs::{File, FileTimes};
use std::io::{self, BufWriter, Read, Seek, SeekFrom, Write};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::time::{Duration, Instant, SystemTime};

/// How often somebody looks.
const EVERY: Duration = Duration::from_secs(2);
/// How often somebody looks at a log of which nothing is new.
const AT_LEAST: Duration = Duration::from_secs(60);

/// How much of a log is deleted at once, and how long it is until the next may be.
const A_DAY: Duration = Duration::from_secs(24 * 3600);
const PAUSE: Duration = Duration::from_secs(3600);
/// How much of a log's end is read to know its last date.
const END: u64 = 64 << 10;

/// A journal whose past is looked after.
#[derive(Clone)]
pub struct Kept {
    /// Which one.
    pub journal: Arc<Journal>,
    /// The records that must have read it first, where any do.
    pub records: Option<Arc<Records>>,
}

/// What is known of a journal's past.
#[derive(Default)]
struct Past {
    step: Step,
    /// The date of the last line of each generation that is compressed.
    dates: HashMap<u64, SystemTime>,
    /// What was the newest, what was written, and how long it was kept when somebody last looked, and when that was.
    looked: Option<((u64, u64, Keeping), Instant)>,
    /// Whether something has to wait.
    waits: bool,
}

/// Looks after the past of some journals until the other end of `stop` is dropped.
pub fn look_after(all: &Mutex<Vec<Kept>>, stop: &Receiver<()>) {
    let mut known: HashMap<Arc<str>, Past> = HashMap::new();
    while let Err(RecvTimeoutError::Timeout) = stop.recv_timeout(EVERY) {
        let all = all.lock().clone();
        // One look at a folder is enough for all logs in it.
        let mut listings: HashMap<PathBuf, Listing> = HashMap::new();
        for kept in &all {
            let past = known.entry(Arc::clone(&kept.journal.name)).or_default();
            let now = (SystemTime::now(), Instant::now());
            if past.is_due(&kept.journal, now.1)
                && let Err(error) = kept.look_by(&mut listings, now, past)
            {
                let folder = kept.journal.folder().display();
                tracing::warn!(%folder, "past logs of {} cannot be looked after: {error}", kept.journal.name);
            }
        }
    }
}

impl Past {
    fn is_due(&mut self, journal: &Journal, now: Instant) -> bool {
        let seen = (journal.newest(), journal.oldest_written(), journal.keeping());
        let is_known = self
            .looked
            .as_ref()
            .is_some_and(|(before, at)| *before == seen && now.duration_since(*at) < AT_LEAST);
        if is_known && !self.waits {
            return false;
        }
        self.looked = Some((seen, now));
        true
    }
}

impl Kept {
    fn look_by(
        &self,
        listings: &mut HashMap<PathBuf, Listing>,
        now: (SystemTime, Instant),
        past: &mut Past,
    ) -> io::Result<()> {
        let folder = self.journal.folder();
        if !listings.contains_key(folder) {
            listings.insert(folder.to_owned(), Listing::of(folder)?);
        }
        let generations = listings.get(folder).map(|listing| listing.of_journal(&self.journal.name));
        self.look(generations.unwrap_or_default(), now, past)
    }

    /// Compresses and deletes what is due, at a time by the system's clock and one by a clock that only goes forward.
    fn look(
        &self,
        generations: &[Generation],
        (now, running): (SystemTime, Instant),
        past: &mut Past,
    ) -> io::Result<()> {
        let written = self.journal.oldest_written();
        past.waits = false;
        past.dates.retain(|number, _| generations.iter().any(|generation| generation.number == *number));
        for generation in generations.iter().filter(|generation| generation.number < written) {
            let _stays = self.journal.keep_files();
            let date = match past.dates.get(&generation.number) {
                Some(date) if generation.packed => *date,
                _ => self.date_of(generation)?,
            };
            let age = now.duration_since(date).unwrap_or_default();
            let is_old = self.journal.keeping().keep.is_some_and(|keep| age > keep);
            if !is_old && generation.packed {
                past.dates.insert(generation.number, date);
            } else if !self.has_been_read(generation) || (is_old && !past.step.allows(date, running)) {
                past.waits = true;
            } else if is_old {
                std::fs::remove_file(&generation.path)?;
            } else {
                pack(generation, date)?;
            }
        }
        Ok(())
    }

    fn has_been_read(&self, generation: &Generation) -> bool {
        let Some(records) = &self.records else { return true };
        generation.is_whole(records.committed(&generation.name).octets)
    }

    /// The date of a generation: that of its last line, and where it has none that of its file.
    fn date_of(&self, generation: &Generation) -> io::Result<SystemTime> {
        let mut file = File::open(&generation.path)?;
        let stated = match generation.packed {
            true => stated_date(&mut file)?,
            false => self.last_date(&mut file, generation.number)?,
        };
        stated.map_or_else(|| file.metadata()?.modified(), Ok)
    }

    /// The latest date among the last lines of a file.
    fn last_date(&self, file: &mut File, number: u64) -> io::Result<Option<SystemTime>> {
        let length = file.metadata()?.len();
        file.seek(SeekFrom::Start(length.saturating_sub(END)))?;
        let mut end = Vec::new();
        file.take(END).read_to_end(&mut end)?;
        // The first line may have lost its beginning.
        let begins =
            if length > END { memchr::memchr(b'\n', &end).map_or(end.len(), |at| at + 1) } else { 0 };
        let layouts = self.journal.layout_of(number).map_or_else(Layout::all_named, |layout| vec![layout]);
        let mut reader = LineReader::new(&layouts, Projection::time());
        let (mut batch, mut texts) = Default::default();
        let (mut latest, mut rest): (Option<i64>, &[u8]) = (None, &end[begins..]);
        while !rest.is_empty() {
            let took = reader.read_block(rest, 0, &mut 0, &mut batch, &mut texts);
            latest = latest.max(batch.time.iter().copied().max());
            batch.clear();
            rest = &rest[took.max(1).min(rest.len())..];
        }
        Ok(latest.and_then(|date| {
            SystemTime::UNIX_EPOCH.checked_add(Duration::from_millis(u64::try_from(date).ok()?))
        }))
    }
}

/// The date that a compressed file states (RFC 1952 §2.3.1, MTIME), where it does.
fn stated_date(file: &mut File) -> io::Result<Option<SystemTime>> {
    let mut head = [0; 8];
    file.read_exact(&mut head)?;
    let seconds = u32::from_le_bytes([head[4], head[5], head[6], head[7]]);
    Ok((seconds > 0).then(|| SystemTime::UNIX_EPOCH + Duration::from_secs(seconds.into())))
}

/// How far deleting may go at once: a day of logs an hour. A clock that jumps ahead makes everything look old.
#[derive(Default)]
struct Step(Option<(SystemTime, Instant)>);

impl Step {
    /// Whether what last changed at some time may be deleted now, by a clock that only goes forward.
    fn allows(&mut self, changed: SystemTime, running: Instant) -> bool {
        match self.0 {
            Some((until, _)) if changed <= until => true,
            Some((_, since)) if running.duration_since(since) < PAUSE => false,
            _ => {
                self.0 = Some((changed + A_DAY, running));
                true
            }
        }
    }
}

/// Compresses a file. It goes by its own name until it is whole, and states the date of its last line.
fn pack(generation: &Generation, date: SystemTime) -> io::Result<()> {
    let packed = generation.packed_path();
    let fresh = packed.with_extension("gz.new");
    let seconds = date.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default().as_secs();
    let builder = GzBuilder::new().mtime(u32::try_from(seconds).unwrap_or_default());
    let mut encoder = builder.write(BufWriter::new(File::create(&fresh)?), Compression::default());
    io::copy(&mut File::open(&generation.path)?, &mut encoder)?;
    let mut out = encoder.finish()?;
    out.flush()?;
    let file = out.into_inner().map_err(|error| error.into_error())?;
    file.set_times(FileTimes::new().set_modified(date))?;
    file.sync_all()?;
    std::fs::rename(&fresh, packed)?;
    std::fs::remove_file(&generation.path)
}

#[cfg(test)]
mod tests {
    use super::super::Appender;
    use super::super::generations::generations;
    use super::*;
    use exedra_answering::config::Rotate;
    use std::path::Path;

    impl Kept {
        fn look_at(&self, now: SystemTime, running: Instant, past: &mut Past) {
            let all = generations(self.journal.folder(), &self.journal.name).unwrap();
            self.look(&all, (now, running), past).unwrap();
        }
    }

    fn open(folder: &Path, keeping: Keeping) -> Arc<Appender> {
        let zone = jiff::tz::TimeZone::UTC;
        Journal::open(folder, "a", keeping, zone).unwrap().appender(&Layout::bare(), None).unwrap()
    }

    #[test]
    fn past_ones_are_compressed_and_then_deleted_by_their_own_dates_but_never_the_one_that_is_written() {
        let folder = tempfile::tempdir().unwrap();
        let (first, second) = (folder.path().join("a.000001.log"), folder.path().join("a.000002.log"));
        let line = |minute: u32| {
            format!(
                "192.0.2.1 - - [14/Nov/2026:05:{minute:02}:40 +0000] \"GET / HTTP/1.1\" 200 5 \"-\" \"x\"\n"
            )
        };
        // Many lines, the last but one the latest, and a line without a date.
        let text = format!("{}{}{}rubbish\n", line(1).repeat(2000), line(55), line(54));
        std::fs::write(&first, &text).unwrap();
        std::fs::write(&second, line(56)).unwrap();
        let keeping = Keeping { rotate: Rotate::Never, keep: Some(Duration::from_secs(100)) };
        let appender = open(folder.path(), keeping);
        let kept = Kept { journal: Arc::clone(&appender.journal), records: None };
        let date: SystemTime = "2026-11-14T05:55:40Z".parse::<jiff::Timestamp>().unwrap().into();
        let (began, mut past) = (Instant::now(), Past::default());
        kept.look_at(date + Duration::from_secs(50), began, &mut past);
        let packed = folder.path().join("a.000001.log.gz");
        let mut unpacked = String::new();
        flate2::read::GzDecoder::new(File::open(&packed).unwrap()).read_to_string(&mut unpacked).unwrap();
        assert_eq!(unpacked, text);
        assert_eq!(packed.metadata().unwrap().modified().unwrap(), date);
        let found = generations(folder.path(), "a").unwrap();
        let octets = text.len() as u64;
        assert!(!first.exists() && found[0].is_whole(octets) && !found[0].is_whole(octets - 1));
        // Copied, or touched by somebody: the date stays that of its lines, also for a service that knows nothing of it.
        File::options().write(true).open(&packed).unwrap().set_modified(SystemTime::now()).unwrap();
        kept.look_at(date + Duration::from_secs(99), began, &mut past);
        kept.look_at(date + Duration::from_secs(99), began, &mut Past::default());
        assert!(packed.exists());
        kept.look_at(date + Duration::from_secs(101), began, &mut Past::default());
        assert!(!packed.exists() && second.exists());
        appender.journal.close();
    }

    #[test]
    fn a_clock_that_jumps_ahead_costs_a_day_of_logs_an_hour_and_no_more() {
        let (began, hour) = (Instant::now(), Duration::from_secs(3600));
        let day = |number: u32| SystemTime::UNIX_EPOCH + A_DAY * number;
        let mut step = Step::default();
        let mut deleted = |at: Instant| (0..90).filter(|number| step.allows(day(*number), at)).count();
        assert_eq!(
            (deleted(began), deleted(began + hour / 2)),
            (2, 2),
            "the day that was begun, and no other"
        );
        // What was deleted is asked for again here; on the disk it is gone.
        assert_eq!((deleted(began + hour), deleted(began + hour * 2)), (4, 6));
    }

    #[test]
    fn what_the_records_have_not_read_stays_as_it_is() {
        let folder = tempfile::tempdir().unwrap();
        let first = folder.path().join("a.000001.log");
        std::fs::write(&first, "one\n").unwrap();
        std::fs::write(folder.path().join("a.000002.log"), "").unwrap();
        let keeping = Keeping { rotate: Rotate::Never, keep: Some(Duration::ZERO) };
        let appender = open(folder.path(), keeping);
        let records = Arc::new(Records::open(folder.path()));
        let kept = Kept { journal: Arc::clone(&appender.journal), records: Some(records) };
        let mut past = Past::default();
        kept.look_at(SystemTime::now() + Duration::from_secs(9), Instant::now(), &mut past);
        assert!(first.exists() && past.waits);
        appender.journal.close();
    }
}
