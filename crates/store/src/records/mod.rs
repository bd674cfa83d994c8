//! The requests of the access logs, as columns: a tail in memory and segments on disk.
//!
//! New requests enter the tail and are visible at once. [`Records::commit`] makes them segments, in one
//! transaction with the checkpoint of each log they came from: after a crash, reading goes on exactly where
//! the segments end. Small segments are merged later. Readers take a [`Snapshot`] and then read segment by
//! segment, each in one short read.
//!
//! - [`segment`]: a segment, and from which logs it was read
//! - [`packing`]: a column into octets and back; [`wire`]: a batch on its way to the records
//! - [`snapshot`]: what a reader sees; [`scanning`]: single requests of it; `column_cache`: columns that were asked for lately
//! - [`counting`]: surveys of the records; [`kept_surveys`]: those of closed days and months;
//!   [`closed`]: which those are
//! - [`preludes`]: what was different before bursts
//! - [`merging`]: small segments into larger ones
//! - [`rewriting`]: requests taken out of segments
//! - [`damaged`]: a segment that cannot be read
//! - [`salvage`]: what is undamaged in a database that was set aside

pub mod closed;
mod column_cache;
pub mod counting;
pub mod damaged;
pub mod kept_surveys;
pub mod merging;
pub mod packing;
pub mod preludes;
pub mod rewriting;
pub mod salvage;
pub mod scanning;
pub mod segment;
pub mod snapshot;
pub mod wire;

pub use counting::Counting;
pub use kept_surveys::KeptSurvey;
pub use merging::LogState;
pub use rewriting::Removal;
pub use scanning::{Scan, ScanSink};
pub use segment::{Origin, Segment};
pub use snapshot::Snapshot;

use crate::database::{self, Database, Kind, StoreError, Trouble};
use crate::imports::IMPORTED;
use crate::schema::{segments, sources};
use column_cache::ColumnCache;
use diesel::prelude::*;
use diesel_migrations::{EmbeddedMigrations, embed_migrations};
use exedra_common::{Dictionaries, RequestBatch, TextColumn};
use kept_surveys::LastChanges;
use parking_lot::Mutex;
use segment::Packed;
use std::collections::{BTreeMap, VecDeque};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations/requests");
/// What is undamaged in one that was set aside may take long to bring over: see [`salvage`].
pub(crate) const KIND: Kind = Kind { name: "requests.db", migrations: || MIGRATIONS, is_nowhere_else: false };

/// How far a log has been read.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Checkpoint {
    /// Octets from its beginning.
    pub octets: u64,
    /// Lines that became requests.
    pub lines: u64,
    /// Lines that did not.
    pub unread: u64,
    /// How it begins: a hash of its first line. Another log of the same name begins otherwise.
    pub begins: Option<u64>,
    /// Whether some of what was read of it has been damaged since, so that it is to be read again from its beginning:
    /// see [`Records::read_again`].
    pub incomplete: bool,
}

/// A stretch of a log that was read: octets from its beginning.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LogRange {
    /// Its first octet.
    pub from: u64,
    /// The first octet behind it.
    pub until: u64,
    /// Lines of it that did not become requests.
    pub unread: u64,
}

/// Requests of one site that are not in a segment yet.
#[derive(Debug, Clone)]
pub struct TailPart {
    /// The site they went to.
    pub site: Arc<str>,
    /// The log they were read from.
    pub origin: Origin,
    /// The requests and their texts.
    pub requests: Arc<(RequestBatch, Dictionaries)>,
    /// The first of them, in milliseconds since 1970 UTC.
    pub first: i64,
    /// The last of them, in milliseconds since 1970 UTC.
    pub last: i64,
    /// Octets of the lines they were read from: about what they take in memory, or more.
    pub octets: usize,
}

