//! What a reader sees: the segments and the tail of one instant.

use super::{Records, Segment, TailPart, packing};
use crate::database::StoreError;
use crate::schema::segment_columns;
use diesel::prelude::*;
use exedra_core::logs::{Column, Dictionaries, Projection, RequestBatch};
use exedra_core::scope::Scope;
use std::sync::Arc;

/// The segments and the tail of one instant. While it lives, nothing of it is removed.
#[derive(Debug, Clone)]
pub struct Snapshot {
    segments: Vec<Arc<Segment>>,
    tail: Vec<TailPart>,
}

impl Snapshot {
    pub(super) fn new(segments: Vec<Arc<Segment>>, tail: Vec<TailPart>) -> Self {
        Snapshot { segments, tail }
    }

    /// Only what a scope can touch, by site and time.
    #[must_use]
    pub fn within(mut self, scope: &Scope) -> Self {
        self.segments.retain(|part| scope.has_site(&part.site) && scope.overlaps(part.first, part.last));
        self.tail.retain(|part| scope.has_site(&part.site) && scope.overlaps(part.first, part.last));
        self
    }

    /// How many requests it holds.
    pub fn requests(&self) -> usize {
        let tail = self.tail.iter().map(|part| part.requests.0.rows());
        self.segments.iter().map(|segment| segment.requests).chain(tail).sum()
    }

    /// Reads it part by part: `fill` is handed what appends one part to a batch.
    pub fn read<E: From<StoreError>>(
        &self,
        records: &Records,
        projection: Projection,
        mut each: impl FnMut(&str, Part<'_>) -> Result<(), E>,
    ) -> Result<(), E> {
        for segment in &self.segments {
            each(&segment.site, Part { records, projection, from: Origin::Segment(segment) })?;
        }
        for part in &self.tail {
            each(&part.site, Part { records, projection, from: Origin::Tail(part) })?;
        }
        Ok(())
    }

    /// Its last requests, newest first, each with its site and all columns.
    pub fn latest(
        &self,
        records: &Records,
        count: usize,
    ) -> Result<Vec<(Arc<str>, RequestBatch, Dictionaries)>, StoreError> {
        let everything = Projection::everything();
        let mut found: Vec<(i64, Arc<str>, Arc<(RequestBatch, Dictionaries)>, usize)> = Vec::new();
        let mut collect = |site: &Arc<str>, requests: Arc<(RequestBatch, Dictionaries)>| {
            for row in requests.0.rows().saturating_sub(count)..requests.0.rows() {
                found.push((requests.0.time[row], Arc::clone(site), Arc::clone(&requests), row));
            }
            found.sort_by_key(|entry| std::cmp::Reverse(entry.0));
            found.truncate(count);
            // The oldest that would be shown, once there are enough.
            if found.len() == count { found[count - 1].0 } else { i64::MIN }
        };
        let mut oldest = i64::MIN;
        for part in &self.tail {
            oldest = collect(&part.site, Arc::clone(&part.requests));
        }
        let mut segments: Vec<_> = self.segments.iter().collect();
        segments.sort_by_key(|segment| std::cmp::Reverse(segment.last));
        for segment in segments {
            if segment.last <= oldest {
                break;
            }
            let (mut batch, mut texts) = Default::default();
            let part = Part { records, projection: everything, from: Origin::Segment(segment) };
            part.append_to(&mut batch, &mut texts)?;
            oldest = collect(&segment.site, Arc::new((batch, texts)));
        }
        Ok(found
            .into_iter()
            .map(|(_, site, requests, row)| {
                let (batch, texts) = one_row(&requests.0, row, &requests.1);
                (site, batch, texts)
            })
            .collect())
    }
}

fn one_row(batch: &RequestBatch, row: usize, texts: &Dictionaries) -> (RequestBatch, Dictionaries) {
    let mut dictionaries = Dictionaries::default();
    let mut one = RequestBatch {
        time: vec![batch.time[row]],
        status: vec![batch.status[row]],
        bytes: vec![batch.bytes[row]],
        full_bytes: vec![batch.full_bytes[row]],
        duration: vec![batch.duration[row]],
        ..RequestBatch::default()
    };
    for column in exedra_core::logs::TextColumn::ALL {
        let code =
            batch.code(column, row).map(|code| dictionaries.of_mut(column).code(texts.of(column).text(code)));
        one.texts[column.index()] = vec![code.unwrap_or(exedra_core::logs::batch::NO_TEXT)];
    }
    (one, dictionaries)
}

/// One part of a snapshot, not read yet.
pub struct Part<'s> {
    records: &'s Records,
    projection: Projection,
    from: Origin<'s>,
}

enum Origin<'s> {
    Segment(&'s Segment),
    Tail(&'s TailPart),
}

impl Part<'_> {
    /// Reads it, appending to a batch and learning its texts.
    pub fn append_to(&self, batch: &mut RequestBatch, texts: &mut Dictionaries) -> Result<(), StoreError> {
        match self.from {
            Origin::Tail(part) => {
                batch.append(&part.requests.0, &part.requests.1, texts, self.projection);
                Ok(())
            }
            Origin::Segment(segment) => read_segment(self.records, segment, self.projection, batch, texts),
        }
    }
}

/// Reads the wanted columns of a segment.
pub(super) fn read_segment(
    records: &Records,
    segment: &Segment,
    projection: Projection,
    batch: &mut RequestBatch,
    texts: &mut Dictionaries,
) -> Result<(), StoreError> {
    let wanted: Vec<Column> = Column::ALL.into_iter().filter(|&column| projection.has(column)).collect();
    let names: Vec<&str> = wanted.iter().map(|column| column.name()).collect();
    let packed: Vec<(String, Vec<u8>)> = records.read(|connection| {
        let columns = segment_columns::table
            .filter(segment_columns::segment.eq(segment.id).and(segment_columns::name.eq_any(names)))
            .select((segment_columns::name, segment_columns::packed));
        Ok(columns.load(connection)?)
    })?;
    for column in wanted {
        let damaged = StoreError::Damaged { segment: segment.id, column: column.name() };
        let unpacked = packed
            .iter()
            .find(|(name, _)| name == column.name())
            .and_then(|(_, packed)| packing::unpack(column, packed, segment.requests, batch, texts));
        unpacked.ok_or(damaged)?;
    }
    Ok(())
}
