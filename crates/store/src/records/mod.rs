//! The requests of the access logs, as columns: a tail in memory and segments on disk.
//!
//! New requests enter the tail and are visible at once. [`Records::commit`] makes them segments, in one
//! transaction with the checkpoint of each log they came from: after a crash, reading goes on exactly where
//! the segments end. Small segments are merged later. Readers take a [`Snapshot`] and then read segment by
//! segment, each in one short read.
//!
//! - [`packing`]: a column into octets and back
//! - [`snapshot`]: what a reader sees
//! - [`merging`]: small segments into larger ones

pub mod merging;
pub mod packing;
pub mod snapshot;

pub use snapshot::Snapshot;

use crate::database::{self, Database, StoreError, Trouble};
use crate::schema::{segment_columns, segments, sources};
use diesel::prelude::*;
use diesel_migrations::{EmbeddedMigrations, embed_migrations};
use exedra_core::logs::{Column, Dictionaries, RequestBatch};
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations/requests");

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
}

/// A segment, by what is known without reading it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Segment {
    /// Its number.
    pub id: i32,
    /// The site its requests went to.
    pub site: Arc<str>,
    /// How many there are.
    pub requests: usize,
    /// The first of them, in milliseconds since 1970 UTC.
    pub first: i64,
    /// The last of them, in milliseconds since 1970 UTC.
    pub last: i64,
}

/// Requests of one site that are not in a segment yet.
#[derive(Debug, Clone)]
pub struct TailPart {
    /// The site they went to.
    pub site: Arc<str>,
    /// The requests and their texts.
    pub requests: Arc<(RequestBatch, Dictionaries)>,
    /// The first of them, in milliseconds since 1970 UTC.
    pub first: i64,
    /// The last of them, in milliseconds since 1970 UTC.
    pub last: i64,
    /// Octets of the lines they were read from: about what they take in memory, or more.
    pub octets: usize,
}

/// Everything recorded. One thread writes (whoever calls `append`, `commit` and `merge`); any number read.
pub struct Records {
    writer: Database,
    /// The opening of the database that the state was last taken from.
    known: AtomicU64,
    readers: Mutex<Vec<SqliteConnection>>,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    segments: Vec<Arc<Segment>>,
    retired: Vec<Arc<Segment>>,
    tail: Vec<TailPart>,
    /// Checkpoints of the tail and of the segments before it.
    checkpoints: BTreeMap<String, Checkpoint>,
    /// Those of them that are in the database.
    committed: BTreeMap<String, Checkpoint>,
}

impl Records {
    /// Opens `requests.db` in the state folder. Whatever is wrong with it keeps nobody waiting: see [`Records::trouble`].
    pub fn open(state: &Path) -> Self {
        let writer = Database::at(state.join("requests.db"), || MIGRATIONS);
        let records =
            Records { writer, known: AtomicU64::new(0), readers: Mutex::default(), state: Mutex::default() };
        // What is wrong has been noted.
        let _ = records.look_again();
        records
    }

    /// What is the matter with the database.
    pub fn trouble(&self) -> Trouble {
        self.writer.trouble()
    }

    /// Looks whether the database is still the one that was opened. Where it is another, because it was damaged or taken
    /// away, everything is taken from that one, and the logs are to be read on from where it ends: says so.
    pub fn look_again(&self) -> Result<bool, StoreError> {
        let loaded = self.writer.run(|writer| {
            if self.writer.openings() == self.known.load(Ordering::SeqCst) {
                return Ok(None);
            }
            load(writer).map(Some)
        })?;
        let Some(loaded) = loaded else { return Ok(false) };
        self.known.store(self.writer.openings(), Ordering::SeqCst);
        locked(&self.readers).clear();
        *self.state() = loaded;
        Ok(true)
    }

    /// How far a log has been read, into the tail or further.
    pub fn checkpoint(&self, source: &str) -> Checkpoint {
        self.state().checkpoints.get(source).copied().unwrap_or_default()
    }

    /// Another log has taken the name of one: it has not been read at all.
    pub fn forget(&self, source: &str) {
        let mut state = self.state();
        state.checkpoints.insert(source.to_owned(), Checkpoint::default());
        state.committed.remove(source);
    }

    /// How far a log has been read into segments: what no crash takes away.
    pub fn committed(&self, source: &str) -> Checkpoint {
        self.state().committed.get(source).copied().unwrap_or_default()
    }

    /// Whether anything has been read that is not in segments yet.
    pub fn has_uncommitted(&self) -> bool {
        let state = self.state();
        !state.tail.is_empty() || state.checkpoints != state.committed
    }

    /// How many requests of a site there are, tail and segments together.
    pub fn requests_of(&self, site: &str) -> u64 {
        let state = self.state();
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
        requests: RequestBatch,
        texts: Dictionaries,
        (octets, checkpoint): (usize, Checkpoint),
    ) {
        let mut state = self.state();
        if let (Some(&first), Some(&last)) = (requests.time.iter().min(), requests.time.iter().max()) {
            let requests = Arc::new((requests, texts));
            state.tail.push(TailPart { site: Arc::clone(site), requests, first, last, octets });
        }
        state.checkpoints.insert(source.to_owned(), checkpoint);
    }

