//! What a condition looks at: requests by the minute, and those of the last so many minutes together.

use super::Reading;
use exedra_answering::config::alerts::{Condition, Figure};
use exedra_common::{Column, Dictionaries, Dictionary, NumberColumn, Projection, RequestBatch, TextColumn};
use foldhash::fast::RandomState;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::ops::Range;

/// A minute, in milliseconds.
const MINUTE: i64 = 60_000;

/// Requests by the minute, as far as a condition looks at them.
#[derive(Debug, Clone, Default)]
pub struct Counts {
    minutes: HashMap<i64, Minute, RandomState>,
    clients: Dictionary,
    /// Codes of ours by those of the dictionary that was seen last.
    translated: Vec<u32>,
    is_of_clients: bool,
    is_of_durations: bool,
    /// The first minute of which everything is known.
    known_from: i64,
}

#[derive(Debug, Clone, Default)]
struct Minute {
    requests: u64,
    fitting: u64,
    bytes: u64,
    /// Fitting ones by client.
    by_client: HashMap<u32, u64>,
    /// Fitting ones by how long they took.
    by_duration: BTreeMap<u16, u64>,
}

/// A week, in minutes; and how many of them tell what is usual, of which so many must be known.
pub const WEEK: i64 = 7 * 24 * 60;
const WEEKS: i64 = 4;
const FEWEST_WEEKS: usize = 2;

/// Into how many steps a doubling of durations is divided: they are told apart by about one per cent.
const STEPS: f64 = 64.0;

/// The step that a duration in microseconds belongs to, and the one in the middle of a step.
fn step(duration: u64) -> u16 {
    ((duration as f64 + 1.0).log2() * STEPS) as u16
}

fn middle(step: u16) -> f64 {
    ((f64::from(step) + 0.5) / STEPS).exp2() - 1.0
}

impl Counts {
    /// None yet.
    pub fn new(when: &Condition) -> Self {
        Counts {
            is_of_clients: when.figure == Figure::OneClient,
            is_of_durations: matches!(when.figure, Figure::Duration(_)),
            known_from: i64::MIN,
            ..Counts::default()
        }
    }

    /// Before a minute nothing is known: what was not counted there may have been all the same.
    #[must_use]
    pub fn known_from(self, minute: i64) -> Self {
        Counts { known_from: minute, ..self }
    }

    /// The stretches of minutes that have to be counted so that a condition can be followed through some: with those before that it looks
    /// at, and where it is about what is usual, the same of the weeks before.
    pub fn stretches(when: &Condition, minutes: Range<i64>) -> Vec<Range<i64>> {
        let weeks = if when.bound.is_of_usual() { WEEKS } else { 0 };
        let before = |week: i64| minutes.start - when.minutes - week * WEEK..minutes.end - week * WEEK;
        (0..=weeks).map(before).collect()
    }

    /// The columns that are looked at, beside those of filters.
    pub fn projection(when: &Condition) -> Projection {
        let columns: Projection = match when.figure {
            Figure::Share | Figure::Number => Projection::time(),
            Figure::Transfer => [NumberColumn::Bytes].into_iter().collect(),
            Figure::OneClient => [TextColumn::Client].into_iter().collect(),
            Figure::Duration(_) => [NumberColumn::Duration].into_iter().collect(),
        };
        let of_filters: Projection = when.of.iter().map(|filter| -> Column { filter.column }).collect();
        columns.with(of_filters)
    }

