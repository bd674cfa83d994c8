//! One record of comma-separated values (RFC 4180) at a place in a text, without reading what is around it.
//!
//! ```
//! use exedra_answering::rules::csv_line::{next, record};
//! let text = "/old,\"/new, too\",301\n/a,/b\n";
//! let (fields, end) = record(text, 0).unwrap();
//! assert_eq!(fields.as_slice(), ["/old", "/new, too", "301"]);
//! assert_eq!(record(text, next(text, end)).unwrap().0.as_slice(), ["/a", "/b"]);
//! ```

use smallvec::SmallVec;
use std::borrow::Cow;

/// The fields of a record.
pub type Fields<'t> = SmallVec<[Cow<'t, str>; 4]>;

/// The longest record with quotation marks, in octets: one that is not closed must not take in a whole file.
const MOST_OCTETS: usize = 64 << 10;

/// The fields of the record that begins at a place, spaces around them left out, and where it ends: the end of its line
/// not included. None at the end of the text, and where a quotation mark is not closed.
pub fn record(text: &str, at: usize) -> Option<(Fields<'_>, usize)> {
    let rest = text.get(at..).filter(|rest| !rest.is_empty())?;
    let line = &rest[..memchr::memchr(b'\n', rest.as_bytes()).unwrap_or(rest.len())];
    if memchr::memchr(b'"', line.as_bytes()).is_none() {
        let line = line.trim_end();
        return Some((line.split(',').map(|field| field.trim().into()).collect(), at + line.len()));
    }
    let most = &rest.as_bytes()[..rest.len().min(MOST_OCTETS)];
    let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(most);
    let mut record = csv::StringRecord::new();
    reader.read_record(&mut record).ok()?;
    let end = usize::try_from(reader.position().byte()).ok()?;
    let written = rest.get(..end)?.trim_end();
    // Within marks, every mark that is meant stands twice.
    let is_closed = memchr::memchr_iter(b'"', written.as_bytes()).count().is_multiple_of(2);
    is_closed
        .then(|| (record.iter().map(|field| field.trim().to_owned().into()).collect(), at + written.len()))
}

/// Where the record after one begins that ends at a place.
pub fn next(text: &str, end: usize) -> usize {
    memchr::memchr(b'\n', &text.as_bytes()[end..]).map_or(text.len(), |at| end + at + 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(1000))]
        #[test]
        fn what_was_written_is_read(rows in prop::collection::vec(prop::collection::vec("[ab,\"\n é]{0,5}", 2..4), 1..5)) {
            let mut text = String::new();
            for row in &rows {
                let fields = row.iter().map(|field| match field.contains([',', '"', '\n']) {
                    true => format!("\"{}\"", field.replace('"', "\"\"")),
                    false => field.clone(),
                });
                text.push_str(&fields.collect::<Vec<_>>().join(","));
                text.push_str("\r\n");
            }
            let mut at = 0;
            for row in &rows {
                let (fields, end) = record(&text, at).unwrap();
                let wanted: Vec<&str> = row.iter().map(|field| field.trim()).collect();
                prop_assert_eq!(fields.to_vec(), wanted, "{:?}", text);
                at = next(&text, end);
            }
            prop_assert!(record(&text, at).is_none());
        }
    }

    #[test]
    fn a_mark_that_is_not_closed_ends_nowhere() {
        assert_eq!(record("/a,\"/b\n/c,/d\n", 0), None);
        assert_eq!(record(&format!("/a,\"/b{}", "\n/c,/d".repeat(20_000)), 0), None);
        assert_eq!(record("", 0), None);
    }
}
