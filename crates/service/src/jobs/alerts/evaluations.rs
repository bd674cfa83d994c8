//! How each alert goes, worked out from the records: from the last point on that nothing has changed before.
//!
//! An alert follows from the requests of a day and more. Each minute only what is new is counted: of the way to here some points are
//! remembered, and it is begun anew at the last one that lies before whatever has come or gone meanwhile (lines that come late, an import,
//! an erasure).

use super::counting::counts;
use crate::active::Active;
use crate::logs::ingest::caught_up::CaughtUp;
use exedra_acting::alerts::{Counts, Episode, Evaluation, Reading, episodes, reading};
use exedra_answering::config::Config;
use exedra_answering::config::alerts::{Alert, Bound, Condition};
use exedra_store::records::{Counting, Snapshot};
use exedra_store::{Records, StoreError};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;

/// Minutes of the past that the state of an alert follows from.
const DAY: i64 = 24 * 60;
/// So many minutes back each point is remembered; before that one of so many.
const CLOSE: i64 = 10;

/// The way of all alerts.
pub struct Evaluations {
    records: Arc<Records>,
    caught_up: Arc<CaughtUp>,
    known: Mutex<HashMap<String, Arc<Mutex<Known>>>>,
    /// Of those about the present: up to which minute each has been followed, and how it is.
    present: Mutex<HashMap<String, (i64, Evaluation, f64)>>,
}

/// What is remembered of one.
#[derive(Default)]
struct Known {
    /// The configuration that it belongs to.
    config: Option<Arc<Config>>,
    /// How often the records had changed by then.
    changes: u64,
    /// How it was at the beginning of some minutes, in their order.
    points: Vec<(i64, Evaluation)>,
}

/// How an alert is.
pub struct Look {
    /// When it was raised within the last day, and a little longer.
    pub episodes: Vec<Episode>,
    /// The figure of the last whole minute.
    pub reading: Reading,
}

impl Evaluations {
    /// Of the alerts over some records.
    pub fn new(records: Arc<Records>, caught_up: Arc<CaughtUp>) -> Self {
        Evaluations { records, caught_up, known: Mutex::default(), present: Mutex::default() }
    }

    /// The records.
    pub fn records(&self) -> &Arc<Records> {
        &self.records
    }

    /// The minute that has begun by a second since 1970 UTC, or the last one before which everything that was written is in the records: of
    /// what has not been read yet nothing is said. Nothing while the logs are read for the first time.
    pub fn minute(&self, second: i64) -> Option<i64> {
        self.caught_up.until().map(|until| until.min(second).div_euclid(60))
    }

    /// How many seconds the records are behind the logs at a second since 1970 UTC.
    pub fn behind(&self, second: i64) -> i64 {
        self.caught_up.until().map_or(0, |until| second - until)
    }

    /// How often requests had come or gone.
    pub fn changes(&self) -> u64 {
        self.records.changes()
    }

    /// The first instant of what has come or gone since then: see [`Records::first_change_since`].
    pub fn first_change_since(&self, changes: u64) -> i64 {
        self.records.first_change_since(changes)
    }

    /// How an alert is at the beginning of a minute.
    pub fn look<E: From<StoreError> + Send>(
        &self,
        (alert, when): (&Alert, &Condition),
        active: &Active,
        minute: i64,
        counting: &Counting<'_, E>,
    ) -> Result<Look, E> {
        let known = Arc::clone(self.known.lock().entry(alert.name.value.clone()).or_default());
        let mut known = known.lock();
        let seen = self.records.snapshot();
        if !known.config.as_ref().is_some_and(|config| Arc::ptr_eq(config, &active.config)) {
            *known = Known { config: Some(Arc::clone(&active.config)), ..Known::default() };
            let is_there = |name: &String| active.config.alerts.iter().any(|alert| alert.name.value == *name);
            self.known.lock().retain(|name, _| is_there(name));
        }
        let changed = self.records.first_change_since(known.changes).div_euclid(60_000);
        // Where requests were there before, whether anybody came is known from another minute on.
        let first = begin(when, &seen, minute - DAY - alert.holds - alert.ends_after..minute);
        known.points.retain(|(at, _)| *at <= changed.min(minute) && *at >= first);
        let (at, mut evaluation) = known.points.last().cloned().unwrap_or((first, Evaluation::default()));
        let minutes = at.min(minute - 1)..minute;
        let counts = counts((alert, when), minutes, (&self.records, &seen), active, counting)?;
        evaluation.advance(when, (alert.holds, alert.ends_after), &counts, at..minute);
        evaluation.forget_before(minute - DAY);
        known.changes = seen.changes();
        known.points.retain(|(at, _)| *at < minute && (minute - at <= CLOSE || at % CLOSE == 0));
        known.points.push((minute, evaluation.clone()));
        Ok(Look { reading: reading(when, &counts, minute - 1), episodes: evaluation.episodes })
    }

    /// How an alert about the present is, as far as it has been looked at.
    pub fn present(&self, name: &str) -> Option<Look> {
        let present = self.present.lock();
        let (_, evaluation, value) = present.get(name)?;
        let reading =
            Reading { value: *value, client: None, usual: None, holds: evaluation.current().is_some() };
        Some(Look { episodes: evaluation.episodes.clone(), reading })
    }

    /// An alert about the present has a figure at the beginning of a minute. `raised` is since when it is known to be raised from before.
    pub fn follow(
        &self,
        alert: &Alert,
        bound: Bound,
        (minute, value): (i64, f64),
        raised: Option<i64>,
    ) -> Look {
        let mut present = self.present.lock();
        let (at, evaluation, known) = present.entry(alert.name.value.clone()).or_insert_with(|| {
            (
                i64::MIN,
                raised.map_or_else(Evaluation::default, |began| Evaluation::resumed(began, value)),
                value,
            )
        });
        if *at < minute {
            let holds = bound.is_passed(value, None);
            let reading = Reading { value, client: None, usual: None, holds };
            evaluation.step(bound, (alert.holds, alert.ends_after), minute - 1, reading);
            evaluation.forget_before(minute - DAY);
            (*at, *known) = (minute, value);
        }
        let reading = Reading { value, client: None, usual: None, holds: evaluation.current().is_some() };
        Look { episodes: evaluation.episodes.clone(), reading }
    }

    /// When an alert would have been raised within some minutes, and how many requests of its scope there were.
    pub fn tried<E: From<StoreError> + Send>(
        &self,
        (alert, when): (&Alert, &Condition),
        active: &Active,
        minutes: Range<i64>,
        counting: &Counting<'_, E>,
    ) -> Result<(Vec<Episode>, u64), E> {
        let seen = self.records.snapshot();
        let stretch = minutes.clone();
        let counts: Counts = counts((alert, when), stretch, (&self.records, &seen), active, counting)?;
        let begins = begin(when, &seen, minutes.clone());
        let found = episodes(when, (alert.holds, alert.ends_after), &counts, begins..minutes.end);
        Ok((found, counts.requests()))
    }
}

/// The first of some minutes of which anything can be said.
fn begin(when: &Condition, seen: &Snapshot, minutes: Range<i64>) -> i64 {
    if !when.bound.is_of_little() {
        return minutes.start;
    }
    // Before the first request nothing is known, and that is no silence.
    let known = seen.first().map_or(minutes.end, |first| first.div_euclid(60_000) + when.minutes);
    known.clamp(minutes.start, minutes.end)
}
