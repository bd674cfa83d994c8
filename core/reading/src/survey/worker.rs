//! Threads that count together: each with codes of its own, texts in common.
//!
//! A thread counts by the codes of its own dictionaries and never waits. Texts are in one survey for all, into which each
//! thread's codes are turned when its dictionaries are full and at the end, so that nothing large is there twice.
//!
//! ```
//! use exedra_common::{Dictionaries, RequestBatch};
//! use exedra_reading::logs::{Layout, LineReader};
//! use exedra_common::scope::Scope;
//! use exedra_reading::survey::{SurveyPlan, SurveyWorker, Surveys, VisitorKey};
//! let plan = SurveyPlan::new(Scope::default(), jiff::tz::TimeZone::UTC, VisitorKey([1, 2]));
//! let surveys = Surveys::new(&[plan]);
//! let log = b"192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] \"GET / HTTP/1.1\" 200 512\n";
//! for _ in 0..2 {
//!     let mut reader = LineReader::new(&Layout::all_named(), surveys.projection());
//!     let mut worker = SurveyWorker::new(&surveys);
//!     worker.fill(|batch, texts| reader.read_block(log, 0, &mut 0, batch, texts));
//!     worker.finish();
//! }
//! assert_eq!(surveys.finish()[0].total.counts.requests, 2);
//! ```

use super::counted::Survey;
use super::plan::SurveyPlan;
use super::surveyor::Surveyor;
use exedra_common::{Dictionaries, Projection, RequestBatch};
use parking_lot::Mutex;

/// Surveys that threads make together, each by a plan of its own, of the same requests.
#[derive(Debug)]
pub struct Surveys {
    plans: Vec<SurveyPlan>,
    made: Vec<Made>,
}

/// One survey in two parts, so that two threads need not wait for each other.
#[derive(Debug, Default)]
struct Made {
    /// What is counted by texts.
    texts: Mutex<Survey>,
    /// What is not: figures, visitors, visits.
    rest: Mutex<Survey>,
}

impl Surveys {
    /// Surveys of nothing yet.
    pub fn new(plans: &[SurveyPlan]) -> Self {
        Surveys { plans: plans.to_vec(), made: plans.iter().map(|_| Made::default()).collect() }
    }

    /// The columns that making all of them looks at.
    pub fn projection(&self) -> Projection {
        self.plans.iter().fold(Projection::time(), |all, plan| all.with(plan.projection()))
    }

    /// The surveys, in the order of their plans.
    pub fn finish(self) -> Vec<Survey> {
        let whole = |made: Made| {
            let mut survey = made.rest.into_inner();
            survey.merge(made.texts.into_inner());
            survey
        };
        self.made.into_iter().map(whole).collect()
    }
}

/// One thread's share in making surveys.
///
/// Whoever reads hands each batch over by [`SurveyWorker::fill`]; memory stays bounded whatever comes.
#[derive(Debug)]
pub struct SurveyWorker<'s> {
    surveys: &'s Surveys,
    surveyors: Vec<Surveyor>,
    batch: RequestBatch,
    dictionaries: Dictionaries,
}

impl<'s> SurveyWorker<'s> {
    /// A worker that has seen nothing.
    pub fn new(surveys: &'s Surveys) -> Self {
        SurveyWorker {
            surveys,
            surveyors: surveys.plans.iter().cloned().map(Surveyor::new).collect(),
            batch: RequestBatch::default(),
            dictionaries: Dictionaries::default(),
        }
    }

    /// Counts what a reader puts into the batch.
    pub fn fill<T>(&mut self, read: impl FnOnce(&mut RequestBatch, &mut Dictionaries) -> T) -> T {
        self.fill_from(0, read)
    }

    /// The same, from the source at a place in their order.
    pub fn fill_from<T>(
        &mut self,
        source: usize,
        read: impl FnOnce(&mut RequestBatch, &mut Dictionaries) -> T,
    ) -> T {
        self.count(source, false, read)
    }

    /// The same of requests that are all within the scope of every plan, and whose texts are theirs alone: what comes next has others.
    /// Where a plan lists no texts ([`SurveyPlan::lists_texts`]) that saves looking each of them up among those of all.
    pub fn fill_alone<T>(
        &mut self,
        source: usize,
        read: impl FnOnce(&mut RequestBatch, &mut Dictionaries) -> T,
    ) -> T {
        self.count(source, true, read)
    }

    fn count<T>(
        &mut self,
        source: usize,
        is_alone: bool,
        read: impl FnOnce(&mut RequestBatch, &mut Dictionaries) -> T,
    ) -> T {
        let result = read(&mut self.batch, &mut self.dictionaries);
        for surveyor in &mut self.surveyors {
            match is_alone {
                true => surveyor.add_all(&mut self.batch, &self.dictionaries, source),
                false => surveyor.add(&mut self.batch, &self.dictionaries, source),
            }
        }
        self.batch.clear();
        let is_full =
            is_alone || self.dictionaries.are_full() || self.surveyors.iter().any(Surveyor::is_full);
        for (surveyor, made) in self.surveyors.iter_mut().zip(&self.surveys.made) {
            if is_full || surveyor.has_much_to_settle() {
                surveyor.settle_common(&self.dictionaries, &mut made.rest.lock());
            }
            if is_full {
                surveyor.settle_texts(&self.dictionaries, &mut made.texts.lock());
            }
        }
        if is_full {
            self.dictionaries = Dictionaries::default();
        }
        result
    }

    /// Hands over everything counted: what nobody else is at work on first.
    pub fn finish(self) {
        let SurveyWorker { surveys, surveyors, batch, dictionaries } = self;
        drop(batch);
        for (mut surveyor, made) in surveyors.into_iter().zip(&surveys.made) {
            let hand_over_the_rest = |surveyor: &mut Surveyor| {
                let rest = &mut *made.rest.lock();
                surveyor.settle_common(&dictionaries, rest);
                surveyor.finish(rest);
            };
            // Only a hint: whoever loses the race waits, and nothing else comes of it.
            if made.rest.is_locked() {
                surveyor.settle_texts(&dictionaries, &mut made.texts.lock());
                hand_over_the_rest(&mut surveyor);
            } else {
                hand_over_the_rest(&mut surveyor);
                surveyor.settle_texts(&dictionaries, &mut made.texts.lock());
            }
        }
    }
}
