//! Requests that are kept as they are read: as many as were asked for, those that come first in the order.

use super::RequestColumns;
use crate::trail::Place;
use exedra_common::tables::{Cell, Table};
use exedra_common::{Column, Dictionaries, RequestBatch};

/// How many octets the requests that are kept may take: strangers decide how long their texts are.
const MOST_OCTETS: usize = 48 << 20;

/// Requests of one thread, or of all.
#[derive(Debug, Default)]
pub struct Picked {
    most: usize,
    table: Table,
    newest_last: bool,
    rows: Vec<(Rank, Vec<Cell>)>,
    /// What does not come before this need not be kept.
    least: Option<Rank>,
    /// About how much the rows take.
    octets: usize,
    /// Requests that fit.
    fitting: u64,
}

/// Where a request stands in the order: what it is sorted by, then its time, then its place.
type Rank = (i128, i64, Place);

impl Picked {
    /// None yet, and so many at most.
    fn new(most: usize) -> Self {
        Picked { most, ..Picked::default() }
    }

    /// Takes in what another thread has kept.
    pub fn merge(&mut self, other: Picked) {
        self.fitting += other.fitting;
        self.rows.extend(other.rows);
        self.keep_to_its_bound();
    }

    /// All as a table, the newest last or the greatest first; and how many requests fit.
    pub fn into_table(self) -> (Table, u64) {
        self.into_page(0)
    }

    /// The same without so many of the newest or the greatest.
    pub fn into_page(mut self, skip: usize) -> (Table, u64) {
        self.keep_to_its_bound();
        self.rows.sort_unstable_by_key(|(rank, _)| *rank);
        self.rows.truncate(self.rows.len().saturating_sub(skip));
        let rows = self.rows.into_iter().map(|(_, cells)| cells);
        let rows = if self.newest_last { rows.collect() } else { rows.rev().collect() };
        (Table { rows, ..self.table }, self.fitting)
    }

    fn take(&mut self, rank: Rank, cells: impl FnOnce() -> Vec<Cell>) {
        self.fitting += 1;
        if self.most == 0 || self.least.is_some_and(|least| rank < least) {
            return;
        }
        let cells = cells();
        self.octets += octets(&cells);
        self.rows.push((rank, cells));
        if self.rows.len() >= self.most.saturating_mul(2).max(64) || self.octets > MOST_OCTETS {
            self.keep_to_its_bound();
        }
    }

    /// Keeps as many as were asked for, and fewer where their texts are very long.
    fn keep_to_its_bound(&mut self) {
        self.keep(self.most);
        while self.octets > MOST_OCTETS && self.rows.len() > 1 {
            self.most = self.rows.len() / 2;
            self.keep(self.most);
        }
    }

    fn keep(&mut self, most: usize) {
        if self.rows.len() > most {
            let first = self.rows.len() - most;
            self.rows.select_nth_unstable_by_key(first, |(rank, _)| *rank);
            self.rows.drain(..first);
            self.least = self.rows.iter().map(|(rank, _)| *rank).min();
        }
        self.octets = self.rows.iter().map(|(_, cells)| octets(cells)).sum();
    }
}

/// About how many octets the cells of a request take.
fn octets(cells: &[Cell]) -> usize {
    cells.iter().map(|cell| size_of::<Cell>() + cell.as_text().map_or(0, str::len)).sum()
}

/// Picks requests out of what one thread reads.
pub struct Picker {
    listed: RequestColumns,
    by: Column,
    table: Table,
    picked: Picked,
}

impl Picker {
    /// Picks so many at most, in this order.
    pub fn new(listed: RequestColumns, by: Column, most: usize) -> Self {
        let table = listed.table();
        let picked = Picked { table: table.clone(), newest_last: by == Column::Time, ..Picked::new(most) };
        Picker { table, listed, by, picked }
    }

    /// Takes a request that fits, which stands at a place among all.
    pub fn add(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, place: Place) {
        let Picker { listed, by, table, picked } = self;
        let time = batch.time[row];
        let weight = match by {
            // Whatever says nothing comes after everything that does.
            Column::Number(column) => batch.number(*column, row).map_or(-1, i128::from),
            _ => i128::from(time),
        };
        picked.take((weight, time, place), || listed.cells(table, batch, row, texts));
    }

    /// Whether any request that came at an instant (milliseconds since 1970 UTC), or before, can still be picked.
    pub fn wants(&self, last: i64) -> bool {
        let is_too_old = |least: Rank| least.1 > last;
        self.by != Column::Time || !self.picked.least.is_some_and(is_too_old)
    }

    /// What was picked.
    pub fn finish(self) -> Picked {
        self.picked
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_texts_are_bounded_and_the_newest_stay() {
        let mut picked = Picked::new(1000);
        let place = Place { source: 0, block: 0, line: 0, row: 0 };
        for time in 0..1000 {
            picked.take((time.into(), time, place), || vec!["x".repeat(200_000).into()]);
        }
        assert!(picked.octets <= MOST_OCTETS && picked.rows.len() > 50, "{}", picked.rows.len());
        let (least, newest) =
            (picked.rows.iter().map(|row| row.0.1).min(), picked.rows.iter().map(|row| row.0.1).max());
        assert_eq!((newest, picked.fitting), (Some(999), 1000));
        assert_eq!(least, Some(1000 - picked.rows.len() as i64));
    }
}