    /// How many requests are in the tail.
    pub fn tail_requests(&self) -> usize {
        self.state().tail.iter().map(|part| part.requests.0.rows()).sum()
    }

    /// Octets of the lines that the tail was read from.
    pub fn tail_octets(&self) -> usize {
        self.state().tail.iter().map(|part| part.octets).sum()
    }

    /// Makes the tail segments, one for each site, in one transaction with the checkpoints.
    pub fn commit(&self) -> Result<(), StoreError> {
        if self.look_again()? {
            // What was in the tail is read again.
            return Ok(());
        }
        let (tail, changed) = {
            let state = self.state();
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
        let mut by_site: BTreeMap<Arc<str>, (RequestBatch, Dictionaries)> = BTreeMap::new();
        let everything = exedra_core::logs::Projection::everything();
        for part in &tail {
            let (batch, texts) = by_site.entry(Arc::clone(&part.site)).or_default();
            batch.append(&part.requests.0, &part.requests.1, texts, everything);
        }
        let packed: Vec<Packed> =
            by_site.into_iter().map(|(site, (batch, texts))| pack(site, &batch, &texts)).collect();
        let made = self.writer.run(|writer| {
            writer.immediate_transaction::<_, StoreError, _>(|writer| {
                for (name, checkpoint) in &changed {
                    let row = (
                        sources::name.eq(name),
                        sources::octets.eq(checkpoint.octets as i64),
                        sources::lines.eq(checkpoint.lines as i64),
                        sources::unread.eq(checkpoint.unread as i64),
                        sources::begins
                            .eq(checkpoint.begins.map(|begins| format!("{begins:016x}")).unwrap_or_default()),
                    );
                    diesel::replace_into(sources::table).values(row).execute(writer)?;
                }
                packed.iter().map(|packed| insert(packed, writer)).collect::<Result<Vec<_>, _>>()
            })
        })?;
        let mut state = self.state();
        state.segments.extend(made);
        state.tail.drain(..tail.len());
        state.committed.extend(changed);
        Ok(())
    }

    /// What a reader sees from now on, whatever is written meanwhile.
    pub fn snapshot(&self) -> Snapshot {
        let state = self.state();
        Snapshot::new(state.segments.clone(), state.tail.clone())
    }

    fn state(&self) -> MutexGuard<'_, State> {
        locked(&self.state)
    }

    /// Runs a read on a connection of its own.
    fn read<T>(
        &self,
        run: impl FnOnce(&mut SqliteConnection) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        let spare = locked(&self.readers).pop();
        let mut connection = match spare {
            Some(connection) => connection,
            None => database::connect(self.writer.path())?,
        };
        let result = run(&mut connection);
        locked(&self.readers).push(connection);
        result
    }
}

/// What is in the database.
fn load(writer: &mut SqliteConnection) -> Result<State, StoreError> {
    diesel::delete(segments::table.filter(segments::retired.eq(true))).execute(writer)?;
    let kept = segments::table.order(segments::id).load::<(i32, String, i32, i64, i64, bool)>(writer)?;
    let kept = kept.into_iter().map(|(id, site, requests, first, last, _)| {
        Arc::new(Segment { id, site: site.into(), requests: requests as usize, first, last })
    });
    let checkpoints = sources::table.load::<(String, i64, i64, i64, String)>(writer)?;
    let checkpoints = checkpoints.into_iter().map(|(name, octets, lines, unread, begins)| {
        let begins = u64::from_str_radix(&begins, 16).ok();
        (name, Checkpoint { octets: octets as u64, lines: lines as u64, unread: unread as u64, begins })
    });
    let committed: BTreeMap<String, Checkpoint> = checkpoints.collect();
    let checkpoints = committed.clone();
    Ok(State { segments: kept.collect(), checkpoints, committed, ..State::default() })
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A segment that is ready to be written.
struct Packed {
    segment: Segment,
    columns: Vec<(Column, Vec<u8>)>,
}

fn pack(site: Arc<str>, batch: &RequestBatch, texts: &Dictionaries) -> Packed {
    let first = batch.time.iter().copied().min().unwrap_or_default();
    let last = batch.time.iter().copied().max().unwrap_or_default();
    let columns =
        Column::ALL.into_iter().map(|column| (column, packing::pack(column, batch, texts))).collect();
    Packed { segment: Segment { id: 0, site, requests: batch.rows(), first, last }, columns }
}

fn insert(packed: &Packed, writer: &mut SqliteConnection) -> Result<Arc<Segment>, StoreError> {
    let segment = &packed.segment;
    let row = (
        segments::site.eq(&*segment.site),
        segments::requests.eq(segment.requests as i32),
        segments::first_time.eq(segment.first),
        segments::last_time.eq(segment.last),
        segments::retired.eq(false),
    );
    let id: i32 =
        diesel::insert_into(segments::table).values(row).returning(segments::id).get_result(writer)?;
    for (column, octets) in &packed.columns {
        let row = (
            segment_columns::segment.eq(id),
            segment_columns::name.eq(column.name()),
            segment_columns::packed.eq(octets),
        );
        diesel::insert_into(segment_columns::table).values(row).execute(writer)?;
    }
    Ok(Arc::new(Segment { id, ..segment.clone() }))
}
