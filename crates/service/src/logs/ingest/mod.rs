//! The access logs into the records, the way anybody's logs are read.
//!
//! One thread follows the logs of all sites, generation by generation. What it has read is in the tail at
//! once; from time to time the tail becomes segments, together with how far each log was read. It only ever
//! takes whole lines, so after a crash reading goes on exactly where the segments end.
//!
//! - [`source`]: a generation, compressed or not; [`caught_up`]: up to when everything that was written is in the records

pub mod caught_up;
mod source;

use crate::logs::journal::Journal;
use crate::logs::journal::generations::{Generation, Listing, begins};
use caught_up::CaughtUp;
use exedra_common::{BATCH_ROWS, Dictionaries, Projection, RequestBatch};
use exedra_reading::logs::{Layout, LineReader};
use exedra_store::{Checkpoint, LogState, Records, StoreError};
use source::Source;
use std::collections::HashMap;
use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::time::{Duration, Instant};

/// How much is read at a time.
const BLOCK: usize = 4 << 20;
/// The most requests the tail holds. When it cannot be committed, the rest waits where it is safe: in the logs.
const MOST_IN_TAIL: usize = 8 * BATCH_ROWS;
/// The same in octets of the lines they were read from, and from how many on the tail is committed.
const MOST_OCTETS: usize = 32 << 20;
const FULL_OCTETS: usize = 12 << 20;
/// How long news are gathered before the logs are looked at: long enough that a busy log comes in large pieces,
/// whose texts are looked up together, and short enough that nobody notices.
const GATHERING: Duration = Duration::from_millis(150);
/// How long requests stay in the tail only.
const TAIL_TIME: Duration = Duration::from_secs(5);
/// How often the database is looked at when there is nothing to commit.
const LOOK_AGAIN: Duration = Duration::from_secs(10);
/// How often all segments are looked at.
const INSPECTION: Duration = Duration::from_secs(24 * 3600);
/// How often a log that cannot be read is complained about.
const COMPLAINT: Duration = Duration::from_secs(60);

/// A log that is followed.
pub struct Log {
    journal: Arc<Journal>,
    /// How generations are read of which nobody wrote down how they were written.
    layout: Layout,
    /// The newest generation when its files were last looked for.
    known: u64,
    /// Generations that may have something to be read yet, oldest first.
    unread: Vec<Followed>,
    /// Names and numbers of all generations that were there then.
    there: Vec<(String, u64)>,
    complained: Option<Instant>,
}

/// A generation that is followed.
struct Followed {
    generation: Generation,
    source: Option<Source>,
}

/// What came of reading on.
#[derive(PartialEq, Eq)]
enum Progress {
    /// There may be more.
    More,
    /// There is no more for now.
    End,
}

/// The thread's work.
pub struct Ingest {
    records: Arc<Records>,
    logs: Vec<Log>,
    more: Receiver<(Arc<Journal>, Layout)>,
    stop: Arc<AtomicBool>,
    inspection: Inspection,
    caught_up: Arc<CaughtUp>,
}

/// All segments are looked at, one at a time, at start and once a day: what a disk has altered is found before somebody asks.
struct Inspection {
    begun: Instant,
    /// The number of the segment that was looked at last; `None` when all have been.
    last: Option<i32>,
}

impl Inspection {
    /// Looks at the next segment, if it is time for that.
    fn step(&mut self, records: &Records) {
        match self.last {
            Some(last) => self.last = records.look_at_next(last),
            None if self.begun.elapsed() >= INSPECTION => {
                (self.begun, self.last) = (Instant::now(), Some(0));
            }
            None => {}
        }
    }
}

impl Ingest {
    /// Follows all generations of the logs that come by `more`.
    pub fn new(
        records: Arc<Records>,
        more: Receiver<(Arc<Journal>, Layout)>,
        stop: Arc<AtomicBool>,
        caught_up: Arc<CaughtUp>,
    ) -> Self {
        let inspection = Inspection { begun: Instant::now(), last: Some(0) };
        Ingest { records, logs: Vec::new(), more, stop, inspection, caught_up }
    }

