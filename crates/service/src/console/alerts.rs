//! The calls about alerts: how they are, when they were raised and would have been, and what people say about them.

use super::blocking::{Work, blocking, working};
use super::caller::Caller;
use super::configuration::with_alert;
use super::counting::for_a_call;
use super::failure::{Failure, Named, Sent};
use super::query::{HistoryQuery, Parameters, TrialQuery};
use super::recording::ChangeDetail;
use crate::active::Active;
use crate::control::configuration::{self, Refused};
use crate::jobs::alerts::evaluations::Evaluations;
use axum::http::StatusCode;
use axum::{Extension, Json};
use exedra_acting::alerts::Episode;
use exedra_answering::config::Diagnostic;
use exedra_answering::config::alerts::{Alert, Condition, Figure};
use exedra_api::Problem;
use exedra_api::alerts::{AlertSilence, AlertState, AlertTrial, NewAlert, NewSilence, PastAlert};
use exedra_common::Column;
use exedra_common::filters::Filters;
use exedra_common::tables::{Cell, Table, TableColumn};
use exedra_common::text::nearest;
use exedra_common::units;
use exedra_store::watching::alerts::{KnownAlert, Silence};
use jiff::Timestamp;
use std::collections::HashMap;
use std::path::PathBuf;

const MINUTE: i64 = 60_000;
/// Minutes of the past that are looked at where nobody says a stretch, and the most.
const DAY: i64 = 24 * 60;
const USUAL: i64 = 30 * DAY;
const LONGEST: i64 = 400 * DAY;
/// How long an alert may be silent, in seconds.
const LONGEST_SILENCE: u64 = 90 * 86_400;
/// How many lines of the history are given at a time.
const PAGE: i64 = 100;

/// The alerts of the configuration, and how they are. They are about all sites: nobody is given any who may see but some.
#[utoipa::path(get, path = "/alerts", responses((status = 200, body = Vec<AlertState>)))]
pub async fn alerts(caller: Caller) -> Result<Json<Vec<AlertState>>, Failure> {
    working(move |work| {
        let active = caller.console().site()?;
        let Some(evaluations) = caller.evaluations() else { return Ok(Vec::new()) };
        let now = Timestamp::now();
        let known = caller.console().outbox.watching.alerts()?;
        let known: HashMap<&str, &KnownAlert> =
            known.iter().map(|known| (known.name.as_str(), known)).collect();
        let state = |alert: &Alert| {
            let known = known.get(alert.name.value.as_str()).copied();
            state(alert, now, known, (evaluations, &active), work)
        };
        active.config.alerts.iter().map(state).collect()
    })
    .await
}

/// When an alert would have been raised.
#[utoipa::path(get, path = "/alerts/{name}/trial", params(("name" = String, Path), TrialQuery),
    responses((status = 200, body = AlertTrial), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn try_alert(
    caller: Caller,
    Named(name): Named<String>,
    Parameters(query): Parameters<TrialQuery>,
) -> Result<Json<AlertTrial>, Failure> {
    let minutes = tried_minutes(&query)?;
    working(move |work| {
        let active = caller.console().site()?;
        let alert = named(&caller, &active, &name)?;
        tried(&caller, alert, minutes, work)
    })
    .await
}

/// How many minutes of the past an alert is tried on.
fn tried_minutes(query: &TrialQuery) -> Result<i64, Failure> {
    let minutes = query.last.map_or(USUAL, |microseconds| (microseconds / 60_000_000) as i64);
    match (1..=LONGEST).contains(&minutes) {
        true => Ok(minutes),
        false => {
            let words = "an alert is tried on a minute at least, and on 400 days at most";
            Err(Failure::Wrong(words.to_owned()))
        }
    }
}

fn tried(caller: &Caller, alert: &Alert, minutes: i64, work: &Work) -> Result<AlertTrial, Failure> {
    let name = &alert.name.value;
    let active = caller.console().site()?;
    let evaluations = caller.evaluations().ok_or_else(|| missing(name, ""))?;
    let Some(when) = alert.when.requests() else {
        let words =
            format!("`{name}` is about what is known of the present only, and cannot be tried on the past");
        return Err(Failure::Conflict(words));
    };
    let until = Timestamp::now().as_millisecond().div_euclid(MINUTE);
    let goes_on = || work.goes_on();
    let stretch = until - minutes..until;
    let (found, requests) =
        evaluations.tried((alert, when), &active, stretch.clone(), &for_a_call(&goes_on))?;
    Ok(AlertTrial {
        time_zone: active.config.service.time_zone.iana_name().unwrap_or("UTC").to_owned(),
        name: name.clone(),
        condition: alert.when.to_string(),
        stretch: (stretch.start * MINUTE, until * MINUTE),
        requests,
        table: table(when, &found, until),
    })
}

/// When an alert that is not configured yet would have been raised.
#[utoipa::path(post, path = "/alerts/trial", params(TrialQuery), request_body = NewAlert,
    responses((status = 200, body = AlertTrial), (status = 409, body = Problem)))]
