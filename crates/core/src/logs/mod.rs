//! Lines of access logs, and the columns they become.
//!
//! - [`columns`]: the one list of columns, and choosing some of them
//! - [`dictionary`]: each distinct text once, a code for it everywhere else
//! - [`batch`]: up to 65,536 requests, column by column
//! - [`layout`]: the named layouts; [`detect`]: finding the one that fits
//! - [`template`]: a layout as text, understood; [`plan`]: the same, ready to run over lines
//! - [`objects`]: lines of JSON; [`w3c`]: the W3C extended format; [`meaning`]: what named values mean in both
//! - [`cutter`]: any of these, ready to cut lines
//! - [`moment`]: times as logs write them
//! - [`escape`]: what a field may contain without breaking its line, and back
//! - [`origin`]: what all lines of one source share
//! - [`mask`]: addresses cut to their network
//! - [`reader`]: lines into batches, counting what could not be read
//! - [`writer`]: a finished request into a line

pub mod batch;
pub mod columns;
pub mod cutter;
pub mod detect;
pub mod dictionary;
pub mod escape;
pub mod layout;
pub mod mask;
pub mod meaning;
pub mod moment;
pub mod objects;
pub mod origin;
pub mod plan;
pub mod reader;
pub mod template;
pub mod w3c;
pub mod writer;

pub use batch::{BATCH_ROWS, RequestBatch};
pub use columns::{Column, Projection, TextColumn};
pub use cutter::Cutter;
pub use dictionary::{Dictionaries, Dictionary};
pub use layout::Layout;
pub use origin::{Origin, OriginColumn};
pub use reader::{LineReader, Unread};
pub use writer::{LogTemplate, LoggedRequest};
