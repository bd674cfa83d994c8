//! Figures that are known of the present only: what was sent of an allowance, when certificates end, what is free on a disk, lines that
//! could not be read.

use crate::active::Active;
use crate::jobs::allowances::month::{first_day, month_transfer};
use crate::logs::journal::generations::generations;
use crate::logs::view::View;
use exedra_answering::config::SiteId;
use exedra_answering::config::alerts::What;
use exedra_common::scope::Scope;
use exedra_reading::survey::report::Shown;
use exedra_reading::survey::{ReportOptions, SurveyPlan};
use exedra_store::records::Counting;
use exedra_store::{Records, StoreError, Tallies};
use jiff::Timestamp;
use parking_lot::Mutex;
use std::collections::{HashMap, VecDeque};

/// How long what is expected of a month is not worked out again, in minutes.
const FORESEEN: i64 = 10;
/// How many minutes back lines are counted that could not be read.
const HOUR: i64 = 60;

/// Whoever measures them.
pub struct Figures<'f> {
    view: View<'f>,
    /// What is expected of months, by site, and when that was worked out.
    expected: Mutex<HashMap<Option<String>, (i64, u64)>>,
    /// How many lines of each site could not be read by the last minutes.
    unread: Mutex<HashMap<Option<String>, VecDeque<(i64, u64)>>>,
}

impl<'f> Figures<'f> {
    /// From the records.
    pub fn new(records: &'f Records, tallies: &'f Tallies) -> Self {
        let view = View { records, tallies, sites: None };
        Figures { view, expected: Mutex::default(), unread: Mutex::default() }
    }

    /// A figure at the beginning of a minute since 1970 UTC; nothing where it is not known.
    pub fn measure<E: From<StoreError> + Send>(
        &self,
        what: &What,
        active: &Active,
        minute: i64,
        counting: &Counting<'_, E>,
    ) -> Result<Option<f64>, E> {
        Ok(match what {
            What::Allowance(site) => {
                let (site, allowance) = allowance(active, site.as_deref());
                active
                    .allowance
                    .sent(site)
                    .zip(allowance)
                    .map(|(sent, allowance)| sent as f64 / allowance as f64)
            }
            What::Forecast(site) => {
                let (_, allowance) = allowance(active, site.as_deref());
                let Some(allowance) = allowance else { return Ok(None) };
                let expected = self.expected(site.as_ref(), active, minute, counting)?;
                expected.map(|expected| expected as f64 / allowance as f64)
            }
            What::Certificate(host) => days_left(active, host.as_deref()),
            What::FreeSpace(folder) => {
                let found = rustix::fs::statvfs(folder).inspect_err(|error| {
                    tracing::warn!(
                        "what is free on the disk of {} cannot be found out: {error}",
                        folder.display()
                    );
                });
                found.ok().map(|found| found.f_bavail as f64 * found.f_frsize as f64)
            }
            What::Unread(site) => Some(self.unread(site.as_ref(), active, minute) as f64),
        })
    }

    /// What is expected to be sent by the end of the month.
    fn expected<E: From<StoreError> + Send>(
        &self,
        site: Option<&String>,
        active: &Active,
        minute: i64,
        counting: &Counting<'_, E>,
    ) -> Result<Option<u64>, E> {
        let key = site.cloned();
        let known = self.expected.lock().get(&key).copied();
        if let Some((_, expected)) = known.filter(|(then, _)| (0..FORESEEN).contains(&(minute - then))) {
            return Ok(Some(expected));
        }
        let zone = active.config.service.time_zone.clone();
        let now = Timestamp::now().to_zoned(zone.clone());
        let from =
            first_day(&now).to_zoned(zone.clone()).ok().map(|first| first.timestamp().as_millisecond());
        let scope = Scope { sites: site.into_iter().cloned().collect(), from, ..Scope::default() };
        // It is a section that there is.
        let shown = Shown::understand(&["hours"]).unwrap_or_default();
        let records = self.view.records;
        let plan = SurveyPlan { parts: shown.parts(), ..SurveyPlan::new(scope, zone, records.survey_key()?) };
        let (survey, _) = self.view.survey(&plan, counting)?;
        let options = ReportOptions { shown, ..ReportOptions::default() };
        let report = exedra_reading::survey::Report::new(&survey, &plan, &options, None);
        let month = month_transfer(&report, site.map(String::as_str), None, &now);
        let Some(forecast) = month.forecast else { return Ok(None) };
        self.expected.lock().insert(key, (minute, forecast.expected));
        Ok(Some(forecast.expected))
    }

    /// How many lines could not be read within the last hour.
    fn unread(&self, site: Option<&String>, active: &Active, minute: i64) -> u64 {
        let sites = active.config.sites.iter().zip(&active.logs);
        let logs = sites.filter(|(one, _)| site.is_none_or(|site| one.name.value == *site));
        let mut all = 0;
        for journal in logs.filter_map(|(_, log)| log.appender.as_ref()).map(|appender| &appender.journal) {
            for generation in generations(journal.folder(), &journal.name).unwrap_or_default() {
                all += self.view.records.checkpoint(&generation.name).unread;
            }
        }
        let mut unread = self.unread.lock();
        let past = unread.entry(site.cloned()).or_default();
        if past.back().is_none_or(|(then, _)| *then < minute) {
            past.push_back((minute, all));
        }
        while past.len() > 1 && past.front().is_some_and(|(then, _)| *then < minute - HOUR) {
            past.pop_front();
        }
        // Generations that are no longer kept take their lines along.
        all.saturating_sub(past.front().map_or(all, |(_, before)| *before))
    }
}

/// A site by its name and its allowance, or those of all together.
fn allowance(active: &Active, site: Option<&str>) -> (Option<SiteId>, Option<u64>) {
    match site.and_then(|site| active.config.site_named(site).ok()) {
        Some(site) => (Some(site), active.config.site(site).allowance),
        None => (None, active.config.service.allowance),
    }
}

/// Days until the certificate of a host ends, or the first of all. Those that are made for development do not count.
fn days_left(active: &Active, host: Option<&str>) -> Option<f64> {
    let certificates = &active.tls.as_ref()?.certificates;
    let hosts = active.config.certificates.iter().flat_map(|one| &one.hosts).map(|host| host.value.as_str());
    let now = Timestamp::now().as_second();
    let ends =
        hosts.filter(|one| host.is_none_or(|host| host == *one)).filter_map(|host| certificates.ends(host));
    let left = ends.filter(|(_, is_made)| !is_made).map(|(end, _)| (end - now) as f64 / 86_400.0);
    left.min_by(f64::total_cmp)
}
