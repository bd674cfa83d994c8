//! Texts: of strangers before a person sees them, patterns with `*`, and the word that was meant.

mod clean;
mod nearest;
mod wildcard;

pub use clean::{clean, clean_json, clean_value, is_unsafe};
pub use nearest::nearest;
pub use wildcard::Wildcard;

/// A text that begins with a capital letter, as a sentence does.
///
/// ```
/// assert_eq!(exedra_common::text::capital("élan, and more"), "Élan, and more");
/// ```
pub fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |first| first.to_uppercase().chain(letters).collect())
}
