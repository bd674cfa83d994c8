//! The calls about alerts: how they are, and what they would have said of the past. Both are worked out from the records when they are
//! asked for.

use super::blocking::{Work, working};
use super::caller::Caller;
use super::counting::for_a_call;
use super::failure::{Failure, Named};
use super::query::{Parameters, TrialQuery};
use crate::active::Active;
use axum::Json;
use exedra_acting::alerts::{Counts, Episode, episodes, reading};
use exedra_answering::config::alerts::{Alert, Bound, Figure};
use exedra_api::Problem;
use exedra_api::alerts::{AlertState, AlertTrial};
use exedra_common::figures::several;
use exedra_common::filters::Filters;
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::tables::{Cell, Table, TableColumn};
use exedra_common::text::nearest;
use exedra_common::{Column, Dictionaries, RequestBatch};
use exedra_reading::classify::Classifier;
use exedra_reading::trail::Place;
use exedra_store::records::{Scan, ScanSink};
use jiff::Timestamp;
use std::ops::Range;
use std::sync::Arc;

const MINUTE: i64 = 60_000;
/// Minutes of the past that the state of an alert follows from.
const DAY: i64 = 24 * 60;
/// Where nobody says a stretch, and the longest, in minutes.
const USUAL: i64 = 30 * DAY;
const LONGEST: i64 = 400 * DAY;

/// The alerts of the configuration, and how they are. They are about all sites: nobody is given any who may see but some.
#[utoipa::path(get, path = "/alerts", responses((status = 200, body = Vec<AlertState>)))]
pub async fn alerts(caller: Caller) -> Result<Json<Vec<AlertState>>, Failure> {
    working(move |work| {
        let active = caller.console().site()?;
        let shown = active.config.alerts.iter().filter(|_| caller.sees_all());
        let now = Timestamp::now().as_millisecond().div_euclid(MINUTE);
        shown.map(|alert| state(alert, now, &caller, &active, work)).collect()
    })
    .await
}

/// When an alert would have been raised.
#[utoipa::path(get, path = "/alerts/{name}/trial", params(("name" = String, Path), TrialQuery),
    responses((status = 200, body = AlertTrial), (status = 404, body = Problem)))]
pub async fn try_alert(
    caller: Caller,
    Named(name): Named<String>,
    Parameters(query): Parameters<TrialQuery>,
) -> Result<Json<AlertTrial>, Failure> {
    let minutes = query.last.map_or(USUAL, |microseconds| (microseconds / 60_000_000) as i64);
    if !(1..=LONGEST).contains(&minutes) {
        return Err(Failure::Wrong(
            "an alert is tried on a minute at least, and on 400 days at most".to_owned(),
        ));
    }
    working(move |work| {
        let active = caller.console().site()?;
        let all = || active.config.alerts.iter().filter(|_| caller.sees_all());
        let alert = all().find(|alert| alert.name.value == name).ok_or_else(|| {
            let near = nearest(&name, all().map(|alert| alert.name.value.as_str()));
            let near = near.map_or(String::new(), |near| format!(": did you mean `{near}`?"));
            Failure::Missing(format!("there is no alert `{name}`{near}"))
        })?;
        let until = Timestamp::now().as_millisecond().div_euclid(MINUTE);
        let from = until - minutes;
        let counts = counts(alert, from - alert.when.minutes, until, &caller, &active, work)?;
        let found = raised(alert, &counts, from..until, &caller);
        Ok(AlertTrial {
            time_zone: active.config.service.time_zone.iana_name().unwrap_or("UTC").to_owned(),
            name: alert.name.value.clone(),
            condition: alert.when.to_string(),
            stretch: (from * MINUTE, until * MINUTE),
            requests: counts.requests(),
            table: table(alert, &found, until),
        })
    })
    .await
}

fn state(
    alert: &Alert,
    now: i64,
    caller: &Caller,
    active: &Active,
    work: &Work,
) -> Result<AlertState, Failure> {
    let counts = counts(alert, now - DAY - alert.when.minutes, now, caller, active, work)?;
    let found = raised(alert, &counts, now - DAY..now, caller);
    let last = reading(&alert.when, &counts, now - 1);
    let current = found.last().filter(|episode| episode.ended.is_none());
    let written = |filters: &Filters| filters.iter().map(ToString::to_string).collect();
    Ok(AlertState {
        name: alert.name.value.clone(),
        condition: alert.when.to_string(),
        scope: written(&alert.scope),
        of: written(&alert.when.of),
        raised_since: current.and_then(|episode| {
            Timestamp::from_millisecond(episode.began * MINUTE).ok().map(|time| time.to_string())
        }),
        figure: match alert.when.figure {
            Figure::Number | Figure::OneClient => several(last.value as u64, "request", "requests"),
            figure => figure.in_words(last.value),
        },
        client: last.client,
        times: found.len() as u64,
    })
}

