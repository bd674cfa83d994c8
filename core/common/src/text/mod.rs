//! Texts: of strangers before a person sees them, patterns with `*`, and the word that was meant.

mod clean;
mod nearest;
mod wildcard;

pub use clean::{clean, clean_json, clean_value, is_unsafe};
pub use nearest::nearest;
pub use wildcard::Wildcard;
