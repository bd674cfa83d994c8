//! Single requests: which columns are shown of each, and which of them are kept.
//!
//! After the first page of a report people ask which requests those were. They are kept as they are read, as many as were asked
//! for: the newest, or those with most of something.
//!
//! - [`picked`]: the requests that are kept
//!
//! ```
//! use exedra_common::{Column, Dictionaries, RequestBatch};
//! use exedra_reading::classify::Classifier;
//! use exedra_reading::logs::{Layout, LineReader};
//! use exedra_reading::requests::{RequestColumns, Picker, order};
//! use exedra_reading::trail::Place;
//! let line = |second: u32| {
//!     format!("192.0.2.1 - - [14/Nov/2026:05:12:{second:02} +0000] \"GET /tides HTTP/1.1\" 200 {second}\n")
//! };
//! let listed = RequestColumns::understand(&["time", "bytes"], Classifier::default().into(), false).unwrap();
//! let mut reader = LineReader::new(&Layout::all_named(), exedra_common::Projection::everything());
//! let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
//! reader.read_block((0..9).map(line).collect::<String>().as_bytes(), 0, &mut 0, &mut batch, &mut texts);
//! let mut picker = Picker::new(listed, order("bytes").unwrap(), 2);
//! for row in 0..batch.rows() {
//!     picker.add(&batch, row, &texts, Place { source: 0, block: 0, line: 0, row: row as u32 });
//! }
//! let (table, fitting) = picker.finish().into_table();
//! assert_eq!((table.number(0, "bytes"), table.rows.len(), fitting), (8, 2, 9));
//! ```

pub mod picked;

pub use picked::{Picked, Picker};

use crate::classify::Classifier;
use crate::logs::mask::network;
use exedra_common::columns::Kind;
use exedra_common::tables::{Cell, Table, TableColumn};
use exedra_common::text::nearest;
use exedra_common::{Column, Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use std::sync::Arc;
use thiserror::Error;

/// What is shown where nobody said anything.
pub const USUAL: [&str; 7] = ["time", "client", "method", "path", "status", "bytes", "duration"];

/// A column that there is not, or that requests cannot be sorted by.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct WrongColumn(String);

/// What is shown of requests, and how it is worked out.
#[derive(Debug, Clone)]
pub struct RequestColumns {
    columns: Vec<Column>,
    classifier: Arc<Classifier>,
    masked: bool,
}

impl RequestColumns {
    /// The columns of these names; those that are usual where there is none. Of masked requests the network of the client is shown, and
    /// no user.
    pub fn understand<S: AsRef<str>>(
        names: &[S],
        classifier: Arc<Classifier>,
        masked: bool,
    ) -> Result<Self, WrongColumn> {
        let asked = names.iter().map(|name| name.as_ref().trim()).filter(|name| !name.is_empty());
        let asked: Vec<&str> = if names.is_empty() { USUAL.to_vec() } else { asked.collect() };
        let columns = asked.into_iter().map(column).collect::<Result<_, _>>()?;
        Ok(RequestColumns { columns, classifier, masked })
    }

    /// The columns that are to be read, also to sort by one.
    pub fn projection(&self, by: Column) -> Projection {
        self.columns.iter().chain([&by]).map(|column| column.base()).collect()
    }

    /// An empty table of requests.
    pub fn table(&self) -> Table {
        let column = |column: &Column| {
            // A program that is given a number must know what it counts.
            let name = match column.declaration().kind {
                Kind::Duration => column.declaration().stored,
                _ => column.name(),
            };
            TableColumn::of(*column).named(name, &column.name().replace('_', " "))
        };
        Table::new("requests", "", self.columns.iter().map(column))
    }

    /// The cells of a request, for such a table.
    pub fn cells(
        &self,
        table: &mut Table,
        batch: &RequestBatch,
        row: usize,
        texts: &Dictionaries,
    ) -> Vec<Cell> {
        table.push_request(batch, row, texts, &*self.classifier);
        let mut cells = table.rows.pop().unwrap_or_default();
        if self.masked {
            for (column, cell) in self.columns.iter().zip(&mut cells) {
                match column {
                    Column::Text(TextColumn::Client) => {
                        *cell = cell.as_text().and_then(network).into();
                    }
                    Column::Text(TextColumn::User) => *cell = Cell::Nothing,
                    _ => {}
                }
            }
        }
        cells
    }
}

/// Takes columns out of a table that are empty in all rows: they would only take room.
pub fn leave_out_what_nobody_says(table: &mut Table) {
    let says = |place: usize| table.rows.iter().any(|row| row[place] != Cell::Nothing);
    let keep: Vec<bool> = (0..table.columns.len()).map(says).collect();
    if table.rows.is_empty() {
        return;
    }
    let mut places = keep.iter();
    table.columns.retain(|_| *places.next().unwrap_or(&true));
    for row in &mut table.rows {
        let mut places = keep.iter();
        row.retain(|_| *places.next().unwrap_or(&true));
    }
}

fn column(name: &str) -> Result<Column, WrongColumn> {
    Column::named(name).ok_or_else(|| {
        let names = || Column::all().map(Column::name);
        let near = nearest(name, names()).map_or(".".to_owned(), |near| format!(": did you mean `{near}`?"));
        let names: Vec<&str> = names().collect();
        WrongColumn(format!("there is no column `{name}`{near} There is {}", names.join(", ")))
    })
}

/// The column that requests are sorted by.
pub fn order(name: &str) -> Result<Column, WrongColumn> {
    match column(name)? {
        column @ (Column::Time | Column::Number(_)) => Ok(column),
        _ => {
            let figures = NumberColumn::ALL.iter().map(|column| Column::from(*column).name());
            let figures: Vec<&str> = ["time"].into_iter().chain(figures).collect();
            Err(WrongColumn(format!(
                "requests cannot be sorted by `{name}`: sort them by {}",
                figures.join(", ")
            )))
        }
    }
}
