//! Where requests are read from: whatever was named, as files in an order, opened, cut into blocks of whole lines, read over threads.
//!
//! - [`options`]: what a command is told of them; [`asked`]: what is to be read
//! - [`found`]: names, wildcards, folders and sites into files; rotated siblings
//! - [`packed`]: a file as it was before it was compressed
//! - [`blocks`]: blocks of whole lines; [`block_source`]: those of all sources, one after another
//! - [`reading`]: lines into requests, over threads; [`filtered`]: those of one thread that fit a scope; [`progress`]: how far that
//!   has come
//! - [`load`]: standing back where a machine has enough to do
//! - [`growing`]: a log that more is written to
//! - [`beginning`]: what stands before the place from which a log is read on
//! - [`bookmark`]: where the last reading stopped, also when logs were rotated since

mod asked;
pub mod beginning;
pub mod block_source;
pub mod blocks;
pub mod bookmark;
pub mod filtered;
pub mod found;
pub mod growing;
pub mod load;
pub mod options;
pub mod packed;
pub mod progress;
pub mod reading;

pub use asked::{Asked, Source};
pub use bookmark::Bookmark;
pub use options::SourceOptions;
pub use progress::Progress;
