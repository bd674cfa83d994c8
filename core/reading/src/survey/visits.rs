//! Visits: a visitor's requests with no gap over half an hour.
//!
//! For each client and agent disjoint stretches of time are kept, in order, each with its first and last page. Whatever
//! order requests are counted in, stretches that come within half an hour of each other become one, so chunks, files and
//! threads give the same visits. Past [`MOST_VISITORS`] only those are kept whose keyed hash lies below a threshold: a fair
//! sample, which depends on the set alone.
//!
//! ```
//! use exedra_reading::survey::Visits;
//! use exedra_reading::survey::visits::Stretch;
//! let stretch = |first, last| Stretch {
//!     first, last, requests: 1, pages: 1, first_page: None, last_page: None, is_crawler: false,
//! };
//! let mut visits = Visits::default();
//! for (first, last) in [(0, 1000), (7_200_000, 7_201_000), (600_000, 700_000)] {
//!     visits.add(7, stretch(first, last));
//! }
//! let all: Vec<_> = visits.all().map(|visit| (visit.first, visit.last)).collect();
//! assert_eq!(all, [(0, 700_000), (7_200_000, 7_201_000)]);
//! ```

use super::visitors::AsItIs;
use hashbrown::HashMap;
use std::hash::BuildHasherDefault;
use std::sync::Arc;

/// The longest gap within a visit, in milliseconds.
pub const LONGEST_GAP: i64 = 30 * 60 * 1000;
/// How many clients and agents are kept before the set becomes a sample.
pub const MOST_VISITORS: usize = 1 << 16;
/// How many stretches are, all together.
const MOST_STRETCHES: usize = 1 << 17;

/// A page, and when it was asked for. The earlier comes first; of two at once, the one whose path does.
pub type PageAt = (i64, Arc<str>);

/// A visit, or a part of one that has not met the rest yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stretch {
    /// Its first instant, in milliseconds since 1970 UTC.
    pub first: i64,
    /// Its last.
    pub last: i64,
    /// Requests, whatever for.
    pub requests: u64,
    /// Pages that were seen.
    pub pages: u64,
    /// The first of them.
    pub first_page: Option<PageAt>,
    /// The last of them.
    pub last_page: Option<PageAt>,
    /// Whether a program made it.
    pub is_crawler: bool,
}

impl Stretch {
    fn meets(&self, other: &Stretch) -> bool {
        self.first <= other.last.saturating_add(LONGEST_GAP)
            && other.first <= self.last.saturating_add(LONGEST_GAP)
    }

    fn join(&mut self, other: Stretch) {
        self.first = self.first.min(other.first);
        self.last = self.last.max(other.last);
        self.requests += other.requests;
        self.pages += other.pages;
        self.first_page = match (self.first_page.take(), other.first_page) {
            (Some(ours), Some(theirs)) => Some(ours.min(theirs)),
            (ours, theirs) => ours.or(theirs),
        };
        self.last_page = self.last_page.take().max(other.last_page);
    }
}

/// The visits of some clients and agents.
#[derive(Debug, Clone, Default)]
pub struct Visits {
    by_visitor: HashMap<u64, Vec<Stretch>, BuildHasherDefault<AsItIs>>,
    stretches: usize,
    halvings: u32,
}

impl Visits {
    /// Takes in a stretch of one client and agent, given by their keyed hash.
    pub fn add(&mut self, visitor: u64, stretch: Stretch) {
        if visitor <= self.threshold() {
            // Most come once: room for more would be most of the memory.
            let stretches = self.by_visitor.entry(visitor).or_insert_with(|| Vec::with_capacity(1));
            let before = stretches.len();
            put(stretches, stretch);
            self.stretches = self.stretches + stretches.len() - before;
            self.thin_out();
        }
    }

    /// Takes in other visits counted with the same key.
    pub fn merge(&mut self, other: Visits) {
        if self.by_visitor.is_empty() && self.halvings <= other.halvings {
            *self = other;
            return;
        }
        self.thin_to(other.halvings);
        for (visitor, stretches) in other.by_visitor {
            for stretch in stretches {
                self.add(visitor, stretch);
            }
        }
    }

    /// Has only those visitors kept that a sample of others keeps.
    pub(super) fn thin_to(&mut self, halvings: u32) {
        if halvings > self.halvings {
            self.halvings = halvings;
            self.drop_above();
        }
    }

    /// How often the sample was halved.
    pub(super) fn halvings(&self) -> u32 {
        self.halvings
    }

