//! Which errors are wanted: by the same scope as requests.

use super::event::Event;
use crate::classify::Classifier;
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::{Column, Dictionaries, Projection, RequestBatch};
use parking_lot::Mutex;
use std::sync::Arc;

/// Asks the filters of requests about errors.
pub struct EventFilter {
    row_filter: Mutex<RowFilter>,
    projection: Projection,
    from: Option<i64>,
}

impl EventFilter {
    /// By the period and the filters of a scope; its sites are known by other means.
    pub fn new(scope: Scope, classifier: Arc<Classifier>) -> Self {
        let scope = Scope { sites: Vec::new(), ..scope };
        let projection = scope.columns().chain([Column::Time]).collect();
        let from = scope.from;
        EventFilter { row_filter: Mutex::new(RowFilter::new(scope, classifier)), projection, from }
    }

    /// The first instant that is within the scope (milliseconds since 1970 UTC), where it has one.
    pub fn from(&self) -> Option<i64> {
        self.from
    }

    /// Whether an error is within the scope.
    pub fn keeps(&self, event: &Event) -> bool {
        let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
        event.to_request(&mut batch, &mut texts, self.projection);
        let mut row_filter = self.row_filter.lock();
        let keeps = row_filter.keeps(&batch, 0, &texts);
        // The next one has other texts under the same codes.
        row_filter.forget();
        keeps
    }
}
