//! What a reader sees: the segments and the tail of one instant.

use super::packing::{self, Decompressed, Rows};
use super::{KeptSurvey, Records, Segment, TailPart};
use crate::database::StoreError;
use crate::schema::segment_columns;
use diesel::prelude::*;
use exedra_common::batch::NO_TIME;
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::{Column, Dictionaries, Projection, RequestBatch, TextColumn};
use std::sync::Arc;

/// The segments and the tail of one instant. While it lives, nothing of it is removed.
#[derive(Debug, Clone)]
pub struct Snapshot {
    pub(super) segments: Vec<Arc<Segment>>,
    tail: Vec<TailPart>,
    kept: Vec<Arc<KeptSurvey>>,
    changes: u64,
    removals: Arc<Vec<String>>,
    arrivals: u64,
}

impl Snapshot {
    pub(super) fn new(
        segments: Vec<Arc<Segment>>,
        tail: Vec<TailPart>,
        kept: Vec<Arc<KeptSurvey>>,
        changes: u64,
    ) -> Self {
        Snapshot { segments, tail, kept, changes, removals: Arc::default(), arrivals: 0 }
    }

    /// The same, when so many parts had come.
    pub(super) fn with_arrivals(self, arrivals: u64) -> Self {
        Snapshot { arrivals, ..self }
    }

    /// How many parts had come when it was taken: what came later is [`Records::recent`] since then.
    pub fn arrivals(&self) -> u64 {
        self.arrivals
    }

    /// The same, after some removals.
    pub(super) fn after(self, removals: Arc<Vec<String>>) -> Self {
        Snapshot { removals, ..self }
    }

    /// Whether it was taken after a removal that was done in this process.
    pub fn is_after(&self, removal: &str) -> bool {
        self.removals.iter().any(|one| one == removal)
    }

    /// How often requests had come or gone: the same number means the same segments' requests.
    pub fn changes(&self) -> u64 {
        self.changes
    }

    /// Surveys that are kept of what it holds.
    pub fn kept(&self) -> &[Arc<KeptSurvey>] {
        &self.kept
    }

    /// Its segments.
    pub fn segments(&self) -> &[Arc<Segment>] {
        &self.segments
    }

    /// The requests that are in no segment yet.
    pub fn tail(&self) -> &[TailPart] {
        &self.tail
    }

    /// Only what a scope can touch, by site and time.
    #[must_use]
    pub fn within(mut self, scope: &Scope) -> Self {
        self.segments.retain(|part| scope.has_site(&part.site) && scope.overlaps(part.first, part.last));
        self.tail.retain(|part| scope.has_site(&part.site) && scope.overlaps(part.first, part.last));
        self.kept.retain(|part| scope.has_site(&part.site) && scope.overlaps(part.from, part.until - 1));
        self
    }

    /// Only what is of sites that are wanted.
    #[must_use]
    pub fn of_sites(mut self, is_wanted: impl Fn(&str) -> bool) -> Self {
        self.segments.retain(|part| is_wanted(&part.site));
        self.tail.retain(|part| is_wanted(&part.site));
        self.kept.retain(|part| is_wanted(&part.site));
        self
    }

    /// The instant of its first request, in milliseconds since 1970 UTC.
    pub fn first(&self) -> Option<i64> {
        let tail = self.tail.iter().map(|part| part.first);
        self.segments.iter().map(|segment| segment.first).chain(tail).min()
    }

    /// How many requests it holds.
    pub fn requests(&self) -> usize {
        let tail = self.tail.iter().map(|part| part.requests.0.rows());
        self.segments.iter().map(|segment| segment.requests).chain(tail).sum()
    }

    /// Its parts, none of which has been read.
    pub fn parts<'s>(&'s self, records: &'s Records, projection: Projection) -> Vec<Part<'s>> {
        let segments = self.segments.iter().map(Origin::Segment);
        let origins = segments.chain(self.tail.iter().map(Origin::Tail));
        origins.map(|from| Part { records, projection, from, memory: Memory::Keep }).collect()
    }

