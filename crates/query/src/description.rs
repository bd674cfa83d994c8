//! What a source has in each column: how full it is, and samples of its values.
//!
//! Some requests are looked at, as many as it takes to know: whoever asks wants to know what to ask about. They are asked for by
//! statements like anybody's, so that what is told here is what a statement will find.

use crate::diagnostic::QueryError;
use crate::engine::Engine;
use crate::schema::{Field, TABLE, fields};
use crate::statement::Statement;
use exedra_common::columns::{Kind, Unit};
use exedra_common::tables::{Cell, Measured, Table, TableColumn};

/// How many requests are looked at.
pub const LOOKED_AT: usize = 50_000;
/// How many samples are told of each column.
const SAMPLES: usize = 4;

/// A table of the columns: name, type, unit, the share of requests that have a value, the values that most have, and what it means.
///
/// # Errors
/// When the source cannot be read.
pub fn describe(engine: &Engine, goes_on: &dyn Fn() -> bool) -> Result<Table, QueryError> {
    let text = |name: &str, title: &str| TableColumn::text(name, title);
    let filled = TableColumn { kind: Kind::Integer, measure: Measured::Level, ..text("filled", "filled, %") };
    let columns = [text("name", "column"), text("type", "type"), text("unit", "unit"), filled];
    let columns = columns.into_iter().chain([text("samples", "most often"), text("meaning", "meaning")]);
    let mut table = Table::new("columns", "Columns", columns);
    let counts: Vec<String> = fields().map(|field| format!("count({})", quoted(field))).collect();
    let some = format!("(select * from {TABLE} limit {LOOKED_AT})");
    let counted = ask(engine, &format!("select count(*), {} from {some}", counts.join(", ")), goes_on)?;
    let counted = counted.first().cloned().unwrap_or_default();
    let number = |place: usize| counted.get(place).and_then(Cell::as_u64).unwrap_or(0);
    let all = number(0);
    for (nth, field) in fields().enumerate() {
        let has = number(nth + 1);
        let share = (all > 0).then(|| has as f64 * 100.0 / all as f64);
        let samples = match has {
            0 => Vec::new(),
            _ => samples(engine, field, &some, goes_on)?,
        };
        let unit = match field.unit() {
            Unit::None => "",
            unit => unit.name(),
        };
        // Milliseconds since 1970 are how the engine keeps instants, and nobody else's concern.
        let unit = if field.type_name() == "timestamp" { "" } else { unit };
        table.push([
            field.name().into(),
            field.type_name().into(),
            unit.into(),
            share.map(|share| (share * 10.0).round() / 10.0).into(),
            samples.join("  ").into(),
            field.meaning().into(),
        ]);
    }
    Ok(table)
}

/// The values that most requests have.
fn samples(
    engine: &Engine,
    field: Field,
    some: &str,
    goes_on: &dyn Fn() -> bool,
) -> Result<Vec<String>, QueryError> {
    let name = quoted(field);
    let statement = match field {
        Field::Of(exedra_common::Column::Time) => {
            format!("select to_char(min(time), '%Y-%m-%d %H:%M:%S') from {some}")
        }
        Field::Visitor => return Ok(Vec::new()),
        _ => format!(
            "select {name} from {some} where {name} is not null group by 1 order by count(*) desc, 1 limit {SAMPLES}"
        ),
    };
    let rows = ask(engine, &statement, goes_on)?;
    let value = |row: Vec<Cell>| match row.into_iter().next() {
        Some(Cell::Text(text)) => text,
        Some(Cell::Number(number)) => number.to_string(),
        Some(Cell::Decimal(number)) => number.to_string(),
        Some(Cell::Nothing) | None => String::new(),
    };
    Ok(rows.into_iter().map(value).collect())
}

fn ask(engine: &Engine, statement: &str, goes_on: &dyn Fn() -> bool) -> Result<Vec<Vec<Cell>>, QueryError> {
    let statement = Statement::understand(statement, &Default::default())?;
    let (table, _) = engine.ask(&statement, goes_on)?.into_table(usize::MAX, goes_on)?;
    Ok(table.rows)
}

/// A name that no word of SQL is taken for.
fn quoted(field: Field) -> String {
    format!("\"{}\"", field.name())
}
