//! What was sent this month, of sites that have an allowance, so that downloads can be held back when it is used up.
//!
//! - [`month`]: what is expected of it

pub mod month;

use crate::active::Active;
use crate::logs::view::View;
use crate::system::background::step_back;
use exedra_answering::config::{Config, SiteId};
use exedra_common::scope::Scope;
use exedra_reading::survey::{Parts, SurveyPlan};
use exedra_store::records::Counting;
use exedra_store::{Records, StoreError, Tallies};
use jiff::Timestamp;
use std::iter;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// The name of the thread.
pub const NAME: &str = "allowances";
/// How often it is counted.
const PAUSE: Duration = Duration::from_secs(20);
/// How often it is looked whether another configuration is in force.
const LOOK: Duration = Duration::from_secs(1);

/// Counts until told to stop by the flag and woken. `active` gives what is in force.
pub fn count(
    records: &Records,
    tallies: &Tallies,
    active: &impl Fn() -> Option<Arc<Active>>,
    stop: &AtomicBool,
) {
    step_back();
    let mut last: Option<(Arc<Config>, Instant)> = None;
    while !stop.load(Ordering::SeqCst) {
        let Some(active) = active() else { return };
        let is_due = last
            .as_ref()
            .is_none_or(|(config, then)| !Arc::ptr_eq(config, &active.config) || then.elapsed() >= PAUSE);
        if is_due {
            if let Err(error) = look(records, tallies, &active, stop) {
                tracing::warn!("what was sent this month cannot be counted at the moment: {error}");
            }
            last = Some((Arc::clone(&active.config), Instant::now()));
        }
        drop(active);
        std::thread::park_timeout(LOOK);
    }
}

fn look(records: &Records, tallies: &Tallies, active: &Active, stop: &AtomicBool) -> Result<(), Counted> {
    let config = &active.config;
    let sites = config.sites.iter().enumerate().filter(|(_, site)| site.allowance.is_some());
    let sites = sites.map(|(nth, site)| (Some(SiteId(nth)), vec![site.name.value.clone()]));
    let all = iter::once((None, Vec::new())).filter(|_| config.service.allowance.is_some());
    let view = View { records, tallies, sites: None };
    for (id, sites) in sites.chain(all) {
        let zone = config.service.time_zone.clone();
        let now = Timestamp::now().to_zoned(zone.clone());
        let begin = now.first_of_month().and_then(|day| day.start_of_day()).ok();
        let scope =
            Scope { sites, from: begin.map(|begin| begin.timestamp().as_millisecond()), ..Scope::default() };
        let parts: Parts = iter::empty().collect();
        let plan = SurveyPlan { parts, ..SurveyPlan::new(scope, zone, records.survey_key()?) };
        let goes_on = || if stop.load(Ordering::SeqCst) { Err(Counted::Stopped) } else { Ok(()) };
        let counting =
            Counting { begin_thread: step_back, most_threads: 1, remembers: true, goes_on: &goes_on };
        match view.survey(&plan, &counting) {
            Ok((survey, _)) => active.allowance.set(config, id, survey.total.counts.bytes),
            Err(Counted::Stopped) => return Ok(()),
            Err(error) => return Err(error),
        }
    }
    Ok(())
}

/// What ends counting early.
#[derive(Debug, thiserror::Error)]
enum Counted {
    /// The service stops.
    #[error("the service was stopped")]
    Stopped,
    /// A database cannot be used.
    #[error(transparent)]
    Store(#[from] StoreError),
}
