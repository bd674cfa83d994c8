//! What comes back: columns that are known at once, and rows step by step, so that an answer of any length needs little memory.

use crate::diagnostic::QueryError;
use crate::schema::{Field, TABLE};
use crate::threads::{QueryThreads, TimeLeft};
use crate::wording::understood;
use arrow::array::{Array, ArrayRef, AsArray, RecordBatch};
use arrow::compute::cast;
use arrow::datatypes::{
    DataType, Date32Type, Field as ArrowField, Float64Type, Int64Type, Schema, SchemaRef, TimeUnit,
    TimestampMillisecondType, UInt32Type, UInt64Type,
};
use arrow::util::display::{ArrayFormatter, FormatOptions};
use datafusion::execution::SendableRecordBatchStream;
use exedra_common::columns::{Kind, Unit};
use exedra_common::tables::{Cell, Measured, Table, TableColumn};
use futures_util::StreamExt;
use jiff::civil::Date;
use std::sync::Arc;

/// An answer that is under way.
pub struct Answer<'e> {
    threads: &'e QueryThreads,
    stream: SendableRecordBatchStream,
    time: TimeLeft,
    statement: String,
    columns: Vec<TableColumn>,
    /// What has come and is not told yet.
    rest: Option<RecordBatch>,
}

/// The most values that become a table's at once: a row of thousands of columns is one that few others fit beside.
const CELLS_AT_ONCE: usize = 1 << 16;
/// The most rows, whose texts may be long.
const ROWS_AT_ONCE: usize = 1 << 10;
/// The most octets of a whole table in memory, however many rows that is.
pub const MOST_OCTETS: usize = 32 << 20;

impl<'e> Answer<'e> {
    pub(crate) fn new(
        threads: &'e QueryThreads,
        stream: SendableRecordBatchStream,
        time: TimeLeft,
        statement: String,
    ) -> Self {
        let columns = columns(&stream.schema());
        Answer { threads, stream, time, statement, columns, rest: None }
    }

    /// The table without any rows.
    pub fn table(&self) -> Table {
        Table::new("result", "", self.columns.iter().cloned())
    }

    /// The schema of what comes, as the engine has it, with the names that people are shown.
    pub fn schema(&self) -> SchemaRef {
        let schema = self.stream.schema();
        let fields = schema.fields().iter().zip(&self.columns);
        let fields = fields.map(|(field, column)| field.as_ref().clone().with_name(&column.name));
        Arc::new(Schema::new(fields.collect::<Vec<ArrowField>>()))
    }

    /// Further rows as the engine has them; `None` at the end.
    pub fn batch(&mut self, goes_on: &dyn Fn() -> bool) -> Result<Option<RecordBatch>, QueryError> {
        if let Some(rest) = self.rest.take() {
            return Ok(Some(rest));
        }
        let next = self.threads.wait(&mut self.time, goes_on, self.stream.next())?;
        next.transpose().map_err(|error| understood(&error, &self.statement))
    }

    /// Some further rows as the engine has them, few enough to be spelled out; `None` at the end.
    pub fn few(&mut self, goes_on: &dyn Fn() -> bool) -> Result<Option<RecordBatch>, QueryError> {
        let Some(batch) = self.batch(goes_on)? else { return Ok(None) };
        let some = (CELLS_AT_ONCE / batch.num_columns().max(1)).clamp(1, ROWS_AT_ONCE).min(batch.num_rows());
        if some < batch.num_rows() {
            self.rest = Some(batch.slice(some, batch.num_rows() - some));
        }
        Ok(Some(batch.slice(0, some)))
    }

    /// Further rows, some at a time; `None` at the end.
    pub fn rows(&mut self, goes_on: &dyn Fn() -> bool) -> Result<Option<Vec<Vec<Cell>>>, QueryError> {
        Ok(self.few(goes_on)?.map(|batch| rows(&batch)))
    }

    /// All rows as a table, up to so many, and no more than [`MOST_OCTETS`] hold; what was left out is not counted. Says whether there
    /// are more.
    pub fn into_table(
        mut self,
        most: usize,
        goes_on: &dyn Fn() -> bool,
    ) -> Result<(Table, bool), QueryError> {
        let (mut table, mut octets) = (self.table(), 0);
        while let Some(rows) = self.rows(goes_on)? {
            for row in rows {
                octets += row.iter().map(octets_of).sum::<usize>();
                if table.rows.len() == most || octets > MOST_OCTETS {
                    return Ok((table, true));
                }
                table.rows.push(row);
            }
        }
        Ok((table, false))
    }
}

/// What a value takes in memory.
fn octets_of(cell: &Cell) -> usize {
    size_of::<Cell>() + cell.as_text().map_or(0, str::len)
}

