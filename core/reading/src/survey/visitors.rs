//! Distinct visitors: one client address and agent within one day.
//!
//! Each visitor is a keyed hash. Up to [`MOST_VISITORS`] all are kept and the count is exact. Past that,
//! only hashes below a threshold are, the threshold halving as often as it must: a fair sample, from which
//! the count of every day follows with a known error. The threshold that a set ends with depends on the
//! set alone, so merging in any order gives the same.
//!
//! ```
//! use exedra_reading::survey::{VisitorKey, Visitors};
//! let key = VisitorKey([1, 2]);
//! let pair = key.of_pair(key.of_text("192.0.2.7"), key.of_text("Kiosk/1"));
//! let mut visitors = Visitors::default();
//! for day in [1, 1, 2] {
//!     visitors.add(day, key.of_visitor(pair, day));
//! }
//! assert_eq!((visitors.total(), visitors.on(1), visitors.error()), (2, 1, 0.0));
//! ```

use hashbrown::HashSet;
use siphasher::sip::SipHasher13;
use std::collections::BTreeMap;
use std::hash::{BuildHasherDefault, Hasher};

/// How many visitors are kept before the set becomes a sample.
pub const MOST_VISITORS: usize = 1 << 19;

/// The key of the hashes: the same for all that is to be merged, unknown to whoever is counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct VisitorKey(pub [u64; 2]);

impl VisitorKey {
    /// The hash of one text.
    pub fn of_text(self, text: &str) -> u64 {
        let mut hasher = SipHasher13::new_with_keys(self.0[0], self.0[1]);
        hasher.write(text.as_bytes());
        hasher.finish()
    }

    /// The hash of a client and agent, from their hashes, whatever the day.
    ///
    /// Those are keyed, so nobody knows them who does not know the key: to mix them well is enough.
    pub fn of_pair(self, client: u64, agent: u64) -> u64 {
        let product = u128::from(client ^ self.0[0]) * u128::from(agent.rotate_left(32) ^ self.0[1]);
        mixed(product as u64 ^ (product >> 64) as u64)
    }

    /// The hash of a visitor, from that of client and agent and the day.
    pub fn of_visitor(self, pair: u64, day: i32) -> u64 {
        mixed(pair ^ mixed(self.0[0] ^ day as u64))
    }
}

/// Spreads every bit over all of them: each step can be undone, so that different hashes stay different.
pub(super) fn mixed(mut hash: u64) -> u64 {
    for odd in [0x9e37_79b9_7f4a_7c15, 0xd6e8_feb8_6659_fd93] {
        hash = (hash ^ (hash >> 32)).wrapping_mul(odd);
    }
    hash ^ (hash >> 32)
}

/// Hashes need no hashing.
#[derive(Debug, Default, Clone)]
pub struct AsItIs(u64);

impl Hasher for AsItIs {
    fn finish(&self) -> u64 {
        self.0
    }
    fn write(&mut self, _: &[u8]) {}
    fn write_u64(&mut self, hash: u64) {
        self.0 = hash;
    }
}

type Hashes = HashSet<u64, BuildHasherDefault<AsItIs>>;

/// The visitors of some days.
#[derive(Debug, Clone)]
pub struct Visitors {
    days: BTreeMap<i32, Hashes>,
    /// Visitors of days of which nothing else is known.
    counted: BTreeMap<i32, u64>,
    kept: usize,
    halvings: u32,
    most: usize,
}

impl Default for Visitors {
    fn default() -> Self {
        Visitors::with_limit(MOST_VISITORS)
    }
}

impl Visitors {
    /// A set that is exact up to a limit of its own.
    pub fn with_limit(most: usize) -> Self {
        Visitors { days: BTreeMap::new(), counted: BTreeMap::new(), kept: 0, halvings: 0, most }
    }

    /// Takes in one visitor of a day.
    pub fn add(&mut self, day: i32, hash: u64) {
        if hash <= self.threshold() && self.days.entry(day).or_default().insert(hash) {
            self.kept += 1;
            self.thin_out();
        }
    }

    /// Takes in visitors of one day.
    pub fn add_all(&mut self, day: i32, hashes: &[u64]) {
        let threshold = self.threshold();
        let known = self.days.entry(day).or_default();
        let before = known.len();
        known.extend(hashes.iter().filter(|hash| **hash <= threshold));
        self.kept += known.len() - before;
        self.thin_out();
    }

    /// Takes in visitors of a day of whom nothing else is known: they are others than those whose hashes are.
    pub fn add_counted(&mut self, day: i32, visitors: u64) {
        *self.counted.entry(day).or_default() += visitors;
    }

