//! Where the requests come from that a statement is asked of: logs, or the records.
//!
//! A source is opened anew for each reading of the table, with what the statement needs of it, and hands out readers, one for each
//! thread, which share what there is to read. A reader keeps its dictionaries from batch to batch, so that each distinct text is
//! looked at once.

use exedra_common::scope::RowFilter;
use exedra_common::{Dictionaries, Projection, RequestBatch};
use std::fmt::Debug;
use std::sync::atomic::{AtomicU64, Ordering};
use thiserror::Error;

/// Why a source cannot be read, in words for people.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct SourceError(pub String);

/// What is wanted of a source.
#[derive(Debug, Clone)]
pub struct Reading {
    /// The columns.
    pub projection: Projection,
    /// Whether anybody wants to know when requests came in; where not, a source need not find out.
    pub wants_times: bool,
    /// Which requests: a source gives no others.
    pub filter: RowFilter,
    /// How many may read at once.
    pub threads: usize,
}

/// Requests that can be read, as often as somebody asks.
pub trait RequestSource: Debug + Send + Sync {
    /// Begins a reading. At least one reader is given.
    fn begin(&self, reading: Reading) -> Result<Vec<Box<dyn RequestReader>>, SourceError>;
}

/// One thread's share of a reading.
pub trait RequestReader: Send {
    /// Puts further requests into an empty batch, which may stay empty, and says what texts they have; `None` when there is nothing
    /// more.
    ///
    /// `texts` are handed over as they were left, but for when they were full: then they are empty.
    fn read(
        &mut self,
        batch: &mut RequestBatch,
        texts: &mut Dictionaries,
    ) -> Result<Option<TextsAre>, SourceError>;
}

/// The texts of a batch that was read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TextsAre {
    /// Those that were handed over, and more.
    Known,
    /// Others: codes mean something else than before.
    New,
}

/// How far a reading has come, whatever is counted.
#[derive(Debug, Default)]
pub struct Progress {
    read: AtomicU64,
}

impl Progress {
    /// So many requests more have come out of the source.
    pub fn add(&self, requests: u64) {
        self.read.fetch_add(requests, Ordering::Relaxed);
    }

    /// How many requests have come out of the source so far.
    pub fn requests(&self) -> u64 {
        self.read.load(Ordering::Relaxed)
    }
}
