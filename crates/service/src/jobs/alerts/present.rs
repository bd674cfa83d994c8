//! Figures that are known of the present only: what was sent of an allowance, when certificates end, what is free on a disk, lines that
//! could not be read.

use crate::active::Active;
use crate::jobs::allowances::month::{first_day, month_transfer};
use crate::logs::journal::generations::generations;
use crate::logs::view::View;
use crate::system::background::step_back;
use exedra_answering::config::SiteId;
use exedra_answering::config::alerts::What;
use exedra_common::scope::Scope;
use exedra_query::engine::{Engine, Limits};
use exedra_query::library;
use exedra_query::parameters::Parameters;
use exedra_query::records::RecordedRequests;
use exedra_query::statement::Statement;
use exedra_query::table::RequestsTable;
use exedra_reading::classify::Classifier;
use exedra_reading::survey::report::Shown;
use exedra_reading::survey::{ReportOptions, SurveyPlan};
use exedra_store::records::Counting;
use exedra_store::{KeptQueries, Records, StoreError, Tallies};
use jiff::Timestamp;
use parking_lot::Mutex;
use std::collections::{HashMap, VecDeque};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

/// How long what is expected of a month is not worked out again, in minutes.
const FORESEEN: i64 = 10;
/// How long a query is not asked again, in minutes; what it may take; and how many rows are counted.
const ASKED: i64 = 10;
const QUERY_MEMORY: usize = 128 << 20;
const QUERY_TIME: Duration = Duration::from_secs(60);
const MOST_ROWS: usize = 10_000;
/// How many minutes back lines are counted that could not be read.
const HOUR: i64 = 60;

/// How much something had come to by some minutes, in their order.
type Totals = VecDeque<(i64, u64)>;

/// Whoever measures them.
pub struct Figures<'f> {
    view: View<'f>,
    records: Arc<Records>,
    queries: KeptQueries,
    /// How many rows queries had, and when they were asked.
    rows: Mutex<HashMap<String, (i64, Option<u64>)>>,
    /// What is expected of months, by site, and when that was worked out.
    expected: Mutex<HashMap<Option<String>, (i64, u64)>>,
    /// How many lines of each site could not be read by the last minutes.
    unread: Mutex<HashMap<Option<String>, Totals>>,
}

impl<'f> Figures<'f> {
    /// From the records, with queries that are kept in a state folder.
    pub fn new(records: &'f Arc<Records>, tallies: &'f Tallies, state: &Path) -> Self {
        let view = View { records, tallies, sites: None };
        let (records, queries) = (Arc::clone(records), KeptQueries::open(state));
        Figures {
            view,
            records,
            queries,
            rows: Mutex::default(),
            expected: Mutex::default(),
            unread: Mutex::default(),
        }
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
            What::Query { name, minutes } => {
                let known = self.rows.lock().get(name).copied();
                let known = known.filter(|(then, _)| (0..ASKED).contains(&(minute - then)));
                let rows = match known {
                    Some((_, rows)) => rows,
                    None => {
                        let goes_on = || (counting.goes_on)().is_ok();
                        let asked = self.rows(name, *minutes, active, minute, &goes_on);
                        // When it stops, that is said by whoever asks.
                        (counting.goes_on)()?;
                        let rows = asked.inspect_err(|why| {
                            tracing::warn!(
                                "the query `{name}`, which an alert is about, has no answer: {why}"
                            );
                        });
                        let rows = rows.ok();
                        self.rows.lock().insert(name.clone(), (minute, rows));
                        rows
                    }
                };
                rows.map(|rows| rows as f64)
            }
        })
    }

    /// How many rows a kept query has, of the requests of some minutes. The error is for people.
    fn rows(
        &self,
        name: &str,
        minutes: i64,
        active: &Active,
        minute: i64,
        goes_on: &dyn Fn() -> bool,
    ) -> Result<u64, String> {
        let kept = self.queries.all().map_err(|error| error.to_string())?;
        let kept = kept.into_iter().find(|query| query.name == name);
        let (statement, usual) = match (kept, library::named(name)) {
            (Some(query), _) => (query.statement, query.parameters.into_iter().collect::<Vec<_>>()),
            (None, Some(known)) => {
                let usual =
                    known.parameters.iter().map(|(name, value)| (name.to_string(), value.to_string()));
                (known.statement.to_string(), usual.collect())
            }
            (None, None) => return Err("nobody has kept a query of this name".to_owned()),
        };
        let mut parameters = Parameters::new(minute * 60_000);
        for (name, value) in usual {
            parameters.set(&format!("{name}={value}"))?;
        }
        let statement = Statement::understand(&statement, &parameters).map_err(|wrong| wrong.what)?;
        let scope = Scope {
            from: Some((minute - minutes) * 60_000),
            until: Some(minute * 60_000),
            ..Scope::default()
        };
        let seen = self.records.snapshot().within(&scope);
        let recorded = RecordedRequests::new(Arc::clone(&self.records), seen);
        let derive = Arc::new(Classifier { countries: active.countries.clone() });
        let key = self.records.survey_key().map_err(|error| error.to_string())?;
        let zone = active.config.service.time_zone.clone();
        let table = RequestsTable::new(Arc::new(recorded), (scope, zone), derive, key).on_threads(1);
        let limits = Limits { memory: QUERY_MEMORY, disk: 0, folder: None, time: Some(QUERY_TIME) };
        let engine = Engine::new(table, limits, step_back).map_err(|error| error.to_string())?;
        let answer = engine.ask(&statement, goes_on).and_then(|answer| answer.into_table(MOST_ROWS, goes_on));
        answer.map(|(table, _)| table.rows.len() as u64).map_err(|error| error.to_string())
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
