//! How long answers took: exact up to a limit, and past it to a stated part of each duration.
//!
//! For every path it is known how often each duration came. When there are too many different ones, durations keep fewer of
//! their leading binary digits, so that neighbours become one; the digits that are left depend on what was counted alone, not on its order.
//!
//! ```
//! use exedra_reading::survey::durations::Durations;
//! let mut durations = Durations::default();
//! (1..=100).for_each(|milliseconds| durations.add(7, milliseconds * 1000, 1));
//! let (all, of_paths) = durations.spreads();
//! assert_eq!((all.requests, all.p50, all.p99, durations.error()), (100, 50_000, 99_000, 0.0));
//! assert_eq!(of_paths[&7], all);
//! ```

use super::ranking::Ranking;
use super::visitors::AsItIs;
use foldhash::fast::FixedState;
use hashbrown::{HashMap, HashSet};
use std::collections::BTreeMap;
use std::hash::BuildHasherDefault;

/// How many pairs of path and duration are kept: one more still fits into a map of 6.5 MB.
const MOST_PAIRS: usize = (1 << 18) / 8 * 7 - 1;
/// How many of them are left where the rarest paths are joined, so that this is not done again at once.
const LEFT_PAIRS: usize = MOST_PAIRS / 2;
/// How many leading binary digits of durations are kept, from exact to coarse.
const DIGITS: [u32; 7] = [64, 9, 8, 7, 6, 5, 4];
/// How many minutes with slow requests are kept.
const MOST_MINUTES: usize = 1 << 16;
/// Stands for all paths that are not told apart.
const OTHERS: u64 = 0;

/// Durations of paths, and when they were long.
#[derive(Debug, Clone, Default)]
pub struct Durations {
    /// How often each duration came, by the keyed hash of the path.
    counts: HashMap<(u64, u64), u64, FixedState>,
    /// Place in [`DIGITS`].
    coarse: usize,
    /// Slow requests by path.
    pub slow: Ranking,
    /// Slow requests by minute, counted from 1970 UTC.
    pub minutes: BTreeMap<i64, u64>,
    /// Slow requests of minutes that are no longer told apart.
    pub other_minutes: u64,
}

/// The durations of something, in microseconds.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Spread {
    /// How many requests.
    pub requests: u64,
    /// Their durations together.
    pub sum: u64,
    /// Half of them took no longer.
    pub p50: u64,
    /// Nine in ten took no longer.
    pub p90: u64,
    /// Ninety-nine in a hundred took no longer.
    pub p99: u64,
}

impl Durations {
    /// Takes in requests for a path, given by its hash, that took as long.
    pub fn add(&mut self, path: u64, microseconds: u64, requests: u64) {
        let cut = cut(microseconds, DIGITS[self.coarse]);
        *self.counts.entry((path, cut)).or_default() += requests;
        if self.counts.len() > MOST_PAIRS {
            self.thin_out();
        }
    }

    /// Takes in a slow request of a minute.
    pub fn add_slow_minute(&mut self, minute: i64, requests: u64) {
        *self.minutes.entry(minute).or_default() += requests;
        if self.minutes.len() > MOST_MINUTES {
            let mut counts: Vec<u64> = self.minutes.values().copied().collect();
            let middle = counts.len() / 2;
            let (_, &mut least, _) = counts.select_nth_unstable(middle);
            let before: u64 = self.minutes.values().sum();
            self.minutes.retain(|_, count| *count > least);
            self.other_minutes += before - self.minutes.values().sum::<u64>();
        }
    }

