//! Counts by text, with a bound.
//!
//! Strangers decide how many distinct texts there are and how long they are. Past [`MOST_ENTRIES`] or [`MOST_BYTES`] the
//! smaller half is let go; what it counted stays in the rest, and the ranking says that small counts may then be too low.
//!
//! ```
//! use exedra_reading::survey::{Counts, Ranking};
//! let mut paths = Ranking::default();
//! for (path, bytes) in [("/tides", 5), ("/fog", 900), ("/tides", 5)] {
//!     paths.add(path, Counts { requests: 1, bytes });
//! }
//! assert_eq!(paths.by_requests()[0].0, "/tides");
//! let (first, rest) = paths.top(|_, counts| counts.bytes, 1);
//! assert_eq!((first[0].0, rest[0].0), ("/fog", "/tides"));
//! assert_eq!(paths.total(), Counts { requests: 3, bytes: 910 });
//! ```

use exedra_common::Dictionary;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// How many texts a ranking keeps.
pub const MOST_ENTRIES: usize = 1 << 18;
/// How many bytes of text a ranking keeps.
pub const MOST_BYTES: usize = 12 << 20;

/// How often, and how much.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
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

impl std::ops::AddAssign for Counts {
    fn add_assign(&mut self, other: Counts) {
        self.merge(other);
    }
}

/// Texts with their counts.
pub type Entries<'r> = Vec<(&'r str, Counts)>;

fn without_weight<'r>(entries: Vec<(u64, (&'r str, Counts))>) -> Entries<'r> {
    entries.into_iter().map(|(_, entry)| entry).collect()
}

/// Counts by text.
#[derive(Debug, Clone, Default)]
pub struct Ranking {
    texts: Dictionary,
    counts: Vec<Counts>,
    let_go: Counts,
}

impl Ranking {
    /// Takes in counts of one text.
    pub fn add(&mut self, text: &str, counts: Counts) {
        let code = self.texts.code(text) as usize;
        self.take_in(code, counts);
        self.keep_to_its_bounds();
    }

    /// Takes in counts by the codes of a dictionary. Texts that were never asked for are left out.
    pub fn add_all(&mut self, texts: &Dictionary, counts: &[Counts]) {
        self.add_entries(texts.texts().zip(counts.iter().copied()));
    }