/// When an alert was raised within some minutes.
fn raised(alert: &Alert, counts: &Counts, minutes: Range<i64>, caller: &Caller) -> Vec<Episode> {
    let begins = match alert.when.bound {
        Bound::Over(_) => minutes.start,
        // Before the first request nothing is known, and that is no silence.
        Bound::Under(_) => {
            let (seen, _) = caller.snapshot(&Scope::default());
            let first = seen.segments().iter().map(|segment| segment.first);
            let first = first.chain(seen.tail().iter().map(|part| part.first)).min();
            let known = first.map_or(minutes.end, |first| first.div_euclid(MINUTE) + alert.when.minutes);
            known.clamp(minutes.start, minutes.end)
        }
    };
    episodes(&alert.when, (alert.holds, alert.ends_after), counts, begins..minutes.end)
}

/// Counts on one thread.
struct CountingSink {
    counts: Counts,
    fits: RowFilter,
}

impl ScanSink for CountingSink {
    fn take(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, _: Place) {
        let fits = self.fits.lets_all_through() || {
            // Each batch may have other dictionaries.
            self.fits.forget();
            self.fits.keeps(batch, row, texts)
        };
        self.counts.add(batch, row, texts, fits);
    }
}

/// What an alert looks at, from one minute to another.
fn counts(
    alert: &Alert,
    from: i64,
    until: i64,
    caller: &Caller,
    active: &Active,
    work: &Work,
) -> Result<Counts, Failure> {
    let scope = Scope {
        from: Some(from * MINUTE),
        until: Some(until * MINUTE),
        filters: alert.scope.clone(),
        ..Scope::default()
    };
    let derive = Arc::new(Classifier { countries: active.countries.clone() });
    let (seen, records) = caller.snapshot(&scope);
    let goes_on = || work.goes_on();
    let own = Scope { filters: alert.when.of.clone(), ..Scope::default() };
    let begin = || CountingSink {
        counts: Counts::new(&alert.when),
        fits: RowFilter::new(own.clone(), Arc::clone(&derive) as _),
    };
    let scan =
        Scan { scope: &scope, projection: Counts::projection(&alert.when), derive: Arc::clone(&derive) as _ };
    let (sinks, ..) = records.scan(&seen, &scan, &for_a_call(&goes_on), begin)?;
    let mut all = Counts::new(&alert.when);
    sinks.into_iter().for_each(|sink| all.merge(sink.counts));
    Ok(all)
}

fn table(alert: &Alert, found: &[Episode], until: i64) -> Table {
    let figure = match alert.when.figure {
        Figure::Share => TableColumn::text("worst", "worst"),
        Figure::Transfer => TableColumn::size("worst", "worst"),
        Figure::Number | Figure::OneClient => TableColumn::sum("worst", "worst"),
    };
    let columns = [
        TableColumn::of(Column::Time).named("began", "raised"),
        TableColumn::of(Column::Time).named("ended", "over"),
        TableColumn::sum("minutes", "minutes"),
        figure,
        TableColumn::text("client", "client"),
    ];
    let mut table = Table::new("episodes", "Raised", columns);
    let time = |minute: i64| Cell::from(u64::try_from(minute * MINUTE).ok());
    for episode in found {
        let worst = match alert.when.figure {
            Figure::Share => Cell::from(alert.when.figure.in_words(episode.worst)),
            _ => Cell::Number(episode.worst as u64),
        };
        let minutes = (episode.ended.unwrap_or(until) - episode.began).unsigned_abs();
        table.push([
            time(episode.began),
            episode.ended.map_or(Cell::Nothing, time),
            minutes.into(),
            worst,
            episode.client.clone().into(),
        ]);
    }
    if alert.when.figure != Figure::OneClient {
        table.columns.pop();
        table.rows.iter_mut().for_each(|row| drop(row.pop()));
    }
    table
}
