//! Requests as files for other programs: the same columns, cut by site and day, sorted by time.
//!
//! `site=harbour/day=2026-11-14/NAME.parquet`, as engines that read folders expect it. What is one day of one site is one file,
//! which is put in place as a whole: whoever exports again replaces it, and no request stands anywhere twice.
//!
//! - [`file`]: rows as a file of any form; [`parquet`]: as Parquet
//! - [`partitions`]: rows that come in order of site and day, cut into files

mod file;
mod parquet;
mod partitions;

pub use file::{FileOf, Form};
pub use partitions::{Exported, Partition, PartitionSink, Partitions, columns_of, statement};