    /// One of its parts, by its place among them, which has not been read.
    pub fn part<'s>(
        &'s self,
        records: &'s Records,
        projection: Projection,
        place: usize,
    ) -> Option<Part<'s>> {
        let from = match self.segments.get(place) {
            Some(segment) => Origin::Segment(segment),
            None => Origin::Tail(self.tail.get(place - self.segments.len())?),
        };
        Some(Part { records, projection, from, memory: Memory::Keep })
    }

    /// Reads it part by part: `fill` is handed what appends one part to a batch.
    pub fn read<E: From<StoreError>>(
        &self,
        records: &Records,
        projection: Projection,
        mut each: impl FnMut(&str, Part<'_>) -> Result<(), E>,
    ) -> Result<(), E> {
        for segment in &self.segments {
            each(
                &segment.site,
                Part { records, projection, from: Origin::Segment(segment), memory: Memory::Keep },
            )?;
        }
        for part in &self.tail {
            each(&part.site, Part { records, projection, from: Origin::Tail(part), memory: Memory::Keep })?;
        }
        Ok(())
    }

    /// Its last requests, newest first.
    pub fn latest(&self, records: &Records, count: usize) -> Result<Vec<Recorded>, StoreError> {
        let mut found: Vec<Recorded> = Vec::new();
        for part in &self.tail {
            collect(&mut found, &part.site, &part.requests, count);
        }
        let mut segments: Vec<_> = self.segments.iter().collect();
        segments.sort_by_key(|segment| std::cmp::Reverse(segment.last));
        for segment in segments {
            let enough = found.len() == count;
            if enough && found.last().is_some_and(|oldest| segment.last <= oldest.time()) {
                break;
            }
            let (mut batch, mut texts) = Default::default();
            read_segment(records, segment, Projection::everything(), &mut batch, &mut texts)?;
            collect(&mut found, &segment.site, &Arc::new((batch, texts)), count);
        }
        Ok(found)
    }
}

/// One request of the records.
#[derive(Debug, Clone)]
pub struct Recorded {
    /// The site it went to.
    pub site: Arc<str>,
    /// The requests it stands among, and their texts.
    pub requests: Arc<(RequestBatch, Dictionaries)>,
    /// Its place among them.
    pub row: usize,
}

impl Recorded {
    /// When it came in, in milliseconds since 1970 UTC.
    pub fn time(&self) -> i64 {
        self.requests.0.time[self.row]
    }
}

/// Adds the last requests of one part, and keeps only the newest of all.
fn collect(
    found: &mut Vec<Recorded>,
    site: &Arc<str>,
    requests: &Arc<(RequestBatch, Dictionaries)>,
    count: usize,
) {
    let time = &requests.0.time;
    let mut rows: Vec<usize> = (0..time.len()).collect();
    if rows.len() > count {
        // Lines are written when a request ends, so the last lines need not be the last requests.
        rows.select_nth_unstable_by_key(count, |&row| std::cmp::Reverse(time[row]));
        rows.truncate(count);
    }
    for row in rows {
        found.push(Recorded { site: Arc::clone(site), requests: Arc::clone(requests), row });
    }
    found.sort_by_key(|request| std::cmp::Reverse(request.time()));
    found.truncate(count);
}

/// One part of a snapshot, not read yet.
pub struct Part<'s> {
    records: &'s Records,
    projection: Projection,
    from: Origin<'s>,
    memory: Memory,
}

/// What is done with the columns that are in memory, decompressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Memory {
    /// They are taken, and those that were not there are kept there.
    Keep,
    /// They are taken.
    Take,
    /// They are not looked at: it is the disk that somebody wants to know of.
    PassOver,
}

