//! Where lines are read from: whatever was named, as files in an order, opened, cut into blocks of whole lines.
//!
//! - [`options`]: what a command is told of them
//! - [`found`]: names, wildcards, folders and sites into files; rotated siblings
//! - [`packed`]: a file as it was before it was compressed
//! - [`blocks`]: blocks of whole lines
//! - [`bookmark`]: where the last reading stopped, also when logs were rotated since

pub mod blocks;
pub mod bookmark;
pub mod found;
pub mod options;
pub mod packed;

pub use blocks::{Block, Blocks};
pub use bookmark::Bookmark;
pub use options::SourceOptions;
