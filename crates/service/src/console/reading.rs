//! The calls about what is recorded: counted, over time, one by one, of one client, before bursts.

use super::blocking::{Work, working};
use super::caller::Caller;
use super::counting::{for_a_call, make_survey};
use super::failure::Failure;
use super::query::{
    ErrorsQuery, Parameters, PreludesQuery, RequestsQuery, ScopeQuery, Scoped, SeriesQuery, SitesQuery,
    SurveyQuery, TrailQuery, asked, few_buckets, scope,
};
use crate::active::Active;
use crate::logs::error_reading::{self, LOOKED_AT, Wanted, last, put_together};
use crate::logs::journal::generations::generations;
use axum::Json;
use exedra_api::{Errors, LogColumn, Requests, Series, Source};
use exedra_common::filters::Filter;
use exedra_common::scope::Scope;
use exedra_common::{Column, Dictionaries, RequestBatch, TextColumn};
use exedra_reading::classify::Classifier;
use exedra_reading::errors::filter::EventFilter;
use exedra_reading::prelude::{Minutes, Preludes, Trouble, USUAL_BURSTS};
use exedra_reading::requests::{Picker, RequestColumns, WrongColumn, order};
use exedra_reading::survey::plan::USUAL_SLOW;
use exedra_reading::survey::report::Shown;
use exedra_reading::survey::{Report, ReportOptions};
use exedra_reading::trail::{ClientTrail, Keeper, Place, Trail};
use exedra_store::records::preludes::PreludePlan;
use exedra_store::records::{Scan, ScanSink};
use jiff::tz::TimeZone;
use std::sync::Arc;

/// How many requests are given where nobody said a number.
const FEW: usize = 200;
/// How many visits of a client, and steps of each.
const USUAL_VISITS: usize = 100;
const USUAL_STEPS: usize = 100;
/// The most steps of a trail, and the most bursts.
const MOST_STEPS: usize = 20_000;
const MOST_BURSTS: usize = 100;

/// What a call is about.
pub(super) struct About {
    pub(super) scope: Scope,
    pub(super) zone: TimeZone,
    pub(super) active: Arc<Active>,
    pub(super) now: i64,
}

impl About {
    /// Understands it, of the sites that may be seen.
    pub(super) fn understand(caller: &Caller, mut query: ScopeQuery) -> Result<Self, Failure> {
        let now = jiff::Timestamp::now().as_millisecond();
        let active = caller.console().site()?;
        let sites = caller.sites(std::mem::take(&mut query.site), &active.config)?;
        let (scope, zone) = scope(query, sites, &active.config, now)?;
        Ok(About { scope, zone, active, now })
    }

    /// Everything that may be seen.
    pub(super) fn everything(caller: &Caller) -> Result<Self, Failure> {
        About::understand(caller, ScopeQuery::default())
    }

    /// The name of its zone.
    pub(super) fn zone_name(&self) -> String {
        self.zone.iana_name().unwrap_or("UTC").to_owned()
    }

    /// What works out derived columns.
    pub(super) fn classifier(&self) -> Arc<Classifier> {
        Arc::new(Classifier { countries: self.active.countries.clone() })
    }

    /// Hands the requests to sinks.
    fn scan<S: ScanSink>(
        &self,
        caller: &Caller,
        work: &Work,
        projection: exedra_common::Projection,
        begin: impl Fn() -> S + Sync,
    ) -> Result<Scanned<S>, Failure> {
        let (seen, records) = caller.snapshot(&self.scope);
        let goes_on = || work.goes_on();
        let scan = Scan { scope: &self.scope, projection, derive: self.classifier() };
        let (sinks, tried, passed_over) = records.scan(&seen, &scan, &for_a_call(&goes_on), begin)?;
        Ok(Scanned { sinks, tried, passed_over, arrivals: seen.arrivals() })
    }
}

/// What came of looking at requests one by one.
struct Scanned<S> {
    /// Those that took them.
    sinks: Vec<S>,
    /// How many requests there were to look at.
    tried: u64,
    /// How many fit that nobody wanted.
    passed_over: u64,
    /// How many parts had come to the records by then.
    arrivals: u64,
}

impl From<WrongColumn> for Failure {
    fn from(wrong: WrongColumn) -> Self {
        Failure::Wrong(wrong.to_string())
    }
}

