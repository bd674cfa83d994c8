//! Visitors of each entry of a list: who asked for a path, had an address, came from a page.
//!
//! Kept are pairs of a text and a visitor, both as keyed hashes. Past [`MOST_PAIRS`] only those visitors are kept whose
//! hash is below a threshold, which halves as often as it must. It is one threshold for all lists, and what remains depends
//! on the set alone: merging in any order gives the same, and what was counted of a part of the visitors stands for all.
//!
//! ```
//! use exedra_reading::survey::visitors_of_entries::{Listed, ListedVisitors};
//! let mut all = ListedVisitors::default();
//! let tides = Listed::Paths.hash(7);
//! for visitor in [1, 2, 2] {
//!     all.add(tides, visitor);
//! }
//! assert_eq!((all.by_text()[&tides], all.weight()), (2, 1));
//! assert_ne!(tides, Listed::Clients.hash(7), "lists are kept apart");
//! ```

use super::visitors::{VisitorKey, mixed};
use hashbrown::{HashMap, HashSet};
use std::hash::{BuildHasherDefault, Hasher};

/// How many pairs are kept before visitors become a sample.
pub const MOST_PAIRS: usize = 1 << 19;

/// The lists whose texts are told apart by visitors. Others follow from these.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum Listed {
    /// Paths.
    Paths = 1,
    /// Client addresses.
    Clients,
    /// Signed-in names.
    Users,
    /// Agents.
    Agents,
    /// Pages that link here.
    Referrers,
    /// The same, where they led to a page.
    Linking,
    /// The same, where they load files from here.
    Embedding,
    /// Paths answered 404.
    Missing,
    /// Sources, by their place.
    Sources,
    /// Hosts that were asked for.
    Hosts,
    /// Methods.
    Methods,
    /// Protocols.
    Protocols,
    /// Queries.
    Queries,
}

impl Listed {
    /// The hash of a text in this list, from its hash alone.
    pub fn hash(self, text: u64) -> u64 {
        mixed(text.rotate_left(8 * (self as u32 % 8)) ^ self as u64)
    }
}

/// Which visitors have to do with which texts.
#[derive(Debug, Clone)]
pub struct ListedVisitors {
    pairs: Pairs,
    halvings: u32,
    most: usize,
}

type Pairs = HashSet<(u64, u64), BuildHasherDefault<Both>>;

impl Default for ListedVisitors {
    fn default() -> Self {
        ListedVisitors::with_limit(MOST_PAIRS)
    }
}

impl ListedVisitors {
    /// A set that is exact up to a limit of its own.
    pub fn with_limit(most: usize) -> Self {
        ListedVisitors { pairs: Pairs::default(), halvings: 0, most }
    }

    /// Whether a visitor is one of those that are looked at.
    pub fn takes(&self, visitor: u64) -> bool {
        visitor <= u64::MAX >> self.halvings
    }

    /// Takes in that a visitor had to do with a text, given by [`Listed::hash`].
    pub fn add(&mut self, text: u64, visitor: u64) {
        if self.takes(visitor) && self.pairs.insert((text, visitor)) {
            self.thin_out();
        }
    }

    /// Takes in another set made with the same key and limit.
    pub fn merge(&mut self, other: ListedVisitors) {
        if self.pairs.is_empty() && self.halvings <= other.halvings {
            *self = ListedVisitors { most: self.most, ..other };
            return self.thin_out();
        }
        if other.halvings > self.halvings {
            self.halvings = other.halvings;
            self.drop_above();
        }
        other.pairs.into_iter().for_each(|(text, visitor)| self.add(text, visitor));
    }

    /// How many visitors each one that is kept stands for.
    pub fn weight(&self) -> u64 {
        1 << self.halvings
    }

    /// The standard error of so many visitors of an entry, as a part of them; 0 while all are kept.
    pub fn error(&self, visitors: u64) -> f64 {
        ((self.weight() - 1) as f64 / visitors.max(1) as f64).sqrt()
    }

    /// Visitors of each text, by its hash.
    pub fn by_text(&self) -> HashMap<u64, u64> {
        let mut visitors = HashMap::new();
        for (text, _) in &self.pairs {
            *visitors.entry(*text).or_default() += self.weight();
        }
        visitors
    }

