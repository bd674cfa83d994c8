//! What the same clients were sent in full again and again.
//!
//! A client that has a file and asks whether it is still the same is answered 304, and nothing is sent. Where the same client is sent
//! the whole file again, it was not told how long to keep it, or does not care. Counted are full answers by client, agent and
//! path; past [`MOST_PAIRS`] only of those clients whose hash is below a threshold, as with visitors of entries, so that merging in
//! any order gives the same.
//!
//! ```
//! use exedra_reading::survey::repeats::Repeats;
//! let mut all = Repeats::default();
//! for (client, bytes) in [(1, 500), (1, 500), (1, 500), (2, 500)] {
//!     all.add(client, 7, bytes);
//! }
//! let again = all.by_path()[&7];
//! assert_eq!((again.requests, again.bytes, again.clients), (2, 1000, 1));
//! ```

use super::visitors::mixed;
use hashbrown::HashMap;

/// How many pairs of client and path are kept before clients become a sample.
pub const MOST_PAIRS: usize = 1 << 19;

/// Full answers by client and path.
#[derive(Debug, Clone, Default)]
pub struct Repeats {
    /// Answers and bytes by the hashes of client and path.
    pairs: HashMap<(u64, u64), (u32, u64)>,
    halvings: u32,
}

/// What was sent again of one path.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Again {
    /// Answers after the first of each client.
    pub requests: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Clients that had any.
    pub clients: u64,
}

impl Repeats {
    /// Takes in a full answer to a client for a path, both given by their keyed hashes.
    pub fn add(&mut self, client: u64, path: u64, bytes: u64) {
        self.take(client, path, 1, bytes);
    }

    /// Takes in what was counted elsewhere with the same key.
    pub fn merge(&mut self, other: Repeats) {
        if other.halvings > self.halvings {
            self.halvings = other.halvings;
            self.drop_above();
        }
        for ((client, path), (answers, bytes)) in other.pairs {
            self.take(client, path, answers, bytes);
        }
    }

    /// How many clients each one that is kept stands for.
    pub fn weight(&self) -> u64 {
        1 << self.halvings
    }

    /// What was sent again, by the hash of the path.
    pub fn by_path(&self) -> HashMap<u64, Again> {
        let mut paths: HashMap<u64, Again> = HashMap::new();
        for ((_, path), (answers, bytes)) in self.pairs.iter().filter(|(_, (answers, _))| *answers > 1) {
            let again = paths.entry(*path).or_default();
            again.requests += u64::from(answers - 1) * self.weight();
            // All but one of them; they need not have been equally long.
            again.bytes = again
                .bytes
                .saturating_add((bytes - bytes / u64::from(*answers)).saturating_mul(self.weight()));
            again.clients += self.weight();
        }
        paths
    }

    fn takes(&self, client: u64) -> bool {
        mixed(client) <= u64::MAX >> self.halvings
    }

    fn take(&mut self, client: u64, path: u64, answers: u32, bytes: u64) {
        if !self.takes(client) {
            return;
        }
        let known = self.pairs.entry((client, path)).or_default();
        *known = (known.0.saturating_add(answers), known.1.saturating_add(bytes));
        while self.pairs.len() > MOST_PAIRS {
            self.halvings += 1;
            self.drop_above();
        }
    }

    fn drop_above(&mut self) {
        let most = u64::MAX >> self.halvings;
        self.pairs.retain(|(client, _), _| mixed(*client) <= most);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn in_any_order_and_any_parts(all in proptest::collection::vec((0u64..6, 0u64..4, 1u64..100), 0..60), cut in 0usize..60) {
            let of = |part: &[(u64, u64, u64)]| {
                let mut repeats = Repeats::default();
                part.iter().for_each(|(client, path, bytes)| repeats.add(*client, *path, *bytes));
                repeats
            };
            let (one, other) = all.split_at(cut.min(all.len()));
            let mut merged = of(other);
            merged.merge(of(one));
            prop_assert_eq!(merged.by_path(), of(&all).by_path());
        }
    }
}