    /// Follows until told to stop, and then to the end of what is written by then.
    pub fn run(&mut self, written: &Receiver<()>) {
        let mut committed = Instant::now();
        loop {
            let stopping = self.stop.load(Ordering::SeqCst);
            for (journal, layout) in self.more.try_iter() {
                self.logs.push(Log {
                    journal,
                    layout,
                    known: 0,
                    unread: Vec::new(),
                    there: Vec::new(),
                    complained: None,
                });
            }
            let began = jiff::Timestamp::now().as_second();
            let (mut idle, mut is_all) = (true, true);
            // Of past generations one is open at a time: it comes first.
            self.logs.sort_by_key(|log| !log.reads_past());
            let mut listing = None;
            for log in &mut self.logs {
                while has_room(&self.records) {
                    match log.read_on(&self.records, &mut listing) {
                        Ok(Progress::More) => idle = false,
                        Ok(Progress::End) => break,
                        Err(error) => {
                            is_all = false;
                            log.complain(&error);
                            break;
                        }
                    }
                    if !log.reads_past() {
                        break;
                    }
                }
            }
            if idle && is_all && has_room(&self.records) {
                self.caught_up.set(began);
            }
            let waits = self.records.has_uncommitted();
            let full =
                self.records.tail_requests() >= BATCH_ROWS || self.records.tail_octets() >= FULL_OCTETS;
            if full
                || stopping
                || committed.elapsed() >= LOOK_AGAIN
                || (self.records.is_behind() && committed.elapsed() >= TAIL_TIME)
                || (waits && committed.elapsed() >= TAIL_TIME)
            {
                if let Err(error) = self.commit() {
                    tracing::error!(
                        "requests could not be recorded and stay in memory and in the logs: {error}"
                    );
                }
                committed = Instant::now();
            }
            if !idle {
                continue;
            }
            if stopping {
                return;
            }
            self.inspection.step(&self.records);
            match written.recv_timeout(Duration::from_secs(1)) {
                Ok(()) => std::thread::sleep(GATHERING),
                Err(RecvTimeoutError::Timeout) => {}
                // All writers have ended: whatever they wrote is read in the last round.
                Err(RecvTimeoutError::Disconnected) => self.stop.store(true, Ordering::SeqCst),
            }
        }
    }

    fn commit(&mut self) -> Result<(), StoreError> {
        if self.records.look_again()? {
            // Another database: every log is read on from where that one ends.
            self.logs.iter_mut().for_each(Log::look_anew);
            return Ok(());
        }
        self.records.commit()?;
        let logs = self.log_states();
        self.records.merge(|name| logs.state_of(name))?;
        if self.records.drop_damaged()? {
            self.logs.iter_mut().for_each(Log::look_anew);
        }
        Ok(())
    }

    /// What becomes of each log that was ever read.
    fn log_states(&self) -> LogStates {
        let mut states = LogStates::default();
        for log in self.logs.iter().filter(|log| log.known > 0) {
            let written = log.journal.oldest_written();
            let there = log.there.iter().map(|(name, number)| {
                (name.clone(), if *number < written { LogState::Past } else { LogState::Written })
            });
            states.there.extend(there);
            states.followed.push(Arc::clone(&log.journal.name));
        }
        states
    }
}

/// Whether more may be read. What is undamaged in a database that was set aside comes before anything is read into the
/// next one.
fn has_room(records: &Records) -> bool {
    !records.is_behind() && records.tail_requests() < MOST_IN_TAIL && records.tail_octets() < MOST_OCTETS
}

/// What becomes of logs, by what was there when somebody last looked.
#[derive(Default)]
struct LogStates {
    there: HashMap<String, LogState>,
    /// Names of the journals that were looked at.
    followed: Vec<Arc<str>>,
}

impl LogStates {
    fn state_of(&self, name: &str) -> LogState {
        let journal = || name.strip_suffix(".log")?.rsplit_once('.').map(|(journal, _)| journal);
        match self.there.get(name) {
            Some(state) => *state,
            None if self.followed.iter().any(|followed| Some(&**followed) == journal()) => LogState::Gone,
            // Nobody has looked: it may be there.
            None => LogState::Past,
        }
    }
}

impl Log {
    /// Takes in a block of whole lines from the oldest generation that has any.
    fn read_on(&mut self, records: &Records, listing: &mut Option<Listing>) -> io::Result<Progress> {
        // What is still written is asked first: whatever is older than that gets no more lines.
        let written = self.journal.oldest_written();
        let newest = self.journal.newest();
        if newest != self.known {
            let listing = match listing {
                Some(listing) => listing,
                None => listing.insert(Listing::of(self.journal.folder())?),
            };
            self.look_for_generations(listing, records)?;
            self.known = newest;
        }
        let mut nth = 0;
        while let Some(followed) = self.unread.get_mut(nth) {
            let name = Arc::clone(&self.journal.name);
            let layout = self.journal.layout_of(followed.generation.number);
            let layout = layout.as_ref().unwrap_or(&self.layout);
            let number = followed.generation.number;
            if followed.source.is_none() {
                let file = self.journal.written_file(number);
                followed.source = Some(Source::open(&followed.generation, file)?);
            }
            if followed.read_on(&name, layout, records)? == Progress::More {
                return Ok(Progress::More);
            }
            if number >= written {
                nth += 1;
            } else {
                self.unread.remove(nth);
            }
        }
        Ok(Progress::End)
    }

