//! A survey of the records: put together of what is kept of closed days and months, and counted of the rest.
//!
//! Segments are taken one after the other by whichever thread is free; what they count is the same in any order.

use super::Records;
use super::column_cache;
use super::kept_surveys::KeptSurvey;
use super::snapshot::{Part, Snapshot};
use crate::database::StoreError;
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::{Column, Origin, RequestBatch};
use exedra_reading::survey::stored::StoredPart;
use exedra_reading::survey::{Survey, SurveyPlan, SurveyWorker, Surveys};
use parking_lot::Mutex;
use std::panic::resume_unwind;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// How many segments make another thread worth it.
const WORTH_A_THREAD: usize = 2;
/// How many octets a value takes in a column that is in memory, about.
const OF_A_VALUE: usize = 2;
/// How many octets of kept surveys stay merged in memory, as they were written. There they take about three times as much.
const MOST_OCTETS: usize = 24 << 20;

/// How a survey is counted: what each thread does first, and whether it goes on, asked between any two segments.
pub struct Counting<'c, E> {
    /// What each thread does before anything else.
    pub begin_thread: fn(),
    /// How many threads count at most.
    pub most_threads: usize,
    /// Whether what is read and merged stays in memory, for whoever asks the same next. Where nobody waits, nobody does.
    pub remembers: bool,
    /// Fails when nobody wants the survey any more.
    pub goes_on: &'c (dyn Fn() -> Result<(), E> + Sync),
}

/// Kept surveys that were merged: the same are asked for again and again.
#[derive(Debug, Default)]
pub(super) struct MergedCache(Mutex<Vec<Merged>>);

#[derive(Debug)]
struct Merged {
    ids: Vec<i32>,
    parts: Vec<StoredPart>,
    octets: usize,
    survey: Arc<Survey>,
}

/// Places of sites among the sources of surveys. They stay as long as the records are open, as surveys are remembered that have them.
#[derive(Debug, Default)]
pub(super) struct CountedSites(Mutex<Vec<Arc<str>>>);

impl CountedSites {
    fn place_of(&self, site: &str) -> usize {
        let mut sites = self.0.lock();
        if let Some(place) = sites.iter().position(|known| **known == *site) {
            return place;
        }
        sites.push(site.into());
        sites.len() - 1
    }
}

impl MergedCache {
    fn get(&self, ids: &[i32], parts: &[StoredPart]) -> Option<Arc<Survey>> {
        let mut all = self.0.lock();
        let nth = all.iter().position(|one| one.ids == ids && one.parts == parts)?;
        // What was used last goes last.
        let one = all.remove(nth);
        let survey = Arc::clone(&one.survey);
        all.push(one);
        Some(survey)
    }

    /// Forgets all of them: what was counted may have been erased.
    pub(super) fn forget(&self) {
        self.0.lock().clear();
    }

    fn put(&self, one: Merged) {
        let mut all = self.0.lock();
        all.push(one);
        while all.iter().map(|one| one.octets).sum::<usize>() > MOST_OCTETS {
            all.remove(0);
        }
    }
}

impl Records {
    /// What stands at each place among the sources of surveys of the records: sites.
    pub fn origins(&self) -> Vec<Origin> {
        let sites = self.counted_sites.0.lock();
        sites.iter().map(|site| Origin { site: Some(site.to_string()), ..Origin::default() }).collect()
    }

    /// The place of a site among the sources of surveys.
    pub fn place_of(&self, site: &str) -> usize {
        self.counted_sites.place_of(site)
    }

    /// Counts what a snapshot holds of the scope of a plan. Its sites are those of the snapshot.
    pub fn survey<E: From<StoreError> + Send>(
        &self,
        seen: &Snapshot,
        plan: &SurveyPlan,
        counting: &Counting<'_, E>,
    ) -> Result<Survey, E> {
        let mut chosen = match plan.can_be_of_kept() {
            true => choose(seen.kept(), plan),
            false => Vec::new(),
        };
        let mut kept = Survey::default();
        while !chosen.is_empty() {
            match self.merge_kept(&chosen, plan, counting)? {
                Ok(survey) => {
                    kept = survey;
                    break;
                }
                // It is gone meanwhile, or damaged.
                Err(id) => chosen.retain(|one| one.id != id),
            }
        }
        if plan.step.is_none() {
            kept.timeline.clear();
        }
        let counted = self.count(seen, plan, &chosen, counting)?;
        kept.merge(counted);
        Ok(kept)
    }