/// Everything counted over a scope.
#[utoipa::path(get, path = "/survey", params(ScopeQuery, SurveyQuery), responses((status = 200, body = Report)))]
pub async fn survey(
    caller: Caller,
    Scoped(about, query): Scoped<SurveyQuery>,
) -> Result<Json<Report>, Failure> {
    let About { scope, zone, active, now } = About::understand(&caller, about)?;
    let asked = asked(query, (scope, zone), caller.hosts(&active.config), now)?;
    working(move |work| make_survey(&caller, &asked, work)).await
}

/// Requests over time.
#[utoipa::path(get, path = "/series", params(ScopeQuery, SeriesQuery), responses((status = 200, body = Series)))]
pub async fn series(
    caller: Caller,
    Scoped(about, query): Scoped<SeriesQuery>,
) -> Result<Json<Series>, Failure> {
    let About { scope, zone, now, .. } = About::understand(&caller, about)?;
    few_buckets(&scope, query.step, now)?;
    working(move |work| {
        let name = if query.step.is_some() { "timeline" } else { "days" };
        let shown = Shown::understand(&[name]).map_err(|_| Failure::Internal)?;
        let options = ReportOptions { shown, ..ReportOptions::default() };
        let time_zone = zone.iana_name().unwrap_or("UTC").to_owned();
        let asked = super::query::Asked {
            scope,
            step: query.step,
            options,
            slow: USUAL_SLOW,
            zone: Some(zone),
            ..Default::default()
        };
        let report = make_survey(&caller, &asked, work)?;
        Ok(Series { time_zone, table: report.table(name).clone(), caveats: report.caveats })
    })
    .await
}

/// Picks requests on one thread.
pub(super) struct PickSink {
    pub(super) picker: Picker,
}

impl ScanSink for PickSink {
    fn take(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, place: Place) {
        self.picker.add(batch, row, texts, place);
    }

    fn wants(&self, _: i64, last: i64) -> bool {
        self.picker.wants(last)
    }
}

/// Single requests.
#[utoipa::path(get, path = "/requests", params(ScopeQuery, RequestsQuery), responses((status = 200, body = Requests)))]
pub async fn requests(
    caller: Caller,
    Scoped(about, query): Scoped<RequestsQuery>,
) -> Result<Json<Requests>, Failure> {
    let about = About::understand(&caller, about)?;
    let by = order(query.by.as_deref().unwrap_or("time"))?;
    let columns: Vec<&str> = query.columns.iter().flat_map(|names| names.split(',')).collect();
    let listed = RequestColumns::understand(&columns, about.classifier(), query.mask)?;
    let (top, skip) = (query.top.unwrap_or(FEW), query.skip.unwrap_or(0));
    working(move |work| {
        let begin = || PickSink { picker: Picker::new(listed.clone(), by, top + skip) };
        let scanned = about.scan(&caller, work, listed.projection(by), begin)?;
        let mut picked = begin().picker.finish();
        scanned.sinks.into_iter().for_each(|share| picked.merge(share.picker.finish()));
        let (mut table, fitting) = picked.into_page(skip);
        table.name = "requests".to_owned();
        Ok(Requests {
            time_zone: about.zone_name(),
            table,
            fitting: fitting + scanned.passed_over,
            tried: scanned.tried,
            skipped: skip as u64,
            last_event: super::events::identity(caller.console(), scanned.arrivals),
        })
    })
    .await
}

/// What one client did, in order.
#[utoipa::path(get, path = "/trail", params(ScopeQuery, TrailQuery), responses((status = 200, body = ClientTrail)))]
pub async fn trail(
    caller: Caller,
    Scoped(about, query): Scoped<TrailQuery>,
) -> Result<Json<ClientTrail>, Failure> {
    let mut about = About::understand(&caller, about)?;
    if query.client.is_empty() {
        let words = "`client` is missing: an address, or a network as in 192.0.2.0/24";
        return Err(Failure::Wrong(words.to_owned()));
    }
    let only = Filter::exactly(TextColumn::Client.into(), &query.client);
    about.scope.filters.narrow(only.map_err(|error| Failure::Wrong(error.to_string()))?);
    working(move |work| {
        let shares = about.scan(&caller, work, Keeper::projection(), Keeper::default)?.sinks;
        let mut keeper = Keeper::default();
        shares.into_iter().for_each(|share| keeper.merge(share));
        let (visits, steps) = (query.visits.unwrap_or(USUAL_VISITS), query.steps.unwrap_or(USUAL_STEPS));
        let steps = steps.min(MOST_STEPS / visits.max(1)).max(1);
        let countries = about.active.countries.as_ref();
        let country = countries.and_then(|countries| countries.of_text(&query.client)).map(str::to_owned);
        let time_zone = about.zone_name();
        Ok(ClientTrail {
            client: query.client,
            time_zone,
            country,
            trail: Trail::of(keeper).cut(visits, steps),
        })
    })
    .await
}

