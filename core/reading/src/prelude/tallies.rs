//! What was there in the windows around bursts: during, before, and at the same time on other days.

use super::minutes::Burst;
use super::{BEFORE, MINUTE, Trouble};
use crate::classify::paths::{self, Kind};
use crate::classify::{agents, referrers};
use crate::logs::mask::network;
use crate::survey::ranking::{Counts, Ranking};
use exedra_common::{Column, Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use utoipa::ToSchema;

/// How many days before and after are the usual.
const DAYS: i64 = 14;

/// What requests are told apart by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Trait {
    /// The path.
    Path,
    /// The client.
    Client,
    /// The network of the client.
    Network,
    /// The browser or program that the agent names.
    Agent,
    /// The host of the page that linked there.
    ReferrerHost,
}

impl Trait {
    /// All of them.
    pub const ALL: [Trait; 5] =
        [Trait::Path, Trait::Client, Trait::Network, Trait::Agent, Trait::ReferrerHost];
}

/// Where a minute lies, seen from a burst.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Window {
    /// In it.
    During,
    /// Shortly before it.
    Before,
    /// At its time on another day.
    UsuallyDuring,
    /// Shortly before its time on another day.
    UsuallyBefore,
}

/// The requests of one window.
#[derive(Debug, Clone, Default)]
pub struct Tally {
    /// How many.
    pub requests: u64,
    by: [Ranking; Trait::ALL.len()],
}

impl Tally {
    /// Those with one value.
    pub fn of(&self, is: Trait, value: &str) -> u64 {
        self.by[is as usize].of(value).requests
    }

    /// All values, with how often they came.
    pub fn values(&self, is: Trait) -> impl Iterator<Item = (&str, u64)> {
        self.by[is as usize].entries().map(|(value, counts)| (value, counts.requests))
    }

    fn merge(&mut self, other: Tally) {
        self.requests += other.requests;
        self.by.iter_mut().zip(other.by).for_each(|(ours, theirs)| ours.merge(theirs));
    }
}

/// What was there around one burst.
#[derive(Debug, Clone, Default)]
pub struct Around {
    /// By [`Window`].
    pub windows: [Tally; 4],
    /// The troubled requests in the burst.
    pub troubled: Tally,
    /// How many other times were looked at for what is usual.
    pub days: u64,
    /// How many times the burst came that its figures are of.
    pub times: u64,
}

/// What was there around all bursts.
#[derive(Debug, Clone)]
pub struct Tallies {
    trouble: Trouble,
    own_hosts: HashSet<String>,
    /// For each minute the windows that it lies in.
    places: Arc<HashMap<i64, Vec<(usize, Window)>>>,
    /// By burst.
    pub around: Vec<Around>,
    /// The traits of agents, which take their time to find.
    named: HashMap<String, String>,
}

/// How many agents are remembered.
const MOST_AGENTS: usize = 10_000;

impl Tallies {
    /// The columns that they look at.
    pub fn projection() -> Projection {
        let texts = [TextColumn::Client, TextColumn::Path, TextColumn::Referrer, TextColumn::Agent];
        let numbers = [NumberColumn::Status, NumberColumn::Duration].map(Column::Number).into_iter();
        numbers.chain(texts.map(Column::Text)).collect()
    }

