//! Everything counted over one scope. Two surveys of one plan merge into one, in any order.
//!
//! ```
//! use exedra_reading::survey::Survey;
//! use exedra_reading::survey::counted::{Bucket, MissingKey};
//! let (mut one, mut other) = (Survey::default(), Survey::default());
//! one.total.add(2, 512);
//! other.total.add(5, 0);
//! one.merge(other);
//! assert_eq!((one.total.counts.requests, one.total.classes[5]), (2, 1));
//! assert_eq!(MissingKey::split(&MissingKey::join("/old", "https://a.example/")), Some(("/old", "https://a.example/")));
//! let mut bucket = Bucket::default();
//! bucket.merge(one.total);
//! assert_eq!(bucket, one.total);
//! ```

use super::durations::Durations;
use super::ranking::{Counts, Ranking};
use super::repeats::Repeats;
use super::visitors::Visitors;
use super::visitors_of_entries::ListedVisitors;
use super::visits::Visits;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Requests and bytes, with their answers by class.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Bucket {
    /// All of them.
    pub counts: Counts,
    /// Requests by the first digit of their status; index 0 holds those without one.
    pub classes: [u64; 6],
}

impl Bucket {
    /// Takes in one request.
    pub fn add(&mut self, class: usize, bytes: u64) {
        self.counts.add(bytes);
        self.classes[class] += 1;
    }

    /// Takes in another bucket.
    pub fn merge(&mut self, other: Bucket) {
        self.counts.merge(other.counts);
        self.classes.iter_mut().zip(other.classes).for_each(|(ours, theirs)| *ours += theirs);
    }
}

/// Answers in one content coding.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Encoded {
    /// All of them.
    pub counts: Counts,
    /// Bytes before compression, of those where that is known.
    pub before: u64,
    /// Bytes sent of the same.
    pub after: u64,
}

impl Encoded {
    /// Takes in another.
    pub fn merge(&mut self, other: Encoded) {
        self.counts.merge(other.counts);
        self.before = self.before.saturating_add(other.before);
        self.after = self.after.saturating_add(other.after);
    }
}

/// What some line says: where none does, a figure is not known, and not 0.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Said {
    /// How much was sent.
    pub bytes: bool,
    /// Who asked.
    pub clients: bool,
}

/// How many days without requests part a stray day from the others.
const FAR: i32 = 400;

/// How many content codings are told apart. There are a handful; whatever else a log says counts as one more.
const MOST_ENCODINGS: usize = 32;
/// What stands for those.
const OTHER_ENCODINGS: &str = "(others)";

