//! Surveys of closed days and months, made while nobody waits for them.

use crate::active::Active;
use crate::system::background::step_back;
use exedra_common::scope::Scope;
use exedra_reading::survey::{SurveyPlan, VisitorKey};
use exedra_store::records::closed::due;
use exedra_store::records::counting::{Counting, zone_name};
use exedra_store::{Records, StoreError};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// How often it is looked for days that have been closed. A day is counted when none of its requests have come or gone for as long.
const PAUSE: Duration = Duration::from_secs(5);
/// How often it is looked again where the database cannot be used.
const AGAIN: Duration = Duration::from_secs(60);

/// What ends it between two segments.
enum Ended {
    Stopped,
    Failed(StoreError),
}

impl From<StoreError> for Ended {
    fn from(error: StoreError) -> Self {
        Ended::Failed(error)
    }
}

/// Counts days and months that are closed, and keeps what was counted, until told to stop by the flag and woken. `active` gives what
/// is in force.
pub fn keep_closed_days(records: &Records, active: impl Fn() -> Option<Arc<Active>>, stop: &AtomicBool) {
    step_back();
    let mut quiet_since = records.changes();
    while !stop.load(Ordering::SeqCst) {
        let changes = records.changes();
        let Some(active) = active() else { return };
        let pause = match keep_what_is_due(records, &active, quiet_since, stop) {
            Ok(()) => PAUSE,
            Err(Ended::Stopped) => return,
            // It is said where the database is looked at.
            Err(Ended::Failed(error)) => {
                tracing::debug!("closed days are not kept: {error}");
                AGAIN
            }
        };
        quiet_since = changes;
        std::thread::park_timeout(pause);
    }
}

fn keep_what_is_due(
    records: &Records,
    active: &Active,
    quiet_since: u64,
    stop: &AtomicBool,
) -> Result<(), Ended> {
    let zone = &active.config.service.time_zone;
    records.forget_other_zones(&zone_name(zone))?;
    let key = records.survey_key()?;
    loop {
        let now = jiff::Timestamp::now().as_millisecond();
        let mut kept_any = false;
        for one in due(&records.snapshot(), zone, now) {
            if !records.left_alone(quiet_since, &one) {
                continue;
            }
            let scope = Scope {
                sites: vec![one.site.to_string()],
                from: Some(one.from),
                until: Some(one.until),
                ..Scope::default()
            };
            kept_any |= keep(records, plan(scope, active, key), &one, stop)?;
        }
        if !kept_any {
            return Ok(());
        }
    }
}

fn plan(scope: Scope, active: &Active, key: VisitorKey) -> SurveyPlan {
    let zone = active.config.service.time_zone.clone();
    SurveyPlan { countries: active.countries.clone(), ..SurveyPlan::of_kept(scope, zone, key) }
}

fn keep(
    records: &Records,
    plan: SurveyPlan,
    one: &exedra_store::records::KeptSurvey,
    stop: &AtomicBool,
) -> Result<bool, Ended> {
    let seen = records.snapshot().within(&plan.scope);
    let goes_on = || if stop.load(Ordering::SeqCst) { Err(Ended::Stopped) } else { Ok(()) };
    // One thread: nobody waits for it.
    let counting = Counting { begin_thread: step_back, most_threads: 1, goes_on: &goes_on };
    let survey = records.survey(&seen, &plan, &counting)?;
    Ok(records.keep_survey(one, seen.changes(), &survey)?)
}
