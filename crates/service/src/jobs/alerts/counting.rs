//! What an alert looks at, counted from the records.

use crate::active::Active;
use exedra_acting::alerts::Counts;
use exedra_answering::config::alerts::Alert;
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::{Dictionaries, RequestBatch};
use exedra_reading::classify::Classifier;
use exedra_reading::trail::Place;
use exedra_store::records::{Counting, Scan, ScanSink, Snapshot};
use exedra_store::{Records, StoreError};
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

/// What an alert looks at of a snapshot, from one minute since 1970 UTC to another.
pub fn counts<E: From<StoreError> + Send>(
    alert: &Alert,
    (from, until): (i64, i64),
    (records, seen): (&Records, &Snapshot),
    active: &Active,
    counting: &Counting<'_, E>,
) -> Result<Counts, E> {
    let scope = Scope {
        from: Some(from * 60_000),
        until: Some(until * 60_000),
        filters: alert.scope.clone(),
        ..Scope::default()
    };
    let derive = Arc::new(Classifier { countries: active.countries.clone() });
    let own = Scope { filters: alert.when.of.clone(), ..Scope::default() };
    let begin = || CountingSink {
        counts: Counts::new(&alert.when),
        fits: RowFilter::new(own.clone(), Arc::clone(&derive) as _),
    };
    let scan =
        Scan { scope: &scope, projection: Counts::projection(&alert.when), derive: Arc::clone(&derive) as _ };
    let seen = seen.clone().within(&scope);
    let (sinks, ..) = records.scan(&seen, &scan, counting, begin)?;
    let mut all = Counts::new(&alert.when);
    sinks.into_iter().for_each(|sink| all.merge(sink.counts));
    Ok(all)
}
