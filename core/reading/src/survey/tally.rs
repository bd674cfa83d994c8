//! Counts by keys of which there are very many, none of them often: what comes is set aside, and now and then sorted into the rest.
//!
//! A hash map waits for memory at every key, as the next is somewhere else. Here memory is gone through in order, which is several
//! times as fast, and takes less of it.
//!
//! ```
//! use exedra_reading::survey::tally::Tally;
//! let mut tally: Tally<u32, u64> = Tally::default();
//! [7, 3, 7].into_iter().for_each(|key| tally.add(key, 1));
//! assert_eq!(tally.into_sorted(), [(3, 1), (7, 2)]);
//! ```

use std::ops::AddAssign;

/// How much is set aside before it is sorted in.
const RECENT: usize = 1 << 16;

/// Counts by key.
#[derive(Debug, Clone)]
pub struct Tally<K, C> {
    /// In the order of the keys, each once.
    sorted: Vec<(K, C)>,
    recent: Vec<(K, C)>,
}

impl<K, C> Default for Tally<K, C> {
    fn default() -> Self {
        Tally { sorted: Vec::new(), recent: Vec::new() }
    }
}

impl<K: Ord + Copy, C: AddAssign + Copy> Tally<K, C> {
    /// Counts something for a key.
    pub fn add(&mut self, key: K, count: C) {
        self.recent.push((key, count));
        if self.recent.len() >= RECENT {
            self.sort_in();
        }
    }

    /// Whether nothing was counted.
    pub fn is_empty(&self) -> bool {
        self.sorted.is_empty() && self.recent.is_empty()
    }

    /// How many keys there are, without those that have not been sorted in yet: at most as many more as are set aside.
    pub fn keys(&self) -> usize {
        self.sorted.len()
    }

    /// Every key with what was counted for it, in the order of the keys.
    pub fn sorted(&mut self) -> &[(K, C)] {
        self.sort_in();
        &self.sorted
    }

    /// The same, leaving nothing.
    pub fn into_sorted(mut self) -> Vec<(K, C)> {
        self.sort_in();
        self.sorted
    }

    /// Counts what is recent among the rest, where that lies: to put both together elsewhere would take the memory twice.
    fn sort_in(&mut self) {
        let Tally { sorted, recent } = self;
        recent.sort_unstable_by_key(|(key, _)| *key);
        // What is known is added up; keys that are new gather at the front.
        let known = sorted.len();
        let (mut at, mut read, mut new) = (0, 0, 0);
        while let Some((key, mut count)) = recent.get(read).copied() {
            read += 1;
            while let Some((_, more)) = recent.get(read).filter(|(next, _)| *next == key) {
                count += *more;
                read += 1;
            }
            while at < known && sorted[at].0 < key {
                at += 1;
            }
            if at < known && sorted[at].0 == key {
                sorted[at].1 += count;
            } else {
                recent[new] = (key, count);
                new += 1;
            }
        }
        // From behind, so that nothing stands in the way of anything.
        sorted.reserve_exact(if known + new > sorted.capacity() { new.max(known / 8) } else { 0 });
        sorted.extend_from_slice(&recent[..new]);
        let (mut old, mut to) = (known, known + new);
        while new > 0 {
            to -= 1;
            let is_old = old > 0 && sorted[old - 1].0 > recent[new - 1].0;
            let next = if is_old { &mut old } else { &mut new };
            *next -= 1;
            sorted[to] = if is_old { sorted[old] } else { recent[new] };
        }
        recent.clear();
    }
}

impl<K: Ord + Copy, C: AddAssign + Copy> FromIterator<(K, C)> for Tally<K, C> {
    fn from_iter<I: IntoIterator<Item = (K, C)>>(counted: I) -> Self {
        let mut tally = Tally::default();
        counted.into_iter().for_each(|(key, count)| tally.add(key, count));
        tally
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    proptest! {
        #[test]
        fn as_a_plain_map(parts in proptest::collection::vec(proptest::collection::vec((0u8..20, 1u64..9), 0..40), 0..6)) {
            let (mut tally, mut plain) = (Tally::default(), BTreeMap::<u8, u64>::new());
            for part in parts {
                for (key, count) in part {
                    tally.add(key, count);
                    *plain.entry(key).or_default() += count;
                }
                prop_assert_eq!(tally.sorted(), plain.iter().map(|(key, count)| (*key, *count)).collect::<Vec<_>>());
            }
        }
    }
}
