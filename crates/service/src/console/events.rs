//! What happens, as server-sent events (WHATWG HTML §9.2): figures every second, new requests, configurations that come into force.
//!
//! A stream ends with the session or token that it was asked for by, and with the service; there are so many at a time.

use super::caller::{Caller, Console};
use super::counting::for_a_call;
use super::failure::Failure;
use super::query::{EventsQuery, ScopeQuery, Scoped};
use super::reading::{About, PickSink};
use super::sign_in;
use crate::active::Active;
use axum::http::HeaderMap;
use axum::response::Sse;
use axum::response::sse::Event;
use exedra_api::events::{ConfigurationEvent, NowEvent};
use exedra_common::Column;
use exedra_common::scope::Scope;
use exedra_common::tables::Table;
use exedra_reading::classify::Classifier;
use exedra_reading::requests::{Picker, RequestColumns};
use exedra_store::records::{Counting, Scan};
use futures_util::Stream;
use serde::Serialize;
use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, watch};
use tokio::time::{Interval, MissedTickBehavior, interval};

/// How often it is looked for what has happened.
const EVERY: Duration = Duration::from_secs(1);
/// After how many looks it is asked whether whoever listens still may.
const LOOKS_UNTIL_ASKED: u32 = 15;
/// How many listen at a time.
const MOST: usize = 16;
/// The most requests of one event, and the most with all their columns; what came more is counted.
const MOST_REQUESTS: usize = 5_000;
const MOST_WHOLE_REQUESTS: usize = 200;
static PLACES: std::sync::LazyLock<Arc<Semaphore>> =
    std::sync::LazyLock::new(|| Arc::new(Semaphore::new(MOST)));

/// Whoever listens, and what they have been told.
struct Listener {
    caller: Caller,
    headers: HeaderMap,
    wanted: Arc<Wanted>,
    ticks: Interval,
    looks: u32,
    /// The last requests that they have been told of.
    told: u64,
    in_force: Option<Arc<Active>>,
    waiting: Vec<Event>,
    stop: watch::Receiver<bool>,
    _place: OwnedSemaphorePermit,
}

/// Which requests they are told of, and what of each.
struct Wanted {
    scope: Scope,
    listed: RequestColumns,
    most: usize,
}

/// What happens, while it does. Each event about requests has an identity: whoever sends the last one they had as `Last-Event-ID` is told
/// of what came since.
#[utoipa::path(get, path = "/events", params(ScopeQuery, EventsQuery),
    responses((status = 200, body = NowEvent, content_type = "text/event-stream",
        description = "`now` (NowEvent) every second, `requests` (a table) as they come in, `configuration` (ConfigurationEvent) as one comes into force")))]
