//! What people see of anything: columns with kind and unit, rows, what the rest adds up to, the total.
//!
//! Sections of reports, results of queries, trails: each is a [`Table`], and each form of output is written once, for any of
//! them.
//!
//! - [`cell`]: one value
//! - [`csv`]: a table for spreadsheets
//! - [`chart`]: which charts it makes
//! - [`compare`]: the same table of another period beside this one
//! - [`requests`]: single requests as a table
//! - [`wire`]: a table as JSON; [`rows`]: one row of it
//!
//! ```
//! use exedra_common::tables::{Cell, Table, TableColumn};
//! let mut table = Table::new("pages", "Pages", [TableColumn::text("path", "path"), TableColumn::sum("requests", "requests")]);
//! table.push([Cell::from("/tides"), Cell::from(12)]);
//! table.push([Cell::from("/map"), Cell::from(3)]);
//! table.total_of_rows();
//! assert_eq!(table.cell(0, "requests"), Some(&Cell::Number(12)));
//! assert_eq!(table.total, [Cell::Nothing, Cell::Number(15)]);
//! ```

mod cell;
pub mod chart;
mod compare;
pub mod csv;
mod requests;
pub mod rows;
mod wire;

pub use cell::Cell;
pub use compare::{Change, compare};
pub use wire::TableWire;

use crate::columns::{Column, Kind, NumberColumn, Unit};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Columns and rows, and what they cannot say.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(from = "TableWire", into = "TableWire")]
pub struct Table {
    /// Its name for programs.
    pub name: String,
    /// Its title for people.
    pub title: String,
    /// A sentence under the title; empty where there is nothing to add.
    pub about: String,
    /// What stands in each place of a row.
    pub columns: Vec<TableColumn>,
    /// One cell for each column.
    pub rows: Vec<Vec<Cell>>,
    /// What each row was in another period; empty where there is none to compare with. A row that was not there has none.
    pub before: Vec<Vec<Cell>>,
    /// What stands under each row; empty where no row has anything.
    pub details: Vec<Vec<Detail>>,
    /// What is not in the rows.
    pub rest: Rest,
    /// Figures of all rows and the rest; empty where they do not add up to anything.
    pub total: Vec<Cell>,
    /// The total of the other period; empty where there is none.
    pub total_before: Vec<Cell>,
    /// The column that the rows are ordered by, the greatest first; `None` where their order is their own.
    pub order: Option<String>,
    /// What the figures cannot say, in sentences.
    pub unknown: Vec<String>,
}

/// What stands in one place of all rows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TableColumn {
    /// Its name for programs: a key of rows in JSON, a heading in CSV.
    pub name: String,
    /// Its title for people.
    pub title: String,
    /// What kind of values it has.
    pub kind: Kind,
    /// What they count.
    #[serde(default, skip_serializing_if = "Unit::is_none")]
    pub unit: Unit,
    /// What its figures are to each other.
    pub measure: Measured,
    /// The column of logs that its values are values of, so that a filter can be made of one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
    /// Whether it gives way where there is little room.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub minor: bool,
    /// The column of logs that its figures are counted from: where no line has it, they are not known, and not 0.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub counted_from: Option<String>,
}

/// What the figures of a column are to each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Measured {
    /// They are none: they say what a row is about.
    #[default]
    Key,
    /// They add up, and each is a share of all.
    Sum,
    /// They do not add up: means, percentiles.
    Level,
}

/// A line under a row: how much of it came from where.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Detail {
    /// How much.
    pub count: u64,
    /// What a colleague would say before the text: `our own`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub label: String,
    /// A text of a stranger; empty where the label says it all.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub text: String,
}

/// What is not in the rows of a table.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Rest {
    /// How many further rows there are.
    pub rows: u64,
    /// What their figures add up to, one cell for each column; empty where nothing is left out.
    pub cells: Vec<Cell>,
}

impl TableColumn {
    /// A column of texts that rows are about.
    pub fn text(name: &str, title: &str) -> Self {
        TableColumn {
            name: name.to_owned(),
            title: title.to_owned(),
            kind: Kind::Text,
            unit: Unit::None,
            measure: Measured::Key,
            filter: None,
            minor: false,
            counted_from: None,
        }
    }

    /// A column of values of a column of logs.
    pub fn of(column: impl Into<Column>) -> Self {
        let column = column.into();
        let declaration = column.declaration();
        let title = column.name().replace('_', " ");
        TableColumn {
            kind: declaration.kind,
            unit: declaration.unit,
            filter: Some(column.name().to_owned()),
            ..TableColumn::text(column.name(), &title)
        }
    }

    /// A column of whole numbers that add up.
    pub fn sum(name: &str, title: &str) -> Self {
        TableColumn { kind: Kind::Integer, measure: Measured::Sum, ..TableColumn::text(name, title) }
    }

    /// A column of bytes that add up.
    pub fn size(name: &str, title: &str) -> Self {
        TableColumn { kind: Kind::Size, unit: Unit::Bytes, ..TableColumn::sum(name, title) }
            .counted_from(NumberColumn::Bytes)
    }

    /// A column of lengths of time that do not add up.
    pub fn level(name: &str, title: &str, unit: Unit) -> Self {
        TableColumn { kind: Kind::Duration, unit, measure: Measured::Level, ..TableColumn::text(name, title) }
    }

    /// A column of counts that do not add up: the same person may be in several rows.
    pub fn count(name: &str, title: &str) -> Self {
        TableColumn { kind: Kind::Integer, measure: Measured::Level, ..TableColumn::text(name, title) }
    }

