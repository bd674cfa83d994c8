//! One row of a table for programs.

use super::{Cell, Table, TableColumn};
use crate::columns::Kind;

/// A row as an object of JSON on a line of its own. Logs of such lines can be read again.
pub fn object(table: &Table, row: &[Cell]) -> String {
    let value = |(column, cell): (&TableColumn, &Cell)| {
        let value = match (column.kind, cell) {
            (Kind::Time, Cell::Number(time)) => {
                let stamp =
                    i64::try_from(*time).ok().and_then(|time| jiff::Timestamp::from_millisecond(time).ok());
                serde_json::Value::from(format!("{:.3}", stamp.unwrap_or_default()))
            }
            (_, cell) => serde_json::to_value(cell).unwrap_or_default(),
        };
        format!("{}:{value}", serde_json::Value::from(&*column.name))
    };
    let members: Vec<String> = table.columns.iter().zip(row).map(value).collect();
    format!("{{{}}}\n", members.join(","))
}