enum Origin<'s> {
    Segment(&'s Arc<Segment>),
    Tail(&'s TailPart),
}

impl Part<'_> {
    /// The same, of which nothing is kept in memory: nobody will ask for it again soon.
    #[must_use]
    pub fn read_once(self) -> Self {
        Part { memory: Memory::Take, ..self }
    }

    /// All requests of its segment, in these columns.
    fn whole(&self, segment: &Segment) -> Wanted<'static> {
        Wanted { memory: self.memory, ..Wanted::whole(self.projection, segment) }
    }

    /// The site its requests went to.
    pub fn site(&self) -> &str {
        match self.from {
            Origin::Tail(part) => &part.site,
            Origin::Segment(segment) => &segment.site,
        }
    }

    /// How many requests it holds.
    pub fn requests(&self) -> usize {
        match self.from {
            Origin::Tail(part) => part.requests.0.rows(),
            Origin::Segment(segment) => segment.requests,
        }
    }

    /// Its first request and its last, in milliseconds since 1970 UTC.
    pub fn span(&self) -> (i64, i64) {
        match self.from {
            Origin::Tail(part) => (part.first, part.last),
            Origin::Segment(segment) => (segment.first, segment.last),
        }
    }

    /// Reads of it what a scope keeps, and perhaps more: rows that it does not keep are left out where that saves work.
    pub fn append_matching(
        &self,
        filter: &mut RowFilter,
        batch: &mut RequestBatch,
        texts: &mut Dictionaries,
    ) -> Result<(), StoreError> {
        match self.from {
            Origin::Segment(segment) if !filter.lets_all_through() => {
                read_matching(self.records, segment, self.whole(segment), filter, batch, texts)
            }
            _ => self.append_to(batch, texts),
        }
    }

    /// Reads of it just what a scope keeps, into an empty batch and with texts of its own. Where nobody wants to know when requests came
    /// in, they may be said to have come nobody knows when.
    pub fn read_alone(
        &self,
        filter: &mut RowFilter,
        wants_times: bool,
        batch: &mut RequestBatch,
        texts: &mut Dictionaries,
    ) -> Result<(), StoreError> {
        *texts = Dictionaries::default();
        filter.forget();
        match self.from {
            Origin::Segment(segment) => {
                let whole = Wanted {
                    is_alone: true,
                    has_times: wants_times || filter.scope().looks_at_times(),
                    ..self.whole(segment)
                };
                read_segment_alone(self.records, segment, whole, filter, batch, texts)
            }
            Origin::Tail(part) => {
                let (requests, own) = &*part.requests;
                let rows = filter.rows(requests, own);
                match rows.len() == requests.rows() {
                    true => batch.append(requests, own, texts, self.projection),
                    false => {
                        let mut some = requests.clone();
                        some.keep(&rows);
                        batch.append(&some, own, texts, self.projection);
                    }
                }
                Ok(())
            }
        }
    }

    /// Reads it, appending to a batch and learning its texts.
    pub fn append_to(&self, batch: &mut RequestBatch, texts: &mut Dictionaries) -> Result<(), StoreError> {
        match self.from {
            Origin::Tail(part) => {
                batch.append(&part.requests.0, &part.requests.1, texts, self.projection);
                Ok(())
            }
            Origin::Segment(segment) => {
                read_columns(self.records, segment, &self.whole(segment), batch, texts).map(|_| ())
            }
        }
    }
}

/// Reads those rows of a segment that a filter keeps: first the columns that it looks at, then of the others only those rows.
fn read_matching(
    records: &Records,
    segment: &Arc<Segment>,
    whole: Wanted<'_>,
    filter: &mut RowFilter,
    batch: &mut RequestBatch,
    texts: &mut Dictionaries,
) -> Result<(), StoreError> {
    let (mut looked_at, mut own): (RequestBatch, Dictionaries) = Default::default();
    let known = filter.projection();
    let alone = Wanted { projection: known, is_alone: true, ..whole };
    read_columns(records, segment, &alone, &mut looked_at, &mut own)?;
    filter.forget();
    let rows = filter.rows(&looked_at, &own);
    // Where most are wanted, nothing is gained.
    if rows.len() * 4 > segment.requests * 3 {
        return read_columns(records, segment, &whole, batch, texts).map(|_| ());
    }
    if !rows.is_empty() {
        // What was looked at need not be read again.
        looked_at.keep(&rows);
        let rows = Rows { all: segment.requests, wanted: Some(&rows) };
        let others = Wanted { rows, known: Some(known), ..whole };
        if read_columns(records, segment, &others, batch, texts)? {
            batch.append(&looked_at, &own, texts, known.of(whole.projection));
        }
    }
    Ok(())
}

/// Reads of a segment just what a filter keeps of all that is wanted, with texts of its own.
fn read_segment_alone(
    records: &Records,
    segment: &Arc<Segment>,
    whole: Wanted<'_>,
    filter: &mut RowFilter,
    batch: &mut RequestBatch,
    texts: &mut Dictionaries,
) -> Result<(), StoreError> {
    let Scope { from, until, .. } = filter.scope();
    let is_all = filter.scope().has_all_requests()
        && from.is_none_or(|from| segment.first >= from)
        && until.is_none_or(|until| segment.last < until);
    if is_all {
        return read_columns(records, segment, &whole, batch, texts).map(|_| ());
    }
    let looked_at = Wanted { projection: filter.projection(), ..whole };
    read_columns(records, segment, &looked_at, batch, texts)?;
    let rows = filter.rows(batch, texts);
    // Where most are wanted, it is faster to take all beside what was looked at, and to drop the others.
    if rows.len() * 4 > segment.requests * 3 {
        let others = Wanted { known: Some(filter.projection()), ..whole };
        match read_columns(records, segment, &others, batch, texts)? {
            true => batch.keep(&rows),
            false => batch.clear(),
        }
        return Ok(());
    }
    batch.clear();
    *texts = Dictionaries::default();
    if rows.is_empty() {
        return Ok(());
    }
    // To look up the texts of many costs more than to take all.
    let is_alone = rows.len() * MANY > segment.requests;
    let rows = Rows { all: segment.requests, wanted: Some(&rows) };
    read_columns(records, segment, &Wanted { rows, is_alone, ..whole }, batch, texts).map(|_| ())
}

