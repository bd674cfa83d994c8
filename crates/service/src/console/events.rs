//! What happens, as server-sent events (WHATWG HTML §9.2): figures every second, new requests, configurations that come into force.
//!
//! A stream ends with the session or token that it was asked for by, and with the service; there are so many at a time.

use super::caller::Caller;
use super::failure::Failure;
use super::query::{Parameters, SitesQuery};
use super::sign_in;
use crate::active::Active;
use axum::http::HeaderMap;
use axum::response::Sse;
use axum::response::sse::Event;
use exedra_api::events::{ConfigurationEvent, NowEvent};
use exedra_common::Column;
use exedra_common::tables::Table;
use exedra_reading::classify::Classifier;
use exedra_store::records::Recent;
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
/// The most requests of one event; what came more is counted.
const MOST_REQUESTS: usize = 200;
static PLACES: std::sync::LazyLock<Arc<Semaphore>> =
    std::sync::LazyLock::new(|| Arc::new(Semaphore::new(MOST)));

/// Whoever listens, and what they have been told.
struct Listener {
    caller: Caller,
    headers: HeaderMap,
    sites: Vec<String>,
    ticks: Interval,
    looks: u32,
    /// The last requests that they have been told of.
    told: u64,
    in_force: Option<Arc<Active>>,
    waiting: Vec<Event>,
    stop: watch::Receiver<bool>,
    _place: OwnedSemaphorePermit,
}

/// What happens, while it does.
#[utoipa::path(get, path = "/events", params(SitesQuery),
    responses((status = 200, body = NowEvent, content_type = "text/event-stream",
        description = "`now` (NowEvent) every second, `requests` (a table) as they come in, `configuration` (ConfigurationEvent) as one comes into force")))]
pub async fn events(
    caller: Caller,
    headers: HeaderMap,
    Parameters(query): Parameters<SitesQuery>,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, Failure> {
    let active = caller.console().site()?;
    let sites = caller.sites(query.site, &active.config)?;
    let place = Arc::clone(&PLACES).try_acquire_owned();
    let place =
        place.map_err(|_| Failure::Busy(format!("{MOST} event streams are open, which is the limit")))?;
    let mut ticks = interval(EVERY);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let listener = Listener {
        told: caller.recent(u64::MAX).1,
        stop: caller.console().runtime.stop.subscribe(),
        in_force: Some(active),
        caller,
        headers,
        sites,
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
            self.look();
        }
    }

    /// What has happened since the last look; the last event is told first.
    fn look(&mut self) {
        let console = self.caller.console();
        let (answered, sent) = console.runtime.counters.sum();
        let now = NowEvent {
            time: jiff::Timestamp::now().as_millisecond(),
            answered,
            sent,
            connections: console.runtime.connections(),
        };
        let Ok(active) = console.site() else { return };
        let (recent, told) = self.caller.recent(self.told);
        self.told = told;
        let table = self.requests(&recent, &active);
        if !table.rows.is_empty() {
            self.waiting.extend(event("requests", &table));
        }
        if !self.in_force.as_ref().is_some_and(|before| Arc::ptr_eq(before, &active)) {
            let sites = active.config.sites.iter().map(|site| site.name.value.clone());
            let sites = sites.filter(|site| self.caller.grant().sees(site)).collect();
            self.waiting.extend(event("configuration", &ConfigurationEvent { time: now.time, sites }));
            self.in_force = Some(active);
        }
        self.waiting.extend(event("now", &now));
    }

    fn requests(&self, recent: &[Recent], active: &Active) -> Table {
        let mut table = Table::of_requests("requests", "", Column::all());
        let place = table.place("site");
        let classifier = Classifier { countries: active.countries.clone() };
        let is_meant = |site: &str| {
            (self.sites.is_empty() || self.sites.iter().any(|one| one == site))
                && self.caller.grant().sees(site)
        };
        let (mut left, mut more) = (MOST_REQUESTS, 0);
        for part in recent.iter().rev().filter(|part| is_meant(&part.site)) {
            let (batch, texts) = &*part.requests;
            more += batch.rows().saturating_sub(left) as u64;
            for row in batch.rows().saturating_sub(left)..batch.rows() {
                table.push_request(batch, row, texts, &classifier);
                if let (Some(cells), Some(place)) = (table.rows.last_mut(), place) {
                    cells[place] = (&*part.site).into();
                }
            }
            left = left.saturating_sub(batch.rows());
        }
        table.rest.rows = more;
        table
    }
}

fn event(name: &str, data: &impl Serialize) -> Option<Event> {
    Event::default().event(name).json_data(data).ok()
}
