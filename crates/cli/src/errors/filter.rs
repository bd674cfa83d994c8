//! Which errors are wanted: by the same scope as requests.

use super::Options;
use crate::failure::Failure;
use crate::scope::ScopeOptions;
use exedra_answering::config::Config;
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::{Column, Dictionaries, Projection, RequestBatch};
use exedra_reading::classify::Classifier;
use exedra_reading::errors::event::Event;
use jiff::tz::TimeZone;
use parking_lot::Mutex;
use std::sync::Arc;

/// Asks the filters of requests about errors.
pub struct Filter {
    row_filter: Mutex<RowFilter>,
    projection: Projection,
}

impl Filter {
    /// By the scope that was asked for, sites left out: they are known by other means.
    pub fn new(options: &Options, config: Option<&Config>, zone: &TimeZone) -> Result<Self, Failure> {
        let countries = options.scope.countries(config)?;
        let scope: Scope = ScopeOptions { site: Vec::new(), ..options.scope.clone() }.scope(zone)?;
        let projection = scope.columns().chain([Column::Time]).collect();
        let row_filter = RowFilter::new(scope, Arc::new(Classifier { countries }));
        Ok(Filter { row_filter: Mutex::new(row_filter), projection })
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
