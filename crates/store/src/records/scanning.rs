//! Single requests of the records, one by one, to whoever counts or keeps them.

use super::Records;
use super::counting::{Counting, on_threads};
use super::snapshot::{Part, Snapshot};
use crate::database::StoreError;
use exedra_common::columns::Derive;
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::{Dictionaries, Projection, RequestBatch};
use exedra_reading::prelude::Tallies;
use exedra_reading::trail::{Keeper, Place};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Which requests are gone through, and what is read of them.
pub struct Scan<'s> {
    /// Those of this scope.
    pub scope: &'s Scope,
    /// The columns that are looked at, beside those of the scope.
    pub projection: Projection,
    /// What works out derived columns for filters.
    pub derive: Arc<dyn Derive>,
}

/// Whoever takes requests, on one thread.
pub trait ScanSink: Send {
    /// Takes one that fits, in a batch, which stands at a place among all.
    fn take(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, place: Place);

    /// Whether requests between two instants (milliseconds since 1970 UTC) still matter. The newest come first.
    fn wants(&self, _first: i64, _last: i64) -> bool {
        true
    }
}

impl ScanSink for Keeper {
    fn take(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, place: Place) {
        self.add(batch, row, texts, place);
    }
}

impl ScanSink for Tallies {
    fn take(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, _: Place) {
        self.add(batch, row, texts);
    }
}

impl Records {
    /// Hands each request of a snapshot that fits to a sink of its thread, in no order. Gives the sinks; how many requests there were to
    /// look at; and how many that fit were handed to none, because none wanted them.
    pub fn scan<S: ScanSink, E: From<StoreError> + Send>(
        &self,
        seen: &Snapshot,
        scan: &Scan<'_>,
        counting: &Counting<'_, E>,
        begin: impl Fn() -> S + Sync,
    ) -> Result<(Vec<S>, u64, u64), E> {
        let scope = scan.scope;
        let projection = scan.projection.with(scope.columns().collect());
        let mut parts: Vec<Part<'_>> = seen.parts(self, projection);
        parts.retain(|part| scope.overlaps(part.span().0, part.span().1));
        parts.sort_by_key(|part| std::cmp::Reverse(part.span().1));
        let tried: usize = parts.iter().map(Part::requests).sum();
        let is_whole = |part: &Part<'_>| {
            let (first, last) = part.span();
            scope.has_all_requests()
                && scope.from.is_none_or(|from| first >= from)
                && scope.until.is_none_or(|until| last < until)
        };
        let (next, passed_over) = (AtomicUsize::new(0), AtomicUsize::new(0));
        let share = || -> Result<S, E> {
            (counting.begin_thread)();
            let mut sink = begin();
            let mut filter = RowFilter::new(scope.clone(), Arc::clone(&scan.derive));
            let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
            loop {
                let source = next.fetch_add(1, Ordering::Relaxed);
                let Some(part) = parts.get(source) else { return Ok(sink) };
                (counting.goes_on)()?;
                let (first, last) = part.span();
                if is_whole(part) && !sink.wants(first, last) {
                    passed_over.fetch_add(part.requests(), Ordering::Relaxed);
                    continue;
                }
                batch.clear();
                filter.forget();
                part.append_matching(&mut filter, &mut batch, &mut texts)?;
                filter.forget();
                for row in 0..batch.rows() {
                    if filter.keeps(&batch, row, &texts) {
                        sink.take(&batch, row, &texts, Place { source, block: 0, line: 0, row: row as u32 });
                    }
                }
                if texts.are_full() {
                    texts = Dictionaries::default();
                }
            }
        };
        let sinks = match parts.is_empty() {
            true => Vec::new(),
            false => on_threads(counting.threads(parts.len()), &share)?,
        };
        Ok((sinks, tried as u64, passed_over.into_inner() as u64))
    }
}
