//! Requests that are kept as they are read: as many as were asked for, those that come first in the order.

use super::Form;
use crate::sources::filtered::Filtered;
use crate::sources::reading::Sink;
use exedra_common::scope::RowFilter;
use exedra_common::tables::{Cell, Table};
use exedra_common::{Column, Dictionaries, RequestBatch};
use exedra_reading::trail::Place;

/// Requests of one thread, or of all.
pub struct Picked {
    most: usize,
    rows: Vec<(Rank, Vec<Cell>)>,
    /// What does not come before this need not be kept.
    least: Option<Rank>,
    /// Requests that fit.
    pub fitting: u64,
    /// Requests that were looked at.
    pub tried: u64,
}

/// Where a request stands in the order: what it is sorted by, then its time, then its place.
type Rank = (i128, i64, Place);

impl Picked {
    /// None yet, and so many at most.
    pub fn new(most: usize) -> Self {
        Picked { most, rows: Vec::new(), least: None, fitting: 0, tried: 0 }
    }

    /// Takes in what another thread has kept.
    pub fn merge(&mut self, other: Picked) {
        self.fitting += other.fitting;
        self.tried += other.tried;
        self.rows.extend(other.rows);
        self.keep_to_its_bound();
    }

    /// The cells of all, the newest last or the greatest first.
    pub fn into_rows(mut self, newest_last: bool) -> Vec<Vec<Cell>> {
        self.keep_to_its_bound();
        self.rows.sort_unstable_by_key(|(rank, _)| *rank);
        let rows = self.rows.into_iter().map(|(_, cells)| cells);
        if newest_last { rows.collect() } else { rows.rev().collect() }
    }

    fn take(&mut self, rank: Rank, cells: impl FnOnce() -> Vec<Cell>) {
        self.fitting += 1;
        if self.most == 0 || self.least.is_some_and(|least| rank < least) {
            return;
        }
        self.rows.push((rank, cells()));
        if self.rows.len() >= self.most.saturating_mul(2).max(64) {
            self.keep_to_its_bound();
        }
    }

    fn keep_to_its_bound(&mut self) {
        if self.rows.len() > self.most {
            let first = self.rows.len() - self.most;
            self.rows.select_nth_unstable_by_key(first, |(rank, _)| *rank);
            self.rows.drain(..first);
            self.least = self.rows.iter().map(|(rank, _)| *rank).min();
        }
    }
}

/// Picks requests out of the lines of one thread.
pub struct Picker {
    form: Form,
    by: Column,
    table: Table,
    requests: Filtered,
    picked: Picked,
}

impl Picker {
    /// Picks those that fit, so many at most.
    pub fn new(form: Form, filter: RowFilter, by: Column, most: usize) -> Self {
        Picker { table: form.table(), form, by, requests: Filtered::new(filter), picked: Picked::new(most) }
    }
}

impl Sink for Picker {
    type Made = Picked;

    fn take(
        &mut self,
        place: Place,
        read: impl FnOnce(&mut RequestBatch, &mut Dictionaries) -> usize,
    ) -> usize {
        let Picker { form, by, table, requests, picked } = self;
        let taken = requests.take(read, |batch, row, texts| {
            let time = batch.time[row];
            let weight = match by {
                // Whatever says nothing comes after everything that does.
                Column::Number(column) => batch.number(*column, row).map_or(-1, i128::from),
                _ => i128::from(time),
            };
            let rank = (weight, time, Place { row: row as u32, ..place });
            picked.take(rank, || form.cells(table, batch, row, texts));
        });
        picked.tried += taken.requests as u64;
        taken.octets
    }

    fn finish(self) -> Picked {
        self.picked
    }
}
