//! Texts of lines as codes into dictionaries, those of many lines at once.

use super::cut::Cut;
use super::escape;
use exedra_common::Dictionaries;
use exedra_common::batch::{NO_TEXT, RequestBatch};
use exedra_common::columns::TextColumn;
use std::borrow::Cow;

/// What all lines of a source share, by column.
pub(super) type Shared = [Option<Box<str>>; TextColumn::COUNT];

/// Appends the codes of one column of some lines.
pub(super) fn add_codes(
    column: TextColumn,
    lines: &[Cow<'_, [u8]>],
    cuts: &[Cut],
    shared: &Shared,
    batch: &mut RequestBatch,
    dictionaries: &mut Dictionaries,
) {
    if let Some(shared) = shared[column.index()].as_deref() {
        let code = dictionaries.of_mut(column).code(shared);
        let codes = batch.codes_mut(column);
        codes.resize(codes.len() + lines.len(), code);
        return;
    }
    let mut texts = [None; TOGETHER];
    for (text, (line, cut)) in texts.iter_mut().zip(lines.iter().zip(cuts)) {
        *text = cut.text(line, column);
    }
    let codes = batch.codes_mut(column);
    dictionaries.of_mut(column).codes(&texts[..lines.len()], NO_TEXT, as_text, codes);
}

/// How many lines are looked up together: enough for their waits to overlap, few enough to stay near.
pub(super) const TOGETHER: usize = 128;

/// The text of a field that has not been seen before: its escapes undone, what is no UTF-8 made `\xHH`.
fn as_text(field: &[u8]) -> Cow<'_, str> {
    match escape::undo(field) {
        Cow::Borrowed(octets) => escape::as_text(octets),
        Cow::Owned(octets) => Cow::Owned(escape::as_text(&octets).into_owned()),
    }
}
