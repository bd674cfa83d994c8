//! Counts by text, with a bound.
//!
//! Strangers decide how many distinct texts there are. Past [`MOST_ENTRIES`] the smaller half is let go;
//! what it counted stays in the rest, and the ranking says that small counts may then be too low.

use foldhash::quality::RandomState;
use hashbrown::HashMap;

/// How many texts a ranking keeps.
pub const MOST_ENTRIES: usize = 200_000;

/// How often, and how much.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counts {
    /// Requests.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
}

impl Counts {
    /// Takes in one request.
    pub fn add(&mut self, bytes: u64) {
        self.requests += 1;
        self.bytes = self.bytes.saturating_add(bytes);
    }

    /// Takes in other counts.
    pub fn merge(&mut self, other: Counts) {
        self.requests += other.requests;
        self.bytes = self.bytes.saturating_add(other.bytes);
    }
}

/// Counts by text (or by a pair of texts, as a key of its own).
#[derive(Debug, Clone)]
pub struct Ranking<K> {
    counts: HashMap<K, Counts, RandomState>,
    let_go: Counts,
}

impl<K> Default for Ranking<K> {
    fn default() -> Self {
        Ranking { counts: HashMap::default(), let_go: Counts::default() }
    }
}

impl<K: Eq + std::hash::Hash + Ord> Ranking<K> {
    /// Takes in counts of one text.
    pub fn add(&mut self, key: K, counts: Counts) {
        self.counts.entry(key).or_default().merge(counts);
        if self.counts.len() > MOST_ENTRIES {
            self.let_go_of_the_small();
        }
    }

    /// Takes in another ranking.
    pub fn merge(&mut self, other: Ranking<K>) {
        self.let_go.merge(other.let_go);
        if self.counts.is_empty() {
            self.counts = other.counts;
            return;
        }
        for (key, counts) in other.counts {
            self.add(key, counts);
        }
    }

    /// All entries, most requests first; equal ones by their text.
    pub fn by_requests(&self) -> Vec<(&K, Counts)> {
        let mut entries: Vec<_> = self.counts.iter().map(|(key, counts)| (key, *counts)).collect();
        entries.sort_unstable_by(|a, b| b.1.requests.cmp(&a.1.requests).then_with(|| a.0.cmp(b.0)));
        entries
    }

    /// What was counted for texts that were let go of.
    pub fn let_go(&self) -> Counts {
        self.let_go
    }

    fn let_go_of_the_small(&mut self) {
        let mut sizes: Vec<u64> = self.counts.values().map(|counts| counts.requests).collect();
        let half = sizes.len() / 2;
        let (_, &mut middle, _) = sizes.select_nth_unstable(half);
        let mut spare = MOST_ENTRIES / 2;
        let let_go = &mut self.let_go;
        self.counts.retain(|_, counts| {
            let keep = counts.requests > middle || (counts.requests == middle && spare > 0);
            if keep {
                spare = spare.saturating_sub(1);
            } else {
                let_go.merge(*counts);
            }
            keep
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bounded_and_nothing_lost() {
        let mut ranking = Ranking::default();
        let one = Counts { requests: 1, bytes: 10 };
        for number in 0..2 * MOST_ENTRIES {
            ranking.add(number, one);
            ranking.add(0, one);
        }
        let entries = ranking.by_requests();
        assert!(entries.len() <= MOST_ENTRIES);
        assert_eq!(
            entries[0],
            (&0, Counts { requests: 2 * MOST_ENTRIES as u64 + 1, bytes: (2 * MOST_ENTRIES as u64 + 1) * 10 })
        );
        let kept: u64 = entries.iter().map(|(_, counts)| counts.requests).sum();
        assert_eq!(kept + ranking.let_go().requests, 4 * MOST_ENTRIES as u64);
    }
}