/// Everything counted over one scope.
#[derive(Debug, Clone, Default)]
pub struct Survey {
    /// Everything together.
    pub total: Bucket,
    /// First and last instant, in milliseconds since 1970 UTC.
    pub span: Option<(i64, i64)>,
    /// By status; 0 stands for none.
    pub statuses: BTreeMap<u16, Counts>,
    /// By day, counted from 1970-01-01 in the plan's zone.
    pub days: BTreeMap<i32, Bucket>,
    /// Those of which nobody knows when they were.
    pub undated: Bucket,
    /// By weekday (Monday first) and hour of the day, in the plan's zone.
    pub week: [[Counts; 24]; 7],
    /// Requests of people by the same, where agents are looked at.
    pub people: [[u64; 24]; 7],
    /// Requests of people, and of programs, where agents are looked at and lines name any.
    pub by_people: Counts,
    /// See [`Survey::by_people`].
    pub by_programs: Counts,
    /// What lines say at all.
    pub said: Said,
    /// By bucket of the plan's step, keyed by its first millisecond.
    pub timeline: BTreeMap<i64, Bucket>,
    /// By path.
    pub paths: Ranking,
    /// By client.
    pub clients: Ranking,
    /// By signed-in name.
    pub users: Ranking,
    /// By agent.
    pub agents: Ranking,
    /// By the page that linked here.
    pub referrers: Ranking,
    /// By host that was asked for.
    pub hosts: Ranking,
    /// By method.
    pub methods: Ranking,
    /// By protocol.
    pub protocols: Ranking,
    /// By query.
    pub queries: Ranking,
    /// Requests answered 4xx or 5xx, by status and path (see [`StatusKey`]).
    pub failing_paths: Ranking,
    /// The same by status and client.
    pub failing_clients: Ranking,
    /// Text that was sent as it is, by path.
    pub uncompressed: Ranking,
    /// What the same clients were sent in full again.
    pub repeats: Repeats,
    /// What pages of each host load from here: requests for anything but pages, by the host of the referrer.
    pub embeds: Ranking,
    /// Those of them that are style sheets and scripts: they tell which hosts are one's own.
    pub styles: Ranking,
    /// By content coding.
    pub encodings: BTreeMap<Box<str>, Encoded>,
    /// How long answers took.
    pub durations: Durations,
    /// What visitors did without a long gap.
    pub visits: Visits,
    /// Requests answered 404, by path and referrer (see [`MissingKey`]).
    pub missing: Ranking,
    /// Those of them that looked for a way in, by path: programs, and paths that only they try.
    pub probes: Ranking,
    /// Those of them that known crawlers asked for, by path.
    pub crawled: Ranking,
    /// Paths that only such programs try, by how often they were answered after all: who asks for these may have reason to.
    pub answered: Ranking,
    /// Distinct clients and agents of each day.
    pub visitors: Visitors,
    /// Which visitors have to do with which texts, where lists are ranked by visitors.
    pub listed: ListedVisitors,
    /// The same lists with microseconds in place of bytes, where they are ranked by time.
    pub times: Option<Box<Survey>>,
    /// The first day and the last of which only a tally is known: see [`DayTally`](super::day_tally::DayTally).
    pub tallied: Option<(i32, i32)>,
    /// By source, in their order, where requests come from several.
    pub sources: Vec<Counts>,
}

impl Survey {
    /// Adds to what came from the source at a place.
    pub fn add_to_source(&mut self, place: usize, counts: Counts) {
        if self.sources.len() <= place {
            self.sources.resize(place + 1, Counts::default());
        }
        self.sources[place].merge(counts);
    }

    /// Takes in another survey of the same plan.
    pub fn merge(&mut self, other: Survey) {
        self.merge_figures(&other);
        self.paths.merge(other.paths);
        self.clients.merge(other.clients);
        self.users.merge(other.users);
        self.agents.merge(other.agents);
        self.referrers.merge(other.referrers);
        self.hosts.merge(other.hosts);
        self.methods.merge(other.methods);
        self.protocols.merge(other.protocols);
        self.queries.merge(other.queries);
        self.failing_paths.merge(other.failing_paths);
        self.failing_clients.merge(other.failing_clients);
        self.uncompressed.merge(other.uncompressed);
        self.repeats.merge(other.repeats);
        self.embeds.merge(other.embeds);
        self.styles.merge(other.styles);
        self.durations.merge(other.durations);
        self.visits.merge(other.visits);
        self.missing.merge(other.missing);
        self.probes.merge(other.probes);
        self.crawled.merge(other.crawled);
        self.answered.merge(other.answered);
        self.visitors.merge(other.visitors);
        self.listed.merge(other.listed);
        if let Some(times) = other.times {
            self.times.get_or_insert_default().merge(*times);
        }
    }

