//! Single values of tables, as people read them.

use exedra_common::columns::{Kind, Unit};
use exedra_common::figures::{bytes, fixed, grouped, long_time};
use exedra_common::tables::{Cell, Change, Table, TableColumn};
use jiff::tz::TimeZone;

/// A value of a column; instants in a zone.
pub fn shown(column: &TableColumn, cell: &Cell, zone: &TimeZone) -> String {
    match (column.kind, cell) {
        (_, Cell::Nothing) => "–".to_owned(),
        (Kind::Time, Cell::Number(time)) => {
            let stamp =
                i64::try_from(*time).ok().and_then(|time| jiff::Timestamp::from_millisecond(time).ok());
            stamp.unwrap_or_default().to_zoned(zone.clone()).strftime("%a %-d %b %Y %H:%M").to_string()
        }
        (Kind::Size, Cell::Number(size)) => bytes(*size),
        (Kind::Duration, cell) => {
            cell.as_f64().map_or_else(String::new, |time| long_time(in_milliseconds(column.unit, time)))
        }
        // What a row is about is a name and not an amount.
        (_, Cell::Number(number)) if column.measure == exedra_common::tables::Measured::Key => {
            number.to_string()
        }
        (_, Cell::Number(number)) => grouped(*number),
        (Kind::Integer, Cell::Decimal(number)) => {
            let sign = if *number < 0.0 { "−" } else { "+" };
            format!("{sign}{}", grouped(number.abs().round() as u64))
        }
        (_, Cell::Decimal(number)) => format!("{number:.2}"),
        (_, Cell::Text(text)) => text.clone(),
    }
}

fn in_milliseconds(unit: Unit, time: f64) -> f64 {
    time * unit.nanoseconds() as f64 / 1e6
}

/// What a row is about: all its keys.
pub fn key(table: &Table, row: &[Cell], zone: &TimeZone) -> String {
    let keys = table.columns.iter().zip(row).filter(|(column, _)| is_key(column));
    let shown = |(column, cell): (&TableColumn, &Cell)| shown(column, cell, zone);
    let words: Vec<String> = keys.clone().filter(|(_, cell)| **cell != Cell::Nothing).map(shown).collect();
    match words.is_empty() {
        true => "not known".to_owned(),
        false => words.join(" "),
    }
}

/// Whether a column says what rows are about.
pub fn is_key(column: &TableColumn) -> bool {
    column.measure == exedra_common::tables::Measured::Key
}

/// A change as a part of what was before.
pub fn change(change: &Change) -> String {
    let percent = |ratio: f64, digits| {
        let sign = if ratio < 0.0 { "−" } else { "+" };
        format!("{sign}{} %", fixed((ratio * 100.0).abs(), digits))
    };
    match change.ratio {
        None if change.difference == 0.0 => "–".to_owned(),
        None => "new".to_owned(),
        Some(ratio) if ratio.abs() < 0.0005 => "±0 %".to_owned(),
        Some(ratio) if ratio.abs() < 0.0995 => percent(ratio, 1),
        Some(ratio) if ratio < 9.995 => percent(ratio, 0),
        Some(ratio) => format!("×{}", fixed(ratio + 1.0, 0)),
    }
}
