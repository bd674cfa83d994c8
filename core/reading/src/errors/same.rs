//! Events that are the same but for when they happened and for whom, put together.

use super::event::Event;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// How many different events are kept; what comes after them is only counted.
const MOST: usize = 20_000;
/// How many clients, and pages that linked, are kept of each.
const MOST_CLIENTS: usize = 1_000;
const MOST_REFERRERS: usize = 50;
/// Milliseconds of a day.
const DAY: i64 = 86_400_000;

/// Events that are the same.
#[derive(Debug, Clone, Default)]
pub struct Same {
    /// The last of them.
    pub last: Event,
    /// When the first happened, and the last.
    pub span: Option<(i64, i64)>,
    /// How many there were.
    pub times: u64,
    /// Clients, as far as they are kept.
    pub clients: BTreeSet<String>,
    /// Pages that linked there, with how often.
    pub referrers: BTreeMap<String, u64>,
    /// How many there were on each day since 1970 (UTC).
    pub days: BTreeMap<i64, u64>,
    /// Lines that belonged to the last of them.
    pub more_lines: Vec<String>,
}

/// What tells events apart.
type Key = (String, String, Option<String>);

/// All events, put together.
#[derive(Debug, Default)]
pub struct Together {
    same: Vec<Same>,
    known: HashMap<Key, usize>,
    /// Events that were not kept, because there were too many different ones.
    pub others: u64,
}

impl Together {
    /// Takes in an event; says where lines that belong to it go.
    pub fn add(&mut self, event: Event) -> Option<usize> {
        let about = event.path.clone().or_else(|| event.looked_for.clone());
        let key = (event.level.clone(), event.cause.clone(), about);
        let place = match self.known.get(&key) {
            Some(place) => *place,
            None if self.same.len() >= MOST => {
                self.others += 1;
                return None;
            }
            None => {
                self.known.insert(key, self.same.len());
                self.same.push(Same::default());
                self.same.len() - 1
            }
        };
        let same = &mut self.same[place];
        same.times += 1;
        if let Some(time) = event.time {
            let (first, last) = same.span.unwrap_or((time, time));
            same.span = Some((first.min(time), last.max(time)));
            *same.days.entry(time.div_euclid(DAY)).or_default() += 1;
        }
        if let Some(client) = event.client.as_ref().filter(|_| same.clients.len() < MOST_CLIENTS) {
            same.clients.insert(client.clone());
        }
        if let Some(referrer) = &event.referrer
            && (same.referrers.contains_key(referrer) || same.referrers.len() < MOST_REFERRERS)
        {
            *same.referrers.entry(referrer.clone()).or_default() += 1;
        }
        same.more_lines.clear();
        same.last = event;
        Some(place)
    }

    /// A line that belongs to the last event that was added there.
    pub fn goes_on(&mut self, place: usize, line: &str) {
        const MOST_LINES: usize = 5;
        const LENGTH: usize = 300;
        if let Some(same) = self.same.get_mut(place).filter(|same| same.more_lines.len() < MOST_LINES) {
            same.more_lines.push(line.chars().take(LENGTH).collect());
        }
    }

    /// All that are the same, the most frequent first; equal ones by their last.
    pub fn by_times(self) -> Vec<Same> {
        let mut same = self.same;
        same.sort_by(|a, b| {
            b.times
                .cmp(&a.times)
                .then_with(|| b.span.cmp(&a.span))
                .then_with(|| a.last.cause.cmp(&b.last.cause))
        });
        same
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_the_same_is_counted_once() {
        let mut together = Together::default();
        for (client, second) in [("192.0.2.1", 40), ("192.0.2.2", 41), ("192.0.2.1", 42)] {
            let line = format!(
                "2026/11/14 05:12:{second} [error] <812> #{second} nothing at \"/srv/fog\", client: {client}, request: \"GET /fog HTTP/1.1\", referrer: \"https://a.example/\""
            );
            together.add(Event::of_line(line.as_bytes(), None).unwrap());
        }
        let same = together.by_times();
        assert_eq!((same.len(), same[0].times, same[0].clients.len()), (1, 3, 2));
        assert_eq!(same[0].span, Some((1_794_633_160_000, 1_794_633_162_000)));
        assert_eq!(same[0].referrers["https://a.example/"], 3);
    }
}
