//! SQL over logged requests: one table, `requests`, whether they are read from logs or from the records.
//!
//! The only room that knows the engine and its Arrow. What goes in is a [`RequestSource`], which hands out batches of requests,
//! and a statement; what comes out is rows of a [`Table`](exedra_common::tables::Table), as everywhere in the house.
//!
//! - [`engine`]: statements carried out within limits; [`answer`]: what comes back, step by step; `threads`: where, and waiting for it
//! - [`statement`]: what was written, refused where it would do more than read; [`parameters`]: values that stand for `:name`
//! - `expansion`: how many selects and tables one becomes; `width`: how much it makes of one request, and what follows from that
//! - [`diagnostic`]: what is wrong with a statement, and where; [`wording`]: the engine's complaints in words of the trade
//! - [`source`]: where requests come from; [`records`]: from the records
//! - [`schema`]: the list of columns as the table's schema; [`arrow_batches`]: batches of requests as the engine's
//! - [`table`]: the table, which reads what a statement needs; [`conditions`]: those of a statement that a reader can test
//! - `grouping`: rows grouped by codes; `sorting`: long sorts of coded texts; `recoded`: codes to letters and back;
//!   `windows`: rows that a window keeps, counted; `visits`: `visit_of()` told row by row; `each_batch`: the step that
//!   both are
//! - [`functions`]: the one list of them
//! - [`library`]: statements that ship; [`description`]: what a source has in each column
//! - [`export`]: requests as Parquet, CSV and lines of JSON

pub mod answer;
pub mod arrow_batches;
pub mod conditions;
pub mod description;
pub mod diagnostic;
mod each_batch;
pub mod engine;
mod expansion;
pub mod export;
pub mod functions;
mod grouping;
pub mod library;
pub mod parameters;
mod recoded;
pub mod records;
pub mod schema;
mod sorting;
pub mod source;
pub mod statement;
pub mod table;
mod threads;
mod visits;
mod width;
mod windows;
pub mod wording;

pub use answer::Answer;
pub use diagnostic::{Diagnostic, QueryError};
pub use engine::{Engine, Limits};
pub use source::{Reading, RequestReader, RequestSource, SourceError, TextsAre};
pub use statement::Statement;
pub use table::RequestsTable;