    /// Merges kept surveys, or says which of them is of no use.
    fn merge_kept<E: From<StoreError> + Send>(
        &self,
        chosen: &[Arc<KeptSurvey>],
        plan: &SurveyPlan,
        counting: &Counting<'_, E>,
    ) -> Result<Result<Survey, i32>, E> {
        let parts = plan.stored_parts();
        let ids: Vec<i32> = chosen.iter().map(|kept| kept.id).collect();
        if let Some(survey) = self.merged.get(&ids, &parts) {
            return Ok(Ok((*survey).clone()));
        }
        // Parts have nothing in common, so that each is merged by one thread.
        let (next, octets, useless) = (AtomicUsize::new(0), AtomicUsize::new(0), Mutex::new(None));
        let share = || -> Result<Survey, E> {
            (counting.begin_thread)();
            let mut survey = Survey::default();
            while let Some(part) = parts.get(next.fetch_add(1, Ordering::Relaxed)) {
                for kept in chosen {
                    (counting.goes_on)()?;
                    let others = std::mem::take(&mut survey.sources);
                    let read = self.read_kept(kept, &[*part], &mut survey)?;
                    let own = std::mem::replace(&mut survey.sources, others);
                    let place = self.place_of(&kept.site);
                    own.into_iter().for_each(|counts| survey.add_to_source(place, counts));
                    match read {
                        Some(read) => _ = octets.fetch_add(read, Ordering::Relaxed),
                        None => {
                            *useless.lock() = Some(kept.id);
                            return Ok(survey);
                        }
                    }
                }
            }
            Ok(survey)
        };
        let survey = on_threads(counting.threads(parts.len()), &share)?.into_iter().reduce(|mut all, one| {
            all.merge(one);
            all
        });
        if let Some(id) = useless.into_inner() {
            return Ok(Err(id));
        }
        let survey = survey.unwrap_or_default();
        let octets = octets.into_inner();
        if counting.remembers && octets <= MOST_OCTETS {
            self.merged.put(Merged { ids, parts, octets, survey: Arc::new(survey.clone()) });
        }
        Ok(Ok(survey))
    }

    /// Counts whatever a snapshot holds beside what some kept surveys are of.
    fn count<E: From<StoreError> + Send>(
        &self,
        seen: &Snapshot,
        plan: &SurveyPlan,
        but: &[Arc<KeptSurvey>],
        counting: &Counting<'_, E>,
    ) -> Result<Survey, E> {
        let surveys = Surveys::new(std::slice::from_ref(plan));
        let projection = surveys.projection();
        let columns = Column::kept().filter(|column| projection.has(*column)).count();
        let parts: Vec<Part<'_>> = seen
            .parts(self, projection)
            .into_iter()
            .filter(|part| plan.scope.overlaps(part.span().0, part.span().1))
            .filter(|part| !is_within(part, but))
            .collect();
        // What does not fit would only push out what is asked for more often.
        let octets = parts.iter().map(|part| part.requests()).sum::<usize>() * columns * OF_A_VALUE;
        let remembers = counting.remembers && octets as u64 <= column_cache::MOST_OCTETS;
        let parts: Vec<Part<'_>> =
            parts.into_iter().map(|part| if remembers { part } else { part.read_once() }).collect();
        let lists_texts = plan.lists_texts();
        let next = AtomicUsize::new(0);
        let share = || -> Result<(), E> {
            (counting.begin_thread)();
            let mut worker = SurveyWorker::new(&surveys);
            let mut filter = RowFilter::new(plan.scope.clone(), Arc::new(plan.classifier()));
            while let Some(part) = parts.get(next.fetch_add(1, Ordering::Relaxed)) {
                (counting.goes_on)()?;
                let place = self.place_of(part.site());
                if lists_texts {
                    worker.fill_from(place, |batch, texts| {
                        part.append_matching(&mut filter, batch, texts)?;
                        leave_out(part, but, batch);
                        Ok::<(), StoreError>(())
                    })?;
                } else {
                    worker.fill_alone(place, |batch, texts| {
                        part.read_alone(&mut filter, true, batch, texts)?;
                        leave_out(part, but, batch);
                        Ok::<(), StoreError>(())
                    })?;
                }
            }
            worker.finish();
            Ok(())
        };
        if !parts.is_empty() {
            on_threads::<(), E>(counting.threads(parts.len()), &share)?;
        }
        Ok(surveys.finish().pop().unwrap_or_default())
    }
}

