//! The requests of one client, kept while logs are read, with a bound.

use exedra_common::batch::{NO_TEXT, NO_TIME};
use exedra_common::{Column, Dictionaries, Dictionary, NumberColumn, Projection, RequestBatch, TextColumn};
use std::borrow::Cow;

/// How many requests are kept.
const MOST: usize = 1 << 20;
/// How many bytes of text are kept.
const MOST_BYTES: usize = 48 << 20;

/// Where a request stands: settles the order of those that came in the same millisecond.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    /// Place of the source in their order.
    pub source: usize,
    /// Place of its block in the source.
    pub block: u64,
    /// Place of the first line in the block that was read together with it.
    pub line: u64,
    /// Place among those.
    pub row: u32,
}

/// One request, by codes.
#[derive(Debug, Clone, Copy)]
pub(super) struct Row {
    pub time: i64,
    pub place: Place,
    pub method: u32,
    pub target: u32,
    pub referrer: u32,
    pub agent: u32,
    pub status: u16,
    pub bytes: u64,
    pub duration: Option<u64>,
}

impl Row {
    /// Two requests one after another that say the same become one step.
    pub fn says(&self) -> (u32, u32, u16) {
        (self.method, self.target, self.status)
    }
}

/// The requests that were kept, and how many were not.
#[derive(Debug, Default)]
pub(super) struct Kept {
    texts: Dictionary,
    pub rows: Vec<Row>,
    pub unkept: u64,
    pub unkept_bytes: u64,
}

impl Kept {
    /// The text behind a code.
    pub fn text(&self, code: u32) -> Option<&str> {
        (code != NO_TEXT).then(|| self.texts.text(code))
    }

    /// Method and target in one.
    pub fn words(&self, method: u32, target: u32) -> String {
        format!("{} {}", self.text(method).unwrap_or("-"), self.text(target).unwrap_or("-"))
    }
}

/// Keeps requests as they are read.
#[derive(Debug, Default)]
pub struct Keeper(Kept);

impl Keeper {
    /// The columns that it looks at.
    pub fn projection() -> Projection {
        let texts = [
            TextColumn::Client,
            TextColumn::Method,
            TextColumn::Path,
            TextColumn::Query,
            TextColumn::Referrer,
            TextColumn::Agent,
        ];
        let numbers = [NumberColumn::Status, NumberColumn::Bytes, NumberColumn::Duration];
        numbers.map(Column::Number).into_iter().chain(texts.map(Column::Text)).collect()
    }

    /// Keeps one request of a batch.
    pub fn add(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, place: Place) {
        let bytes = batch.number(NumberColumn::Bytes, row).unwrap_or(0);
        // Without a time it has no place among the others.
        if self.is_full() || batch.time[row] == NO_TIME {
            self.0.unkept += 1;
            self.0.unkept_bytes += bytes;
            return;
        }
        let text = |column| batch.code(column, row).map(|code| texts.of(column).text(code));
        let target = text(TextColumn::Path).map(|path| match text(TextColumn::Query) {
            Some(query) => Cow::Owned(format!("{path}?{query}")),
            None => Cow::Borrowed(path),
        });
        let known = &mut self.0.texts;
        let mut code = |text: Option<&str>| text.map_or(NO_TEXT, |text| known.code(text));
        let kept = Row {
            time: batch.time[row],
            place,
            method: code(text(TextColumn::Method)),
            target: code(target.as_deref()),
            referrer: code(text(TextColumn::Referrer)),
            agent: code(text(TextColumn::Agent)),
            status: batch.number(NumberColumn::Status, row).map_or(0, |status| status as u16),
            bytes,
            duration: batch.number(NumberColumn::Duration, row),
        };
        self.0.rows.push(kept);
    }

    /// Takes in what another thread kept.
    pub fn merge(&mut self, other: Keeper) {
        let theirs = other.0;
        let translation: Vec<u32> = theirs.texts.texts().map(|text| self.0.texts.code(text)).collect();
        let code = |code: u32| translation.get(code as usize).copied().unwrap_or(NO_TEXT);
        let translated = theirs.rows.into_iter().map(|row| Row {
            method: code(row.method),
            target: code(row.target),
            referrer: code(row.referrer),
            agent: code(row.agent),
            ..row
        });
        self.0.rows.extend(translated);
        self.0.unkept += theirs.unkept;
        self.0.unkept_bytes += theirs.unkept_bytes;
    }

    fn is_full(&self) -> bool {
        self.0.rows.len() >= MOST || self.0.texts.bytes() >= MOST_BYTES
    }

    pub(super) fn into_kept(self) -> Kept {
        self.0
    }
}