/// Everything recorded. One thread at a time writes; any number read.
pub struct Records {
    writer: Database,
    /// Held by whoever makes segments of the tail, or takes segments out.
    writing: Mutex<()>,
    /// The opening of the database that the state was last taken from.
    known: AtomicU64,
    readers: Mutex<Vec<SqliteConnection>>,
    state: Mutex<State>,
    /// What was damaged, in sentences.
    damages: Mutex<Vec<String>>,
    /// Kept surveys that were merged.
    merged: counting::MergedCache,
    /// Columns that were asked for lately.
    columns: ColumnCache,
    /// The sites that were counted, each at the place of its figures among the sources of surveys.
    counted_sites: counting::CountedSites,
    key: Mutex<kept_surveys::SurveyKey>,
}

/// Requests that came lately, also when they are in segments by now.
#[derive(Debug, Clone)]
pub struct Recent {
    /// They.
    pub seen: Snapshot,
    /// How many parts have come so far.
    pub arrivals: u64,
    /// Whether those are all that were asked for: only so many are remembered.
    pub are_all: bool,
}

/// How many requests are taken in from elsewhere before they become a segment. The more there are in one, the fewer texts are in several:
/// they are read sooner and take less room, and each reader needs more memory.
const MOST_TAKEN_IN: usize = 2 * exedra_common::BATCH_ROWS;
/// How many octets of lines the recent ones were read from, at most, and how many parts there are.
const MOST_RECENT_OCTETS: usize = 4 << 20;
const MOST_RECENT: usize = 64;

#[derive(Default)]
struct State {
    /// What came last, also when it is in segments by now; and how many parts have come.
    recent: VecDeque<TailPart>,
    arrivals: u64,
    segments: Vec<Arc<Segment>>,
    retired: Vec<Arc<Segment>>,
    /// Segments that cannot be read, and still are in the database.
    damaged: Vec<Arc<Segment>>,
    tail: Vec<TailPart>,
    /// Surveys of closed days and months.
    kept: Vec<Arc<KeptSurvey>>,
    /// Where requests came or went.
    changes: LastChanges,
    /// Removals that were done since the database was opened.
    removals: Arc<Vec<String>>,
    /// Checkpoints of the tail and of the segments before it.
    checkpoints: BTreeMap<String, Checkpoint>,
    /// Those of them that are in the database.
    committed: BTreeMap<String, Checkpoint>,
}

impl Records {
    /// Opens `requests.db` in the state folder. Whatever is wrong with it keeps nobody waiting: see [`Records::trouble`].
    /// What may take long, as salvaging a damaged one does, waits for [`Records::look_again`].
    pub fn open(state: &Path) -> Self {
        let writer = Database::of_ours(state, KIND);
        let records = Records {
            writer,
            writing: Mutex::default(),
            known: AtomicU64::new(0),
            readers: Mutex::default(),
            state: Mutex::default(),
            damages: Mutex::default(),
            merged: counting::MergedCache::default(),
            columns: ColumnCache::default(),
            counted_sites: counting::CountedSites::default(),
            key: Mutex::default(),
        };
        let newest = records.writer.trouble().set_aside.pop();
        let loaded = records.writer.run(|writer| match &newest {
            Some(aside) if !salvage::is_done(aside, writer)? => Ok(None),
            _ => load(writer).map(Some),
        });
        // What is wrong has been noted.
        if let Ok(Some(loaded)) = loaded {
            records.take(loaded);
        }
        records
    }

    /// What is the matter with the database, and with segments in it.
    pub fn trouble(&self) -> (Trouble, Vec<String>) {
        (self.writer.trouble(), self.damages.lock().clone())
    }

    /// Whether there is a database that nothing has been taken from yet. Until [`Records::look_again`] has succeeded,
    /// nothing is to be read into it: what is undamaged in the one before comes first.
    pub fn is_behind(&self) -> bool {
        self.known.load(Ordering::SeqCst) != self.writer.openings()
    }