    /// Takes in other durations counted with the same key.
    pub fn merge(&mut self, other: Durations) {
        self.slow.merge(other.slow);
        other.minutes.into_iter().for_each(|(minute, count)| self.add_slow_minute(minute, count));
        self.other_minutes += other.other_minutes;
        if self.counts.is_empty() && self.coarse <= other.coarse {
            (self.counts, self.coarse) = (other.counts, other.coarse);
            return;
        }
        self.make_as_coarse(other.coarse);
        // Both are in the same order: what grows while it is filled so has most of it in one place.
        self.counts.reserve(other.counts.len().min(MOST_PAIRS - self.counts.len()));
        for ((path, microseconds), count) in other.counts {
            self.add(path, microseconds, count);
        }
    }

    /// Keeps no more digits than others do.
    pub(super) fn make_as_coarse(&mut self, coarse: usize) {
        if coarse > self.coarse {
            self.coarse = coarse.min(DIGITS.len() - 1);
            self.cut_all();
        }
    }

    /// How coarse durations have become.
    pub(super) fn coarse(&self) -> usize {
        self.coarse
    }

    /// How often each duration of each path came, in order.
    pub(super) fn in_order(&self) -> Vec<((u64, u64), u64)> {
        let mut counts: Vec<_> = self.counts.iter().map(|(key, count)| (*key, *count)).collect();
        counts.sort_unstable();
        counts
    }

    /// Whether any duration is known.
    pub fn is_empty(&self) -> bool {
        self.counts.is_empty()
    }

    /// The most that a percentile is off, as a part of it; 0 while all are exact.
    pub fn error(&self) -> f64 {
        match DIGITS[self.coarse] {
            64 => 0.0,
            digits => 0.5f64.powi(digits as i32),
        }
    }

    /// The spread of all requests, and that of each path by its hash.
    pub fn spreads(&self) -> (Spread, HashMap<u64, Spread, BuildHasherDefault<AsItIs>>) {
        let middle = |duration: u64| duration + width(duration, DIGITS[self.coarse]) / 2;
        let mut all: Vec<(u64, u64, u64)> =
            self.counts.iter().map(|((path, duration), count)| (*path, middle(*duration), *count)).collect();
        all.sort_unstable();
        let mut paths: HashMap<u64, Spread, BuildHasherDefault<AsItIs>> = HashMap::default();
        for part in all.chunk_by(|a, b| a.0 == b.0).filter(|part| part[0].0 != OTHERS) {
            paths.insert(part[0].0, spread(part));
        }
        all.sort_unstable_by_key(|(_, duration, _)| *duration);
        (spread(&all), paths)
    }

    fn thin_out(&mut self) {
        while self.counts.len() > MOST_PAIRS {
            if self.coarse + 1 < DIGITS.len() {
                self.coarse += 1;
                self.cut_all();
            } else {
                self.join_rare_paths();
            }
        }
    }

    fn cut_all(&mut self) {
        let digits = DIGITS[self.coarse];
        self.change_keys(|(path, microseconds)| (path, cut(microseconds, digits)));
    }

    /// The paths with the fewest requests are no longer told apart.
    fn join_rare_paths(&mut self) {
        let mut paths: HashMap<u64, (u64, usize), BuildHasherDefault<AsItIs>> = HashMap::default();
        for ((path, _), count) in &self.counts {
            let (requests, pairs) = paths.entry(*path).or_default();
            *requests += count;
            *pairs += 1;
        }
        paths.remove(&OTHERS);
        let mut often: Vec<(u64, u64, usize)> =
            paths.drain().map(|(path, (requests, pairs))| (requests, path, pairs)).collect();
        often.sort_unstable_by(|a, b| b.cmp(a));
        let mut left = 0;
        let told = often.into_iter().map_while(|(_, path, pairs)| {
            left += pairs;
            (left <= LEFT_PAIRS).then_some(path)
        });
        let told: HashSet<u64, BuildHasherDefault<AsItIs>> = told.collect();
        self.change_keys(|(path, microseconds)| {
            (if told.contains(&path) { path } else { OTHERS }, microseconds)
        });
    }

