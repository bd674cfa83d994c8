//! A table as JSON: rows as objects under the names of their columns, whose kinds and units stand beside them.
//!
//! ```
//! use exedra_common::tables::{Cell, Table, TableColumn, TableWire};
//! let mut table = Table::new("paths", "Paths", [TableColumn::text("path", "path"), TableColumn::sum("requests", "requests")]);
//! table.push([Cell::from("/tides"), 30.into()]);
//! let json = serde_json::to_value(TableWire::from(table.clone())).unwrap();
//! assert_eq!(json["rows"][0]["requests"], 30);
//! assert_eq!(Table::from(serde_json::from_value::<TableWire>(json).unwrap()), table);
//! ```

use super::{Cell, Detail, Rest, Table, TableColumn};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// The form in which programs are given a [`Table`].
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = Table)]
pub struct TableWire {
    /// Its name.
    name: String,
    /// Its title for people.
    title: String,
    /// A sentence under the title; empty where there is nothing to add.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    about: String,
    /// What the values of rows are.
    columns: Vec<TableColumn>,
    /// The rows, each value under the name of its column.
    rows: Vec<BTreeMap<String, Cell>>,
    /// What each row was in the other period; absent where there is none to compare with.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    before: Vec<BTreeMap<String, Cell>>,
    /// What stands under each row; absent where no row has anything.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    details: Vec<Vec<Detail>>,
    /// What is not in the rows.
    #[serde(default, skip_serializing_if = "RestWire::is_empty")]
    rest: RestWire,
    /// Figures of all rows and the rest; absent where they do not add up to anything.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    total: BTreeMap<String, Cell>,
    /// The total of the other period; absent where there is none.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    total_before: BTreeMap<String, Cell>,
    /// The column that the rows are ordered by, the greatest first; absent where their order is their own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    order: Option<String>,
    /// What the figures cannot say.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    unknown: Vec<String>,
}

/// What is not in the rows of a table.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = Rest)]
struct RestWire {
    /// How many further rows there are.
    rows: u64,
    /// What their figures add up to.
    figures: BTreeMap<String, Cell>,
}

impl RestWire {
    fn is_empty(&self) -> bool {
        self.rows == 0 && self.figures.is_empty()
    }
}

impl From<Table> for TableWire {
    fn from(table: Table) -> Self {
        let names = &table.columns;
        let object = |row: Vec<Cell>| -> BTreeMap<String, Cell> {
            names.iter().map(|column| column.name.clone()).zip(row).collect()
        };
        let figures = |row: Vec<Cell>| -> BTreeMap<String, Cell> {
            object(row).into_iter().filter(|(_, cell)| *cell != Cell::Nothing).collect()
        };
        TableWire {
            rows: table.rows.into_iter().map(object).collect(),
            before: table.before.into_iter().map(figures).collect(),
            rest: RestWire { rows: table.rest.rows, figures: figures(table.rest.cells) },
            total: figures(table.total),
            total_before: figures(table.total_before),
            name: table.name,
            title: table.title,
            about: table.about,
            details: table.details,
            order: table.order,
            unknown: table.unknown,
            columns: table.columns,
        }
    }
}

impl From<TableWire> for Table {
    fn from(wire: TableWire) -> Self {
        let row = |mut object: BTreeMap<String, Cell>| -> Vec<Cell> {
            let names = wire.columns.iter().map(|column| &column.name);
            names.map(|name| object.remove(name).unwrap_or_default()).collect()
        };
        // An object without figures stands for no figures at all.
        let figures =
            |object: BTreeMap<String, Cell>| if object.is_empty() { Vec::new() } else { row(object) };
        Table {
            rows: wire.rows.into_iter().map(row).collect(),
            before: wire.before.into_iter().map(row).collect(),
            rest: Rest { rows: wire.rest.rows, cells: figures(wire.rest.figures) },
            total: figures(wire.total),
            total_before: figures(wire.total_before),
            name: wire.name,
            title: wire.title,
            about: wire.about,
            details: wire.details,
            order: wire.order,
            unknown: wire.unknown,
            columns: wire.columns,
        }
    }
}
