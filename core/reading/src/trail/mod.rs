//! What one client did, in order: visits, and in each the steps, with their pace.
//!
//! Requests that say the same again and again become one step with a count and a pace, so that whoever fetches one page
//! every second is seen at once. [`Keeper`] gathers requests as they are read, in any order, on any thread; [`Trail`] is what
//! follows from them.
//!
//! ```
//! use exedra_common::{Dictionaries, RequestBatch};
//! use exedra_reading::logs::{Layout, LineReader};
//! use exedra_reading::trail::{Keeper, Place, Trail};
//! let line = |second: u32| {
//!     format!("192.0.2.1 - - [14/Nov/2026:05:12:{second:02} +0000] \"GET /tides HTTP/1.1\" 200 512\n")
//! };
//! let log: String = (0..12).map(line).collect();
//! let mut reader = LineReader::new(&Layout::all_named(), exedra_common::Projection::everything());
//! let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
//! reader.read_block(log.as_bytes(), 0, &mut 0, &mut batch, &mut texts);
//! let mut keeper = Keeper::default();
//! for row in 0..batch.rows() {
//!     keeper.add(&batch, row, &texts, Place { source: 0, block: 0, line: row as u64, row: row as u32 });
//! }
//! let trail = Trail::of(keeper);
//! assert_eq!((trail.requests, trail.visits.len(), trail.visits[0].steps.len()), (12, 1, 1));
//! assert_eq!(trail.visits[0].steps[0].count, 12);
//! ```

mod keeper;

use crate::classify::agents;
use crate::classify::paths::{self, Kind};
use crate::survey::visits::LONGEST_GAP;
pub use keeper::{Keeper, Place};
use keeper::{Kept, Row};
use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::collections::HashMap;
use utoipa::ToSchema;

/// A request that came at least so often is a repeat worth a line of its own.
const OFTEN: u64 = 10;
/// How many of those are told.
const MOST_REPEATS: usize = 10;

/// What a client did, with whose trail it is.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ClientTrail {
    /// The client, as it was asked for.
    pub client: String,
    /// Name of the zone in which people are told times.
    pub time_zone: String,
    /// Where its address is from (ISO 3166-1), where that is known.
    pub country: Option<String>,
    /// What it did.
    #[serde(flatten)]
    pub trail: Trail,
}

/// What a client did.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Trail {
    /// Requests.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
    /// Requests answered 4xx or 5xx.
    pub errors: u64,
    /// Requests that came when there were too many to keep; they are in no visit.
    pub unkept: u64,
    /// What the client calls itself, the most frequent first.
    pub agents: Vec<TrailAgent>,
    /// Requests that came again and again, the most frequent first.
    pub repeats: Vec<Repeat>,
    /// Visits in order.
    pub visits: Vec<TrailVisit>,
    /// Earlier visits, which are left out.
    #[serde(default)]
    pub earlier_visits: u64,
}

/// What a client calls itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TrailAgent {
    /// The agent; empty when it says nothing.
    pub agent: String,
    /// The program or browser that it names.
    pub name: Option<String>,
    /// Requests.
    pub requests: u64,
}

/// A request that came again and again.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Repeat {
    /// Method and target.
    pub request: String,
    /// How often.
    pub requests: u64,
    /// How many came a minute, over the time they took within visits; nothing where they took none.
    pub per_minute: Option<f64>,
}

/// Requests with no gap over half an hour.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TrailVisit {
    /// First request, in milliseconds since 1970 UTC; written by RFC 3339.
    #[serde(serialize_with = "stamp", deserialize_with = "of_stamp")]
    #[schema(value_type = String)]
    pub first: i64,
    /// Last request.
    #[serde(serialize_with = "stamp", deserialize_with = "of_stamp")]
    #[schema(value_type = String)]
    pub last: i64,
    /// Requests.
    pub requests: u64,
    /// Pages that were seen.
    pub pages: u64,
    /// Body bytes sent.
    pub bytes: u64,
    /// Requests a minute, where it took any time.
    pub per_minute: Option<f64>,
    /// What happened, in order.
    pub steps: Vec<Step>,
    /// Further steps, which are left out.
    #[serde(default)]
    pub further_steps: u64,
}

/// A request, or several that say the same one after another.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = TrailStep)]
pub struct Step {
    /// When the first came, in milliseconds since 1970 UTC; written by RFC 3339.
    #[serde(serialize_with = "stamp", deserialize_with = "of_stamp")]
    #[schema(value_type = String)]
    pub time: i64,
    /// Seconds since the request before, within the visit.
    pub after_s: Option<f64>,
    /// The method.
    pub method: String,
    /// Path and query.
    pub target: String,
    /// The status; 0 where the source says none.
    pub status: u16,
    /// Body bytes of all.
    pub bytes: u64,
    /// How long the answer took, in milliseconds; of several the longest.
    pub duration_ms: Option<f64>,
    /// The page that linked there.
    pub referrer: Option<String>,
    /// How many say the same.
    pub count: u64,
    /// How many came a minute, over the time they took; nothing where they took none.
    pub per_minute: Option<f64>,
}

