//! The word that was meant.

/// The word of a list that is most likely meant by another, if any comes close.
///
/// ```
/// use exedra_common::text::nearest;
/// assert_eq!(nearest("statsu", ["status", "path"]), Some("status"));
/// assert_eq!(nearest("harbour", ["status", "path"]), None);
/// ```
pub fn nearest<'w>(word: &str, words: impl IntoIterator<Item = &'w str>) -> Option<&'w str> {
    words
        .into_iter()
        .map(|known| (strsim::damerau_levenshtein(word, known), known))
        .filter(|(distance, known)| *distance <= 1 + known.len().max(word.len()) / 4)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, known)| known)
}
