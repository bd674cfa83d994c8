//! Rows as Parquet: texts by dictionaries, Zstandard, the least and greatest of each column, and bloom filters where single values
//! are looked for.

use crate::diagnostic::QueryError;
use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use parquet::arrow::ArrowWriter;
use parquet::basic::{Compression, ZstdLevel};
use parquet::errors::ParquetError;
use parquet::file::properties::{EnabledStatistics, WriterProperties};
use parquet::schema::types::ColumnPath;
use std::io::{self, Write};
use std::sync::{Arc, Mutex, PoisonError};

/// How many rows stand together: as many as are held in memory before they are written.
const ROW_GROUP: usize = 131_072;
/// As many octets, where rows are wide.
const MOST_HELD: usize = 64 << 20;
/// Columns in which people look for one value.
const LOOKED_UP: [&str; 2] = ["client", "path"];

/// Octets that were written and nobody has taken yet.
#[derive(Debug, Clone, Default)]
struct Written(Arc<Mutex<Vec<u8>>>);

impl Write for Written {
    fn write(&mut self, octets: &[u8]) -> io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend_from_slice(octets);
        Ok(octets.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// A file that is being written: whoever writes takes what there is of it from time to time.
pub struct ParquetOf {
    writer: ArrowWriter<Written>,
    schema: SchemaRef,
    written: Written,
}

impl ParquetOf {
    /// Begins a file of these columns.
    ///
    /// # Errors
    /// When Parquet has no such type.
    pub fn begin(schema: &SchemaRef) -> Result<Self, QueryError> {
        let mut properties = WriterProperties::builder()
            .set_compression(Compression::ZSTD(ZstdLevel::default()))
            .set_dictionary_enabled(true)
            .set_statistics_enabled(EnabledStatistics::Page)
            .set_max_row_group_row_count(Some(ROW_GROUP));
        for name in LOOKED_UP.into_iter().filter(|name| schema.column_with_name(name).is_some()) {
            properties = properties.set_column_bloom_filter_enabled(ColumnPath::from(name), true);
        }
        let written = Written::default();
        let writer = ArrowWriter::try_new(written.clone(), Arc::clone(schema), Some(properties.build()));
        let writer = writer.map_err(failed)?;
        Ok(ParquetOf { writer, schema: Arc::clone(schema), written })
    }

    /// Writes further rows.
    ///
    /// # Errors
    /// When they cannot be coded.
    pub fn write(&mut self, batch: &RecordBatch) -> Result<(), QueryError> {
        // The names are those that people are shown, not the engine's.
        let batch = RecordBatch::try_new(Arc::clone(&self.schema), batch.columns().to_vec())?;
        self.writer.write(&batch).map_err(failed)?;
        if self.writer.memory_size() > MOST_HELD {
            self.writer.flush().map_err(failed)?;
        }
        Ok(())
    }

    /// What has been written since the last time.
    pub fn take(&mut self) -> Vec<u8> {
        std::mem::take(&mut self.written.0.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// The rest of it.
    ///
    /// # Errors
    /// When it cannot be coded.
    pub fn finish(mut self) -> Result<Vec<u8>, QueryError> {
        self.writer.finish().map_err(failed)?;
        Ok(self.take())
    }
}

fn failed(error: ParquetError) -> QueryError {
    QueryError::Source(format!("this cannot be written as Parquet: {error}"))
}

impl From<arrow::error::ArrowError> for QueryError {
    fn from(error: arrow::error::ArrowError) -> Self {
        QueryError::Source(format!("rows could not be put together: {error}"))
    }
}
