//! Surveys of closed days and months, made while nobody waits for them.

use super::background_counter::{BackgroundCounter, Ended};
use super::retention::remove_what_is_past;
use crate::active::Active;
use crate::system::background::step_back;
use crate::system::threads;
use exedra_common::scope::Scope;
use exedra_reading::survey::SurveyPlan;
use exedra_store::records::KeptSurvey;
use exedra_store::records::closed::due;
use exedra_store::records::counting::zone_name;
use exedra_store::{Records, Tallies};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// The name of the thread.
pub const NAME: &str = "closed days";
/// How often it is looked for days that have been closed. A day is counted when none of its requests have come or gone for as long.
const PAUSE: Duration = Duration::from_secs(5);
/// Where so many requests have come in meanwhile, it waits: an import is under way.
const MUCH: u64 = 300_000;
/// How often it is looked again where the database cannot be used.
const AGAIN: Duration = Duration::from_secs(60);

/// Counts days and months that are closed, and keeps what was counted; removes what has passed the retention. Until told to stop by the
/// flag and woken. `active` gives what is in force.
pub fn keep_closed_days(
    records: &Records,
    tallies: &Tallies,
    active: impl Fn() -> Option<Arc<Active>>,
    stop: &AtomicBool,
) {
    step_back();
    let mut quiet_since = records.changes();
    let mut requests = records.changed_requests();
    while !stop.load(Ordering::SeqCst) {
        let changes = records.changes();
        let before = std::mem::replace(&mut requests, records.changed_requests());
        if requests - before.min(requests) > MUCH {
            // Memory and processors are needed for what comes in, and most of it changes these days.
            std::thread::park_timeout(PAUSE);
            continue;
        }
        let Some(active) = active() else { return };
        let all = || -> Result<(), Ended> {
            let counter = BackgroundCounter::new(records, stop)?;
            remove_what_is_past(&counter, tallies, &active)?;
            keep_what_is_due(&counter, &active, quiet_since)
        };
        let pause = match all() {
            Ok(()) => PAUSE,
            Err(Ended::Stopped) => return,
            Err(Ended::Failed(error)) => {
                tracing::warn!("closed days cannot be counted and kept at the moment: {error}");
                AGAIN
            }
        };
        quiet_since = changes;
        drop(active);
        std::thread::park_timeout(pause);
    }
}

fn keep_what_is_due(counter: &BackgroundCounter<'_>, active: &Active, quiet_since: u64) -> Result<(), Ended> {
    let records = counter.records;
    let zone = &active.config.service.time_zone;
    records.forget_other_zones(&zone_name(zone))?;
    loop {
        let now = jiff::Timestamp::now().as_millisecond();
        let mut kept_any = false;
        for one in due(&records.snapshot(), zone, now) {
            if records.left_alone(quiet_since, &one) {
                kept_any |= keep(counter, active, &one)?;
            }
        }
        if !kept_any {
            return Ok(());
        }
    }
}

fn keep(counter: &BackgroundCounter<'_>, active: &Active, one: &KeptSurvey) -> Result<bool, Ended> {
    let scope = Scope {
        sites: vec![one.site.to_string()],
        from: Some(one.from),
        until: Some(one.until),
        ..Scope::default()
    };
    let zone = active.config.service.time_zone.clone();
    let plan =
        SurveyPlan { countries: active.countries.clone(), ..SurveyPlan::of_kept(scope, zone, counter.key) };
    let seen = counter.records.snapshot().within(&plan.scope);
    let date = jiff::Timestamp::from_millisecond(one.from).unwrap_or_default().to_zoned(plan.zone.clone());
    threads::doing(NAME, Some(format!("counting {} from {} on", one.site, date.date())));
    let survey = counter.count_of(&seen, &plan)?;
    threads::doing(NAME, None);
    Ok(counter.records.keep_survey(one, seen.changes(), &survey)?)
}