pub async fn try_new_alert(
    caller: Caller,
    Parameters(query): Parameters<TrialQuery>,
    Sent(new): Sent<NewAlert>,
) -> Result<Json<AlertTrial>, Failure> {
    let minutes = tried_minutes(&query)?;
    working(move |work| {
        let written = with_alert(&caller, &new)?;
        let changes = &caller.console().changes;
        let texts = HashMap::from([(PathBuf::from(&written.name), written.text)]);
        let config = match configuration::drafted(&changes.file, &texts) {
            Ok(config) => config,
            Err(Refused::Mistaken { found, .. }) => {
                let first = found.into_iter().find(Diagnostic::is_error);
                let words = first.map_or_else(String::new, |one| {
                    let remedy = one.remedy.map_or(String::new(), |remedy| format!("; {remedy}"));
                    format!("{}: {}{remedy}", one.message, one.reason)
                });
                return Err(Failure::Wrong(words));
            }
            Err(unreadable) => return Err(Failure::Conflict(unreadable.to_string())),
        };
        let alert = config.alerts.iter().rev().find(|alert| alert.name.value == new.name.trim());
        let alert = alert.ok_or(Failure::Internal)?;
        tried(&caller, alert, minutes, work)
    })
    .await
}

/// When alerts were raised, as it was found out at the time: the latest first.
#[utoipa::path(get, path = "/alert-history", params(HistoryQuery), responses((status = 200, body = Vec<PastAlert>)))]
pub async fn alert_history(
    caller: Caller,
    Parameters(query): Parameters<HistoryQuery>,
) -> Result<Json<Vec<PastAlert>>, Failure> {
    blocking(move || {
        if !caller.sees_all() {
            return Ok(Vec::new());
        }
        let all = caller.console().outbox.watching.history(query.alert.as_deref(), query.before, PAGE)?;
        let past = all.into_iter().map(|past| PastAlert {
            number: past.number,
            alert: past.alert,
            began: minute(past.stretch.began),
            ended: past.stretch.ended.map(minute),
            figure: past.stretch.figure,
            client: past.stretch.client,
        });
        Ok(past.collect())
    })
    .await
}

/// Nobody is told of an alert for a while.
#[utoipa::path(post, path = "/alerts/{name}/silence", params(("name" = String, Path)), request_body = NewSilence,
    responses((status = 200, body = AlertSilence), (status = 404, body = Problem)))]
pub async fn silence_alert(
    caller: Caller,
    Named(name): Named<String>,
    Sent(new): Sent<NewSilence>,
) -> Result<(Extension<ChangeDetail>, Json<AlertSilence>), Failure> {
    let time = units::seconds(&new.time).map(|time| time.as_secs());
    let Some(time) = time.filter(|time| (1..=LONGEST_SILENCE).contains(time)) else {
        let words = format!(
            "`{}` is no time for which an alert can be silent: write it as in `2 hours`, 90 days at most",
            new.time
        );
        return Err(Failure::Wrong(words));
    };
    let detail = format!("{name}: {}", new.time);
    let until = Timestamp::now().as_second() + time.cast_signed();
    let silence = Silence { until, by: caller.name(), reason: new.reason };
    let done = blocking(move || {
        let active = caller.console().site()?;
        let alert = named(&caller, &active, &name)?;
        match caller.console().outbox.watching.silence(&alert.name.value, Some(&silence))? {
            true => Ok(on_wire(&silence)),
            false => {
                Err(Failure::Conflict("it has not been looked at yet: ask again in a moment".to_owned()))
            }
        }
    });
    Ok((Extension(ChangeDetail(detail)), done.await?))
}

