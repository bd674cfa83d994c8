//! What both halves of the computation share: the columns of a logged request and what travels in them, scopes and their
//! filters, texts, units.
//!
//! - [`columns`]: the one list of columns; [`batch`]: up to 65,536 requests, column by column; [`dictionary`]: each
//!   distinct text once; [`origin`]: what all lines of one source share
//! - [`scope`]: which requests are meant, the same everywhere; [`filters`]: what must hold of each of them
//! - [`text`]: patterns with `*`, the nearest word, and what may be shown of a stranger's text
//! - [`units`]: sizes and lengths of time written out; [`figures`]: the same and numbers, as people read them
//! - [`tables`]: what people see of anything
//! - [`grant`]: what somebody may do and see
//!
//! Nothing in `core/` reads a clock, a file or a socket, and nothing prints: time, folders and bytes come in as values, so
//! that tests, rehearsals and the running service share every line.

pub mod batch;
pub mod columns;
pub mod dictionary;
pub mod figures;
pub mod filters;
pub mod grant;
pub mod origin;
pub mod scope;
pub mod tables;
pub mod text;
pub mod units;

pub use batch::{BATCH_ROWS, RequestBatch};
pub use columns::{Column, DerivedColumn, NumberColumn, Projection, TextColumn};
pub use dictionary::{Dictionaries, Dictionary};
pub use origin::Origin;
