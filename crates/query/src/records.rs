//! The records as a source: segments and tail of one instant, taken by whichever reader is free.
//!
//! Segments that cannot hold anything of the scope, by time and site, are not opened; of the others the columns that a filter looks at
//! are read first.

use crate::source::{Reading, RequestReader, RequestSource, SourceError, TextsAre};
use exedra_common::scope::RowFilter;
use exedra_common::{Column, Dictionaries, Projection, RequestBatch, TextColumn};
use exedra_store::records::{Records, Snapshot};
use std::fmt::{self, Debug};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// What the records held at one instant.
#[derive(Clone)]
pub struct RecordedRequests {
    records: Arc<Records>,
    seen: Arc<Snapshot>,
}

impl RecordedRequests {
    /// A snapshot of some records.
    pub fn new(records: Arc<Records>, seen: Snapshot) -> Self {
        RecordedRequests { records, seen: Arc::new(seen) }
    }

    /// How many requests there are to read.
    pub fn requests(&self) -> u64 {
        self.seen.requests() as u64
    }
}

impl Debug for RecordedRequests {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "records of {} requests", self.seen.requests())
    }
}

impl RequestSource for RecordedRequests {
    fn begin(&self, reading: Reading) -> Result<Vec<Box<dyn RequestReader>>, SourceError> {
        let Reading { projection, wants_times, filter, threads } = reading;
        let scope = filter.scope();
        let is_of_site = |site: &str| {
            let mut filters =
                scope.filters.iter().filter(|filter| filter.column == Column::Text(TextColumn::Site));
            scope.has_site(site) && filters.all(|filter| filter.values.has_text(site) != filter.without)
        };
        let parts = self.seen.parts(&self.records, projection);
        let wanted = parts.iter().enumerate().filter(|(_, part)| {
            let (first, last) = part.span();
            is_of_site(part.site()) && scope.overlaps(first, last)
        });
        let wanted: Arc<[usize]> = wanted.map(|(place, _)| place).collect();
        let next = Arc::new(AtomicUsize::new(0));
        let reader = |_| -> Box<dyn RequestReader> {
            Box::new(RecordReader {
                source: self.clone(),
                projection,
                wants_times,
                filter: filter.clone(),
                wanted: Arc::clone(&wanted),
                next: Arc::clone(&next),
            })
        };
        Ok((0..threads.min(wanted.len()).max(1)).map(reader).collect())
    }
}

/// One thread's share of the records.
struct RecordReader {
    source: RecordedRequests,
    projection: Projection,
    wants_times: bool,
    filter: RowFilter,
    /// The places of the parts that may hold something.
    wanted: Arc<[usize]>,
    next: Arc<AtomicUsize>,
}

impl RequestReader for RecordReader {
    fn read(
        &mut self,
        batch: &mut RequestBatch,
        texts: &mut Dictionaries,
    ) -> Result<Option<TextsAre>, SourceError> {
        let RecordReader { source, projection, wants_times, filter, wanted, next } = self;
        let Some(place) = wanted.get(next.fetch_add(1, Ordering::Relaxed)) else { return Ok(None) };
        if let Some(part) = source.seen.part(&source.records, *projection, *place) {
            part.read_alone(filter, *wants_times, batch, texts)
                .map_err(|error| SourceError(error.to_string()))?;
        }
        Ok(Some(TextsAre::New))
    }
}
