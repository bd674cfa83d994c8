//! Rows that come in order of site and day, cut into one file for each day of each site.

use super::file::{FileOf, Form};
use crate::answer::Answer;
use crate::diagnostic::QueryError;
use crate::schema::{Field, TABLE, fields};
use arrow::array::{AsArray, RecordBatch};
use arrow::compute::cast;
use arrow::datatypes::{DataType, Schema};
use exedra_common::{Column, TextColumn};
use std::ops::Range;
use std::sync::Arc;

/// One day of one site.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Partition {
    /// The site; nothing where a log does not say it.
    pub site: Option<String>,
    /// The day, as in `2026-11-14`; nothing where requests have no time.
    pub day: Option<String>,
}

impl Partition {
    /// Where its file stands below the folder of an export, without its name.
    pub fn folder(&self) -> String {
        let value = |value: &Option<String>| value.as_deref().map_or("unknown".to_owned(), plain);
        format!("site={}/day={}", value(&self.site), value(&self.day))
    }
}

/// A name that no file system takes for anything else.
fn plain(name: &str) -> String {
    let is_plain = |letter: char| letter.is_alphanumeric() || "-_.".contains(letter);
    let plain: String = name.chars().map(|letter| if is_plain(letter) { letter } else { '_' }).collect();
    if plain.starts_with('.') { format!("_{plain}") } else { plain }
}

/// What was exported.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Exported {
    /// Files that were put in place.
    pub files: u64,
    /// Requests in them.
    pub requests: u64,
    /// Octets of them.
    pub octets: u64,
}

/// Whoever keeps files.
pub trait PartitionSink {
    /// Begins the file of a partition, which is not in place yet; or says that it is not wanted.
    fn begin(&mut self, of: &Partition) -> Result<bool, QueryError>;

    /// Appends octets to it.
    fn write(&mut self, octets: &[u8]) -> Result<(), QueryError>;

    /// Puts it in place.
    fn finish(&mut self) -> Result<(), QueryError>;
}

/// How many columns of the statement say where a row belongs.
const KEYS: usize = 2;

/// The statement whose rows are exported: all columns but the visitor, which is never stored, and the site, which stands in the
/// names of folders.
pub fn statement() -> String {
    format!("select site, {DAY} as day, {} from {TABLE} order by site, day, time", columns_of())
}

/// The day that a request came on.
pub const DAY: &str = "to_char(time, '%Y-%m-%d')";

/// The columns of an export, as a statement names them.
pub fn columns_of() -> String {
    let is_kept =
        |field: &Field| !matches!(field, Field::Visitor | Field::Of(Column::Text(TextColumn::Site)));
    let columns: Vec<String> =
        fields().filter(is_kept).map(|field| format!("\"{}\"", field.name())).collect();
    columns.join(", ")
}

/// Cuts an answer to [`statement`].
pub struct Partitions<S> {
    form: Form,
    sink: S,
    /// The file of the partition at hand, where it is wanted.
    open: Option<(Partition, Option<FileOf>)>,
    exported: Exported,
}

impl<S: PartitionSink> Partitions<S> {
    /// Files of a form go to a sink.
    pub fn new(form: Form, sink: S) -> Self {
        Partitions { form, sink, open: None, exported: Exported::default() }
    }

    /// Writes all rows of an answer.
    ///
    /// # Errors
    /// When the answer ends in the middle, or a file cannot be written; what was put in place stays.
    pub fn write_all(
        mut self,
        mut answer: Answer<'_>,
        goes_on: &dyn Fn() -> bool,
    ) -> Result<Exported, QueryError> {
        while let Some(batch) = answer.batch(goes_on)? {
            let keys = [key(&batch, 0)?, key(&batch, 1)?];
            for (partition, rows) in stretches(&keys, batch.num_rows()) {
                let is_open = self.open.as_ref().is_some_and(|(open, _)| *open == partition);
                if !is_open {
                    self.close()?;
                    let rest = Arc::new(Schema::new(batch.schema().fields()[KEYS..].to_vec()));
                    let file = match self.sink.begin(&partition)? {
                        true => Some(FileOf::begin(self.form, &rest)?),
                        false => None,
                    };
                    self.open = Some((partition, file));
                }
                if let Some((_, Some(file))) = &mut self.open {
                    let places: Vec<usize> = (KEYS..batch.num_columns()).collect();
                    file.write(&batch.slice(rows.start, rows.len()).project(&places)?)?;
                    let octets = file.take();
                    self.exported.octets += octets.len() as u64;
                    self.exported.requests += rows.len() as u64;
                    self.sink.write(&octets)?;
                }
            }
        }
        self.close()?;
        Ok(self.exported)
    }

    fn close(&mut self) -> Result<(), QueryError> {
        let Some((_, Some(file))) = self.open.take() else { return Ok(()) };
        let octets = file.finish()?;
        self.exported.octets += octets.len() as u64;
        self.exported.files += 1;
        self.sink.write(&octets)?;
        self.sink.finish()
    }
}

/// The texts of a column that says where rows belong.
fn key(batch: &RecordBatch, place: usize) -> Result<Vec<Option<String>>, QueryError> {
    let texts = cast(batch.column(place), &DataType::Utf8)?;
    Ok(texts.as_string::<i32>().iter().map(|text| text.map(str::to_owned)).collect())
}

/// Rows that belong to the same partition, in a row.
fn stretches(keys: &[Vec<Option<String>>; KEYS], rows: usize) -> Vec<(Partition, Range<usize>)> {
    let mut all: Vec<(Partition, Range<usize>)> = Vec::new();
    for (row, (site, day)) in keys[0].iter().zip(&keys[1]).take(rows).enumerate() {
        match all.last_mut() {
            Some((partition, stretch)) if partition.site == *site && partition.day == *day => {
                stretch.end = row + 1;
            }
            _ => all.push((Partition { site: site.clone(), day: day.clone() }, row..row + 1)),
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_sites_are_names_of_folders() {
        let of = |site: &str| Partition { site: Some(site.to_owned()), day: None }.folder();
        assert_eq!(of("harbour"), "site=harbour/day=unknown");
        assert_eq!(of("../../etc"), "site=_.._.._etc/day=unknown");
    }
}