    /// Takes in what is small of another survey.
    pub(super) fn merge_figures(&mut self, other: &Survey) {
        self.total.merge(other.total);
        self.span = match (self.span, other.span) {
            (Some(ours), Some(theirs)) => Some((ours.0.min(theirs.0), ours.1.max(theirs.1))),
            (ours, theirs) => ours.or(theirs),
        };
        let statuses = other.statuses.iter();
        statuses.for_each(|(key, counts)| self.statuses.entry(*key).or_default().merge(*counts));
        other.days.iter().for_each(|(key, bucket)| self.days.entry(*key).or_default().merge(*bucket));
        self.undated.merge(other.undated);
        self.tallied = match (self.tallied, other.tallied) {
            (Some(ours), Some(theirs)) => Some((ours.0.min(theirs.0), ours.1.max(theirs.1))),
            (ours, theirs) => ours.or(theirs),
        };
        let week = self.week.iter_mut().flatten().zip(other.week.iter().flatten());
        week.for_each(|(ours, theirs)| ours.merge(*theirs));
        let people = self.people.iter_mut().flatten().zip(other.people.iter().flatten());
        people.for_each(|(ours, theirs)| *ours = ours.saturating_add(*theirs));
        self.by_people.merge(other.by_people);
        self.by_programs.merge(other.by_programs);
        self.said.bytes |= other.said.bytes;
        self.said.clients |= other.said.clients;
        let timeline = other.timeline.iter();
        timeline.for_each(|(key, bucket)| self.timeline.entry(*key).or_default().merge(*bucket));
        self.sources.resize(self.sources.len().max(other.sources.len()), Counts::default());
        self.sources.iter_mut().zip(&other.sources).for_each(|(ours, theirs)| ours.merge(*theirs));
        other.encodings.iter().for_each(|(name, encoded)| self.add_encoded(name, *encoded));
    }

    /// Takes in answers in one content coding.
    pub fn add_encoded(&mut self, name: &str, encoded: Encoded) {
        let is_known = self.encodings.contains_key(name) || self.encodings.len() < MOST_ENCODINGS;
        let name = if is_known { name } else { OTHER_ENCODINGS };
        self.encodings.entry(name.into()).or_default().merge(encoded);
    }

    /// Days that lie far from where nearly all requests are: of a clock that was wrong, of a line that is none. They are counted, but
    /// no chart should reach from them to the rest. Days are far where more than [`FAR`] without a request lie between, and few where
    /// they hold less than one request in a hundred.
    pub fn stray_days(&self) -> Vec<i32> {
        let days: Vec<(i32, u64)> =
            self.days.iter().map(|(day, bucket)| (*day, bucket.counts.requests)).collect();
        let all: u64 = days.iter().map(|(_, requests)| requests).sum();
        let groups = days.chunk_by(|one, next| next.0 - one.0 <= FAR);
        let few = groups.filter(|group| group.iter().map(|(_, requests)| requests).sum::<u64>() * 100 < all);
        few.flatten().map(|(day, _)| *day).collect()
    }

    /// By hour of the day, whatever the weekday.
    pub fn hours(&self) -> [Counts; 24] {
        let mut hours = [Counts::default(); 24];
        for day in &self.week {
            hours.iter_mut().zip(day).for_each(|(hour, counts)| hour.merge(*counts));
        }
        hours
    }
}

/// A missing path and the page that led there, as one text: how long the path is, the path, the page. Neither can be
/// taken for the other, whatever strangers put into them.
pub struct MissingKey;

impl MissingKey {
    /// The text for a path and a referrer (empty when there was none).
    pub fn join(path: &str, referrer: &str) -> String {
        format!("{}:{path}{referrer}", path.len())
    }

    /// The path and the referrer of such a text.
    pub fn split(key: &str) -> Option<(&str, &str)> {
        let (length, rest) = key.split_once(':')?;
        rest.split_at_checked(length.parse().ok()?)
    }
}

/// A status and what it was the answer to, as one text.
pub struct StatusKey;

impl StatusKey {
    /// The text for a status and another text.
    pub fn join(status: u16, text: &str) -> String {
        format!("{status} {text}")
    }

    /// The status and the other text.
    pub fn split(key: &str) -> Option<(u16, &str)> {
        let (status, text) = key.split_once(' ')?;
        Some((status.parse().ok()?, text))
    }
}
