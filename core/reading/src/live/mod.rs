//! The last minutes of a log, as they pass: requests kept one by one, and what they add up to.
//!
//! Whoever watches a log asks the same four questions again and again: how much, who, what, and what fails; and then narrows
//! them by what stands there. So the requests themselves are kept, so many and so long as there is room for, and each picture is
//! counted anew: whatever is narrowed, left out or looked back at, the figures are those of the same requests.
//!
//! - [`picture`]: what is counted of them
//!
//! ```
//! use exedra_common::{Dictionaries, RequestBatch};
//! use exedra_reading::live::{RecentRequests, View};
//! use exedra_reading::logs::{Layout, LineReader};
//! let log = b"192.0.2.7 - - [14/Sep/2026:08:30:00 +0000] \"GET /tides HTTP/1.1\" 200 512\n\
//!             192.0.2.7 - - [14/Sep/2026:08:30:09 +0000] \"GET /map HTTP/1.1\" 404 90\n";
//! let mut reader = LineReader::new(&Layout::all_named(), RecentRequests::projection());
//! let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
//! reader.read_block(log, 0, &mut 0, &mut batch, &mut texts);
//! let mut recent = RecentRequests::default();
//! recent.take(&batch, &texts);
//! let picture = recent.picture(&View { until: recent.newest() + 1, ..View::default() });
//! assert_eq!((picture.requests, picture.bytes, picture.clients.rows.len()), (2, 602, 1));
//! assert_eq!(picture.failing_paths.rows.len(), 1);
//! ```

mod picture;

pub use picture::{Picture, View};

use crate::classify::Classifier;
use exedra_common::batch::NO_TIME;
use exedra_common::{Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use std::collections::VecDeque;
use std::sync::Arc;

/// The most requests that are kept, and for how long, in milliseconds.
const MOST_REQUESTS: usize = 1_000_000;
const LONGEST: i64 = 3_600_000;
/// Requests that are kept and forgotten together, and within which time they came, in milliseconds.
const TOGETHER: usize = 4_096;
const MINUTE: i64 = 60_000;

/// Requests of the last hour, or of so much of it as there is room for.
#[derive(Debug)]
pub struct RecentRequests {
    /// In the order in which they came.
    batches: VecDeque<RequestBatch>,
    texts: Dictionaries,
    projection: Projection,
    classifier: Arc<Classifier>,
    most: usize,
    newest: i64,
    /// No request before this instant is known any more, though there were some.
    forgotten: i64,
    /// How many came in all.
    taken: u64,
}

impl Default for RecentRequests {
    fn default() -> Self {
        RecentRequests::new(Projection::time(), Arc::default())
    }
}

impl RecentRequests {
    /// None yet, of which these columns are also kept, as filters may look at them.
    pub fn new(also: Projection, classifier: Arc<Classifier>) -> Self {
        RecentRequests {
            batches: VecDeque::new(),
            texts: Dictionaries::default(),
            projection: Self::projection().with(also),
            classifier,
            most: MOST_REQUESTS,
            newest: NO_TIME,
            forgotten: NO_TIME,
            taken: 0,
        }
    }

    /// The same, of no more than so many requests.
    pub fn at_most(self, most: usize) -> Self {
        RecentRequests { most, ..self }
    }

    /// The columns that pictures are made of.
    pub fn projection() -> Projection {
        let texts = [
            TextColumn::Client,
            TextColumn::Path,
            TextColumn::Agent,
            TextColumn::Method,
            TextColumn::Rule,
            TextColumn::Site,
        ];
        let texts: Projection = texts.into_iter().collect();
        texts.with([NumberColumn::Status, NumberColumn::Bytes].into_iter().collect())
    }

    /// The columns that are kept.
    pub fn columns(&self) -> Projection {
        self.projection
    }

    /// When the newest request came in, in milliseconds since 1970 UTC; the smallest number where there is none.
    pub fn newest(&self) -> i64 {
        self.newest
    }

    /// When the oldest request came in that is kept.
    pub fn oldest(&self) -> Option<i64> {
        self.batches.iter().flat_map(|batch| batch.time.iter().copied()).filter(|time| *time != NO_TIME).min()
    }

    /// How many requests are kept.
    pub fn len(&self) -> usize {
        self.batches.iter().map(RequestBatch::rows).sum()
    }

    /// Whether none is kept.
    pub fn is_empty(&self) -> bool {
        self.batches.is_empty()
    }

    /// How many came in all, kept or not.
    pub fn taken(&self) -> u64 {
        self.taken
    }

    /// Takes requests that have come in, with the dictionaries of their texts.
    pub fn take(&mut self, batch: &RequestBatch, texts: &Dictionaries) {
        self.taken += batch.rows() as u64;
        self.newest = batch.time.iter().copied().fold(self.newest, i64::max);
        let first = |batch: &RequestBatch| batch.time.first().copied().unwrap_or(NO_TIME);
        let has_room = self.batches.back().is_some_and(|last| {
            last.rows() + batch.rows() <= TOGETHER && first(batch) < first(last).saturating_add(MINUTE)
        });
        if !has_room {
            self.batches.push_back(RequestBatch::default());
        }
        if let Some(last) = self.batches.back_mut() {
            last.append(batch, texts, &mut self.texts, self.projection);
        }
        self.forget();
    }

    /// Forgets what is too old or too much, and texts that nobody has any more where these are too many.
    fn forget(&mut self) {
        let mut kept = self.len();
        while let Some(first) = self.batches.front() {
            let newest = first.time.iter().copied().max().unwrap_or(NO_TIME);
            let is_too_much = kept > self.most && self.batches.len() > 1;
            if !is_too_much && newest >= self.newest.saturating_sub(LONGEST) {
                break;
            }
            kept -= first.rows();
            self.forgotten = self.forgotten.max(newest);
            self.batches.pop_front();
        }
        if self.texts.are_full() {
            self.renew_texts();
        }
    }

    /// Keeps only the texts that are of requests that are kept; and of fewer requests, where that does not help.
    fn renew_texts(&mut self) {
        loop {
            let mut texts = Dictionaries::default();
            let batches = self.batches.iter().map(|batch| {
                let mut renewed = RequestBatch::default();
                renewed.append(batch, &self.texts, &mut texts, self.projection);
                renewed
            });
            let batches = batches.collect();
            (self.batches, self.texts) = (batches, texts);
            // One that is full again at once would be made anew with each request.
            let is_roomy = TextColumn::ALL
                .iter()
                .all(|column| self.texts.of(*column).len() < exedra_common::dictionary::MOST_TEXTS / 2)
                && !self.texts.are_full();
            if is_roomy || self.batches.len() <= 1 {
                break;
            }
            for _ in 0..self.batches.len().div_ceil(2) {
                let first = self.batches.pop_front();
                let newest = first.and_then(|first| first.time.iter().copied().max());
                self.forgotten = self.forgotten.max(newest.unwrap_or(NO_TIME));
            }
        }
    }
}

#[cfg(test)]
mod tests;
