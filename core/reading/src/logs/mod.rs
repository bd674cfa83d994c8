//! Lines of access logs, and the columns they become.
//!
//! - [`layout`]: the named layouts; [`fit`]: how well one reads some lines; [`search`]: making one where none does;
//!   [`detect`]: both, the layouts of a log
//! - [`cut`]: what one line said, or where reading it stopped
//! - [`template`]: a layout as text, understood; [`plan`]: the same, ready to run over lines, the usual
//!   beginning of most in one go (`usual`), by quotation marks found before (`marks`)
//! - [`objects`]: lines of JSON; [`w3c`]: the W3C extended format; [`pairs`]: `key=value`; [`meaning`]: what named values mean
//!   in all of them
//! - [`wrapped`]: lines that stand as a text in an object of JSON
//! - [`values`]: what a value must look like to be a client or a host (`addresses`: addresses of IPv4 and IPv6); [`numbers`]: numbers and their units;
//!   [`scan`]: where parts of a line end; [`swar`]: eight octets at once
//! - [`cutter`]: any of these, ready to cut lines
//! - [`moment`]: times as logs write them
//! - [`escape`]: what a field may contain without breaking its line, and back
//! - [`levels`]: how bad a line says that it is, which tells a log of errors
//! - [`mask`]: addresses cut to their network
//! - [`reader`]: lines into batches, counting what could not be read (`codes`: their texts); [`line_filter`]: those that a scope leaves out, before their
//!   texts are looked up
//! - [`writer`]: a finished request into a line

mod addresses;
mod codes;
pub mod cut;
pub mod cutter;
pub mod detect;
pub mod escape;
pub mod fit;
pub mod layout;
pub mod levels;
pub mod line_filter;
mod marks;
pub mod mask;
pub mod meaning;
pub mod moment;
pub mod numbers;
pub mod objects;
pub mod pairs;
pub mod plan;
pub mod reader;
pub mod scan;
pub mod search;
pub mod swar;
pub mod template;
mod usual;
pub mod values;
pub mod w3c;
pub mod wrapped;
pub mod writer;

pub use cutter::Cutter;
pub use layout::Layout;
pub use line_filter::LineFilter;
pub use reader::{LineReader, Unread};
pub use writer::{LogTemplate, LoggedRequest};
