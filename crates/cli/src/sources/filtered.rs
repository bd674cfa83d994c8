//! The requests of one thread that fit a scope, one by one.

use exedra_common::scope::RowFilter;
use exedra_common::{Dictionaries, RequestBatch};

/// Batches of one thread, and what keeps their requests.
pub struct Filtered {
    filter: RowFilter,
    batch: RequestBatch,
    texts: Dictionaries,
}

/// What came of one batch.
pub struct Taken {
    /// Octets that it was read from.
    pub octets: usize,
    /// Requests that were looked at.
    pub requests: usize,
    /// Whether texts have other codes from now on.
    pub begins_afresh: bool,
}

impl Filtered {
    /// Keeps what this filter keeps.
    pub fn new(filter: RowFilter) -> Self {
        Filtered { filter, batch: RequestBatch::default(), texts: Dictionaries::default() }
    }

    /// Has a batch read, and shows every request of it that fits.
    pub fn take(
        &mut self,
        read: impl FnOnce(&mut RequestBatch, &mut Dictionaries) -> usize,
        mut each: impl FnMut(&RequestBatch, usize, &Dictionaries),
    ) -> Taken {
        let Filtered { filter, batch, texts } = self;
        batch.clear();
        let octets = read(batch, texts);
        for row in 0..batch.rows() {
            if filter.keeps(batch, row, texts) {
                each(batch, row, texts);
            }
        }
        let taken = Taken { octets, requests: batch.rows(), begins_afresh: texts.are_full() };
        if taken.begins_afresh {
            *texts = Dictionaries::default();
            filter.forget();
        }
        taken
    }
}
