//! Counting the records, over threads of its own that step back behind those that answer requests.
//!
//! Segments are taken one after the other by whichever thread is free; what they count is the same in any order.

use super::blocking::Work;
use super::caller::Caller;
use super::failure::Failure;
use super::query::Asked;
use crate::system::background::step_back;
use exedra_common::scope::Scope;
use exedra_reading::survey::report::Against;
use exedra_reading::survey::{Report, SurveyPlan, SurveyWorker, Surveys};
use std::panic::resume_unwind;
use std::sync::atomic::{AtomicUsize, Ordering};

/// How many parts of the records make another thread worth it.
const WORTH_A_THREAD: usize = 2;
/// How many threads count at most, for one call.
const MOST_THREADS: usize = 4;

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
        ..SurveyPlan::new(asked.scope.clone(), zone, console.key)
    };
    let other = asked.against.as_ref().map(|scope| SurveyPlan { scope: scope.clone(), ..plan.clone() });
    let plans: Vec<SurveyPlan> = [plan.clone()].into_iter().chain(other.clone()).collect();
    let surveys = Surveys::new(&plans);
    // Both periods are read in one.
    let mut both = asked.scope.clone();
    if let Some(against) = &asked.against {
        both.from = both.from.min(against.from);
        both.until = both.until.zip(against.until).map(|(one, other)| one.max(other));
    }
    count(caller, &both, &surveys, work)?;
    let mut surveys = surveys.finish().into_iter();
    let mut next = || {
        let survey = surveys.next().unwrap_or_default();
        if asked.mask { survey.masked(plan.key) } else { survey }
    };
    let survey = next();
    let before = other.as_ref().map(|other| (other, next()));
    let against = before.as_ref().map(|(other, survey)| Against { scope: &other.scope, survey });
    let mut report = Report::new(&survey, &plan, &asked.options, against);
    report.masked = asked.mask;
    Ok(report)
}

/// Counts all that a scope touches, until that is done or no longer wanted.
fn count(caller: &Caller, scope: &Scope, surveys: &Surveys, work: &Work) -> Result<(), Failure> {
    let (seen, records) = caller.snapshot(scope);
    let parts = seen.parts(records, surveys.projection());
    let next = AtomicUsize::new(0);
    let share = || {
        step_back();
        let mut worker = SurveyWorker::new(surveys);
        while let Some(part) = parts.get(next.fetch_add(1, Ordering::Relaxed)) {
            work.goes_on()?;
            worker.fill(|batch, texts| part.append_to(batch, texts))?;
        }
        worker.finish();
        Ok(())
    };
    let processors = std::thread::available_parallelism().map_or(1, usize::from);
    let threads = (parts.len() / WORTH_A_THREAD).clamp(1, processors.min(MOST_THREADS));
    std::thread::scope(|scope| {
        let threads: Vec<_> = (0..threads).map(|_| scope.spawn(share)).collect();
        threads.into_iter().try_for_each(|thread| thread.join().unwrap_or_else(|panic| resume_unwind(panic)))
    })
}
