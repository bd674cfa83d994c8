//! Each distinct text once; a number for it everywhere else.
//!
//! A thread that reads has one [`Dictionary`] for each text column. Codes are handed out in order of first
//! sight and never change, so whatever counts by text counts into a plain array. Strangers decide what
//! texts come, so the table is randomly seeded and [`Dictionaries::are_full`] says when to begin afresh.
//!
//! Looking texts up is where a reading spends its time, and most of that is waiting for memory. So the table
//! is made to be waited for as little as can be: a slot of eight octets leads straight to the letters (two
//! places of memory for a text that is known), and [`Dictionary::codes`] looks up many texts at once, first
//! touching all slots, then all letters, so that the waits overlap.
//!
//! ```
//! use exedra_common::Dictionary;
//! let mut paths = Dictionary::default();
//! let tides = paths.code("/tides");
//! assert_eq!((paths.code("/tides"), paths.text(tides), paths.len()), (tides, "/tides", 1));
//! assert_eq!(paths.known("/map"), None);
//! ```

use crate::columns::TextColumn;
use foldhash::quality::RandomState;
use std::hash::BuildHasher;

/// How many distinct texts a column may hold before its reader begins afresh.
pub const MOST_TEXTS: usize = 1 << 18;
/// How many bytes of text all columns together may hold before their reader begins afresh.
pub const MOST_BYTES: usize = 24 << 20;
/// How many texts are looked up at once: as many as a number has bits that says which.
const TOGETHER: usize = u32::BITS as usize;
/// Stands for a text that nobody has asked for: no dictionary has so many.
const NOT_ASKED: u32 = u32::MAX - 1;
/// Tables of fewer slots grow fourfold, larger ones twofold.
const LARGE: usize = 1 << 16;

/// The distinct texts of one column.
#[derive(Debug, Default, Clone)]
pub struct Dictionary {
    seeds: RandomState,
    /// A power of two of them, at most half full.
    slots: Vec<Slot>,
    /// Where the text of each code begins in `letters`, and one more end.
    starts: Vec<u32>,
    letters: String,
}

/// A place of the table. Nothing is there when `next` is 0.
#[derive(Debug, Default, Clone, Copy)]
struct Slot {
    /// The upper half of the text's hash.
    tag: u32,
    /// One more than the text's code.
    next: u32,
}

impl Dictionary {
    /// A dictionary of texts that are known to be distinct, whose codes are their places: their letters one after the other, and the
    /// octets that each has of them. It is made to be read by codes: to look a text up in it, all are sorted in first.
    pub fn of_distinct(letters: &str, lengths: &[u32]) -> Self {
        let mut end = 0;
        let ends = lengths.iter().map(|length| {
            end += length;
            end
        });
        let starts = [0].into_iter().chain(ends).collect();
        Dictionary { starts, letters: letters.to_owned(), ..Dictionary::default() }
    }

    /// Appends the codes here of codes of another dictionary, and learns those texts that they are of. `nothing` stays as it is.
    pub fn translate(&mut self, theirs: &Dictionary, codes: &[u32], nothing: u32, out: &mut Vec<u32>) {
        self.codes_of_some(
            theirs.len(),
            codes.iter().map(|&code| if code == nothing { 0 } else { code + 1 }),
            |nth| theirs.octets(nth),
            nothing,
            out,
        );
    }