    /// The same under another name.
    pub fn named(self, name: &str, title: &str) -> Self {
        TableColumn { name: name.to_owned(), title: title.to_owned(), ..self }
    }

    /// The same, counted from this column of logs.
    pub fn counted_from(self, column: impl Into<Column>) -> Self {
        TableColumn { counted_from: Some(column.into().name().to_owned()), ..self }
    }

    /// The same, giving way where there is little room.
    pub fn minor(self) -> Self {
        TableColumn { minor: true, ..self }
    }
}

impl Table {
    /// An empty table.
    pub fn new(name: &str, title: &str, columns: impl IntoIterator<Item = TableColumn>) -> Self {
        let columns = columns.into_iter().collect();
        Table { name: name.to_owned(), title: title.to_owned(), columns, ..Table::default() }
    }

    /// Appends a row. Cells that lack are nothing, such as are too many are left out.
    pub fn push(&mut self, cells: impl IntoIterator<Item = Cell>) {
        let mut row: Vec<Cell> = cells.into_iter().collect();
        row.resize(self.columns.len(), Cell::Nothing);
        self.rows.push(row);
    }

    /// The place of a column.
    pub fn place(&self, name: &str) -> Option<usize> {
        self.columns.iter().position(|column| column.name == name)
    }

    /// A cell, by its row and the name of its column.
    pub fn cell(&self, row: usize, name: &str) -> Option<&Cell> {
        self.rows.get(row)?.get(self.place(name)?)
    }

    /// A whole number, by its row and the name of its column; 0 where there is none.
    pub fn number(&self, row: usize, name: &str) -> u64 {
        self.cell(row, name).and_then(Cell::as_u64).unwrap_or(0)
    }

    /// The column that rows are about, where there is one alone.
    pub fn key(&self) -> Option<usize> {
        let mut keys = self.columns.iter().enumerate().filter(|(_, column)| column.measure == Measured::Key);
        keys.next().filter(|_| keys.next().is_none()).map(|(place, _)| place)
    }

    /// The figure that the table is about: what it is ordered by, or its first.
    pub fn main(&self) -> Option<usize> {
        let ordered = self.order.as_deref().and_then(|name| self.place(name));
        ordered.or_else(|| self.columns.iter().position(|column| column.measure != Measured::Key))
    }

    /// All of a column: the total where there is one, or what its rows and the rest add up to.
    pub fn all(&self, place: usize) -> f64 {
        let total = self.total.get(place).filter(|cell| **cell != Cell::Nothing);
        total.and_then(Cell::as_f64).unwrap_or_else(|| {
            let cells = self.rows.iter().chain([&self.rest.cells]).filter_map(|row| row.get(place)?.as_f64());
            cells.sum()
        })
    }

    /// Makes the total of the rows and the rest, in every column that adds up.
    pub fn total_of_rows(&mut self) {
        self.total = self.sums(self.rows.iter().chain([&self.rest.cells]));
    }

    /// Puts a column in, with what it has in each row.
    pub fn insert(&mut self, at: usize, column: TableColumn, of: impl Fn(&[Cell]) -> Cell) {
        for row in &mut self.rows {
            let cell = of(row);
            row.insert(at, cell);
        }
        for sums in [&mut self.rest.cells, &mut self.total].into_iter().filter(|sums| !sums.is_empty()) {
            sums.insert(at, Cell::Nothing);
        }
        self.columns.insert(at, column);
    }

    /// Keeps so many rows, and counts the others to the rest.
    pub fn cut(&mut self, length: usize) {
        if self.rows.len() <= length {
            return;
        }
        let left = self.rows.split_off(length);
        self.rest.rows += left.len() as u64;
        self.rest.cells = self.sums(left.iter().chain([&self.rest.cells]));
        self.before.truncate(length);
        self.details.truncate(length);
    }

    /// Empties columns whose figures are not known, as no line has what they are counted from; rows that then say nothing are
    /// left out, and so is what was said about them.
    pub fn forget(&mut self, is_unsaid: impl Fn(&str) -> bool) {
        let is_unknown = |column: &TableColumn| column.counted_from.as_deref().is_some_and(&is_unsaid);
        let places: Vec<usize> =
            (0..self.columns.len()).filter(|place| is_unknown(&self.columns[*place])).collect();
        if places.is_empty() {
            return;
        }
        let Table { rows, columns, details, before, .. } = self;
        let all = rows.iter_mut().chain([&mut self.rest.cells, &mut self.total]).chain(before.iter_mut());
        for row in all {
            places.iter().filter_map(|place| row.get_mut(*place).map(|cell| *cell = Cell::Nothing)).count();
        }
        let figures: Vec<usize> =
            (0..columns.len()).filter(|place| columns[*place].measure != Measured::Key).collect();
        let says_nothing = |row: &Vec<Cell>| figures.iter().all(|place| row[*place] == Cell::Nothing);
        if !rows.is_empty() && rows.iter().all(says_nothing) {
            (*rows, *details, *before) = Default::default();
            (self.rest, self.about) = Default::default();
        }
    }

    /// Whether there is nothing to show.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    fn sums<'r>(&self, rows: impl Iterator<Item = &'r Vec<Cell>>) -> Vec<Cell> {
        let nothing = vec![Cell::Nothing; self.columns.len()];
        rows.fold(nothing, |mut sums, row| {
            for ((sum, cell), column) in sums.iter_mut().zip(row).zip(&self.columns) {
                if column.measure == Measured::Sum {
                    sum.add(cell);
                }
            }
            sums
        })
    }
}