pub async fn events(
    caller: Caller,
    headers: HeaderMap,
    Scoped(about, query): Scoped<EventsQuery>,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, Failure> {
    let about = About::understand(&caller, about)?;
    let columns: Vec<&str> = query.columns.iter().flat_map(|names| names.split(',')).collect();
    let (columns, most) = match columns.is_empty() {
        true => (Column::all().map(Column::name).collect(), MOST_WHOLE_REQUESTS),
        false => (columns, MOST_REQUESTS),
    };
    let listed = RequestColumns::understand(&columns, about.classifier(), query.mask)?;
    let now = caller.recent(u64::MAX, &about.scope).0.arrivals;
    let told = headers.get("last-event-id").and_then(|id| id.to_str().ok());
    let told = told.map_or(now, |id| known(id, caller.console(), now));
    let (scope, active) = (about.scope, about.active);
    let place = Arc::clone(&PLACES).try_acquire_owned();
    let place =
        place.map_err(|_| Failure::Busy(format!("{MOST} event streams are open, which is the limit")))?;
    let mut ticks = interval(EVERY);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let listener = Listener {
        told,
        stop: caller.console().runtime.stop.subscribe(),
        in_force: Some(active),
        caller,
        headers,
        wanted: Arc::new(Wanted { scope, listed, most }),
        ticks,
        looks: 0,
        waiting: Vec::new(),
        _place: place,
    };
    let all = futures_util::stream::unfold(listener, |mut listener| async {
        let event = listener.next().await?;
        Some((Ok(event), listener))
    });
    Ok(Sse::new(all))
}

impl Listener {
    /// The next event; nothing when there will be none.
    async fn next(&mut self) -> Option<Event> {
        loop {
            if let Some(event) = self.waiting.pop() {
                return Some(event);
            }
            tokio::select! {
                _ = self.ticks.tick() => {}
                _ = self.stop.wait_for(|stop| *stop) => return None,
            }
            self.looks += 1;
            if self.looks.is_multiple_of(LOOKS_UNTIL_ASKED) {
                let known = sign_in::known(self.caller.console(), &self.headers).await;
                // Where the database cannot be asked, nothing is known against them.
                if matches!(known, Ok(None)) {
                    return None;
                }
            }
            self.look().await;
        }
    }

    /// What has happened since the last look; the last event is told first.
    async fn look(&mut self) {
        let console = self.caller.console();
        let (answered, sent) = console.runtime.counters.sum();
        let now = NowEvent {
            time: jiff::Timestamp::now().as_millisecond(),
            answered,
            sent,
            connections: console.runtime.connections(),
        };
        let Ok(active) = console.site() else { return };
        let (caller, wanted, since) = (self.caller.clone(), Arc::clone(&self.wanted), self.told);
        let of = Arc::clone(&active);
        let found = tokio::task::spawn_blocking(move || requests(&caller, &wanted, since, &of)).await;
        if let Ok(Ok((table, told))) = found {
            self.told = told;
            if !table.rows.is_empty() {
                let event =
                    event("requests", &table).map(|event| event.id(identity(self.caller.console(), told)));
                self.waiting.extend(event);
            }
        }
        if !self.in_force.as_ref().is_some_and(|before| Arc::ptr_eq(before, &active)) {
            let sites = active.config.sites.iter().map(|site| site.name.value.clone());
            let sites = sites.filter(|site| self.caller.grant().sees(site)).collect();
            self.waiting.extend(event("configuration", &ConfigurationEvent { time: now.time, sites }));
            self.in_force = Some(active);
        }
        self.waiting.extend(event("now", &now));
    }
}

/// By what a listener says how far they were told: when the service was started, and how many parts had come since.
pub(super) fn identity(console: &Console, arrivals: u64) -> String {
    format!("{}-{arrivals}", console.started.as_millisecond())
}

/// How many parts a listener knows who had this identity last: none of them where it is of before the service was started, and all
/// that have come by `now` where it is none of ours.
fn known(id: &str, console: &Console, now: u64) -> u64 {
    match id.split_once('-').map(|(started, arrivals)| (started.parse::<i64>(), arrivals.parse::<u64>())) {
        Some((Ok(started), Ok(arrivals))) if started == console.started.as_millisecond() => arrivals.min(now),
        Some((Ok(_), Ok(_))) => 0,
        _ => now,
    }
}

/// Requests of the scope that came since a part, and how many parts have come.
fn requests(caller: &Caller, wanted: &Wanted, since: u64, active: &Active) -> Result<(Table, u64), Failure> {
    let (recent, records) = caller.recent(since, &wanted.scope);
    let derive = Arc::new(Classifier { countries: active.countries.clone() });
    let projection = wanted.listed.projection(Column::Time);
    let scan = Scan { scope: &wanted.scope, projection, derive };
    let goes_on = || Ok(());
    let counting = Counting { most_threads: 1, ..for_a_call(&goes_on) };
    let begin = || PickSink { picker: Picker::new(wanted.listed.clone(), Column::Time, wanted.most) };
    let (shares, ..) = records.scan(&recent.seen, &scan, &counting, begin)?;
    let mut picked = begin().picker.finish();
    shares.into_iter().for_each(|share| picked.merge(share.picker.finish()));
    let (mut table, fitting) = picked.into_table();
    table.rest.rows = fitting - table.rows.len() as u64;
    if !recent.are_all {
        table.unknown.push("requests before these came faster than they could be told".to_owned());
    }
    Ok((table, recent.arrivals))
}

fn event(name: &str, data: &impl Serialize) -> Option<Event> {
    Event::default().event(name).json_data(data).ok()
}