    /// Forgets what is known of its files: they are looked for with the next reading.
    fn look_anew(&mut self) {
        self.unread.clear();
        self.known = 0;
    }

    /// Whether a generation is open that gets no more lines.
    fn reads_past(&self) -> bool {
        let newest = self.journal.oldest_written();
        self.unread.iter().any(|followed| followed.source.is_some() && followed.generation.number < newest)
    }

    fn look_for_generations(&mut self, listing: &Listing, records: &Records) -> io::Result<()> {
        let last = self.unread.last().map(|followed| followed.generation.number);
        let all = listing.of_journal(&self.journal.name);
        self.there = all.iter().map(|generation| (generation.name.clone(), generation.number)).collect();
        for generation in all {
            let known = records.checkpoint(&generation.name);
            let is_another = || generation.begins().is_ok_and(|begins| begins != known.begins);
            if known.incomplete && !is_another() {
                let log = generation.path.display();
                tracing::warn!(%log, "is read again from its beginning, because some of its requests were damaged in the records");
                records.read_again(&generation.name).map_err(io::Error::other)?;
            } else if (known.octets > 0 || known.incomplete) && known.begins.is_some() && is_another() {
                let log = generation.path.display();
                tracing::warn!(%log, "is another log than the one of this name that was read before: read from its beginning");
                records.forget(&generation.name);
            }
            let is_new = last.is_none_or(|last| generation.number > last);
            let is_past = generation.number < self.journal.oldest_written();
            let is_read = || generation.is_whole(records.checkpoint(&generation.name).octets);
            if is_new && !(is_past && is_read()) {
                self.unread.push(Followed { generation: generation.clone(), source: None });
            }
        }
        Ok(())
    }

    fn complain(&mut self, error: &io::Error) {
        // It may have been compressed, or put back.
        self.look_anew();
        if self.complained.is_none_or(|last| last.elapsed() > COMPLAINT) {
            tracing::error!(log = %self.journal.path().display(), "cannot be read: {error}");
            self.complained = Some(Instant::now());
        }
    }
}