    /// Ready to count around bursts, in a log that spans these minutes. Links from hosts of one's own say nothing.
    pub fn new(
        bursts: &[Burst],
        trouble: Trouble,
        span: (i64, i64),
        zone: &TimeZone,
        own_hosts: &[String],
    ) -> Self {
        let mut places: HashMap<i64, Vec<(usize, Window)>> = HashMap::new();
        let mut around = vec![Around::default(); bursts.len()];
        for (place, burst) in bursts.iter().enumerate() {
            let mut put = |from: i64, until: i64, window| {
                (from..until).for_each(|minute| places.entry(minute).or_default().push((place, window)));
            };
            let length = burst.until - burst.from;
            for start in &burst.starts {
                put(*start, start + length, Window::During);
                put(start - BEFORE, *start, Window::Before);
            }
            around[place].times = burst.starts.len() as u64;
            let usual: Vec<i64> = match burst.daily {
                // Other days are no better: what is usual is an hour before and after.
                true => burst.starts.iter().flat_map(|start| [start - 60, start + 60]).collect(),
                false => {
                    let days = (-DAYS..=DAYS).filter(|days| *days != 0);
                    days.filter_map(|days| shifted(burst.from, days, zone)).collect()
                }
            };
            for from in usual {
                // Only what is wholly in the log, and no part of the burst itself.
                let (first, after) = (from - BEFORE, from + length);
                let is_apart =
                    burst.starts.iter().all(|start| after <= start - BEFORE || first >= start + length);
                if first >= span.0 && after <= span.1 + 1 && is_apart {
                    put(from, after, Window::UsuallyDuring);
                    put(first, from, Window::UsuallyBefore);
                    around[place].days += 1;
                }
            }
        }
        let own_hosts = own_hosts.iter().cloned().collect();
        Tallies { trouble, own_hosts, places: Arc::new(places), around, named: HashMap::new() }
    }

    /// Counts a request, where it is in any window.
    pub fn add(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries) {
        let places = Arc::clone(&self.places);
        let Some(places) = places.get(&batch.time[row].div_euclid(MINUTE)) else { return };
        let text = |column| batch.code(column, row).map(|code| texts.of(column).text(code));
        let agent = text(TextColumn::Agent).map(|agent| self.name_of(agent));
        let client = text(TextColumn::Client);
        let network = client.and_then(network);
        let path = text(TextColumn::Path);
        let is_troubled = self.trouble != Trouble::Any && self.trouble.is(batch, row);
        // What a page loads follows from the page.
        let follows = path.is_some_and(|path| paths::kind(path) == Kind::Asset) && !is_troubled;
        let host = text(TextColumn::Referrer).filter(|_| !follows).and_then(referrers::host);
        let host = host.filter(|host| !self.own_hosts.contains(host));
        let values =
            [path.filter(|_| !follows), client, network.as_deref(), agent.as_deref(), host.as_deref()];
        let one = Counts { requests: 1, bytes: 0 };
        for (burst, window) in places {
            let around = &mut self.around[*burst];
            let is_troubled = *window == Window::During && self.trouble.is(batch, row);
            let tallies =
                [Some(&mut around.windows[*window as usize]), is_troubled.then_some(&mut around.troubled)];
            for tally in tallies.into_iter().flatten() {
                tally.requests += 1;
                for (ranking, value) in tally.by.iter_mut().zip(values) {
                    value.into_iter().for_each(|value| ranking.add(value, one));
                }
            }
        }
    }

    /// Takes in what another thread counted.
    pub fn merge(&mut self, other: Tallies) {
        for (ours, theirs) in self.around.iter_mut().zip(other.around) {
            ours.windows.iter_mut().zip(theirs.windows).for_each(|(ours, theirs)| ours.merge(theirs));
            ours.troubled.merge(theirs.troubled);
        }
    }

    fn name_of(&mut self, agent: &str) -> String {
        if let Some(known) = self.named.get(agent) {
            return known.clone();
        }
        let read = agents::read(agent);
        let name = read.crawler.clone().or_else(|| read.browser.clone()).unwrap_or_else(|| agent.to_owned());
        if self.named.len() >= MOST_AGENTS {
            self.named.clear();
        }
        self.named.insert(agent.to_owned(), name.clone());
        name
    }
}

/// The same minute by the clock, some days on.
fn shifted(minute: i64, days: i64, zone: &TimeZone) -> Option<i64> {
    let at = Timestamp::from_millisecond(minute * MINUTE).ok()?.to_zoned(zone.clone());
    Some(at.checked_add(days.days()).ok()?.timestamp().as_millisecond().div_euclid(MINUTE))
}