    /// Appends the codes of texts that are given by their places among so many: from 1 on, and 0 for none, which gives `nothing`. A text
    /// at no place that is given is not learnt.
    ///
    /// # Panics
    /// When a place is greater than the number of texts.
    pub fn codes_of_some<'t>(
        &mut self,
        texts: usize,
        places: impl Iterator<Item = u32> + Clone,
        text: impl Fn(u32) -> &'t [u8],
        nothing: u32,
        out: &mut Vec<u32>,
    ) {
        let mut known = vec![NOT_ASKED; texts + 1];
        known[0] = nothing;
        let mut asked: Vec<u32> = Vec::new();
        for place in places.clone() {
            if known[place as usize] == NOT_ASKED {
                known[place as usize] = 0;
                asked.push(place);
            }
        }
        if nothing == NOT_ASKED {
            asked.retain(|place| *place != 0);
        }
        let octets: Vec<Option<&[u8]>> = asked.iter().map(|place| Some(text(place - 1))).collect();
        let mut codes = Vec::with_capacity(asked.len());
        self.codes(&octets, nothing, String::from_utf8_lossy, &mut codes);
        asked.iter().zip(codes).for_each(|(place, code)| known[*place as usize] = code);
        known[0] = nothing;
        out.extend(places.map(|place| known[place as usize]));
    }

    /// The code of a text, which is learnt when it is new.
    pub fn code(&mut self, text: &str) -> u32 {
        let hash = self.seeds.hash_one(text.as_bytes());
        match self.find(hash, text.as_bytes()) {
            Some(code) => code,
            None => self.learn(hash, text),
        }
    }

    /// The codes of many texts given as octets, in their order; `None` gives `nothing`. `as_text` is asked
    /// for the text of octets that are new.
    pub fn codes<'a>(
        &mut self,
        texts: &[Option<&'a [u8]>],
        nothing: u32,
        as_text: impl Fn(&'a [u8]) -> std::borrow::Cow<'a, str>,
        out: &mut Vec<u32>,
    ) {
        let mut hashes = [0u64; TOGETHER];
        for texts in texts.chunks(TOGETHER) {
            // Neighbours are often the same: such a one is not looked up again.
            let is_as_before = |nth: usize| nth > 0 && are_same(texts[nth - 1], texts[nth]);
            let mut again = 0u32;
            for (nth, (hash, text)) in hashes.iter_mut().zip(texts).enumerate() {
                match text {
                    Some(_) if is_as_before(nth) => again |= 1 << nth,
                    Some(text) => *hash = self.seeds.hash_one(text),
                    None => {}
                }
            }
            self.touch(&hashes, texts, again);
            let mut code = nothing;
            for (nth, (&hash, text)) in hashes.iter().zip(texts).enumerate() {
                code = match text {
                    None => nothing,
                    Some(_) if again & 1 << nth != 0 => code,
                    Some(octets) => match self.find(hash, octets) {
                        Some(code) => code,
                        None => match as_text(octets) {
                            text if text.as_bytes() == *octets => self.learn(hash, &text),
                            text => self.code(&text),
                        },
                    },
                };
                out.push(code);
            }
        }
    }

    /// Brings what the look-ups will need nearer, all at once but for those that are as the one before. Says something that depends on
    /// all of it, so that nothing of it is left out.
    fn touch(&self, hashes: &[u64; TOGETHER], texts: &[Option<&[u8]>], again: u32) {
        let Some(mask) = self.slots.len().checked_sub(1) else { return };
        let is_asked = |nth: usize| again & 1 << nth == 0;
        let mut starts = [0u32; TOGETHER];
        for nth in (0..texts.len()).filter(|nth| is_asked(*nth)) {
            let slot = self.slots[hashes[nth] as usize & mask];
            starts[nth] = self.starts.get(slot.next.wrapping_sub(1) as usize).copied().unwrap_or(0);
        }
        let letters = self.letters.as_bytes();
        let letter = |at: usize| letters.get(at).copied().unwrap_or(0);
        let all = (0..texts.len()).filter(|nth| is_asked(*nth)).fold(0u8, |all, nth| {
            // The first and the last: a text may reach into what is fetched apart.
            let (start, length) = (starts[nth] as usize, texts[nth].map_or(0, <[u8]>::len));
            all ^ letter(start) ^ letter(start + length.saturating_sub(1))
        });
        std::hint::black_box(all);
    }

    fn find(&self, hash: u64, octets: &[u8]) -> Option<u32> {
        let mask = self.slots.len().checked_sub(1)?;
        let tag = (hash >> 32) as u32;
        let mut place = hash as usize & mask;
        loop {
            let slot = self.slots[place];
            if slot.next == 0 {
                return None;
            }
            if slot.tag == tag && self.octets(slot.next - 1) == octets {
                return Some(slot.next - 1);
            }
            place = (place + 1) & mask;
        }
    }

    fn learn(&mut self, hash: u64, text: &str) -> u32 {
        let code = self.len() as u32;
        if self.slots.len() < 2 * (self.len() + 1) {
            self.grow();
        }
        if self.starts.is_empty() {
            self.starts.push(0);
        }
        self.letters.push_str(text);
        self.starts.push(self.letters.len() as u32);
        self.put(hash, code);
        code
    }

    fn put(&mut self, hash: u64, code: u32) {
        let mask = self.slots.len() - 1;
        let mut place = hash as usize & mask;
        while self.slots[place].next != 0 {
            place = (place + 1) & mask;
        }
        self.slots[place] = Slot { tag: (hash >> 32) as u32, next: code + 1 };
    }

    fn grow(&mut self) {
        let times = if self.slots.len() < LARGE { 4 } else { 2 };
        self.slots = vec![Slot::default(); (self.slots.len() * times).max(64)];
        for code in 0..self.len() as u32 {
            let hash = self.seeds.hash_one(self.octets(code));
            self.put(hash, code);
        }
    }

    fn octets(&self, code: u32) -> &[u8] {
        let code = code as usize;
        &self.letters.as_bytes()[self.starts[code] as usize..self.starts[code + 1] as usize]
    }

    /// The text behind a code of this dictionary.
    ///
    /// # Panics
    /// When the code is from another dictionary and larger than any of this one's.
    pub fn text(&self, code: u32) -> &str {
        let code = code as usize;
        &self.letters[self.starts[code] as usize..self.starts[code + 1] as usize]
    }

    /// The code of a text that has been learnt.
    pub fn known(&self, text: &str) -> Option<u32> {
        self.find(self.seeds.hash_one(text.as_bytes()), text.as_bytes())
    }

    /// How many bytes all texts have together.
    pub fn bytes(&self) -> usize {
        self.letters.len()
    }

    /// How many distinct texts there are.
    pub fn len(&self) -> usize {
        self.starts.len().saturating_sub(1)
    }

    /// Whether no text came yet.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The letters of all texts one after the other, and where each begins in them, with one more end: as whoever keeps texts in one
    /// piece takes them over. Where there is no text, there may be no end.
    pub fn in_one_piece(&self) -> (&str, &[u32]) {
        (&self.letters, &self.starts)
    }

    /// All texts, in the order of their codes.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        (0..self.len() as u32).map(|code| self.text(code))
    }
}

