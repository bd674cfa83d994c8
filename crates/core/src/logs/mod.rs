//! Lines of access logs, and the columns they become.
//!
//! - [`columns`]: the one list of columns, and choosing some of them
//! - [`dictionary`]: each distinct text once, a code for it everywhere else
//! - [`batch`]: up to 65,536 requests, column by column
//! - [`template`]: a layout as text, understood; [`plan`]: the same, ready to run over lines
//! - [`layout`]: the named layouts; [`detect`]: finding the one that fits
//! - [`moment`]: times as logs write them
//! - [`escape`]: what a field may contain without breaking its line, and back
//! - [`mask`]: addresses cut to their network
//! - [`reader`]: lines into batches, counting what could not be read
//! - [`writer`]: a finished request into a line

pub mod batch;
pub mod columns;
pub mod detect;
pub mod dictionary;
pub mod escape;
pub mod layout;
pub mod mask;
pub mod moment;
pub mod plan;
pub mod reader;
pub mod template;
pub mod writer;

pub use batch::{BATCH_ROWS, RequestBatch};
pub use columns::{Column, Projection, TextColumn};
pub use dictionary::{Dictionaries, Dictionary};
pub use layout::Layout;
pub use reader::{LineReader, Unread};
pub use writer::{LogTemplate, LoggedRequest};
