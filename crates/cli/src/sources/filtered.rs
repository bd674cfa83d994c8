//! The requests that fit a scope, one by one, to whoever counts or keeps them.

use super::reading::Sink;
use exedra_common::scope::RowFilter;
use exedra_common::{Dictionaries, RequestBatch};
use exedra_reading::trail::Place;

/// Hands each request of one thread that fits to somebody.
pub struct Filtered<M, F> {
    filter: RowFilter,
    batch: RequestBatch,
    texts: Dictionaries,
    made: M,
    each: F,
    tried: u64,
}

impl<M, F: FnMut(&mut M, &RequestBatch, usize, &Dictionaries, Place)> Filtered<M, F> {
    /// Hands on what a filter keeps, with what has been made so far of this thread's requests.
    pub fn new(filter: RowFilter, made: M, each: F) -> Self {
        let (batch, texts) = Default::default();
        Filtered { filter, batch, texts, made, each, tried: 0 }
    }
}

impl<M: Send, F: FnMut(&mut M, &RequestBatch, usize, &Dictionaries, Place) + Send> Sink for Filtered<M, F> {
    /// What was made, and how many requests were looked at for it.
    type Made = (M, u64);

    fn take(
        &mut self,
        place: Place,
        read: impl FnOnce(&mut RequestBatch, &mut Dictionaries) -> usize,
    ) -> usize {
        let Filtered { filter, batch, texts, made, each, tried } = self;
        batch.clear();
        let octets = read(batch, texts);
        *tried += batch.rows() as u64;
        for row in 0..batch.rows() {
            if filter.keeps(batch, row, texts) {
                each(made, batch, row, texts, Place { row: row as u32, ..place });
            }
        }
        if texts.are_full() {
            *texts = Dictionaries::default();
            filter.forget();
        }
        octets
    }

    fn finish(self) -> (M, u64) {
        (self.made, self.tried)
    }
}