    /// Visitors of what follows from texts: `values` gives the numbers of all values that follow from the text with some hash.
    pub fn by_value<'v>(&self, values: impl Fn(u64) -> &'v [u32]) -> HashMap<u32, u64> {
        let mut known: HashSet<(u32, u64)> = HashSet::new();
        let mut visitors = HashMap::new();
        for (text, visitor) in &self.pairs {
            for value in values(*text) {
                if known.insert((*value, *visitor)) {
                    *visitors.entry(*value).or_default() += self.weight();
                }
            }
        }
        visitors
    }

    /// The same with other texts in place of some: by their hashes.
    pub fn renamed(self, names: &HashMap<u64, u64>) -> ListedVisitors {
        let pairs = self.pairs.into_iter();
        let pairs =
            pairs.map(|(text, visitor)| (names.get(&text).copied().unwrap_or(text), visitor)).collect();
        ListedVisitors { pairs, ..self }
    }

    fn thin_out(&mut self) {
        while self.pairs.len() > self.most {
            self.halvings += 1;
            self.drop_above();
        }
    }

    fn drop_above(&mut self) {
        let threshold = u64::MAX >> self.halvings;
        self.pairs.retain(|(_, visitor)| *visitor <= threshold);
    }
}

impl VisitorKey {
    /// The hash of a text in a list.
    pub fn of_listed(self, list: Listed, text: &str) -> u64 {
        list.hash(self.of_text(text))
    }
}

/// Two hashes made one.
#[derive(Debug, Default, Clone)]
struct Both(u64);

impl Hasher for Both {
    fn finish(&self) -> u64 {
        self.0
    }
    fn write(&mut self, _: &[u8]) {}
    fn write_u64(&mut self, hash: u64) {
        self.0 = self.0.rotate_left(32) ^ hash;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::{BTreeMap, BTreeSet};

    const KEY: VisitorKey = VisitorKey([3, 5]);

    fn of(seen: &[(u8, u64)], most: usize) -> ListedVisitors {
        let mut listed = ListedVisitors::with_limit(most);
        for (text, visitor) in seen {
            let visitor = KEY.of_visitor(KEY.of_pair(*visitor, 0), 1);
            listed.add(KEY.of_listed(Listed::Paths, &text.to_string()), visitor);
        }
        listed
    }

    proptest! {
        #[test]
        fn while_exact_it_is_what_counting_by_hand_gives(seen in prop::collection::vec((0u8..9, 0u64..40), 0..300)) {
            let listed = of(&seen, 1000);
            let mut by_hand: BTreeMap<u8, BTreeSet<u64>> = BTreeMap::new();
            seen.iter().for_each(|(text, visitor)| { by_hand.entry(*text).or_default().insert(*visitor); });
            let visitors = listed.by_text();
            prop_assert_eq!(visitors.len(), by_hand.len());
            for (text, expected) in &by_hand {
                let hash = KEY.of_listed(Listed::Paths, &text.to_string());
                prop_assert_eq!(visitors[&hash], expected.len() as u64);
            }
            // Texts 0 to 4 come to one value, the others to another: each visitor counts once in each.
            let low: Vec<u64> = (0u8..5).map(|text| KEY.of_listed(Listed::Paths, &text.to_string())).collect();
            let by_value = listed.by_value(|text| if low.contains(&text) { &[7] } else { &[8] });
            let distinct = |texts: std::ops::Range<u8>| {
                let all = texts.filter_map(|text| by_hand.get(&text)).flatten().collect::<BTreeSet<_>>();
                all.len() as u64
            };
            prop_assert_eq!(by_value.get(&7).copied().unwrap_or(0), distinct(0..5));
            prop_assert_eq!(by_value.get(&8).copied().unwrap_or(0), distinct(5..9));
        }

        #[test]
        fn any_order_gives_the_same(
            seen in prop::collection::vec((0u8..9, 0u64..200), 0..300), cut in 0usize..300, most in 1usize..150,
        ) {
            let whole = of(&seen, most);
            let (a, b) = seen.split_at(cut.min(seen.len()));
            for (first, second) in [(a, b), (b, a)] {
                let mut merged = of(first, most);
                merged.merge(of(second, most));
                prop_assert_eq!(merged.halvings, whole.halvings);
                prop_assert_eq!(&merged.pairs, &whole.pairs);
            }
        }
    }

    #[test]
    fn a_sample_is_near_the_truth() {
        let seen: Vec<(u8, u64)> = (0..60_000).map(|visitor| ((visitor % 3 == 0) as u8, visitor)).collect();
        let listed = of(&seen, 8_000);
        let visitors = listed.by_text()[&KEY.of_listed(Listed::Paths, "1")];
        let miss = visitors.abs_diff(20_000) as f64 / 20_000.0;
        assert!(listed.weight() == 8 && miss < 4.0 * listed.error(20_000), "{visitors}");
        assert!((listed.error(20_000) - (7f64 / 20_000.0).sqrt()).abs() < 1e-9);
        assert_eq!(of(&seen, 100_000).error(20_000), 0.0);
    }
}
