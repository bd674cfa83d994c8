//! The same table of another period beside a table: what each figure was there.
//!
//! ```
//! use exedra_common::tables::{Cell, Table, TableColumn, compare};
//! let table = |requests: u64| {
//!     let columns = [TableColumn::text("path", "path"), TableColumn::sum("requests", "requests")];
//!     let mut table = Table::new("paths", "Paths", columns);
//!     table.push([Cell::from("/tides"), requests.into()]);
//!     table.total_of_rows();
//!     table
//! };
//! let mut now = table(30);
//! compare(&mut now, &table(20));
//! let change = now.change(0, 1).unwrap();
//! assert_eq!((change.before, change.difference, change.ratio), (20.0, 10.0, Some(0.5)));
//! assert_eq!(now.total_change(1), Some(change));
//! ```

use super::{Cell, Measured, Table};
use std::collections::HashMap;

/// How a figure has changed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Change {
    /// What it was.
    pub before: f64,
    /// How much more it is now.
    pub difference: f64,
    /// The difference as a part of what it was; `None` where that was nothing.
    pub ratio: Option<f64>,
}

impl Change {
    /// From what it was to what it is.
    pub fn new(now: f64, before: f64) -> Self {
        let difference = now - before;
        Change { before, difference, ratio: (before != 0.0).then(|| difference / before) }
    }
}

/// Puts the table of another period beside one. Rows are the same that are about the same; `other` should have all of its
/// rows, so that what is not among them was not there: sums were 0 then, and of other figures nothing is known.
pub fn compare(table: &mut Table, other: &Table) {
    let key = |table: &Table, row: &[Cell]| -> Vec<String> {
        let keys = row.iter().zip(&table.columns).filter(|(_, column)| column.measure == Measured::Key);
        keys.map(|(cell, _)| serde_json::to_string(cell).unwrap_or_default()).collect()
    };
    let known: HashMap<Vec<String>, &Vec<Cell>> =
        other.rows.iter().map(|row| (key(other, row), row)).collect();
    let places: Vec<Option<usize>> = table.columns.iter().map(|column| other.place(&column.name)).collect();
    let beside = |then: Option<&Vec<Cell>>| -> Vec<Cell> {
        let cells = table.columns.iter().zip(&places).map(|(column, place)| {
            let cell = then.and_then(|row| row.get((*place)?)).filter(|cell| **cell != Cell::Nothing);
            match (column.measure, cell) {
                (Measured::Key, _) => Cell::Nothing,
                (_, Some(cell)) => cell.clone(),
                (Measured::Sum, None) => Cell::Number(0),
                (Measured::Level, None) => Cell::Nothing,
            }
        });
        cells.collect()
    };
    let before = table.rows.iter().map(|row| beside(known.get(&key(table, row)).copied())).collect();
    let total_before = if table.total.is_empty() { Vec::new() } else { beside(Some(&other.total)) };
    table.before = before;
    table.total_before = total_before;
    table.unknown.extend(other.unknown.iter().map(|unknown| format!("other period: {unknown}")));
}

impl Table {
    /// How a figure of a row has changed, where there is another period.
    pub fn change(&self, row: usize, place: usize) -> Option<Change> {
        let before = self.before.get(row)?.get(place)?.as_f64()?;
        Some(Change::new(self.rows.get(row)?.get(place)?.as_f64().unwrap_or(0.0), before))
    }

    /// How a figure of the total has changed, where there is another period.
    pub fn total_change(&self, place: usize) -> Option<Change> {
        let before = self.total_before.get(place)?.as_f64()?;
        Some(Change::new(self.total.get(place)?.as_f64()?, before))
    }
}