    /// Takes in counts by texts, which are looked up together.
    pub(super) fn add_entries<'t>(&mut self, entries: impl Iterator<Item = (&'t str, Counts)>) {
        const TOGETHER: usize = 4096;
        let (mut octets, mut theirs, mut codes) = (Vec::new(), Vec::new(), Vec::new());
        let mut asked = entries.filter(|(_, counts)| counts.requests > 0).peekable();
        while asked.peek().is_some() {
            for (text, counts) in asked.by_ref().take(TOGETHER) {
                octets.push(Some(text.as_bytes()));
                theirs.push(counts);
            }
            self.texts.codes(&octets, u32::MAX, |text| String::from_utf8_lossy(text), &mut codes);
            for (code, counts) in codes.drain(..).zip(theirs.drain(..)) {
                self.take_in(code as usize, counts);
            }
            octets.clear();
            self.keep_to_its_bounds();
        }
    }

    /// Takes in another ranking.
    pub fn merge(&mut self, other: Ranking) {
        let let_go = self.let_go;
        if self.counts.is_empty() {
            *self = other;
            self.let_go.merge(let_go);
        } else {
            self.let_go.merge(other.let_go);
            self.add_all(&other.texts, &other.counts);
        }
    }

    /// All entries, most requests first; equal ones by their text.
    pub fn by_requests(&self) -> Entries<'_> {
        self.top(|_, counts| counts.requests, usize::MAX).0
    }

    /// The first entries by their weight, the largest first, equal ones by their text; and all others, in no order.
    pub fn top(&self, weight: impl Fn(&str, Counts) -> u64, length: usize) -> (Entries<'_>, Entries<'_>) {
        let mut entries: Vec<(u64, (&str, Counts))> =
            self.entries().map(|(text, counts)| (weight(text, counts), (text, counts))).collect();
        let order = |a: &(u64, (&str, Counts)), b: &(u64, (&str, Counts))| {
            b.0.cmp(&a.0).then_with(|| a.1.0.cmp(b.1.0))
        };
        let others = match length {
            0 => std::mem::take(&mut entries),
            length if length < entries.len() => {
                entries.select_nth_unstable_by(length - 1, order);
                entries.split_off(length)
            }
            _ => Vec::new(),
        };
        entries.sort_unstable_by(order);
        (without_weight(entries), without_weight(others))
    }

    /// Takes counts of a text out again; it is left out when no request remains.
    pub fn take_out(&mut self, text: &str, counts: Counts) {
        if let Some(code) = self.texts.known(text) {
            let known = &mut self.counts[code as usize];
            known.requests = known.requests.saturating_sub(counts.requests);
            known.bytes = known.bytes.saturating_sub(counts.bytes);
        }
    }

    /// All entries, in no order that means anything.
    pub fn entries(&self) -> impl Iterator<Item = (&str, Counts)> {
        let entries = self.texts.texts().zip(self.counts.iter().copied());
        entries.filter(|(_, counts)| counts.requests > 0)
    }

    /// The counts of one text.
    pub fn of(&self, text: &str) -> Counts {
        self.texts.known(text).map_or(Counts::default(), |code| self.counts[code as usize])
    }

    /// The same counts by what is made of each text; those it makes nothing of are left out.
    pub fn regrouped<'a>(&'a self, by: impl Fn(&'a str) -> Option<Cow<'a, str>>) -> Ranking {
        let mut ranking = Ranking { let_go: self.let_go, ..Ranking::default() };
        for (text, counts) in self.entries() {
            if let Some(text) = by(text) {
                ranking.add(&text, counts);
            }
        }
        ranking
    }

    /// Whether nothing was counted.
    pub fn is_empty(&self) -> bool {
        self.counts.is_empty() && self.let_go.requests == 0
    }

    /// Counts of texts that were let go of elsewhere.
    pub(super) fn let_go_of(&mut self, counts: Counts) {
        self.let_go.merge(counts);
    }

    /// Everything counted: for texts that are kept and for those that were let go of.
    pub fn total(&self) -> Counts {
        let mut total = self.let_go;
        self.counts.iter().for_each(|counts| total.merge(*counts));
        total
    }

    /// What was counted for texts that were let go of.
    pub fn let_go(&self) -> Counts {
        self.let_go
    }

    fn take_in(&mut self, code: usize, counts: Counts) {
        if code >= self.counts.len() {
            self.counts.resize(code + 1, Counts::default());
        }
        self.counts[code].merge(counts);
    }

    fn keep_to_its_bounds(&mut self) {
        while self.texts.len() > MOST_ENTRIES || (self.texts.bytes() > MOST_BYTES && self.texts.len() > 1) {
            self.let_go_of_the_small();
        }
    }

    fn let_go_of_the_small(&mut self) {
        let mut sizes: Vec<u64> = self.counts.iter().map(|counts| counts.requests).collect();
        let half = sizes.len() / 2;
        let (_, &mut middle, _) = sizes.select_nth_unstable(half);
        let larger = self.counts.iter().filter(|counts| counts.requests > middle).count();
        let mut spare = half.saturating_sub(larger);
        let all = std::mem::take(self);
        self.let_go = all.let_go;
        for (text, counts) in all.texts.texts().zip(all.counts) {
            let is_spared = counts.requests == middle && spare > 0;
            if counts.requests > middle || is_spared {
                spare -= usize::from(is_spared);
                let code = self.texts.code(text) as usize;
                self.take_in(code, counts);
            } else {
                self.let_go.merge(counts);
            }
        }
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
            ranking.add(&number.to_string(), one);
            ranking.add("0", one);
        }
        let entries = ranking.by_requests();
        assert!(entries.len() <= MOST_ENTRIES);
        assert_eq!(
            entries[0],
            (
                "0",
                Counts { requests: 2 * MOST_ENTRIES as u64 + 1, bytes: (2 * MOST_ENTRIES as u64 + 1) * 10 }
            )
        );
        let kept: u64 = entries.iter().map(|(_, counts)| counts.requests).sum();
        assert_eq!(kept + ranking.let_go().requests, 4 * MOST_ENTRIES as u64);
    }

    #[test]
    fn the_top_is_the_beginning_of_all() {
        let mut ranking = Ranking::default();
        for number in 0u64..100 {
            ranking.add(&number.to_string(), Counts { requests: 1 + number % 7, bytes: 100 - number });
        }
        let all = ranking.by_requests();
        for length in [0, 1, 14, 99, 100, 200] {
            let (top, others) = ranking.top(|_, counts| counts.requests, length);
            assert_eq!(top, all[..length.min(100)]);
            assert_eq!(top.len() + others.len(), 100);
        }
        assert_eq!(ranking.top(|_, counts| counts.bytes, 1).0[0].0, "0");
    }

    #[test]
    fn long_texts_are_bounded_too() {
        let mut ranking = Ranking::default();
        for number in 0..3000 {
            ranking.add(&format!("/{number}/{}", "long".repeat(2500)), Counts { requests: 1, bytes: 0 });
        }
        assert!(ranking.texts.bytes() <= MOST_BYTES);
        assert_eq!(ranking.total().requests, 3000);
    }
}