/// Whether two texts are there and the same; what differs mostly does so in its length or at its end.
fn are_same(one: Option<&[u8]>, other: Option<&[u8]>) -> bool {
    one.zip(other)
        .is_some_and(|(one, other)| one.len() == other.len() && one.last() == other.last() && one == other)
}

/// One dictionary for each text column.
#[derive(Debug, Default, Clone)]
pub struct Dictionaries([Dictionary; TextColumn::COUNT]);

impl Dictionaries {
    /// The dictionary of a column.
    pub fn of(&self, column: TextColumn) -> &Dictionary {
        &self.0[column.index()]
    }

    /// The dictionary of a column, to learn texts.
    pub fn of_mut(&mut self, column: TextColumn) -> &mut Dictionary {
        &mut self.0[column.index()]
    }

    /// Whether one of them has reached its bound, so that whoever counts by codes must settle and begin afresh.
    pub fn are_full(&self) -> bool {
        self.0.iter().map(Dictionary::bytes).sum::<usize>() >= MOST_BYTES
            || self.0.iter().any(|dictionary| dictionary.len() >= MOST_TEXTS)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::borrow::Cow;
    use std::collections::HashMap;

    proptest! {
        #[test]
        fn codes_are_those_of_a_plain_map(texts in proptest::collection::vec(proptest::option::of("[a-c]{0,4}"), 0..400)) {
            let mut dictionary = Dictionary::default();
            let mut plain: HashMap<&str, u32> = HashMap::new();
            let octets: Vec<Option<&[u8]>> = texts.iter().map(|text| text.as_deref().map(str::as_bytes)).collect();
            let mut codes = Vec::new();
            let as_text = |octets| String::from_utf8_lossy(octets);
            dictionary.codes(&octets, u32::MAX, as_text, &mut codes);
            for (text, code) in texts.iter().zip(&codes) {
                let next = plain.len() as u32;
                let expected = text.as_deref().map_or(u32::MAX, |text| *plain.entry(text).or_insert(next));
                prop_assert_eq!(*code, expected);
            }
            prop_assert_eq!(dictionary.texts().map(|text| plain[text]).collect::<Vec<_>>(), (0..plain.len() as u32).collect::<Vec<_>>());
        }
    }

    #[test]
    fn octets_that_are_no_text_get_the_code_of_what_stands_for_them() {
        let mut dictionary = Dictionary::default();
        let mut codes = Vec::new();
        let escaped = |_| Cow::Borrowed("\\xff");
        dictionary.codes(&[Some(b"\xff"), Some(b"\\xff"), Some(b"\xff")], 9, escaped, &mut codes);
        assert_eq!((codes, dictionary.len()), (vec![0, 0, 0], 1));
    }
}