impl Followed {
    fn read_on(&mut self, site: &Arc<str>, layout: &Layout, records: &Records) -> io::Result<Progress> {
        let name = &self.generation.name;
        let Some(source) = &mut self.source else { return Ok(Progress::End) };
        let mut checkpoint = records.checkpoint(name);
        let length = source.length()?;
        if length.is_some_and(|length| length < checkpoint.octets) {
            tracing::warn!(log = %self.generation.path.display(), "is shorter than it was: read from its beginning again");
            checkpoint = Checkpoint::default();
        }
        let most = length.map_or(BLOCK as u64, |length| length - checkpoint.octets);
        let mut block = vec![0; BLOCK.min(usize::try_from(most).unwrap_or(BLOCK))];
        let read = source.read_at(&mut block, checkpoint.octets)?;
        if checkpoint.octets == 0 {
            // Told by what was read: the file may have been taken away meanwhile.
            checkpoint.begins = begins(&block[..read]);
        }
        // A line without its end is still being written.
        let Some(last) = memchr::memrchr(b'\n', &block[..read]) else { return Ok(Progress::End) };
        let lines = &block[..=last];
        let origin = exedra_common::Origin {
            site: Some(site.to_string()),
            server: None,
            source: Some(name.to_string()),
        };
        let layouts = std::slice::from_ref(layout);
        let mut reader = LineReader::new(layouts, Projection::everything()).of(&origin);
        let mut at = 0;
        while at < lines.len() {
            let (mut batch, mut texts) = (RequestBatch::default(), Dictionaries::default());
            let (lines_before, unread_before) = (reader.read, reader.unread.lines());
            let took = reader.read_block(&lines[at..], 0, &mut 0, &mut batch, &mut texts);
            at += took;
            checkpoint.octets += took as u64;
            checkpoint.lines += reader.read - lines_before;
            checkpoint.unread += reader.unread.lines() - unread_before;
            records.append(site, name, batch, texts, (took, checkpoint));
        }
        Ok(if read == BLOCK { Progress::More } else { Progress::End })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_answering::config::{Keeping, Rotate};
    use flate2::Compression;
    use flate2::write::GzEncoder;
    use jiff::tz::TimeZone;
    use std::io::Write;
    use std::path::PathBuf;
    use std::sync::mpsc::{channel, sync_channel};
    use tempfile::TempDir;

    /// The logs of one site and the records of them.
    struct Logs {
        place: TempDir,
    }

    fn line(number: usize) -> String {
        format!(
            "192.0.2.{} - - [14/Nov/2026:05:{:02}:{:02} +0000] \"GET /{number} HTTP/1.1\" 200 {number} \"-\" \"Boat/1\"\n",
            number % 250,
            number / 60 % 60,
            number % 60
        )
    }

    fn lines(numbers: std::ops::Range<usize>) -> String {
        numbers.map(line).collect()
    }

    impl Logs {
        fn new() -> Self {
            let place = tempfile::tempdir().unwrap();
            std::fs::create_dir(place.path().join("logs")).unwrap();
            std::fs::create_dir(place.path().join("state")).unwrap();
            Logs { place }
        }

        fn generation(&self, number: u64) -> PathBuf {
            self.place.path().join(format!("logs/harbour.{number:06}.log"))
        }

        fn write(&self, number: u64, text: &str) {
            std::fs::write(self.generation(number), text).unwrap();
        }

        fn pack(&self, number: u64) {
            let plain = std::fs::read(self.generation(number)).unwrap();
            let packed = std::fs::File::create(self.generation(number).with_extension("log.gz")).unwrap();
            let mut packed = GzEncoder::new(packed, Compression::default());
            packed.write_all(&plain).unwrap();
            packed.finish().unwrap();
            std::fs::remove_file(self.generation(number)).unwrap();
        }

        /// A service that starts, reads whatever there is, and stops in order. Gives how many requests are recorded then, and how
        /// many of them are different.
        fn read(&self) -> (u64, usize) {
            let records = Arc::new(Records::open(&self.place.path().join("state")));
            let keeping = Keeping { rotate: Rotate::Never, keep: None };
            let journal =
                Journal::open(&self.place.path().join("logs"), "harbour", keeping, TimeZone::UTC).unwrap();
            let (followed, more) = channel();
            followed.send((Arc::clone(&journal), Layout::understand("combined").unwrap())).unwrap();
            let (_written, news) = sync_channel(1);
            let stop = Arc::new(AtomicBool::new(true));
            Ingest::new(Arc::clone(&records), more, stop, Arc::default()).run(&news);
            assert!(!records.has_uncommitted());
            (records.requests_of("harbour"), different(&records))
        }

        fn unread(&self, number: u64) -> u64 {
            let records = Records::open(&self.place.path().join("state"));
            records.checkpoint(&format!("harbour.{number:06}.log")).unread
        }
    }

    fn different(records: &Records) -> usize {
        let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
        let everything = Projection::everything();
        let fill =
            |_: &str, part: exedra_store::records::snapshot::Part<'_>| part.append_to(&mut batch, &mut texts);
        records.snapshot().read(records, everything, fill).unwrap();
        texts.of(exedra_common::TextColumn::Path).len()
    }

    #[test]
    fn every_line_of_every_generation_is_read_once_whatever_its_form() {
        let logs = Logs::new();
        logs.write(1, &lines(0..300));
        logs.write(2, &lines(300..500));
        logs.pack(1);
        assert_eq!(logs.read(), (500, 500));
        assert_eq!(logs.read(), (500, 500), "the next start finds nothing new");
        logs.pack(2);
        assert_eq!(logs.read(), (500, 500), "compressed meanwhile, it is still the same log");
        logs.write(7, &lines(500..501));
        assert_eq!(logs.read(), (501, 501), "numbers may have gaps");
        std::fs::remove_file(logs.generation(1).with_extension("log.gz")).unwrap();
        assert_eq!(logs.read(), (501, 501), "what was read stays when its log goes");
    }

    #[test]
    fn a_line_without_its_end_waits_for_it_and_lines_that_are_none_are_counted() {
        let logs = Logs::new();
        let whole = lines(0..10);
        let (begun, rest) = whole.split_at(whole.len() - 20);
        logs.write(1, begun);
        assert_eq!(logs.read().0, 9);
        logs.write(1, &format!("{begun}{rest}what is no line\n{}", line(10)));
        assert_eq!(logs.read(), (11, 11));
        assert_eq!(logs.unread(1), 1);
    }

    #[test]
    fn another_log_of_the_same_name_is_read_from_its_beginning() {
        let logs = Logs::new();
        logs.write(1, &lines(0..50));
        assert_eq!(logs.read(), (50, 50));
        logs.write(1, &lines(1000..1080));
        assert_eq!(logs.read(), (130, 130), "it begins otherwise, so none of it has been read");
        logs.write(1, &lines(1000..1100));
        assert_eq!(logs.read(), (150, 150), "this one has only grown");
    }
}