    /// Counts by other keys what was counted; in the same map, as a new one would take more memory while it grows.
    fn change_keys(&mut self, change: impl Fn((u64, u64)) -> (u64, u64)) {
        let counts: Vec<((u64, u64), u64)> = self.counts.drain().collect();
        for (key, count) in counts {
            *self.counts.entry(change(key)).or_default() += count;
        }
    }
}

/// How many durations become one with this one, when only so many leading digits are kept.
fn width(microseconds: u64, digits: u32) -> u64 {
    let length = u64::BITS - microseconds.leading_zeros();
    1 << length.saturating_sub(digits)
}

/// A duration with only so many leading digits.
fn cut(microseconds: u64, digits: u32) -> u64 {
    microseconds & !(width(microseconds, digits) - 1)
}

/// The spread of durations in order.
fn spread(ordered: &[(u64, u64, u64)]) -> Spread {
    let requests: u64 = ordered.iter().map(|(_, _, count)| count).sum();
    let at = |percent: u64| {
        let rank = (requests * percent).div_ceil(100);
        let mut seen = 0;
        let found = ordered.iter().find(|(_, _, count)| {
            seen += count;
            seen >= rank
        });
        found.map_or(0, |found| found.1)
    };
    let sum = ordered
        .iter()
        .fold(0u64, |sum, (_, duration, count)| sum.saturating_add(duration.saturating_mul(*count)));
    Spread { requests, sum, p50: at(50), p90: at(90), p99: at(99) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn of(durations: &[(u64, u64)]) -> Durations {
        let mut all = Durations::default();
        durations.iter().for_each(|(path, duration)| all.add(*path, *duration, 1));
        all
    }

    proptest! {
        #[test]
        fn as_by_hand_and_in_any_order(durations in proptest::collection::vec((1u64..4, 0u64..5_000_000), 1..200), cut in 0usize..200) {
            let (a, b) = durations.split_at(cut.min(durations.len()));
            let (mut forth, mut back) = (of(a), of(b));
            forth.merge(of(b));
            back.merge(of(a));
            for path in 1..4 {
                let mut plain: Vec<u64> = durations.iter().filter(|one| one.0 == path).map(|one| one.1).collect();
                plain.sort_unstable();
                for all in [&forth, &back] {
                    let found = all.spreads().1.get(&path).copied();
                    prop_assert_eq!(found.is_some(), !plain.is_empty());
                    if let Some(found) = found {
                        let rank = |percent: usize| plain[(plain.len() * percent).div_ceil(100) - 1];
                        prop_assert_eq!(found, Spread {
                            requests: plain.len() as u64, sum: plain.iter().sum(), p50: rank(50), p90: rank(90), p99: rank(99),
                        });
                    }
                }
            }
        }
    }

    #[test]
    fn too_many_stay_within_the_stated_error() {
        let mut all = Durations::default();
        let durations = MOST_PAIRS as u64 * 3;
        (1..=durations).for_each(|microseconds| all.add(7, microseconds * 3, 1));
        assert!(all.counts.len() <= MOST_PAIRS);
        let error = all.error();
        assert!(error > 0.0 && error < 0.01, "{error}");
        let found = all.spreads().1[&7];
        for (percent, found) in [(50, found.p50), (90, found.p90), (99, found.p99)] {
            let exact = (durations * percent / 100 * 3) as f64;
            assert!((found as f64 - exact).abs() <= exact * error * 1.01, "p{percent}: {found} for {exact}");
        }
        assert_eq!(found.requests, durations);
    }

    #[test]
    fn too_many_paths_lose_no_request() {
        let mut all = Durations::default();
        let paths = MOST_PAIRS as u64 + 10;
        (1..=paths).for_each(|path| all.add(path, 1000 + path % 3, 1));
        (0..50).for_each(|_| all.add(5, 2_000_000, 1));
        let (together, apart) = all.spreads();
        assert_eq!(together.requests, paths + 50);
        assert!(all.counts.len() <= MOST_PAIRS && apart[&5].requests >= 50);
    }
}
