//! What an alert looks at, counted from the records.

use crate::active::Active;
use exedra_acting::alerts::Counts;
use exedra_answering::config::alerts::{Alert, Condition};
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::{Dictionaries, RequestBatch};
use exedra_reading::classify::Classifier;
use exedra_reading::trail::Place;
use exedra_store::records::{Counting, Scan, ScanSink, Snapshot};
use exedra_store::{Records, StoreError};
use std::ops::Range;
use std::sync::Arc;

/// Counts on one thread.
struct CountingSink {
    counts: Counts,
    fits: RowFilter,
}

impl ScanSink for CountingSink {
    fn take(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, _: Place) {
        let fits = self.fits.lets_all_through() || {
            // Each batch may have other dictionaries.
            self.fits.forget();
            self.fits.keeps(batch, row, texts)
        };
        self.counts.add(batch, row, texts, fits);
    }
}

/// What an alert over requests looks at of a snapshot, so that it can be followed through some minutes since 1970 UTC.
pub fn counts<E: From<StoreError> + Send>(
    (alert, when): (&Alert, &Condition),
    minutes: Range<i64>,
    (records, seen): (&Records, &Snapshot),
    active: &Active,
    counting: &Counting<'_, E>,
) -> Result<Counts, E> {
    let derive = Arc::new(Classifier { countries: active.countries.clone() });
    let own = Scope { filters: when.of.clone(), ..Scope::default() };
    let begin = || CountingSink {
        counts: Counts::new(when),
        fits: RowFilter::new(own.clone(), Arc::clone(&derive) as _),
    };
    let mut all = Counts::new(when);
    for stretch in Counts::stretches(when, minutes) {
        let scope = Scope {
            from: Some(stretch.start * 60_000),
            until: Some(stretch.end * 60_000),
            filters: alert.scope.clone(),
            ..Scope::default()
        };
        let projection = Counts::projection(when);
        let scan = Scan { scope: &scope, projection, derive: Arc::clone(&derive) as _ };
        let within = seen.clone().within(&scope);
        let (sinks, ..) = records.scan(&within, &scan, counting, begin)?;
        sinks.into_iter().for_each(|sink| all.merge(sink.counts));
    }
    let first = seen.first().map_or(i64::MAX, |first| first.div_euclid(60_000) + 1);
    Ok(all.known_from(first))
}
