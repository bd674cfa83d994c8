//! The records counted for a call, on threads that step back behind those that answer requests.

use super::blocking::Work;
use super::caller::Caller;
use super::failure::Failure;
use super::query::Asked;
use crate::logs::view::OF_OTHER_ZONES;
use crate::system::background::step_back;
use exedra_reading::survey::report::Against;
use exedra_reading::survey::{Report, ReportOptions, Survey, SurveyPlan};
use exedra_store::records::Counting;
use std::cell::Cell;

/// How many threads count at most, for one call.
const MOST_THREADS: usize = 4;

/// How counting is done for a call that goes on while somebody waits for it.
pub fn for_a_call<'c>(goes_on: &'c (dyn Fn() -> Result<(), Failure> + Sync)) -> Counting<'c, Failure> {
    Counting { begin_thread: step_back, most_threads: MOST_THREADS, remembers: true, goes_on }
}

/// Counts what is asked for, of the sites that may be seen.
pub fn make_survey(caller: &Caller, asked: &Asked, work: &Work) -> Result<Report, Failure> {
    let console = caller.console();
    let site = console.site()?;
    let zone = asked.zone.clone().unwrap_or_else(|| site.config.service.time_zone.clone());
    let plan = SurveyPlan {
        step: asked.step,
        by: asked.by,
        slow: asked.slow,
        // Only what is shown is counted.
        parts: asked.options.shown.parts(),
        countries: site.countries.clone(),
        ..SurveyPlan::new(asked.scope.clone(), zone, caller.survey_key()?)
    };
    let has_other_zones = Cell::new(false);
    let made = |plan: &SurveyPlan| -> Result<Survey, Failure> {
        let goes_on = || work.goes_on();
        let (survey, others) = caller.view().survey(plan, &for_a_call(&goes_on))?;
        has_other_zones.set(has_other_zones.get() || others);
        Ok(if asked.mask { survey.masked(plan.key) } else { survey })
    };
    let survey = made(&plan)?;
    let other = match &asked.against {
        Some(scope) => {
            let plan = SurveyPlan { scope: scope.clone(), ..plan.clone() };
            let survey = made(&plan)?;
            Some((plan, survey))
        }
        None => None,
    };
    let against = other.as_ref().map(|(plan, survey)| Against { scope: &plan.scope, survey });
    let options = ReportOptions { origins: caller.origins(), ..asked.options.clone() };
    let mut report = Report::new(&survey, &plan, &options, against);
    report.masked = asked.mask;
    if has_other_zones.get() {
        report.caveats.push(OF_OTHER_ZONES.to_owned());
    }
    Ok(report)
}
