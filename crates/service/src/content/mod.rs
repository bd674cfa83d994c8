//! What there is to send, and what is remembered of it.
//!
//! - [`disk`]: the sites' folders, and small files in memory; [`folders`]: what they say of themselves
//! - [`encodings`]: files encoded, quickly at first and thoroughly later
//! - [`thread_cache`]: copies that threads keep for themselves

pub mod disk;
pub mod encodings;
pub mod folders;
pub mod thread_cache;
