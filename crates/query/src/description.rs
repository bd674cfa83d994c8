//! What a source has in each column: how full it is, and samples of its values.
//!
//! Some requests are looked at, as many as it takes to know: whoever asks wants to know what to ask about.

use crate::schema::{Field, fields};
use crate::source::{Reading, SourceError};
use crate::table::RequestsTable;
use exedra_common::batch::NO_TIME;
use exedra_common::columns::{Derive, Kind, Unit};
use exedra_common::tables::{Cell, Measured, Table, TableColumn};
use exedra_common::{Column, Dictionaries, Projection, RequestBatch, TextColumn};
use jiff::Timestamp;
use std::collections::HashMap;

/// How many requests are looked at, at least, where there are so many.
pub const LOOKED_AT: usize = 50_000;
/// How many samples are told of each column, and how long one may be.
const SAMPLES: usize = 4;
const LONGEST: usize = 60;

/// What has been seen of a column.
#[derive(Default)]
struct Seen {
    filled: u64,
    values: HashMap<String, u64>,
}

/// A table of the columns: name, type, unit, the share of requests that have a value, the values that most have, and what it means.
///
/// # Errors
/// When the source cannot be read, or `goes_on` says that nobody waits.
pub fn describe(table: &RequestsTable, goes_on: &dyn Fn() -> bool) -> Result<Table, SourceError> {
    let reading = Reading {
        projection: Projection::everything(),
        wants_times: true,
        filter: table.row_filter(),
        threads: 1,
    };
    let mut seen: Vec<(Column, Seen)> = Column::all().map(|column| (column, Seen::default())).collect();
    let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
    let mut all = 0;
    for mut reader in table.source().begin(reading)? {
        while all < LOOKED_AT {
            if !goes_on() {
                return Err(SourceError("stopped".to_owned()));
            }
            batch.clear();
            // Each batch is counted by itself, so that it makes no difference whose texts they are.
            if reader.read(&mut batch, &mut texts)?.is_none() {
                break;
            }
            seen.iter_mut().for_each(|(column, seen)| look(*column, &batch, &texts, table.derive(), seen));
            all += batch.rows();
            if texts.are_full() {
                texts = Dictionaries::default();
            }
        }
    }
    Ok(told(&seen, all))
}

/// Counts what one batch has in a column.
fn look(column: Column, batch: &RequestBatch, texts: &Dictionaries, derive: &dyn Derive, seen: &mut Seen) {
    match column {
        Column::Time => {
            let times = || batch.time.iter().filter(|time| **time != NO_TIME);
            seen.filled += times().count() as u64;
            if let Some(first) = times().min().filter(|_| seen.values.is_empty()) {
                let first = Timestamp::from_millisecond(*first).unwrap_or_default();
                seen.values.insert(first.strftime("%Y-%m-%d %H:%M:%S").to_string(), 1);
            }
        }
        Column::Number(number) => {
            let is_duration = column.declaration().kind == Kind::Duration;
            for row in 0..batch.rows() {
                let Some(value) = batch.number(number, row) else { continue };
                seen.filled += 1;
                // What is measured is another value each time.
                let value = if is_duration { (value / 1000).to_string() } else { value.to_string() };
                if seen.values.len() < LOOKED_AT || seen.values.contains_key(&value) {
                    *seen.values.entry(value).or_default() += 1;
                }
            }
        }
        Column::Text(text) => of_texts(text, batch, texts, seen, |text| Some(text.to_owned())),
        Column::Derived(derived) => {
            let follows = |text: &str| derive.derive(derived, text).map(|text| text.into_owned());
            of_texts(derived.base(), batch, texts, seen, follows);
        }
    }
}

/// Counts by codes, and looks at each text once.
fn of_texts(
    column: TextColumn,
    batch: &RequestBatch,
    texts: &Dictionaries,
    seen: &mut Seen,
    follows: impl Fn(&str) -> Option<String>,
) {
    let mut counts: HashMap<u32, u64> = HashMap::new();
    for row in 0..batch.rows() {
        if let Some(code) = batch.code(column, row) {
            *counts.entry(code).or_default() += 1;
        }
    }
    for (code, count) in counts {
        if let Some(text) = follows(texts.of(column).text(code)) {
            seen.filled += count;
            *seen.values.entry(text).or_default() += count;
        }
    }
}

fn told(seen: &[(Column, Seen)], all: usize) -> Table {
    let text = |name: &str, title: &str| TableColumn::text(name, title);
    let filled = TableColumn { kind: Kind::Integer, measure: Measured::Level, ..text("filled", "filled, %") };
    let columns = [text("name", "column"), text("type", "type"), text("unit", "unit"), filled];
    let columns = columns.into_iter().chain([text("samples", "most often"), text("meaning", "meaning")]);
    let mut table = Table::new("columns", "Columns", columns);
    for field in fields() {
        let of_field = seen.iter().find(|(column, _)| field == Field::Of(*column)).map(|(_, seen)| seen);
        let share = of_field.filter(|_| all > 0).map(|seen| seen.filled as f64 * 100.0 / all as f64);
        let unit = match (field.type_name(), field.unit()) {
            // Milliseconds since 1970 are how instants are kept, and nobody else's concern.
            ("timestamp", _) | (_, Unit::None) => "",
            (_, unit) => unit.name(),
        };
        let mut values: Vec<(&String, &u64)> = of_field.iter().flat_map(|seen| &seen.values).collect();
        values.retain(|(value, _)| !value.is_empty() && value.len() <= LONGEST && !value.contains("  "));
        values.sort_by(|one, other| (other.1, one.0).cmp(&(one.1, other.0)));
        let samples: Vec<&str> = values.iter().take(SAMPLES).map(|(value, _)| value.as_str()).collect();
        table.push([
            field.name().into(),
            field.type_name().into(),
            unit.into(),
            share.map(|share| (share * 10.0).round() / 10.0).map_or(Cell::Nothing, Cell::Decimal),
            samples.join("  ").into(),
            field.meaning().into(),
        ]);
    }
    table
}
