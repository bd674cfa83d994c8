//! Columns of segments in memory, decompressed, for whoever asks next.
//!
//! What people look at they look at several times: another sorting, another condition, the next statement. To decompress a column
//! takes longer than anything that is done with it. The cache has a bound in octets; what is asked for often stays.

use super::Segment;
use super::packing::Decompressed;
use exedra_common::Column;
use quick_cache::Weighter;
use quick_cache::sync::Cache;
use std::fmt;
use std::sync::Arc;

/// How many octets of columns are kept.
pub(super) const MOST_OCTETS: u64 = 64 << 20;
/// How many columns that may be, about.
const COLUMNS: usize = 2_000;

/// The columns that are kept.
pub(super) struct ColumnCache(Cache<(usize, Column), Kept, Octets>);

/// A column, and the segment that it is of: while this one lives, no other is at its place in memory.
#[derive(Clone)]
struct Kept {
    _segment: Arc<Segment>,
    plain: Arc<Decompressed>,
}

#[derive(Debug, Clone)]
struct Octets;

impl Weighter<(usize, Column), Kept> for Octets {
    fn weight(&self, _: &(usize, Column), kept: &Kept) -> u64 {
        kept.plain.octets() as u64 + 64
    }
}

impl Default for ColumnCache {
    fn default() -> Self {
        ColumnCache(Cache::with_weighter(COLUMNS, MOST_OCTETS, Octets))
    }
}

impl fmt::Debug for ColumnCache {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "{} columns of {} octets", self.0.len(), self.0.weight())
    }
}

impl ColumnCache {
    /// A column of a segment, decompressed, if it is kept.
    pub(super) fn get(&self, segment: &Arc<Segment>, column: Column) -> Option<Arc<Decompressed>> {
        self.0.get(&key(segment, column)).map(|kept| kept.plain)
    }

    /// Keeps none of them any longer.
    pub(super) fn forget(&self) {
        self.0.clear();
    }

    /// Keeps a column of a segment.
    pub(super) fn put(&self, segment: &Arc<Segment>, column: Column, plain: &Arc<Decompressed>) {
        let kept = Kept { _segment: Arc::clone(segment), plain: Arc::clone(plain) };
        self.0.insert(key(segment, column), kept);
    }
}

fn key(segment: &Arc<Segment>, column: Column) -> (usize, Column) {
    (Arc::as_ptr(segment).addr(), column)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::packing::pack;
    use exedra_common::{NumberColumn, RequestBatch};
    use rand::RngExt;

    fn segment(id: i32) -> Arc<Segment> {
        let (site, columns) = ("harbour".into(), "".into());
        Arc::new(Segment {
            id,
            site,
            requests: 1,
            first: 0,
            last: 0,
            origins: Vec::new(),
            columns,
            octets: 0,
        })
    }

    fn column(requests: usize) -> Arc<Decompressed> {
        let mut batch = RequestBatch::default();
        let mut random = rand::rng();
        batch.time.extend((0..requests).map(|_| random.random_range(0..i64::MAX)));
        let packed = pack(Column::Time, &batch, &Default::default()).unwrap();
        Arc::new(Decompressed::new(&packed).unwrap())
    }

    #[test]
    fn a_segment_that_is_written_anew_is_another_though_it_has_the_same_number() {
        let (cache, before) = (ColumnCache::default(), segment(7));
        let times = column(3);
        cache.put(&before, Column::Time, &times);
        assert!(cache.get(&before, Column::Time).is_some_and(|kept| Arc::ptr_eq(&kept, &times)));
        assert!(cache.get(&before, NumberColumn::Status.into()).is_none());
        assert!(cache.get(&segment(7), Column::Time).is_none());
        cache.forget();
        assert!(cache.get(&before, Column::Time).is_none());
    }

    #[test]
    fn there_is_a_bound() {
        // Small beside each part of the cache: into which one a column comes is left to chance.
        let (cache, times) = (ColumnCache::default(), column(1 << 12));
        for id in 0..8_000 {
            cache.put(&segment(id), Column::Time, &times);
        }
        assert!(cache.0.weight() <= MOST_OCTETS, "{cache:?}");
        assert!(cache.0.weight() > MOST_OCTETS / 2, "{cache:?}");
    }
}