/// An alert is told of again.
#[utoipa::path(delete, path = "/alerts/{name}/silence", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn end_silence(
    caller: Caller,
    Named(name): Named<String>,
) -> Result<(Extension<ChangeDetail>, StatusCode), Failure> {
    let detail = ChangeDetail(name.clone());
    let done = blocking(move || {
        let active = caller.console().site()?;
        let alert = named(&caller, &active, &name)?;
        // It is over with this second; whoever watches ends it and tells of what is still raised.
        let watching = &caller.console().outbox.watching;
        let known = watching.alerts()?.into_iter().find(|known| known.name == alert.name.value);
        if let Some(silence) = known.and_then(|known| known.silence) {
            watching.silence(&alert.name.value, Some(&Silence { until: 1, ..silence }))?;
        }
        Ok(())
    });
    let Json(()) = done.await?;
    Ok((Extension(detail), StatusCode::NO_CONTENT))
}

/// Somebody has seen that an alert is raised.
#[utoipa::path(post, path = "/alerts/{name}/acknowledgement", params(("name" = String, Path)),
    responses((status = 200, body = ()), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn acknowledge_alert(
    caller: Caller,
    Named(name): Named<String>,
) -> Result<(Extension<ChangeDetail>, Json<()>), Failure> {
    let detail = ChangeDetail(name.clone());
    let done = blocking(move || {
        let active = caller.console().site()?;
        let alert = named(&caller, &active, &name)?;
        match caller.console().outbox.watching.see(&alert.name.value, &caller.name())? {
            true => Ok(()),
            false => Err(Failure::Conflict(format!("`{name}` is not raised"))),
        }
    });
    Ok((Extension(detail), done.await?))
}

/// The alert of a name.
fn named<'a>(caller: &Caller, active: &'a Active, name: &str) -> Result<&'a Alert, Failure> {
    let all = || active.config.alerts.iter().filter(|_| caller.sees_all());
    all().find(|alert| alert.name.value == name).ok_or_else(|| {
        let near = nearest(name, all().map(|alert| alert.name.value.as_str()));
        missing(name, &near.map_or(String::new(), |near| format!(": did you mean `{near}`?")))
    })
}

fn missing(name: &str, near: &str) -> Failure {
    Failure::Missing(format!("there is no alert `{name}`{near}"))
}

fn state(
    alert: &Alert,
    now: Timestamp,
    known: Option<&KnownAlert>,
    (evaluations, active): (&Evaluations, &Active),
    work: &Work,
) -> Result<AlertState, Failure> {
    let goes_on = || work.goes_on();
    let look = match (evaluations.minute(now.as_second()), alert.when.requests()) {
        (Some(until), Some(when)) => {
            Some(evaluations.look((alert, when), active, until, &for_a_call(&goes_on))?)
        }
        (None, Some(_)) => None,
        (_, None) => evaluations.present(&alert.name.value),
    };
    let episodes = look.as_ref().map_or(&[][..], |look| &look.episodes);
    let current = episodes.last().filter(|episode| episode.ended.is_none());
    let written = |filters: &Filters| filters.iter().map(ToString::to_string).collect();
    let silence = known.and_then(|known| known.silence.as_ref());
    Ok(AlertState {
        name: alert.name.value.clone(),
        condition: alert.when.to_string(),
        scope: written(&alert.scope),
        of: alert.when.requests().map(|when| written(&when.of)).unwrap_or_default(),
        raised_since: current.map(|episode| minute(episode.began)),
        figure: look
            .as_ref()
            .map_or_else(|| "not known yet".to_owned(), |look| alert.when.with_unit(look.reading.value)),
        times: episodes.len() as u64,
        client: look.as_ref().and_then(|look| look.reading.client.clone()),
        tell: alert.tell.iter().map(|name| name.value.clone()).collect(),
        seen_by: known.and_then(|known| known.seen_by.clone()).filter(|_| current.is_some()),
        silence: silence.filter(|silence| silence.until > now.as_second()).map(on_wire),
    })
}

fn on_wire(silence: &Silence) -> AlertSilence {
    AlertSilence {
        until: Timestamp::from_second(silence.until).unwrap_or_default().to_string(),
        by: silence.by.clone(),
        reason: silence.reason.clone(),
    }
}

/// A minute since 1970 UTC (RFC 3339).
fn minute(minute: i64) -> String {
    Timestamp::from_millisecond(minute * MINUTE).unwrap_or_default().to_string()
}

fn table(when: &Condition, found: &[Episode], until: i64) -> Table {
    let figure = match when.figure {
        Figure::Share | Figure::Duration(_) => TableColumn::text("worst", "worst"),
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
        let worst = match when.figure {
            Figure::Share | Figure::Duration(_) => Cell::from(when.figure.in_words(episode.worst)),
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
    if when.figure != Figure::OneClient {
        table.columns.pop();
        table.rows.iter_mut().for_each(|row| drop(row.pop()));
    }
    table
}
