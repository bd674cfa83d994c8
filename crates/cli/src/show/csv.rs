//! A table as comma-separated values (RFC 4180).

use crate::failure::Failure;
use exedra_common::columns::Kind;
use exedra_common::tables::{Cell, Table, TableColumn};

/// The rows of a table, under the names of its columns.
pub fn table(table: &Table) -> Result<String, Failure> {
    let mut out = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    out.write_record(table.columns.iter().map(|column| harmless(column.name.clone())))?;
    for row in &table.rows {
        out.write_record(table.columns.iter().zip(row).map(|(column, cell)| harmless(plain(column, cell))))?;
    }
    let octets = out.into_inner().map_err(|error| Failure(error.to_string()))?;
    String::from_utf8(octets).map_err(Failure::from)
}

/// One row of a table, without their heading.
pub fn row(table: &Table, row: &[Cell]) -> Result<String, Failure> {
    let mut out = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    out.write_record(table.columns.iter().zip(row).map(|(column, cell)| harmless(plain(column, cell))))?;
    let octets = out.into_inner().map_err(|error| Failure(error.to_string()))?;
    String::from_utf8(octets).map_err(Failure::from)
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