impl<E> Counting<'_, E> {
    pub(super) fn threads(&self, pieces: usize) -> usize {
        let processors = std::thread::available_parallelism().map_or(1, usize::from);
        (pieces / WORTH_A_THREAD).clamp(1, processors.min(self.most_threads).max(1))
    }
}

/// Runs the same on so many threads.
pub(super) fn on_threads<T: Send, E: Send>(
    threads: usize,
    share: &(dyn Fn() -> Result<T, E> + Sync),
) -> Result<Vec<T>, E> {
    std::thread::scope(|scope| {
        let threads: Vec<_> = (0..threads).map(|_| scope.spawn(share)).collect();
        threads.into_iter().map(|thread| thread.join().unwrap_or_else(|panic| resume_unwind(panic))).collect()
    })
}

/// The kept surveys that a scope consists of, in the order of their beginnings: months where there are such, else days.
fn choose(kept: &[Arc<KeptSurvey>], plan: &SurveyPlan) -> Vec<Arc<KeptSurvey>> {
    let Scope { from, until, .. } = plan.scope;
    let (zone, parts) = (zone_name(&plan.zone), plan.stored_parts());
    let is_inside = |kept: &&Arc<KeptSurvey>| {
        *kept.zone == *zone
            && kept.has(&parts)
            && from.is_none_or(|from| kept.from >= from)
            && until.is_none_or(|until| kept.until <= until)
    };
    let mut inside: Vec<&Arc<KeptSurvey>> = kept.iter().filter(is_inside).collect();
    inside.sort_by(|one, other| {
        (&one.site, one.from, other.until, one.id).cmp(&(&other.site, other.from, one.until, other.id))
    });
    let mut chosen: Vec<Arc<KeptSurvey>> = Vec::new();
    for kept in inside {
        let is_free = chosen.last().is_none_or(|last| last.site != kept.site || last.until <= kept.from);
        if is_free {
            chosen.push(Arc::clone(kept));
        }
    }
    chosen
}

/// What a zone is called in kept surveys.
pub fn zone_name(zone: &jiff::tz::TimeZone) -> String {
    zone.iana_name().unwrap_or("UTC").to_owned()
}

/// Whether all requests of a part are in what kept surveys are of.
fn is_within(part: &Part<'_>, but: &[Arc<KeptSurvey>]) -> bool {
    let (first, last) = part.span();
    let mut reached = first;
    // They stand in order.
    for kept in but.iter().filter(|kept| *kept.site == *part.site() && kept.touches(part.site(), first, last))
    {
        if kept.from > reached {
            return false;
        }
        reached = kept.until;
    }
    reached > last
}

/// Takes those requests out of a batch that are in what kept surveys are of.
fn leave_out(part: &Part<'_>, but: &[Arc<KeptSurvey>], batch: &mut RequestBatch) {
    let (first, last) = part.span();
    let of_it: Vec<&Arc<KeptSurvey>> =
        but.iter().filter(|kept| kept.touches(part.site(), first, last)).collect();
    if !of_it.is_empty() {
        batch.retain(|batch, row| {
            let time = batch.time[row];
            !of_it.iter().any(|kept| (kept.from..kept.until).contains(&time))
        });
    }
}