    /// Counts a request of the scope, and whether it fits the condition's own filter.
    pub fn add(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, fits: bool) {
        let minute = self.minutes.entry(batch.time[row].div_euclid(MINUTE)).or_default();
        minute.requests += 1;
        if !fits {
            return;
        }
        minute.fitting += 1;
        minute.bytes += batch.number(NumberColumn::Bytes, row).unwrap_or(0);
        if let Some(duration) = batch.number(NumberColumn::Duration, row).filter(|_| self.is_of_durations) {
            *minute.by_duration.entry(step(duration)).or_default() += 1;
        }
        if let Some(client) = batch.code(TextColumn::Client, row).filter(|_| self.is_of_clients) {
            let text = texts.of(TextColumn::Client).text(client);
            // The same code mostly means the same text as the last time, which is seen more quickly than found.
            let known =
                self.translated.get(client as usize).copied().filter(|code| self.clients.text(*code) == text);
            let code = known.unwrap_or_else(|| {
                let code = self.clients.code(text);
                if self.translated.len() <= client as usize {
                    // Any code that there is does: it is compared.
                    self.translated.resize(client as usize + 1, code);
                }
                self.translated[client as usize] = code;
                code
            });
            *minute.by_client.entry(code).or_default() += 1;
        }
    }

    /// Counts so many requests of a minute that fit.
    pub fn count(&mut self, minute: i64, requests: u64, bytes: u64) {
        let minute = self.minutes.entry(minute).or_default();
        minute.requests += requests;
        minute.fitting += requests;
        minute.bytes += bytes;
    }

    /// Adds what was counted elsewhere.
    pub fn merge(&mut self, other: Counts) {
        self.known_from = self.known_from.max(other.known_from);
        // Each text is looked up once.
        let codes: Vec<u32> = other.clients.texts().map(|text| self.clients.code(text)).collect();
        for (minute, theirs) in other.minutes {
            let ours = self.minutes.entry(minute).or_default();
            ours.requests += theirs.requests;
            ours.fitting += theirs.fitting;
            ours.bytes += theirs.bytes;
            for (code, count) in theirs.by_client {
                *ours.by_client.entry(codes[code as usize]).or_default() += count;
            }
            for (step, count) in theirs.by_duration {
                *ours.by_duration.entry(step).or_default() += count;
            }
        }
    }

    /// How many requests were counted.
    pub fn requests(&self) -> u64 {
        self.minutes.values().map(|minute| minute.requests).sum()
    }
}

/// The last minutes, which move on.
pub(super) struct Window<'c> {
    when: &'c Condition,
    counts: &'c Counts,
    now: Sum,
    /// The same minutes of the weeks before, where what is usual matters.
    before: Vec<(i64, Sum)>,
}

/// What some minutes add up to, the last of which is moved on.
struct Sum {
    /// The minute that it began with.
    begins: i64,
    /// The first minute that is not in it yet.
    next: i64,
    requests: u64,
    fitting: u64,
    bytes: u64,
    by_client: HashMap<u32, u64>,
    /// The same by their counts: the greatest is asked for each minute.
    ranked: BTreeSet<(u64, Reverse<u32>)>,
    by_duration: BTreeMap<u16, u64>,
}

impl Sum {
    fn new(begins: i64) -> Self {
        Sum {
            begins,
            next: begins,
            requests: 0,
            fitting: 0,
            bytes: 0,
            by_client: HashMap::new(),
            ranked: BTreeSet::new(),
            by_duration: BTreeMap::new(),
        }
    }

    /// A client has another count.
    fn change(&mut self, code: u32, change: impl FnOnce(u64) -> u64) {
        let before = self.by_client.get(&code).copied().unwrap_or(0);
        let now = change(before);
        self.ranked.remove(&(before, Reverse(code)));
        if now == 0 {
            self.by_client.remove(&code);
        } else {
            self.by_client.insert(code, now);
            self.ranked.insert((now, Reverse(code)));
        }
    }

