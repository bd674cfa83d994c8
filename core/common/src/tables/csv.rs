//! A table as comma-separated values (RFC 4180).

use super::{Cell, Table, TableColumn};
use crate::columns::Kind;

/// The rows of a table, under the names of its columns.
pub fn table(table: &Table) -> String {
    let heading = table.columns.iter().map(|column| harmless(column.name.clone()));
    let rows = table.rows.iter().map(|row| cells(table, row));
    written(std::iter::once(heading.collect()).chain(rows))
}

/// One row of a table, without their heading.
pub fn row(table: &Table, row: &[Cell]) -> String {
    written(std::iter::once(cells(table, row)))
}

fn cells(table: &Table, row: &[Cell]) -> Vec<String> {
    table.columns.iter().zip(row).map(|(column, cell)| harmless(plain(column, cell))).collect()
}

fn written(rows: impl Iterator<Item = Vec<String>>) -> String {
    let mut out = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    for row in rows {
        // Into memory, and all of the same length: neither can fail.
        let _ = out.write_record(row);
    }
    String::from_utf8(out.into_inner().unwrap_or_default()).unwrap_or_default()
}

/// A value without anything that is there for the eye.
fn plain(column: &TableColumn, cell: &Cell) -> String {
    match (column.kind, cell) {
        (Kind::Time, Cell::Number(time)) => {
            let stamp =
                i64::try_from(*time).ok().and_then(|time| jiff::Timestamp::from_millisecond(time).ok());
            stamp.unwrap_or_default().to_string()
        }
        (_, Cell::Nothing) => String::new(),
        (_, Cell::Number(number)) => number.to_string(),
        (_, Cell::Decimal(number)) => number.to_string(),
        (_, Cell::Text(text)) => text.clone(),
    }
}

/// A text that no spreadsheet takes for a formula.
fn harmless(text: String) -> String {
    let is_number = text.parse::<f64>().is_ok();
    if !is_number && text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}") } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn strangers_cannot_write_formulas() {
        assert_eq!(harmless("=1+1".to_owned()), "'=1+1");
        assert_eq!(harmless("@SUM(A1)".to_owned()), "'@SUM(A1)");
        assert_eq!(harmless("-7".to_owned()), "-7");
        assert_eq!(harmless("/a,b".to_owned()), "/a,b");
    }
}
