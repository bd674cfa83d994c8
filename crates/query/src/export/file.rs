//! Rows as a file, in any of the forms that other programs read.

use super::parquet::ParquetOf;
use crate::answer::{columns, rows};
use crate::diagnostic::QueryError;
use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use exedra_common::tables::rows::object;
use exedra_common::tables::{Table, csv};

/// The form of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// Columns, compressed.
    Parquet,
    /// Comma-separated values.
    Csv,
    /// One JSON object on each line.
    Ndjson,
}

impl Form {
    /// All of them.
    pub const ALL: [Form; 3] = [Form::Parquet, Form::Csv, Form::Ndjson];

    /// Its name, also as the ending of files.
    pub fn name(self) -> &'static str {
        match self {
            Form::Parquet => "parquet",
            Form::Csv => "csv",
            Form::Ndjson => "ndjson",
        }
    }

    /// The form of a name.
    pub fn named(name: &str) -> Option<Form> {
        Form::ALL.into_iter().find(|form| form.name() == name)
    }
}

/// A file that is being made: whoever writes it takes what there is of it from time to time.
pub enum FileOf {
    /// As Parquet.
    Parquet(Box<ParquetOf>),
    /// As text, a line for each row.
    Lines {
        /// Its columns, without rows.
        table: Box<Table>,
        /// Whether lines are objects.
        objects: bool,
        /// What nobody has taken yet.
        made: Vec<u8>,
    },
}

impl FileOf {
    /// Begins a file of rows of a schema.
    ///
    /// # Errors
    /// When the form has no such type.
    pub fn begin(form: Form, schema: &SchemaRef) -> Result<Self, QueryError> {
        let table = || Box::new(Table::new("requests", "", columns(schema)));
        Ok(match form {
            Form::Parquet => FileOf::Parquet(Box::new(ParquetOf::begin(schema)?)),
            Form::Csv => {
                let table = table();
                let made = csv::table(&table).into_bytes();
                FileOf::Lines { table, objects: false, made }
            }
            Form::Ndjson => FileOf::Lines { table: table(), objects: true, made: Vec::new() },
        })
    }

    /// Writes further rows.
    ///
    /// # Errors
    /// When they cannot be coded.
    pub fn write(&mut self, batch: &RecordBatch) -> Result<(), QueryError> {
        match self {
            FileOf::Parquet(file) => file.write(batch),
            FileOf::Lines { table, objects, made } => {
                for row in rows(batch) {
                    let line = if *objects { object(table, &row) } else { csv::row(table, &row) };
                    made.extend_from_slice(line.as_bytes());
                }
                Ok(())
            }
        }
    }

    /// What has been made since the last time.
    pub fn take(&mut self) -> Vec<u8> {
        match self {
            FileOf::Parquet(file) => file.take(),
            FileOf::Lines { made, .. } => std::mem::take(made),
        }
    }

    /// The rest of it.
    ///
    /// # Errors
    /// When it cannot be coded.
    pub fn finish(self) -> Result<Vec<u8>, QueryError> {
        match self {
            FileOf::Parquet(file) => file.finish(),
            FileOf::Lines { made, .. } => Ok(made),
        }
    }
}
