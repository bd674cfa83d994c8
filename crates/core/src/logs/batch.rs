//! Requests as columns.
//!
//! A batch holds only the columns somebody asked for. Texts are codes into [`Dictionaries`] that travel
//! beside the batch: while a log is read, one set of dictionaries serves many batches.

use super::columns::{Column, Projection, TextColumn};
use super::dictionary::Dictionaries;

/// The most requests one batch holds.
pub const BATCH_ROWS: usize = 65_536;

/// Stands in a text column where there is nothing.
pub const NO_TEXT: u32 = u32::MAX;
/// Stands in a number column where there is nothing.
pub const NO_NUMBER: u64 = u64::MAX;

/// Up to [`BATCH_ROWS`] requests, column by column.
#[derive(Debug, Default, Clone, PartialEq)]
pub struct RequestBatch {
    /// Milliseconds since 1970 UTC.
    pub time: Vec<i64>,
    /// Response status; 0 where the source had none.
    pub status: Vec<u16>,
    /// Body bytes sent, or [`NO_NUMBER`].
    pub bytes: Vec<u64>,
    /// Body bytes before compression, or [`NO_NUMBER`].
    pub full_bytes: Vec<u64>,
    /// Microseconds, or [`NO_NUMBER`].
    pub duration: Vec<u64>,
    /// Codes of each text column, or [`NO_TEXT`]; empty where the column was not asked for.
    pub texts: [Vec<u32>; TextColumn::ALL.len()],
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

    /// The code of a text, where the row has one and the column is there.
    pub fn code(&self, column: TextColumn, row: usize) -> Option<u32> {
        self.texts[column.index()].get(row).copied().filter(|&code| code != NO_TEXT)
    }

    /// A number of a row, where it has one and the column is there.
    pub fn number(&self, column: Column, row: usize) -> Option<u64> {
        let numbers = match column {
            Column::Status => {
                return self.status.get(row).map(|&status| u64::from(status)).filter(|&status| status != 0);
            }
            Column::Bytes => &self.bytes,
            Column::FullBytes => &self.full_bytes,
            Column::Duration => &self.duration,
            Column::Time | Column::Text(_) => return None,
        };
        numbers.get(row).copied().filter(|&number| number != NO_NUMBER)
    }

    /// Empties it, keeping its memory.
    pub fn clear(&mut self) {
        self.time.clear();
        self.status.clear();
        self.bytes.clear();
        self.full_bytes.clear();
        self.duration.clear();
        self.texts.iter_mut().for_each(Vec::clear);
    }

    /// Drops all rows after the first so many, also where only some columns have got them.
    pub fn truncate(&mut self, rows: usize) {
        self.time.truncate(rows);
        self.status.truncate(rows);
        self.bytes.truncate(rows);
        self.full_bytes.truncate(rows);
        self.duration.truncate(rows);
        self.texts.iter_mut().for_each(|codes| codes.truncate(rows));
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
        if projection.has(Column::Status) {
            self.status.extend_from_slice(&other.status);
        }
        if projection.has(Column::Bytes) {
            self.bytes.extend_from_slice(&other.bytes);
        }
        if projection.has(Column::FullBytes) {
            self.full_bytes.extend_from_slice(&other.full_bytes);
        }
        if projection.has(Column::Duration) {
            self.duration.extend_from_slice(&other.duration);
        }
        for column in TextColumn::ALL {
            if projection.has_text(column) {
                let dictionary = ours.of_mut(column);
                let translation: Vec<u32> =
                    theirs.of(column).texts().map(|text| dictionary.code(text)).collect();
                let codes = other.texts[column.index()].iter();
                self.texts[column.index()].extend(
                    codes.map(|&code| if code == NO_TEXT { NO_TEXT } else { translation[code as usize] }),
                );
            }
        }
    }
}
