//! What a condition looks at: requests by the minute, and those of the last so many minutes together.

use super::Reading;
use exedra_answering::config::alerts::{Condition, Figure};
use exedra_common::{Column, Dictionaries, Dictionary, NumberColumn, Projection, RequestBatch, TextColumn};
use std::collections::{BTreeMap, HashMap};

/// A minute, in milliseconds.
const MINUTE: i64 = 60_000;

/// Requests by the minute, as far as a condition looks at them.
#[derive(Debug, Clone, Default)]
pub struct Counts {
    minutes: BTreeMap<i64, Minute>,
    clients: Dictionary,
    is_of_clients: bool,
}

#[derive(Debug, Clone, Default)]
struct Minute {
    requests: u64,
    fitting: u64,
    bytes: u64,
    /// Fitting ones by client.
    by_client: HashMap<u32, u64>,
}

impl Counts {
    /// None yet.
    pub fn new(when: &Condition) -> Self {
        Counts { is_of_clients: when.figure == Figure::OneClient, ..Counts::default() }
    }

    /// The columns that are looked at, beside those of filters.
    pub fn projection(when: &Condition) -> Projection {
        let columns: Projection = match when.figure {
            Figure::Share | Figure::Number => Projection::time(),
            Figure::Transfer => [NumberColumn::Bytes].into_iter().collect(),
            Figure::OneClient => [TextColumn::Client].into_iter().collect(),
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
        if let Some(client) = batch.code(TextColumn::Client, row).filter(|_| self.is_of_clients) {
            let code = self.clients.code(texts.of(TextColumn::Client).text(client));
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
        for (minute, theirs) in other.minutes {
            let ours = self.minutes.entry(minute).or_default();
            ours.requests += theirs.requests;
            ours.fitting += theirs.fitting;
            ours.bytes += theirs.bytes;
            for (code, count) in theirs.by_client {
                let code = self.clients.code(other.clients.text(code));
                *ours.by_client.entry(code).or_default() += count;
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
    /// The minute that it began with.
    begins: i64,
    /// The first minute that is not in it yet.
    next: i64,
    requests: u64,
    fitting: u64,
    bytes: u64,
    by_client: HashMap<u32, u64>,
}

impl<'c> Window<'c> {
    /// Ready for a minute.
    pub(super) fn new(when: &'c Condition, counts: &'c Counts, first: i64) -> Self {
        let begins = first - when.minutes + 1;
        Window {
            when,
            counts,
            begins,
            next: begins,
            requests: 0,
            fitting: 0,
            bytes: 0,
            by_client: HashMap::new(),
        }
    }

    /// What the condition is at the end of a minute, which is not before the last one that was asked for.
    pub(super) fn reading(&mut self, minute: i64) -> Reading {
        while self.next <= minute {
            if let Some(come) = self.counts.minutes.get(&self.next) {
                self.requests += come.requests;
                self.fitting += come.fitting;
                self.bytes += come.bytes;
                come.by_client
                    .iter()
                    .for_each(|(code, count)| *self.by_client.entry(*code).or_default() += count);
            }
            // What this window began with was never in it.
            if let Some(gone) = self
                .counts
                .minutes
                .get(&(self.next - self.when.minutes))
                .filter(|_| self.next - self.when.minutes >= self.begins)
            {
                self.requests -= gone.requests;
                self.fitting -= gone.fitting;
                self.bytes -= gone.bytes;
                for (code, count) in &gone.by_client {
                    if let Some(ours) = self.by_client.get_mut(code) {
                        *ours -= count;
                        if *ours == 0 {
                            self.by_client.remove(code);
                        }
                    }
                }
            }
            self.next += 1;
        }
        let of_client =
            || self.by_client.iter().max_by_key(|(code, count)| (**count, std::cmp::Reverse(**code)));
        let (value, client) = match self.when.figure {
            Figure::Share if self.requests == 0 => (0.0, None),
            Figure::Share => (self.fitting as f64 / self.requests as f64, None),
            Figure::Number => (self.fitting as f64, None),
            Figure::Transfer => (self.bytes as f64, None),
            Figure::OneClient => match of_client() {
                Some((code, count)) => (*count as f64, Some(self.counts.clients.text(*code).to_owned())),
                None => (0.0, None),
            },
        };
        // Of no requests at all there is no share.
        let is_enough =
            self.requests >= self.when.at_least && (self.when.figure != Figure::Share || self.requests > 0);
        Reading { value, client, holds: is_enough && self.when.bound.is_passed(value) }
    }
}