    /// Takes in another set made with the same key and limit.
    pub fn merge(&mut self, mut other: Visitors) {
        std::mem::take(&mut other.counted).into_iter().for_each(|(day, count)| self.add_counted(day, count));
        if self.kept == 0 && self.halvings <= other.halvings {
            *self = Visitors { most: self.most, counted: std::mem::take(&mut self.counted), ..other };
            return self.thin_out();
        }
        self.thin_to(other.halvings);
        let threshold = self.threshold();
        for (day, hashes) in other.days {
            let ours = self.days.entry(day).or_default();
            for hash in hashes {
                if hash <= threshold && ours.insert(hash) {
                    self.kept += 1;
                }
            }
        }
        self.thin_out();
    }

    /// Has only those kept that a sample of others keeps.
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

    /// The hashes of each day, in order: a smaller sample is the beginning of a larger one.
    pub(super) fn in_order(&self) -> impl ExactSizeIterator<Item = (i32, Vec<u64>)> {
        self.days.iter().map(|(day, hashes)| {
            let mut hashes: Vec<u64> = hashes.iter().copied().collect();
            hashes.sort_unstable();
            (*day, hashes)
        })
    }

    /// Visitors of a day.
    pub fn on(&self, day: i32) -> u64 {
        let hashed = self.days.get(&day).map_or(0, |hashes| (hashes.len() as u64) << self.halvings);
        hashed + self.counted.get(&day).copied().unwrap_or(0)
    }

    /// Visitors of all days together, each day counting its own.
    pub fn total(&self) -> u64 {
        ((self.kept as u64) << self.halvings) + self.counted.values().sum::<u64>()
    }

    /// The standard error of the total as a part of it; 0 while the count is exact.
    pub fn error(&self) -> f64 {
        match self.halvings {
            0 => 0.0,
            halvings => ((1.0 - 0.5f64.powi(halvings as i32)) / self.kept.max(1) as f64).sqrt(),
        }
    }

    /// Visitors with a larger hash are not kept.
    pub(super) fn threshold(&self) -> u64 {
        u64::MAX >> self.halvings
    }

    fn thin_out(&mut self) {
        while self.kept > self.most {
            self.halvings += 1;
            self.drop_above();
        }
    }

    fn drop_above(&mut self) {
        let threshold = self.threshold();
        for hashes in self.days.values_mut() {
            hashes.retain(|hash| *hash <= threshold);
            // Days that have gone by get no more: what they no longer need is for those that come.
            hashes.shrink_to_fit();
        }
        self.kept = self.days.values().map(|hashes| hashes.len()).sum();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const KEY: VisitorKey = VisitorKey([7, 11]);

    fn of(hashes: &[(i32, u64)], most: usize) -> Visitors {
        let mut visitors = Visitors::with_limit(most);
        hashes.iter().for_each(|&(day, text)| visitors.add(day, KEY.of_visitor(KEY.of_pair(text, 0), day)));
        visitors
    }

    proptest! {
        #[test]
        fn any_order_gives_the_same(
            seen in proptest::collection::vec((0i32..3, 0u64..200), 0..300),
            cuts in proptest::collection::vec(0usize..300, 2),
            most in 1usize..150,
        ) {
            let whole = of(&seen, most);
            let (a, b) = (cuts[0].min(cuts[1]).min(seen.len()), cuts[0].max(cuts[1]).min(seen.len()));
            let parts = [&seen[..a], &seen[a..b], &seen[b..]];
            for order in [[0, 1, 2], [2, 0, 1], [1, 2, 0]] {
                let mut merged = Visitors::with_limit(most);
                order.iter().for_each(|&part| merged.merge(of(parts[part], most)));
                prop_assert_eq!(merged.halvings, whole.halvings);
                for day in 0..3 {
                    prop_assert_eq!(merged.days.get(&day).cloned().unwrap_or_default(),
                                    whole.days.get(&day).cloned().unwrap_or_default());
                }
            }
        }
    }

    #[test]
    fn a_sample_stays_within_its_error() {
        let visitors = of(&(0..100_000).map(|text| (1, text)).collect::<Vec<_>>(), 10_000);
        let miss = (visitors.total() as f64 - 100_000.0).abs() / 100_000.0;
        assert!(visitors.error() > 0.0 && miss < 4.0 * visitors.error(), "{miss} of {}", visitors.error());
        assert_eq!(of(&[(1, 1), (1, 1), (2, 1)], 10).total(), 2);
    }
}
