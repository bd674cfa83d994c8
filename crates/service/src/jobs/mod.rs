//! What the service does by itself, minute by minute.
//!
//! - [`alerts`]: looks at the alerts of the configuration and decides what there is to be told
//! - [`allowances`]: what was sent this month
//! - [`reports`]: made when it is their time
//! - [`publications`]: published changes in their first minutes
//! - [`messages`]: what recipients are told, until it is delivered

pub mod alerts;
pub mod allowances;
pub mod messages;
pub mod publications;
pub mod reports;

use crate::active::Active;
use crate::logs::ingest::caught_up::CaughtUp;
use crate::system::threads::keep_on;
use alerts::evaluations::Evaluations;
use exedra_store::{Acting, Records, Tallies};
use messages::Outbox;
use reports::ReportMaker;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;

/// What jobs and the console both work with.
#[derive(Clone)]
pub struct Shared {
    /// How the alerts go.
    pub evaluations: Arc<Evaluations>,
    /// What recipients are told.
    pub outbox: Arc<Outbox>,
    /// Whoever makes reports.
    pub reports: Arc<ReportMaker>,
}

impl Shared {
    /// Over some records, with what is kept in a state folder.
    pub fn new(records: &Arc<Records>, tallies: Tallies, caught_up: Arc<CaughtUp>, state: &Path) -> Self {
        let outbox = Arc::new(Outbox::open(state));
        let (of_reports, folder) = (Arc::clone(&caught_up), state.join("reports"));
        Shared {
            evaluations: Arc::new(Evaluations::new(Arc::clone(records), caught_up)),
            reports: Arc::new(ReportMaker::new(
                Arc::clone(records),
                tallies,
                Arc::clone(&outbox),
                of_reports,
                folder,
            )),
            outbox,
        }
    }
}

/// The threads that do it.
pub struct Jobs {
    stop: Arc<AtomicBool>,
    threads: Vec<JoinHandle<()>>,
}

impl Jobs {
    /// Begins. `active` gives what is in force, `console` is the address that links begin with.
    pub fn start(
        shared: &Shared,
        active: impl Fn() -> Option<Arc<Active>> + Clone + Send + 'static,
        console: String,
        state: PathBuf,
        take_back: impl Fn(i32) -> Result<(), String> + Send + 'static,
    ) -> io::Result<Self> {
        let stop = Arc::new(AtomicBool::new(false));
        let state_of_watch = state.clone();
        let watch = {
            let (shared, active, stop) = (shared.clone(), active.clone(), Arc::clone(&stop));
            move || {
                alerts::watch(
                    &shared.evaluations,
                    (&shared.outbox, &shared.reports.tallies, &state),
                    &active,
                    &console,
                    &stop,
                );
            }
        };
        let acting = Acting::open(&state_of_watch);
        let published = {
            let (reports, active, stop) = (Arc::clone(&shared.reports), active.clone(), Arc::clone(&stop));
            move || publications::watch(&reports.records, &acting, &active, &take_back, &stop)
        };
        let counted = active.clone();
        let make = {
            let (reports, stop) = (Arc::clone(&shared.reports), Arc::clone(&stop));
            move || reports.run(&active, &stop)
        };
        let count = {
            let (reports, stop) = (Arc::clone(&shared.reports), Arc::clone(&stop));
            move || allowances::count(&reports.records, &reports.tallies, &counted, &stop)
        };
        let threads = vec![
            keep_on(alerts::NAME, watch)?,
            keep_on(reports::NAME, make)?,
            keep_on(allowances::NAME, count)?,
            keep_on(publications::NAME, published)?,
        ];
        Ok(Jobs { stop, threads })
    }

    /// Ends them, after what they are at.
    pub fn stop(self) {
        self.stop.store(true, Ordering::SeqCst);
        for thread in self.threads {
            thread.thread().unpark();
            // One that panicked has said so already.
            let _ = thread.join();
        }
    }
}
