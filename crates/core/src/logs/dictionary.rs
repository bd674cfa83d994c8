//! Each distinct text once; a number for it everywhere else.
//!
//! A thread that reads has one [`Dictionary`] for each text column. Codes are handed out in order of first
//! sight and never change, so whatever counts by text counts into a plain array. Strangers decide what
//! texts come, so the table is randomly seeded and [`Dictionaries::are_full`] says when to begin afresh.

use super::columns::TextColumn;
use hashbrown::HashTable;
use std::hash::BuildHasher;
use std::ops::Range;

/// How many distinct texts a column may hold before its reader begins afresh.
pub const MOST_TEXTS: usize = 300_000;
/// How many bytes of text a column may hold before its reader begins afresh.
pub const MOST_BYTES: usize = 24 << 20;

/// The distinct texts of one column.
#[derive(Debug, Default, Clone)]
pub struct Dictionary {
    seeds: foldhash::quality::RandomState,
    table: HashTable<u32>,
    entries: Vec<(u64, Range<u32>)>,
    letters: String,
}

impl Dictionary {
    /// The code of a text, which is learnt when it is new.
    pub fn code(&mut self, text: &str) -> u32 {
        self.code_of_bytes(text.as_bytes(), |_| std::borrow::Cow::Borrowed(text))
    }

    /// The code of a text given as octets; `as_text` is asked for the text only when it is new.
    pub fn code_of_bytes<'a>(
        &mut self,
        octets: &'a [u8],
        as_text: impl FnOnce(&'a [u8]) -> std::borrow::Cow<'a, str>,
    ) -> u32 {
        let hash = self.seeds.hash_one(octets);
        if let Some(code) = self.find(hash, octets) {
            return code;
        }
        let text = as_text(octets);
        if text.as_bytes() == octets { self.learn(hash, &text) } else { self.code(&text) }
    }

    fn find(&self, hash: u64, octets: &[u8]) -> Option<u32> {
        let Dictionary { table, entries, letters, .. } = self;
        table
            .find(hash, |&code| {
                let (known, range) = &entries[code as usize];
                *known == hash && &letters.as_bytes()[range.start as usize..range.end as usize] == octets
            })
            .copied()
    }

    fn learn(&mut self, hash: u64, text: &str) -> u32 {
        let code = self.entries.len() as u32;
        let start = self.letters.len() as u32;
        self.letters.push_str(text);
        self.entries.push((hash, start..self.letters.len() as u32));
        let entries = &self.entries;
        self.table.insert_unique(hash, code, |&code| entries[code as usize].0);
        code
    }

    /// The text behind a code of this dictionary.
    ///
    /// # Panics
    /// When the code is from another dictionary and larger than any of this one's.
    pub fn text(&self, code: u32) -> &str {
        let range = &self.entries[code as usize].1;
        &self.letters[range.start as usize..range.end as usize]
    }

    /// How many distinct texts there are.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether no text came yet.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// All texts, in the order of their codes.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        self.entries.iter().map(|(_, range)| &self.letters[range.start as usize..range.end as usize])
    }
}

/// One dictionary for each text column.
#[derive(Debug, Default, Clone)]
pub struct Dictionaries([Dictionary; TextColumn::ALL.len()]);

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
        self.0
            .iter()
            .any(|dictionary| dictionary.len() >= MOST_TEXTS || dictionary.letters.len() >= MOST_BYTES)
    }
}