    /// The visits of each visitor, in the order of their hashes: a smaller sample is the beginning of a larger one.
    pub(super) fn in_order(&self) -> Vec<(u64, &[Stretch])> {
        let mut all: Vec<_> = self.by_visitor.iter().map(|(visitor, all)| (*visitor, &all[..])).collect();
        all.sort_unstable_by_key(|(visitor, _)| *visitor);
        all
    }

    /// All visits that are known, in no order.
    pub fn all(&self) -> impl Iterator<Item = &Stretch> {
        self.by_visitor.values().flatten()
    }

    /// How many visits each that is known stands for.
    pub fn weight(&self) -> u64 {
        1 << self.halvings
    }

    /// The standard error of the number of visits as a part of it, roughly; 0 while it is exact.
    pub fn error(&self) -> f64 {
        match self.halvings {
            0 => 0.0,
            _ => 1.0 / (self.by_visitor.len().max(1) as f64).sqrt(),
        }
    }

    /// Visitors with a larger hash are not kept.
    pub fn threshold(&self) -> u64 {
        u64::MAX >> self.halvings
    }

    fn thin_out(&mut self) {
        while (self.by_visitor.len() > MOST_VISITORS || self.stretches > MOST_STRETCHES) && self.halvings < 60
        {
            self.halvings += 1;
            self.drop_above();
        }
    }

    fn drop_above(&mut self) {
        let threshold = self.threshold();
        self.by_visitor.retain(|visitor, _| *visitor <= threshold);
        self.stretches = self.by_visitor.values().map(Vec::len).sum();
    }
}

/// Puts a stretch among others that are in order and far from each other, so that they stay so.
fn put(stretches: &mut Vec<Stretch>, mut stretch: Stretch) {
    if stretches.is_empty() {
        return stretches.push(stretch);
    }
    let begin = stretches.partition_point(|other| other.last.saturating_add(LONGEST_GAP) < stretch.first);
    let mut end = begin;
    while stretches.get(end).is_some_and(|other| other.meets(&stretch)) {
        stretch.join(stretches[end].clone());
        end += 1;
    }
    stretches.splice(begin..end, [stretch]);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn one(minute: i64, page: Option<&str>) -> Stretch {
        let time = minute * 60_000;
        let page: Option<PageAt> = page.map(|page| (time, page.into()));
        Stretch {
            first: time,
            last: time,
            requests: 1,
            pages: u64::from(page.is_some()),
            first_page: page.clone(),
            last_page: page,
            is_crawler: false,
        }
    }

    proptest! {
        #[test]
        fn in_any_order_the_same(requests in proptest::collection::vec((0i64..600, 0u64..3, proptest::option::of(0u8..4)), 0..80), cut in 0usize..80) {
            let pages = ["/a", "/b", "/c", "/d"];
            let stretch = |request: &(i64, u64, Option<u8>)| (request.1, one(request.0, request.2.map(|page| pages[page as usize])));
            let count = |requests: &[(i64, u64, Option<u8>)]| {
                let mut visits = Visits::default();
                requests.iter().map(stretch).for_each(|(visitor, stretch)| visits.add(visitor, stretch));
                visits
            };
            let sorted = |visits: &Visits| {
                let mut all: Vec<(u64, Vec<Stretch>)> = visits.by_visitor.iter().map(|(key, list)| (*key, list.clone())).collect();
                all.sort_by_key(|entry| entry.0);
                all
            };
            // By hand: each visitor's requests in order, cut where nothing came for over half an hour.
            let mut ordered = requests.clone();
            ordered.sort();
            let mut expected: Vec<(u64, i64, i64, u64)> = Vec::new();
            for visitor in 0..3 {
                let mut last = None;
                for request in ordered.iter().filter(|request| request.1 == visitor) {
                    match (last, expected.last_mut()) {
                        (Some(before), Some(visit)) if request.0 - before <= 30 => {
                            visit.2 = request.0;
                            visit.3 += 1;
                        }
                        _ => expected.push((visitor, request.0, request.0, 1)),
                    }
                    last = Some(request.0);
                }
            }
            let whole = sorted(&count(&requests));
            let seen: Vec<(u64, i64, i64, u64)> = whole
                .iter()
                .flat_map(|(visitor, list)| list.iter().map(|visit| (*visitor, visit.first / 60_000, visit.last / 60_000, visit.requests)))
                .collect();
            prop_assert_eq!(seen, expected);
            let (a, b) = requests.split_at(cut.min(requests.len()));
            let (mut forth, mut back) = (count(a), count(b));
            forth.merge(count(b));
            back.merge(count(a));
            prop_assert_eq!(&sorted(&forth), &whole);
            prop_assert_eq!(&sorted(&back), &whole);
        }
    }
}