    /// Looks whether the database is still the one that was opened. Where it is another, because it was damaged or taken
    /// away, what is undamaged is brought over, everything is taken from that one, and the logs are to be read on from
    /// where it ends: says so.
    pub fn look_again(&self) -> Result<bool, StoreError> {
        // The database is opened by this where it has to be, and may be set aside by it.
        self.writer.run(|_| Ok(()))?;
        if !self.is_behind() {
            return Ok(false);
        }
        let newest = self.writer.trouble().set_aside.pop();
        let (salvaged, loaded) = self.writer.run(|writer| {
            let salvaged = match &newest {
                Some(aside) if !salvage::is_done(aside, writer)? => Some(salvage::salvage(aside, writer)?),
                _ => None,
            };
            Ok((salvaged, load(writer)?))
        })?;
        if let (Some(salvaged), Some(aside)) = (salvaged, &newest) {
            let words = salvaged.words(aside);
            tracing::warn!("{words}");
            self.damages.lock().push(words);
        }
        self.take(loaded);
        Ok(true)
    }

    fn take(&self, loaded: State) {
        *self.state.lock() = loaded;
        let mut readers = self.readers.lock();
        readers.clear();
        self.known.store(self.writer.openings(), Ordering::SeqCst);
    }

    /// How far a log has been read, into the tail or further.
    pub fn checkpoint(&self, source: &str) -> Checkpoint {
        self.state.lock().checkpoints.get(source).copied().unwrap_or_default()
    }

    /// Another log has taken the name of one: it has not been read at all.
    pub fn forget(&self, source: &str) {
        let mut state = self.state.lock();
        state.checkpoints.insert(source.to_owned(), Checkpoint::default());
        state.committed.remove(source);
    }

    /// How far a log has been read into segments: what no crash takes away.
    pub fn committed(&self, source: &str) -> Checkpoint {
        self.state.lock().committed.get(source).copied().unwrap_or_default()
    }

    /// Whether anything has been read that is not in segments yet.
    pub fn has_uncommitted(&self) -> bool {
        let state = self.state.lock();
        !state.tail.is_empty() || state.checkpoints != state.committed
    }

    /// How many requests of a site there are, tail and segments together.
    pub fn requests_of(&self, site: &str) -> u64 {
        let state = self.state.lock();
        let kept =
            state.segments.iter().filter(|segment| &*segment.site == site).map(|segment| segment.requests);
        let tail = state.tail.iter().filter(|part| &*part.site == site).map(|part| part.requests.0.rows());
        kept.chain(tail).map(|requests| requests as u64).sum()
    }

    /// Takes in requests of a site, of how many octets of its log, and how far that has been read with them. Visible at once.
    pub fn append(
        &self,
        site: &Arc<str>,
        source: &str,
        mut requests: RequestBatch,
        mut texts: Dictionaries,
        (octets, checkpoint): (usize, Checkpoint),
    ) {
        // Whatever its lines say: a reader passes over the logs of other sites without looking into them.
        let code = texts.of_mut(TextColumn::Site).code(site);
        *requests.codes_mut(TextColumn::Site) = vec![code; requests.rows()];
        let mut state = self.state.lock();
        if let (Some(&first), Some(&last)) = (requests.time.iter().min(), requests.time.iter().max()) {
            let requests = Arc::new((requests, texts));
            let origin = Origin { name: source.into(), begins: checkpoint.begins };
            let part = TailPart { site: Arc::clone(site), origin, requests, first, last, octets };
            // What is imported did not come just now.
            if !source.starts_with(IMPORTED) {
                state.remember(part.clone());
            }
            state.tail.push(part);
        }
        state.checkpoints.insert(source.to_owned(), checkpoint);
    }

    /// What came after so many parts, or what is remembered of it; and how many there have been.
    pub fn recent(&self, since: u64) -> Recent {
        let state = self.state.lock();
        let new = usize::try_from(state.arrivals.saturating_sub(since)).unwrap_or(usize::MAX);
        let known = state.recent.len().saturating_sub(new);
        let parts = state.recent.iter().skip(known).cloned().collect();
        Recent {
            seen: Snapshot::new(Vec::new(), parts, Vec::new(), state.changes.count()),
            arrivals: state.arrivals,
            are_all: new <= state.recent.len(),
        }
    }