/// The part of a segment whose texts are better taken as they are, all of them, as one over this.
const MANY: usize = 64;

/// Reads the wanted columns of a segment from the disk, for whoever looks after the segments. One that is damaged has none.
pub(super) fn read_segment(
    records: &Records,
    segment: &Arc<Segment>,
    projection: Projection,
    batch: &mut RequestBatch,
    texts: &mut Dictionaries,
) -> Result<(), StoreError> {
    let whole = Wanted { memory: Memory::PassOver, ..Wanted::whole(projection, segment) };
    read_columns(records, segment, &whole, batch, texts).map(|_| ())
}

/// What is read of a segment.
#[derive(Clone, Copy)]
struct Wanted<'w> {
    projection: Projection,
    rows: Rows<'w>,
    /// Columns that are known already, and the time with them.
    known: Option<Projection>,
    /// Whether nothing else has these texts.
    is_alone: bool,
    /// Whether somebody wants to know when requests came in.
    has_times: bool,
    memory: Memory,
}

impl Wanted<'_> {
    /// Columns of all requests of a segment.
    fn whole(projection: Projection, segment: &Segment) -> Self {
        let rows = Rows::all(segment.requests);
        Wanted { projection, rows, known: None, is_alone: false, has_times: true, memory: Memory::Keep }
    }

    fn columns(&self) -> Vec<Column> {
        let is_known = |column| match column {
            Column::Time if !self.has_times => true,
            column => self.known.is_some_and(|known| known.has(column)),
        };
        Column::kept().filter(|&column| self.projection.has(column) && !is_known(column)).collect()
    }
}

/// Appends columns of a segment; whether it could. One that is damaged adds nothing, and is left out from now on.
fn read_columns(
    records: &Records,
    segment: &Arc<Segment>,
    wanted: &Wanted<'_>,
    batch: &mut RequestBatch,
    texts: &mut Dictionaries,
) -> Result<bool, StoreError> {
    let Wanted { rows: wanted_rows, is_alone, memory, known, .. } = wanted;
    // Rows that are known have their times, be it none.
    let has_times = wanted.has_times || known.is_some();
    let count = wanted_rows.count();
    let wanted = wanted.columns();
    let kept =
        |column: &Column| records.columns.get(segment, *column).filter(|_| *memory != Memory::PassOver);
    let kept: Vec<Option<Arc<Decompressed>>> = wanted.iter().map(kept).collect();
    let missing = wanted.iter().zip(&kept).filter(|(_, kept)| kept.is_none());
    let names: Vec<&str> = missing.map(|(column, _)| column.declaration().stored).collect();
    let packed: Vec<(String, Vec<u8>)> = match names.is_empty() {
        true => Vec::new(),
        false => records.read(|connection| {
            let columns = segment_columns::table
                .filter(segment_columns::segment.eq(segment.id).and(segment_columns::name.eq_any(names)))
                .select((segment_columns::name, segment_columns::packed));
            Ok(columns.load(connection)?)
        })?,
    };
    let rows = batch.rows();
    if !has_times {
        batch.time.resize(rows + count, NO_TIME);
    }
    for (column, kept) in wanted.into_iter().zip(kept) {
        let own = packed.iter().find(|(name, _)| name == column.declaration().stored);
        let keeps = *memory == Memory::Keep;
        let decompress = |packed: &Vec<u8>| match keeps {
            true => Decompressed::new(packed),
            false => Decompressed::for_now(packed),
        };
        let decompressed = own.and_then(|(_, packed)| decompress(packed)).map(Arc::new);
        if let Some(plain) = decompressed.as_ref().filter(|_| keeps) {
            records.columns.put(segment, column, plain);
        }
        let unpacked = match kept.or(decompressed) {
            Some(plain) if *is_alone => packing::unpack_alone(column, &plain, *wanted_rows, batch, texts),
            Some(plain) => packing::unpack(column, &plain, *wanted_rows, batch, texts),
            None if own.is_some() => None,
            None if segment.has(column) => None,
            // Segments of one site were not told it by their rows.
            None if column == Column::Text(TextColumn::Site) => {
                let code = texts.of_mut(TextColumn::Site).code(&segment.site);
                let codes = batch.codes_mut(TextColumn::Site);
                codes.resize(codes.len() + count, code);
                Some(())
            }
            None => packing::append_nothing(column, count, batch),
        };
        if unpacked.is_none() {
            tracing::error!(
                "segment {} of requests.db, column {}, is damaged",
                segment.id,
                column.declaration().stored
            );
            batch.truncate(rows);
            records.leave_out(segment);
            return Ok(false);
        }
    }
    Ok(true)
}