/// A column of an answer, by its name and type. One that is a column of logs says so, so that a filter can be made of its values.
fn column(field: &ArrowField) -> TableColumn {
    let name = field.name().replace(&format!("{TABLE}."), "");
    let (kind, unit, measure) = match field.data_type() {
        DataType::Timestamp(..) => (Kind::Time, Unit::Milliseconds, Measured::Key),
        DataType::Date32 | DataType::Date64 => (Kind::Date, Unit::None, Measured::Key),
        kind if kind.is_integer() => (Kind::Integer, Unit::None, Measured::Level),
        kind if kind.is_numeric() => (Kind::Integer, Unit::None, Measured::Level),
        _ => (Kind::Text, Unit::None, Measured::Key),
    };
    // What a figure counts is told from the name that it was given: only pictures ask, rows show it to the last digit.
    let unit = match unit {
        Unit::None if measure == Measured::Level && (name == "bytes" || name.ends_with("_bytes")) => {
            Unit::Bytes
        }
        Unit::None if measure == Measured::Level && name.ends_with("_ms") => Unit::Milliseconds,
        unit => unit,
    };
    let of_logs = match Field::named(&name) {
        Some(Field::Of(column)) if column.declaration().kind == kind && kind == Kind::Text => Some(column),
        Some(Field::Of(column)) if column.name() == "status" => Some(column),
        _ => None,
    };
    let measure = if of_logs.is_some() { Measured::Key } else { measure };
    let filter = of_logs.map(|column| column.name().to_owned());
    TableColumn { kind, unit, measure, filter, ..TableColumn::text(&name, &name) }
}

/// The columns of rows of a schema.
pub fn columns(schema: &Schema) -> Vec<TableColumn> {
    schema.fields().iter().map(|field| column(field)).collect()
}

/// The rows of a batch.
pub fn rows(batch: &RecordBatch) -> Vec<Vec<Cell>> {
    let columns: Vec<Vec<Cell>> = batch.columns().iter().map(cells).collect();
    let mut columns: Vec<_> = columns.into_iter().map(Vec::into_iter).collect();
    let row = |_| columns.iter_mut().map(|column| column.next().unwrap_or_default()).collect();
    (0..batch.num_rows()).map(row).collect()
}

/// The values of a column.
fn cells(array: &ArrayRef) -> Vec<Cell> {
    let known = match array.data_type() {
        DataType::Dictionary(key, value) if **key == DataType::UInt32 && **value == DataType::Utf8 => {
            let coded = array.as_dictionary::<UInt32Type>();
            let texts = coded.values().as_string::<i32>();
            let text = |key: u32| texts.is_valid(key as usize).then(|| texts.value(key as usize));
            Some(coded.keys().iter().map(|key| key.and_then(text).into()).collect())
        }
        kind if kind.is_string() || matches!(kind, DataType::Dictionary(..)) => cast(array, &DataType::Utf8)
            .ok()
            .map(|texts| texts.as_string::<i32>().iter().map(Cell::from).collect()),
        DataType::Boolean => {
            let word = |truth: Option<bool>| truth.map(|truth| if truth { "true" } else { "false" }).into();
            Some(array.as_boolean().iter().map(word).collect())
        }
        DataType::Timestamp(_, zone) => {
            let wanted = DataType::Timestamp(TimeUnit::Millisecond, zone.clone());
            cast(array, &wanted).ok().map(|times| {
                let times = times.as_primitive::<TimestampMillisecondType>().iter();
                times.map(|time| time.and_then(|time| u64::try_from(time).ok()).into()).collect()
            })
        }
        DataType::Date32 | DataType::Date64 => cast(array, &DataType::Date32).ok().map(|days| {
            let day = |day: i32| {
                let since = jiff::Span::new().try_days(day).ok()?;
                Some(Date::constant(1970, 1, 1).checked_add(since).ok()?.to_string())
            };
            days.as_primitive::<Date32Type>().iter().map(|days| days.and_then(day).into()).collect()
        }),
        DataType::UInt64 => Some(array.as_primitive::<UInt64Type>().iter().map(Cell::from).collect()),
        kind if kind.is_integer() => cast(array, &DataType::Int64).ok().map(|numbers| {
            let cell = |number: Option<i64>| match number {
                Some(number) => u64::try_from(number).map_or(Cell::Decimal(number as f64), Cell::Number),
                None => Cell::Nothing,
            };
            numbers.as_primitive::<Int64Type>().iter().map(cell).collect()
        }),
        kind if kind.is_numeric() => cast(array, &DataType::Float64).ok().map(|numbers| {
            let cell = |number: Option<f64>| number.filter(|number| number.is_finite()).into();
            numbers.as_primitive::<Float64Type>().iter().map(cell).collect()
        }),
        _ => None,
    };
    known.unwrap_or_else(|| as_text(array))
}

/// Values of a kind that tables do not know, as texts.
fn as_text(array: &ArrayRef) -> Vec<Cell> {
    let options = FormatOptions::default();
    let Ok(formatter) = ArrayFormatter::try_new(array, &options) else {
        return vec![Cell::Nothing; array.len()];
    };
    let cell = |row: usize| match array.is_null(row) {
        true => Cell::Nothing,
        false => Cell::Text(formatter.value(row).to_string()),
    };
    (0..array.len()).map(cell).collect()
}