    /// How many requests are in the tail.
    pub fn tail_requests(&self) -> usize {
        self.state.lock().tail.iter().map(|part| part.requests.0.rows()).sum()
    }

    /// Octets of the lines that the tail was read from.
    pub fn tail_octets(&self) -> usize {
        self.state.lock().tail.iter().map(|part| part.octets).sum()
    }

    /// Takes in requests that were read from an octet of a log on, up to another, if they follow what was read of it before: says how
    /// far it was read otherwise. The log is given by the name and the beginning that it has in the records. Where the tail is full,
    /// it becomes segments first.
    pub fn take_in(
        &self,
        site: &Arc<str>,
        source: &str,
        requests: RequestBatch,
        texts: Dictionaries,
        stretch: LogRange,
    ) -> Result<Result<(), Checkpoint>, StoreError> {
        if self.is_behind() {
            return Err(StoreError::Behind);
        }
        if self.tail_requests() >= MOST_TAKEN_IN {
            self.make_segments()?;
        }
        let octets = stretch.until.saturating_sub(stretch.from) as usize;
        let read = requests.rows() as u64;
        // Two that send at once must not both be the next.
        let _writing = self.writing.lock();
        let known = self.checkpoint(source);
        if known.octets != stretch.from || known.incomplete {
            return Ok(Err(known));
        }
        let checkpoint = Checkpoint {
            octets: stretch.until,
            lines: known.lines + read,
            unread: known.unread + stretch.unread,
            ..known
        };
        self.append(site, source, requests, texts, (octets, checkpoint));
        Ok(Ok(()))
    }

    /// Makes the tail segments, one for each log, in one transaction with the checkpoints.
    pub fn commit(&self) -> Result<(), StoreError> {
        if self.look_again()? {
            // What was in the tail is read again.
            return Ok(());
        }
        self.make_segments()
    }

    /// As [`Records::commit`], where the database is known to be the one that was opened.
    fn make_segments(&self) -> Result<(), StoreError> {
        let _writing = self.writing.lock();
        let (tail, changed) = {
            let state = self.state.lock();
            let is_new = |(name, checkpoint): &(&String, &Checkpoint)| {
                state.committed.get(*name).is_none_or(|committed| committed != *checkpoint)
            };
            let changed: Vec<(String, Checkpoint)> = state
                .checkpoints
                .iter()
                .filter(is_new)
                .map(|(name, checkpoint)| (name.clone(), *checkpoint))
                .collect();
            (state.tail.clone(), changed)
        };
        let mut by_log: BTreeMap<(Arc<str>, Origin), (RequestBatch, Dictionaries, usize)> = BTreeMap::new();
        let everything = exedra_common::Projection::everything();
        for part in &tail {
            let log = (Arc::clone(&part.site), part.origin.clone());
            let (batch, texts, octets) = by_log.entry(log).or_default();
            batch.append(&part.requests.0, &part.requests.1, texts, everything);
            *octets += part.octets;
        }
        let packed = by_log.into_iter().map(|((site, origin), (batch, texts, octets))| {
            Packed::new(site, &batch, &texts, vec![(origin, batch.rows())], octets)
        });
        let packed: Vec<Packed> = packed.collect::<Result<_, _>>()?;
        let made = self.writer.run(|writer| {
            writer.immediate_transaction::<_, StoreError, _>(|writer| {
                changed.iter().try_for_each(|(name, checkpoint)| keep(name, checkpoint, writer))?;
                kept_surveys::forget(packed.iter().map(Packed::segment), writer)?;
                packed.iter().map(|packed| packed.insert(writer)).collect::<Result<Vec<_>, _>>()
            })
        })?;
        let mut state = self.state.lock();
        state.changed_by(made.iter().map(|segment| &**segment));
        state.segments.extend(made);
        state.tail.drain(..tail.len());
        state.committed.extend(changed);
        Ok(())
    }