fn stamp<S: Serializer>(time: &i64, out: S) -> Result<S::Ok, S::Error> {
    out.collect_str(&jiff::Timestamp::from_millisecond(*time).unwrap_or_default())
}

fn of_stamp<'d, D: Deserializer<'d>>(from: D) -> Result<i64, D::Error> {
    let text = String::deserialize(from)?;
    text.parse::<jiff::Timestamp>().map(jiff::Timestamp::as_millisecond).map_err(D::Error::custom)
}

impl Trail {
    /// The last visits of it, and the first steps of each: what is left out is counted.
    #[must_use]
    pub fn cut(mut self, visits: usize, steps: usize) -> Trail {
        let earlier = self.visits.len().saturating_sub(visits);
        self.visits.drain(..earlier);
        self.earlier_visits += earlier as u64;
        for visit in &mut self.visits {
            visit.further_steps += visit.steps.len().saturating_sub(steps) as u64;
            visit.steps.truncate(steps);
        }
        self
    }

    /// The first instant that is known of, and the last, in milliseconds since 1970 UTC.
    pub fn span(&self) -> Option<(i64, i64)> {
        Some((self.visits.first()?.first, self.visits.last()?.last))
    }

    /// The trail of everything that was kept.
    pub fn of(keeper: Keeper) -> Trail {
        let mut kept = keeper.into_kept();
        kept.rows.sort_unstable_by_key(|row| (row.time, row.place));
        let mut trail = Trail {
            requests: kept.rows.len() as u64 + kept.unkept,
            unkept: kept.unkept,
            bytes: kept.rows.iter().map(|row| row.bytes).sum::<u64>() + kept.unkept_bytes,
            errors: kept.rows.iter().filter(|row| row.status >= 400).count() as u64,
            agents: agents_of(&kept),
            repeats: repeats(&kept),
            visits: Vec::new(),
            earlier_visits: 0,
        };
        for visit in kept.rows.chunk_by(|a, b| b.time - a.time <= LONGEST_GAP) {
            trail.visits.push(visit_of(&kept, visit));
        }
        trail
    }
}

fn agents_of(kept: &Kept) -> Vec<TrailAgent> {
    let mut counts: HashMap<u32, u64> = HashMap::new();
    kept.rows.iter().for_each(|row| *counts.entry(row.agent).or_default() += 1);
    let mut all: Vec<TrailAgent> = counts
        .into_iter()
        .map(|(code, requests)| {
            let agent = kept.text(code).unwrap_or_default().to_owned();
            let read = agents::read(&agent);
            let name = if agent.is_empty() { None } else { read.crawler.clone().or(read.browser.clone()) };
            TrailAgent { agent, name, requests }
        })
        .collect();
    all.sort_by(|a, b| b.requests.cmp(&a.requests).then_with(|| a.agent.cmp(&b.agent)));
    all
}

fn repeats(kept: &Kept) -> Vec<Repeat> {
    let mut times: HashMap<(u32, u32), Vec<i64>> = HashMap::new();
    kept.rows.iter().for_each(|row| times.entry((row.method, row.target)).or_default().push(row.time));
    let mut all: Vec<Repeat> = times
        .into_iter()
        .filter(|(_, times)| times.len() as u64 >= OFTEN)
        .map(|((method, target), times)| Repeat {
            request: kept.words(method, target),
            requests: times.len() as u64,
            per_minute: pace(times.iter().copied()),
        })
        .collect();
    all.sort_by(|a, b| b.requests.cmp(&a.requests).then_with(|| a.request.cmp(&b.request)));
    all.truncate(MOST_REPEATS);
    all
}

fn visit_of(kept: &Kept, rows: &[Row]) -> TrailVisit {
    let (first, last) = (rows[0].time, rows[rows.len() - 1].time);
    let is_page = |row: &&Row| {
        let target = kept.text(row.target).unwrap_or_default();
        let path = target.split('?').next().unwrap_or(target);
        matches!(row.status, 200..=299 | 304) && paths::kind(path) == Kind::Page
    };
    let minutes = (last - first) as f64 / 60_000.0;
    let mut steps = Vec::new();
    let mut before: Option<i64> = None;
    for same in rows.chunk_by(|a, b| a.says() == b.says()) {
        let head = same[0];
        let longest = same.iter().filter_map(|row| row.duration).max();
        steps.push(Step {
            time: head.time,
            after_s: before.map(|before| (head.time - before) as f64 / 1000.0),
            method: kept.text(head.method).unwrap_or_default().to_owned(),
            target: kept.text(head.target).unwrap_or_default().to_owned(),
            status: head.status,
            bytes: same.iter().map(|row| row.bytes).sum(),
            duration_ms: longest.map(|longest| longest as f64 / 1000.0),
            referrer: kept.text(head.referrer).map(str::to_owned),
            count: same.len() as u64,
            per_minute: pace(same.iter().map(|row| row.time)),
        });
        before = same.last().map(|row| row.time);
    }
    TrailVisit {
        first,
        last,
        requests: rows.len() as u64,
        pages: rows.iter().filter(is_page).count() as u64,
        bytes: rows.iter().map(|row| row.bytes).sum(),
        per_minute: (minutes > 0.0).then(|| rows.len() as f64 / minutes),
        steps,
        further_steps: 0,
    }
}

