//! Lines of access logs, and the columns they become.
//!
//! - [`layout`]: the named layouts; [`detect`]: finding the one that fits; [`search`]: making one where none does
//! - [`template`]: a layout as text, understood; [`plan`]: the same, ready to run over lines
//! - [`objects`]: lines of JSON; [`w3c`]: the W3C extended format; [`pairs`]: `key=value`; [`meaning`]: what named values mean
//!   in all of them
//! - [`wrapped`]: lines that stand as a text in an object of JSON
//! - [`values`]: what a value must look like to be a client or a host
//! - [`cutter`]: any of these, ready to cut lines
//! - [`moment`]: times as logs write them
//! - [`escape`]: what a field may contain without breaking its line, and back
//! - [`mask`]: addresses cut to their network
//! - [`reader`]: lines into batches, counting what could not be read
//! - [`writer`]: a finished request into a line

pub mod cutter;
pub mod detect;
pub mod escape;
pub mod layout;
pub mod mask;
pub mod meaning;
pub mod moment;
pub mod objects;
pub mod pairs;
pub mod plan;
pub mod reader;
pub mod search;
pub mod template;
pub mod values;
pub mod w3c;
pub mod wrapped;
pub mod writer;

pub use cutter::Cutter;
pub use layout::Layout;
pub use reader::{LineReader, Unread};
pub use writer::{LogTemplate, LoggedRequest};