/// What was different before bursts of errors or slowness.
#[utoipa::path(get, path = "/preludes", params(ScopeQuery, PreludesQuery), responses((status = 200, body = Preludes)))]
pub async fn preludes(
    caller: Caller,
    Scoped(about, query): Scoped<PreludesQuery>,
) -> Result<Json<Preludes>, Failure> {
    let about = About::understand(&caller, about)?;
    let of = query.of.as_deref().unwrap_or("5xx");
    let (trouble, stretch) = Trouble::with_stretch(of, query.slow.unwrap_or(USUAL_SLOW), &about.zone)
        .map_err(|error| Failure::Wrong(error.to_string()))?;
    let top = query.top.unwrap_or(USUAL_BURSTS).min(MOST_BURSTS);
    working(move |work| {
        let goes_on = || work.goes_on();
        let (seen, records) = caller.snapshot(&about.scope);
        let own_hosts = caller.hosts(&about.active.config);
        let plan = PreludePlan {
            scope: &about.scope,
            derive: about.classifier(),
            trouble,
            zone: &about.zone,
            own_hosts: &own_hosts,
            masked: query.mask,
        };
        let choose = |minutes: &Minutes| match stretch {
            Some((from, until)) => vec![minutes.stretch(from, until)],
            None => minutes.bursts(top, &about.zone),
        };
        let bursts = records.preludes(&seen, &plan, choose, &for_a_call(&goes_on))?;
        Ok(Preludes { trouble: trouble.words(), time_zone: about.zone_name(), bursts })
    })
    .await
}

/// What went wrong, and why: from the log of errors of the service, within a scope.
#[utoipa::path(get, path = "/errors", params(ScopeQuery, ErrorsQuery), responses((status = 200, body = Errors)))]
pub async fn errors(
    caller: Caller,
    Scoped(about, query): Scoped<ErrorsQuery>,
) -> Result<Json<Errors>, Failure> {
    let about = About::understand(&caller, about)?;
    working(move |work| {
        let filter = EventFilter::new(about.scope.clone(), about.classifier());
        let wanted = Wanted::new(about.scope.sites.clone(), None, filter);
        let journal = &about.active.errors.appender.journal;
        let files = generations(journal.folder(), &journal.name).unwrap_or_default();
        let lines = last(&wanted, &files, LOOKED_AT, || work.goes_on())?;
        let table = error_reading::table(put_together(&lines, false), query.top.unwrap_or(FEW));
        Ok(Errors { time_zone: about.zone_name(), table, looked_at: lines.len() as u64 })
    })
    .await
}

/// The columns of logs, by which requests are filtered.
#[utoipa::path(get, path = "/columns", responses((status = 200, body = Vec<LogColumn>)))]
pub async fn columns(_: Caller) -> Json<Vec<LogColumn>> {
    let filtered = Column::all().filter(|column| *column != Column::Time);
    let shown = filtered.map(|column| LogColumn {
        name: column.name().to_owned(),
        kind: column.declaration().kind,
        meaning: column.meaning().to_owned(),
        values: column.declaration().values.iter().map(ToString::to_string).collect(),
        example: exedra_common::filters::example(column),
    });
    Json(shown.collect())
}

/// Where the records come from: logs of the sites, and logs that were imported.
#[utoipa::path(get, path = "/sources", params(SitesQuery), responses((status = 200, body = Vec<Source>)))]
pub async fn sources(
    caller: Caller,
    Parameters(query): Parameters<SitesQuery>,
) -> Result<Json<Vec<Source>>, Failure> {
    super::blocking::blocking(move || super::sources::all(&caller, query.site)).await
}