/// How many of instants in order came a minute: from one to the next counts as one, and the time between visits not at all.
fn pace(times: impl Iterator<Item = i64> + Clone) -> Option<f64> {
    let gaps = times.clone().zip(times.skip(1)).map(|(a, b)| b - a).filter(|gap| *gap <= LONGEST_GAP);
    let (count, time) = gaps.fold((0, 0), |(count, time), gap| (count + 1, time + gap));
    (time > 0).then(|| f64::from(count) * 60_000.0 / time as f64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::logs::{Layout, LineReader};
    use exedra_common::{Dictionaries, Projection, RequestBatch};

    /// Reads lines as if each were a block of its own, in the order given.
    fn keeper(lines: &[(u64, String)]) -> Keeper {
        let layouts = [Layout::understand("combined").unwrap()];
        let mut keeper = Keeper::default();
        let mut reader = LineReader::new(&layouts, Projection::everything());
        for (number, line) in lines {
            let (mut batch, mut texts) = (RequestBatch::default(), Dictionaries::default());
            reader.read_block(line.as_bytes(), *number, &mut 0, &mut batch, &mut texts);
            assert_eq!(batch.rows(), 1, "{line}");
            keeper.add(&batch, 0, &texts, Place { source: 0, block: *number, line: 0, row: 0 });
        }
        keeper
    }

    fn line(time: &str, target: &str, status: u16) -> String {
        format!(
            "192.0.2.7 - - [14/Sep/2026:{time} +0000] \"GET {target} HTTP/1.1\" {status} 100 \"-\" \"boat/1\"\n"
        )
    }

    fn lines() -> Vec<(u64, String)> {
        let mut lines = vec![line("08:00:00", "/", 200), line("08:00:05", "/tides.html?day=1", 200)];
        lines.extend((0..20).map(|second| line(&format!("08:01:{second:02}"), "/now.html", 200)));
        lines.push(line("08:01:20", "/now.html", 500));
        lines.push(line("09:00:00", "/", 304));
        (0..).zip(lines).collect()
    }

    #[test]
    fn a_pace_is_a_count_over_time() {
        // Two at once, and then nothing for a minute: no two seconds are like each other.
        let bursts = (0..10).flat_map(|minute| [minute * 60_000, minute * 60_000 + 10]);
        let told = pace(bursts).unwrap();
        assert!((told - 19.0 / (9.0 + 10.0 / 60_000.0)).abs() < 1e-9, "{told}");
        assert_eq!(pace([5, 5, 5].into_iter()), None, "all at once");
        let visits = [0, 1000, 2000, 10_000_000, 10_001_000];
        assert_eq!(pace(visits.into_iter()), Some(60.0), "what lies between visits is no pace");
    }

    #[test]
    fn visits_steps_and_pace() {
        let trail = Trail::of(keeper(&lines()));
        assert_eq!((trail.requests, trail.bytes, trail.errors), (24, 2400, 1));
        assert_eq!(trail.visits.iter().map(|visit| visit.requests).collect::<Vec<_>>(), [23, 1]);
        let steps = &trail.visits[0].steps;
        let told: Vec<(&str, u64, u16)> =
            steps.iter().map(|step| (&*step.target, step.count, step.status)).collect();
        let expected =
            [("/", 1, 200), ("/tides.html?day=1", 1, 200), ("/now.html", 20, 200), ("/now.html", 1, 500)];
        assert_eq!(told, expected);
        assert_eq!((steps[1].after_s, steps[2].per_minute, steps[2].bytes), (Some(5.0), Some(60.0), 2000));
        assert_eq!(trail.visits[0].pages, 22);
        assert_eq!(trail.repeats.len(), 1);
        assert_eq!((trail.repeats[0].request.as_str(), trail.repeats[0].requests), ("GET /now.html", 21));
        assert_eq!(trail.agents[0].name.as_deref(), Some("boat"));
    }

    #[test]
    fn threads_and_order_make_no_difference() {
        let lines = lines();
        let whole = Trail::of(keeper(&lines));
        let (even, odd): (Vec<_>, Vec<_>) = lines.into_iter().rev().partition(|(number, _)| number % 2 == 0);
        let mut merged = keeper(&odd);
        merged.merge(keeper(&even));
        assert_eq!(Trail::of(merged), whole);
    }
}