    /// What a reader sees from now on, whatever is written meanwhile.
    pub fn snapshot(&self) -> Snapshot {
        let state = self.state.lock();
        let is_whole = |kept: &&Arc<KeptSurvey>| {
            !state.tail.iter().any(|part| kept.touches(&part.site, part.first, part.last))
        };
        let kept = state.kept.iter().filter(is_whole).cloned().collect();
        Snapshot::new(state.segments.clone(), state.tail.clone(), kept, state.changes.count())
            .with_arrivals(state.arrivals)
            .after(Arc::clone(&state.removals))
    }

    /// Runs a read on a connection of its own.
    fn read<T>(
        &self,
        run: impl FnOnce(&mut SqliteConnection) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        let (spare, opening) = {
            let mut readers = self.readers.lock();
            (readers.pop(), self.known.load(Ordering::SeqCst))
        };
        if opening != self.writer.openings() {
            // The numbers of segments in memory are those of another file.
            return Err(StoreError::Behind);
        }
        let connected = spare.map_or_else(|| database::connect(self.writer.path(), false), Ok);
        let result = connected.and_then(|mut connection| {
            let read = run(&mut connection)?;
            let mut readers = self.readers.lock();
            if self.known.load(Ordering::SeqCst) == opening {
                readers.push(connection);
            }
            Ok(read)
        });
        if let Err(error) = &result {
            self.writer.has_failed(error, opening);
        }
        result
    }
}

impl State {
    fn remember(&mut self, part: TailPart) {
        self.recent.push_back(part);
        self.arrivals += 1;
        let octets = |recent: &VecDeque<TailPart>| recent.iter().map(|part| part.octets).sum::<usize>();
        while self.recent.len() > MOST_RECENT || (octets(&self.recent) > MOST_RECENT_OCTETS) {
            self.recent.pop_front();
        }
    }
}

/// What is in the database.
fn load(writer: &mut SqliteConnection) -> Result<State, StoreError> {
    diesel::delete(segments::table.filter(segments::retired.eq(true))).execute(writer)?;
    let kept = segments::table.order(segments::id).load::<segment::Row>(writer)?;
    let checkpoints = sources::table.load::<(String, i64, i64, i64, String, bool)>(writer)?;
    let committed: BTreeMap<String, Checkpoint> = checkpoints.into_iter().map(checkpoint).collect();
    Ok(State {
        segments: kept.into_iter().map(|row| Arc::new(row.into())).collect(),
        kept: kept_surveys::load(writer)?,
        checkpoints: committed.clone(),
        committed,
        ..State::default()
    })
}

/// A row of the table of sources.
fn checkpoint(
    (name, octets, lines, unread, begins, incomplete): (String, i64, i64, i64, String, bool),
) -> (String, Checkpoint) {
    let (octets, lines, unread) = (octets as u64, lines as u64, unread as u64);
    let begins = u64::from_str_radix(&begins, 16).ok();
    (name, Checkpoint { octets, lines, unread, begins, incomplete })
}

/// Writes down how far a log has been read.
fn keep(name: &str, checkpoint: &Checkpoint, writer: &mut SqliteConnection) -> Result<(), StoreError> {
    let row = (
        sources::name.eq(name),
        sources::octets.eq(checkpoint.octets as i64),
        sources::lines.eq(checkpoint.lines as i64),
        sources::unread.eq(checkpoint.unread as i64),
        sources::begins.eq(checkpoint.begins.map(|begins| format!("{begins:016x}")).unwrap_or_default()),
        sources::incomplete.eq(checkpoint.incomplete),
    );
    diesel::replace_into(sources::table).values(row).execute(writer)?;
    Ok(())
}
