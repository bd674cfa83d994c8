//! Requests as columns.
//!
//! A batch holds only the columns somebody asked for. Texts are codes into [`Dictionaries`] that travel
//! beside the batch: while a log is read, one set of dictionaries serves many batches.
//!
//! ```
//! use exedra_common::{Dictionaries, NumberColumn, RequestBatch, TextColumn};
//! let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
//! batch.time.push(1_794_633_160_000);
//! batch.numbers_mut(NumberColumn::Status).push(404);
//! let code = texts.of_mut(TextColumn::Path).code("/tides");
//! batch.codes_mut(TextColumn::Path).push(code);
//! assert_eq!((batch.rows(), batch.number(NumberColumn::Status, 0)), (1, Some(404)));
//! assert_eq!(batch.code(TextColumn::Agent, 0), None, "nobody asked for agents");
//! ```

use crate::columns::{NumberColumn, Projection, TextColumn};
use crate::dictionary::Dictionaries;

/// The most requests one batch holds.
pub const BATCH_ROWS: usize = 65_536;

/// Stands in a text column where there is nothing.
pub const NO_TEXT: u32 = u32::MAX;
/// Stands for the time of a request of which nobody wrote down when it came in.
pub const NO_TIME: i64 = i64::MIN;
/// Stands in a number column where there is nothing.
pub const NO_NUMBER: u64 = u64::MAX;

/// Up to [`BATCH_ROWS`] requests, column by column.
#[derive(Debug, Default, Clone, PartialEq)]
pub struct RequestBatch {
    /// When each came in: milliseconds since 1970 UTC, or [`NO_TIME`].
    pub time: Vec<i64>,
    numbers: [Vec<u64>; NumberColumn::COUNT],
    texts: [Vec<u32>; TextColumn::COUNT],
}

impl RequestBatch {
    /// How many requests are in it.
    pub fn rows(&self) -> usize {
        self.time.len()
    }

    /// Whether it holds no request.
    pub fn is_empty(&self) -> bool {
        self.time.is_empty()
    }

    /// Whether no further request fits.
    pub fn is_full(&self) -> bool {
        self.rows() >= BATCH_ROWS
    }

    /// The codes of a text column, or [`NO_TEXT`]; empty where the column was not asked for.
    pub fn codes(&self, column: TextColumn) -> &[u32] {
        &self.texts[column.index()]
    }

    /// The codes of a text column, to append some.
    pub fn codes_mut(&mut self, column: TextColumn) -> &mut Vec<u32> {
        &mut self.texts[column.index()]
    }

    /// The numbers of a column, or [`NO_NUMBER`]; empty where the column was not asked for.
    pub fn numbers(&self, column: NumberColumn) -> &[u64] {
        &self.numbers[column.index()]
    }

    /// The numbers of a column, to append some.
    pub fn numbers_mut(&mut self, column: NumberColumn) -> &mut Vec<u64> {
        &mut self.numbers[column.index()]
    }

    /// The code of a text, where the row has one and the column is there.
    pub fn code(&self, column: TextColumn, row: usize) -> Option<u32> {
        self.codes(column).get(row).copied().filter(|&code| code != NO_TEXT)
    }

    /// A number of a row, where it has one and the column is there.
    pub fn number(&self, column: NumberColumn, row: usize) -> Option<u64> {
        self.numbers(column).get(row).copied().filter(|&number| number != NO_NUMBER)
    }

    /// Puts the numbers of two columns in each other's place.
    pub fn swap_numbers(&mut self, one: NumberColumn, other: NumberColumn) {
        self.numbers.swap(one.index(), other.index());
    }

    /// Empties it, keeping its memory.
    pub fn clear(&mut self) {
        self.truncate(0);
    }

    /// Drops all rows after the first so many, also where only some columns have got them.
    pub fn truncate(&mut self, rows: usize) {
        self.time.truncate(rows);
        self.numbers.iter_mut().for_each(|numbers| numbers.truncate(rows));
        self.texts.iter_mut().for_each(|codes| codes.truncate(rows));
    }

    /// Keeps only the rows that are wanted.
    pub fn retain(&mut self, is_wanted: impl Fn(&RequestBatch, usize) -> bool) {
        let rows: Vec<u32> =
            (0..self.rows()).filter(|row| is_wanted(self, *row)).map(|row| row as u32).collect();
        self.keep(&rows);
    }

    /// Keeps only some rows, which are in order.
    pub fn keep(&mut self, rows: &[u32]) {
        if rows.len() == self.rows() {
            return;
        }
        let kept = |numbers: &mut Vec<u64>| {
            *numbers = rows.iter().filter_map(|row| numbers.get(*row as usize).copied()).collect()
        };
        self.numbers.iter_mut().for_each(kept);
        let kept = |codes: &mut Vec<u32>| {
            *codes = rows.iter().filter_map(|row| codes.get(*row as usize).copied()).collect()
        };
        self.texts.iter_mut().for_each(kept);
        self.time = rows.iter().map(|row| self.time[*row as usize]).collect();
    }

    /// Appends another batch, whose texts have the same dictionaries.
    pub fn append_same(&mut self, other: &RequestBatch) {
        self.time.extend_from_slice(&other.time);
        let numbers = self.numbers.iter_mut().zip(&other.numbers);
        numbers.for_each(|(ours, theirs)| ours.extend_from_slice(theirs));
        let texts = self.texts.iter_mut().zip(&other.texts);
        texts.for_each(|(ours, theirs)| ours.extend_from_slice(theirs));
    }

    /// Appends another batch, whose texts have their own dictionaries, to this one.
    pub fn append(
        &mut self,
        other: &RequestBatch,
        theirs: &Dictionaries,
        ours: &mut Dictionaries,
        projection: Projection,
    ) {
        self.time.extend_from_slice(&other.time);
        for column in projection.numbers() {
            self.numbers[column.index()].extend_from_slice(other.numbers(column));
        }
        for column in projection.texts() {
            let out = &mut self.texts[column.index()];
            ours.of_mut(column).translate(theirs.of(column), other.codes(column), NO_TEXT, out);
        }
    }
}
