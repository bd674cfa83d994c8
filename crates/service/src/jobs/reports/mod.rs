//! Reports that are made by themselves when it is their time: written to a file, sent to whoever is to have them, and kept a while.
//!
//! - [`making`]: one report made; [`page`]: as one HTML file

pub mod making;
pub mod page;

use crate::active::Active;
use crate::jobs::messages::{Outbox, next_end};
use crate::logs::ingest::caught_up::CaughtUp;
use crate::logs::view::View;
use crate::system::background::step_back;
use crate::system::threads;
use exedra_acting::schedule::latest;
use exedra_answering::config::reports::ScheduledReport;
use exedra_store::records::Counting;
use exedra_store::watching::reports::ReportRun;
use exedra_store::{Records, StoreError, Tallies};
use jiff::Timestamp;
use making::{Making, NotMade};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// The name of the thread.
pub const NAME: &str = "reports";
/// How often it looks whether it is time.
const PAUSE: Duration = Duration::from_secs(2);
/// After how long one that could not be made is tried again, in seconds.
const AGAIN: i64 = 600;

/// Whoever makes reports.
pub struct ReportMaker {
    pub(super) records: Arc<Records>,
    pub(super) tallies: Tallies,
    outbox: Arc<Outbox>,
    caught_up: Arc<CaughtUp>,
    /// Where they are kept.
    folder: PathBuf,
    /// One at a time: each needs memory and processors.
    busy: Mutex<()>,
}

impl ReportMaker {
    /// One that keeps reports in a folder.
    pub fn new(
        records: Arc<Records>,
        tallies: Tallies,
        outbox: Arc<Outbox>,
        caught_up: Arc<CaughtUp>,
        folder: PathBuf,
    ) -> Self {
        ReportMaker { records, tallies, outbox, caught_up, folder, busy: Mutex::default() }
    }

    /// Makes those whose time has come, until told to stop by the flag and woken. `active` gives what is in force.
    pub fn run(&self, active: &impl Fn() -> Option<Arc<Active>>, stop: &AtomicBool) {
        step_back();
        // When one that could not be made is tried again, by its name.
        let mut later: HashMap<String, i64> = HashMap::new();
        while !stop.load(Ordering::SeqCst) {
            let Some(active) = active() else { return };
            if let Err(error) = self.look(&active, &mut later, stop) {
                tracing::warn!("scheduled reports cannot be looked at at the moment: {error}");
            }
            drop(active);
            std::thread::park_timeout(PAUSE);
        }
    }

    fn look(
        &self,
        active: &Arc<Active>,
        later: &mut HashMap<String, i64>,
        stop: &AtomicBool,
    ) -> Result<(), StoreError> {
        let reports = &active.config.reports;
        if reports.is_empty() {
            return Ok(());
        }
        let names: Vec<&str> = reports.iter().map(|report| report.name.value.as_str()).collect();
        self.outbox.watching.forget_other_reports(&names)?;
        for report in reports {
            let (name, now) = (&report.name.value, Timestamp::now());
            let done = self.outbox.watching.made_until(name, now.as_second())?;
            let Some(due) = latest(report.every, &active.config.service.time_zone, now) else { continue };
            // Of days that have not been read to their end nothing is reported.
            let is_read = self.caught_up.until().is_some_and(|until| until >= due.as_second());
            let is_put_off = later.get(name).is_some_and(|later| *later > now.as_second());
            if due.as_second() <= done || !is_read || is_put_off {
                continue;
            }
            let goes_on = || if stop.load(Ordering::SeqCst) { Err(NotMade::Stopped) } else { Ok(()) };
            match self.make(report, active, due, "", &goes_on) {
                Ok(_) => {
                    later.remove(name);
                }
                Err(NotMade::Stopped) => return Ok(()),
                Err(error) => {
                    later.insert(name.clone(), now.as_second() + AGAIN);
                    tracing::error!("the report `{name}` could not be made, and is tried again: {error}");
                    let run = ReportRun {
                        report: name.clone(),
                        due: due.as_second(),
                        made: now.as_second(),
                        failure: Some(error.to_string()),
                        ..ReportRun::default()
                    };
                    self.outbox.watching.add_run(&run, &[], now.as_second())?;
                }
            }
        }
        Ok(())
    }

    /// Makes a report that is due at an instant, writes it down and has it sent. Gives what was written down.
    pub fn make(
        &self,
        report: &ScheduledReport,
        active: &Active,
        due: Timestamp,
        made_by: &str,
        goes_on: &(dyn Fn() -> Result<(), NotMade> + Sync),
    ) -> Result<ReportRun, NotMade> {
        let _busy = self.busy.lock();
        threads::doing(NAME, Some(format!("making `{}`", report.name.value)));
        let making = Making {
            view: View { records: &self.records, tallies: &self.tallies, sites: None },
            active,
            folder: &self.folder,
            counting: Counting { begin_thread: step_back, most_threads: 1, remembers: false, goes_on },
        };
        let made = making.make(report, due, made_by);
        threads::doing(NAME, None);
        let (mut run, told) = made?;
        let now = Timestamp::now().as_second();
        let message = |name: &str| {
            let recipient = active.config.recipients.iter().find(|recipient| recipient.name.value == name);
            let quiet = recipient.and_then(|recipient| next_end(recipient.quiet.as_ref(), now));
            told.message(name, quiet.unwrap_or(now))
        };
        let messages: Vec<_> = report.tell.iter().map(|name| message(&name.value)).collect();
        let (number, gone) = self.outbox.watching.add_run(&run, &messages, now)?;
        for file in gone {
            if let Err(error) = std::fs::remove_file(&file)
                && error.kind() != std::io::ErrorKind::NotFound
            {
                tracing::warn!("an old report cannot be removed: {file}: {error}");
            }
        }
        self.outbox.wake();
        run.number = number;
        Ok(run)
    }
}
