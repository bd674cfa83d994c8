//! The records counted while nobody waits for it, on one thread that steps back behind all others.

use crate::system::background::step_back;
use exedra_reading::survey::{Survey, SurveyPlan, VisitorKey};
use exedra_store::records::{Counting, Snapshot};
use exedra_store::{Records, StoreError};
use std::sync::atomic::{AtomicBool, Ordering};

/// What ends it before it is done.
pub enum Ended {
    /// The service stops.
    Stopped,
    /// A database cannot be used.
    Failed(StoreError),
}

impl From<StoreError> for Ended {
    fn from(error: StoreError) -> Self {
        Ended::Failed(error)
    }
}

/// Whoever counts while nobody waits.
pub struct BackgroundCounter<'c> {
    /// What is counted.
    pub records: &'c Records,
    /// The key of the hashes of visitors.
    pub key: VisitorKey,
    stop: &'c AtomicBool,
}

impl<'c> BackgroundCounter<'c> {
    /// One that counts until the flag is set.
    pub fn new(records: &'c Records, stop: &'c AtomicBool) -> Result<Self, Ended> {
        Ok(BackgroundCounter { records, key: records.survey_key()?, stop })
    }

    /// Counts, on one thread.
    pub fn count(&self, plan: &SurveyPlan) -> Result<Survey, Ended> {
        self.count_of(&self.records.snapshot().within(&plan.scope), plan)
    }

    /// Counts what a snapshot holds.
    pub fn count_of(&self, seen: &Snapshot, plan: &SurveyPlan) -> Result<Survey, Ended> {
        let goes_on = || if self.stop.load(Ordering::SeqCst) { Err(Ended::Stopped) } else { Ok(()) };
        let counting =
            Counting { begin_thread: step_back, most_threads: 1, remembers: false, goes_on: &goes_on };
        self.records.survey(seen, plan, &counting)
    }
}