    /// Moves on to the end of a minute.
    fn move_to(&mut self, minute: i64, counts: &Counts, minutes: i64) {
        while self.next <= minute {
            if let Some(come) = counts.minutes.get(&self.next) {
                self.requests += come.requests;
                self.fitting += come.fitting;
                self.bytes += come.bytes;
                come.by_client.iter().for_each(|(code, count)| self.change(*code, |now| now + count));
                for (step, count) in &come.by_duration {
                    *self.by_duration.entry(*step).or_default() += count;
                }
            }
            // What this began with was never in it.
            let gone = self.next - minutes;
            if let Some(gone) = counts.minutes.get(&gone).filter(|_| gone >= self.begins) {
                self.requests -= gone.requests;
                self.fitting -= gone.fitting;
                self.bytes -= gone.bytes;
                gone.by_client.iter().for_each(|(code, count)| self.change(*code, |now| now - count));
                for (step, count) in &gone.by_duration {
                    if let Some(ours) = self.by_duration.get_mut(step) {
                        *ours -= count;
                        if *ours == 0 {
                            self.by_duration.remove(step);
                        }
                    }
                }
            }
            self.next += 1;
        }
    }

    /// The figure of a condition, and the client that has it, where it is about one.
    fn figure(&self, figure: Figure, clients: &Dictionary) -> (f64, Option<String>) {
        match figure {
            Figure::Share if self.requests == 0 => (0.0, None),
            Figure::Share => (self.fitting as f64 / self.requests as f64, None),
            Figure::Number => (self.fitting as f64, None),
            Figure::Transfer => (self.bytes as f64, None),
            Figure::OneClient => match self.ranked.last() {
                Some((count, Reverse(code))) => (*count as f64, Some(clients.text(*code).to_owned())),
                None => (0.0, None),
            },
            Figure::Duration(percentile) => (self.percentile(percentile), None),
        }
    }

    /// The duration within which so many per cent were answered, in microseconds.
    fn percentile(&self, percentile: u8) -> f64 {
        let all: u64 = self.by_duration.values().sum();
        let wanted = (all as f64 * f64::from(percentile) / 100.0).ceil().max(1.0) as u64;
        let mut seen = 0;
        for (step, count) in &self.by_duration {
            seen += count;
            if seen >= wanted {
                return middle(*step);
            }
        }
        0.0
    }
}

impl<'c> Window<'c> {
    /// Ready for a minute.
    pub(super) fn new(when: &'c Condition, counts: &'c Counts, first: i64) -> Self {
        let begins = first - when.minutes + 1;
        let weeks = if when.bound.is_of_usual() { WEEKS } else { 0 };
        let before = (1..=weeks).map(|week| (week * WEEK, Sum::new(begins - week * WEEK))).collect();
        Window { when, counts, now: Sum::new(begins), before }
    }

    /// What the condition is at the end of a minute, which is not before the last one that was asked for.
    pub(super) fn reading(&mut self, minute: i64) -> Reading {
        let Window { when, counts, .. } = *self;
        self.now.move_to(minute, counts, when.minutes);
        let (value, client) = self.now.figure(when.figure, &counts.clients);
        let mut known = Vec::new();
        for (ago, sum) in &mut self.before {
            let then = minute - *ago;
            sum.move_to(then, counts, when.minutes);
            if then - when.minutes >= counts.known_from {
                known.push(sum.figure(when.figure, &counts.clients).0);
            }
        }
        let usual = (known.len() >= FEWEST_WEEKS).then(|| median(known));
        // Of no requests at all there is no share, and no time that they took.
        let needs_some = matches!(when.figure, Figure::Share | Figure::Duration(_));
        let of = if when.figure == Figure::Share { self.now.requests } else { self.now.fitting };
        let is_enough = self.now.requests >= when.at_least && (!needs_some || of > 0);
        Reading { value, client, usual, holds: is_enough && when.bound.is_passed(value, usual) }
    }
}

/// The one in the middle, or the mean of the two.
fn median(mut values: Vec<f64>) -> f64 {
    values.sort_unstable_by(f64::total_cmp);
    let half = values.len() / 2;
    match values.len() % 2 {
        0 => f64::midpoint(values[half - 1], values[half]),
        _ => values[half],
    }
}
