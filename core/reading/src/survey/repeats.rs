//! What the same clients were sent in full again and again.
//!
//! A client that has a file and asks whether it is still the same is answered 304, and nothing is sent. Where the same client is sent
//! the whole file again, it was not told how long to keep it, or does not care. Counted are full answers by client, agent and
//! path; past [`MOST_PAIRS`] only of those clients whose hash is below a threshold, as with visitors of entries, so that merging in
//! any order gives the same.
//!
//! ```
//! use exedra_reading::survey::repeats::Repeats;
//! use exedra_reading::survey::repeats::FullAnswers;
//! let (mut all, mut answers) = (Repeats::default(), FullAnswers::default());
//! for (client, bytes) in [(1, 500), (1, 500), (1, 500), (2, 500)] {
//!     answers.add(client, 7, bytes);
//! }
//! answers.settle(&mut all);
//! let again = all.by_path()[&7];
//! assert_eq!((again.requests, again.bytes, again.clients), (2, 1000, 1));
//! ```

use super::tally::Tally;
use super::visitors::mixed;
use hashbrown::HashMap;
use std::ops::AddAssign;

/// How many pairs of client and path are kept before clients become a sample: as many as a table of half a million places holds.
pub const MOST_PAIRS: usize = 7 << 16;
/// How many a thread counts by itself before it settles them.
const MOST_UNSETTLED: usize = 1 << 16;

/// Full answers by client and path.
#[derive(Debug, Clone, Default)]
pub struct Repeats {
    /// Answers and bytes by the hashes of client and path.
    pairs: HashMap<(u64, u64), Answers>,
    halvings: u32,
}

/// Full answers to one client for one path.
#[derive(Debug, Clone, Copy, Default)]
struct Answers {
    count: u32,
    bytes: u64,
}

impl AddAssign for Answers {
    fn add_assign(&mut self, other: Answers) {
        self.count = self.count.saturating_add(other.count);
        self.bytes = self.bytes.saturating_add(other.bytes);
    }
}

/// Full answers that one thread counts before they are settled into what is known of all: a map of all of them is large, and one is
/// enough for all threads.
#[derive(Debug, Clone)]
pub struct FullAnswers {
    pairs: Tally<(u64, u64), Answers>,
    /// Clients with a larger hash are not looked at.
    most: u64,
}

impl Default for FullAnswers {
    fn default() -> Self {
        FullAnswers { pairs: Tally::default(), most: u64::MAX }
    }
}

impl FullAnswers {
    /// Takes in a full answer to a client for a path, both given by their keyed hashes.
    pub fn add(&mut self, client: u64, path: u64, bytes: u64) {
        if mixed(client) <= self.most {
            self.pairs.add((client, path), Answers { count: 1, bytes });
        }
    }

    /// Whether there are so many that they should be settled.
    pub fn are_many(&self) -> bool {
        self.pairs.keys() > MOST_UNSETTLED
    }

    /// Settles them. From there on only clients are looked at that are kept there.
    pub fn settle(&mut self, repeats: &mut Repeats) {
        for ((client, path), answers) in std::mem::take(&mut self.pairs).into_sorted() {
            repeats.take(client, path, answers);
        }
        self.most = repeats.most();
    }
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
    /// Takes in what was counted elsewhere with the same key.
    pub fn merge(&mut self, other: Repeats) {
        if other.halvings > self.halvings {
            self.halvings = other.halvings;
            self.drop_above();
        }
        for ((client, path), answers) in other.pairs {
            self.take(client, path, answers);
        }
    }

    /// How many clients each one that is kept stands for.
    pub fn weight(&self) -> u64 {
        1 << self.halvings
    }

    /// What was sent again, by the hash of the path.
    pub fn by_path(&self) -> HashMap<u64, Again> {
        let mut paths: HashMap<u64, Again> = HashMap::new();
        for ((_, path), Answers { count, bytes }) in
            self.pairs.iter().filter(|(_, answers)| answers.count > 1)
        {
            let again = paths.entry(*path).or_default();
            again.requests += u64::from(count - 1) * self.weight();
            // All but one of them; they need not have been equally long.
            again.bytes =
                again.bytes.saturating_add((bytes - bytes / u64::from(*count)).saturating_mul(self.weight()));
            again.clients += self.weight();
        }
        paths
    }

    /// Clients whose mixed hash is larger are not kept.
    fn most(&self) -> u64 {
        u64::MAX >> self.halvings
    }

    fn take(&mut self, client: u64, path: u64, answers: Answers) {
        if mixed(client) > self.most() {
            return;
        }
        *self.pairs.entry((client, path)).or_default() += answers;
        while self.pairs.len() > MOST_PAIRS {
            self.halvings += 1;
            self.drop_above();
        }
    }

    fn drop_above(&mut self) {
        let most = self.most();
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
                let (mut repeats, mut answers) = (Repeats::default(), FullAnswers::default());
                for (nth, (client, path, bytes)) in part.iter().enumerate() {
                    answers.add(*client, *path, *bytes);
                    if nth % 7 == 0 {
                        answers.settle(&mut repeats);
                    }
                }
                answers.settle(&mut repeats);
                repeats
            };
            let (one, other) = all.split_at(cut.min(all.len()));
            let mut merged = of(other);
            merged.merge(of(one));
            prop_assert_eq!(merged.by_path(), of(&all).by_path());
        }
    }
}
