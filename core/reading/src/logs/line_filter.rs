//! Lines that a scope leaves out, told before their texts are looked up.
//!
//! Whoever asks for a few requests of a long log waits for what is done with all the others. So what a line says in numbers is
//! looked at first, then those texts that a filter asks about, and only the lines that are left are taken into a batch.
//!
//! ```
//! use exedra_common::filters::Filters;
//! use exedra_common::scope::{RowFilter, Scope};
//! use exedra_common::{Dictionaries, Projection, RequestBatch, TextColumn};
//! use exedra_reading::classify::Classifier;
//! use exedra_reading::logs::{Layout, LineFilter, LineReader};
//! let filters = Filters::understand(&["status=404", "path=/t*"], &[]).unwrap();
//! let rows = RowFilter::new(Scope { filters, ..Scope::default() }, std::sync::Arc::new(Classifier::default()));
//! let mut filter = LineFilter::new(&rows);
//! let line = |path, status| format!("192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] \"GET {path} HTTP/1.1\" {status} 512\n");
//! let log = [line("/tides", 404), line("/map", 404), line("/tides", 200)].concat();
//! let mut reader = LineReader::new(&Layout::all_named(), Projection::everything());
//! let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
//! reader.read_matching(log.as_bytes(), 0, &mut 0, &mut filter, &mut batch, &mut texts);
//! assert_eq!((reader.read, batch.rows()), (3, 1), "all are read, one is kept");
//! assert_eq!(texts.of(TextColumn::Client).len(), 1);
//! ```

use super::codes::{Shared, add_codes};
use super::cut::Cut;
use super::plan::OF_REQUESTS;
use super::swar;
use exedra_common::columns::TextColumn;
use exedra_common::scope::RowFilter;
use exedra_common::{Dictionaries, Projection, RequestBatch};
use std::borrow::Cow;

/// Says which lines of some belong to a scope.
#[derive(Debug)]
pub struct LineFilter {
    numbers: RowFilter,
    /// Whether there is anything that times and numbers tell.
    asks_of_numbers: bool,
    texts: RowFilter,
    text_columns: Vec<TextColumn>,
    /// Whether some of these are said by the request line.
    asks_of_requests: bool,
    /// Of columns that must have one of a few texts: which.
    exact: Vec<(TextColumn, Vec<Box<[u8]>>)>,
    scratch: RequestBatch,
}

impl LineFilter {
    /// A filter that keeps what this one does.
    pub fn new(filter: &RowFilter) -> Self {
        let (numbers, texts) = filter.halves();
        let exact = texts.scope().filters.iter().filter(|filter| !filter.without).filter_map(|filter| {
            let (column, texts) = (filter.column.as_text()?, filter.values.exact_texts()?);
            Some((column, texts.into_iter().map(|text| text.as_bytes().into()).collect()))
        });
        LineFilter {
            asks_of_requests: texts.projection().texts().any(|column| OF_REQUESTS.contains(&column)),
            exact: exact.collect(),
            asks_of_numbers: !numbers.lets_all_through(),
            text_columns: texts.projection().texts().collect(),
            numbers,
            texts,
            scratch: RequestBatch::default(),
        }
    }

    /// The columns that it looks at.
    pub fn projection(&self) -> Projection {
        self.numbers.projection().with(self.texts.projection())
    }

    /// Forgets what was learnt of texts: new dictionaries are coming.
    pub fn forget(&mut self) {
        self.texts.forget();
    }

    /// Whether a line may belong to the scope, as far as can be seen at once: by its time, its numbers, and texts that are asked for as
    /// they are, unless the request says them, which has not been looked into.
    #[inline]
    pub(super) fn may_keep(&mut self, line: &[u8], cut: &Cut, shared: &Shared) -> bool {
        let may_be = |(column, texts): &(TextColumn, Vec<Box<[u8]>>)| {
            shared[column.index()].is_some()
                || OF_REQUESTS.contains(column)
                || may_be_one_of(cut.text(line, *column), texts)
        };
        (!self.asks_of_numbers || self.numbers.keeps_numbers(cut.time, &cut.numbers))
            && self.exact.iter().all(may_be)
    }

    /// Keeps those of some lines that belong to the scope, which may do so as far as could be seen at once, and what was cut of each at the same
    /// place. Texts that it must look at are learnt.
    pub(super) fn retain<'l>(
        &mut self,
        lines: &mut Vec<Cow<'l, [u8]>>,
        cuts: &mut [Cut],
        shared: &Shared,
        dictionaries: &mut Dictionaries,
    ) {
        let LineFilter { texts, text_columns, asks_of_requests, exact, scratch, .. } = self;
        let look_into_requests = |lines: &[Cow<'l, [u8]>], cuts: &mut [Cut]| {
            lines.iter().zip(cuts).for_each(|(line, cut)| cut.look_into_request(line));
        };
        if text_columns.is_empty() || *asks_of_requests {
            look_into_requests(lines, cuts);
        }
        if text_columns.is_empty() || lines.is_empty() {
            return;
        }
        let mut of_requests = exact
            .iter()
            .filter(|(column, _)| OF_REQUESTS.contains(column) && shared[column.index()].is_none())
            .peekable();
        if of_requests.peek().is_some() {
            let may_fit = |place: &u32| {
                let (line, cut) = (&lines[*place as usize], &cuts[*place as usize]);
                of_requests.clone().all(|(column, texts)| may_be_one_of(cut.text(line, *column), texts))
            };
            let places: Vec<u32> = (0..lines.len() as u32).filter(may_fit).collect();
            keep(lines, cuts, &places);
        }
        if !*asks_of_requests {
            look_into_requests(lines, cuts);
        }
        if lines.is_empty() {
            return;
        }
        let said = &cuts[..lines.len()];
        scratch.clear();
        scratch.time.extend(said.iter().map(|cut| cut.time));
        for column in text_columns {
            add_codes(*column, lines, said, shared, scratch, dictionaries);
        }
        keep(lines, cuts, &texts.rows(scratch, dictionaries));
    }
}

/// Whether a field may stand for one of some texts: where nothing in it is written in another way, it is one.
fn may_be_one_of(field: Option<&[u8]>, texts: &[Box<[u8]>]) -> bool {
    let is_written_otherwise = |octets| swar::has_or_is_no_ascii(octets, b'\\');
    field.is_some_and(|field| {
        texts.iter().any(|text| {
            // Most are told by how they begin.
            let begins_otherwise = match (field.first_chunk::<8>(), text.first_chunk::<8>()) {
                (Some(ours), Some(theirs)) => ours != theirs && !is_written_otherwise(ours),
                _ => false,
            };
            !begins_otherwise && (**text == *field || is_written_otherwise(field))
        })
    })
}

/// Keeps the lines at some places, which are in order, and what was cut of them.
fn keep(lines: &mut Vec<Cow<'_, [u8]>>, cuts: &mut [Cut], places: &[u32]) {
    if places.len() == lines.len() {
        return;
    }
    for (to, from) in places.iter().enumerate() {
        lines.swap(to, *from as usize);
        cuts.swap(to, *from as usize);
    }
    lines.truncate(places.len());
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::classify::Classifier;
    use crate::logs::{Layout, LineReader};
    use exedra_common::columns::NumberColumn;
    use exedra_common::filters::Filters;
    use exedra_common::scope::Scope;
    use proptest::prelude::*;
    use rstest::rstest;
    use std::sync::Arc;

    #[rstest]
    #[case::the_same("192.0.2.10", "192.0.2.10", true)]
    #[case::ends_otherwise("192.0.2.11", "192.0.2.10", false)]
    #[case::begins_otherwise("203.0.113.10", "192.0.2.10", false)]
    #[case::written_otherwise_from_the_beginning(r"/\x6cong-path", "/long-path", true)]
    #[case::written_otherwise_at_the_end(r"/long-path-a\x2fb", "/long-path-a/b", true)]
    #[case::short("/a", "/b", false)]
    fn a_field_may_stand_for_a_text(#[case] field: &str, #[case] text: &str, #[case] expected: bool) {
        assert_eq!(may_be_one_of(Some(field.as_bytes()), &[text.as_bytes().into()]), expected);
    }

    proptest! {
        /// A law: what is kept line by line is what is kept of a whole batch, whichever filters there are.
        #[test]
        fn lines_are_kept_as_rows_are(
            lines in proptest::collection::vec((0u8..5, 0usize..6, 0u8..3, 0u64..2000), 1..400),
            only in proptest::sample::subsequence(vec!["status=404,5xx", "path=/a*", "path=/ab.css,/a", "client=192.0.2.0/31", "kind=page", "bytes<900"], 0..4),
            from in proptest::option::of(1_794_633_160_000i64..1_794_633_165_000),
        ) {
            const PATHS: [&str; 6] = ["/a", "/ab.css", "/b", "/a?x=1", "-", "\\x2fa"];
            const STATUSES: [&str; 3] = ["200", "404", "503"];
            let log: String = lines.iter().map(|(client, path, status, bytes)| format!(
                "192.0.2.{client} - - [14/Nov/2026:05:12:4{client} +0000] \"GET {} HTTP/1.1\" {} {bytes}\n",
                PATHS[*path], STATUSES[usize::from(*status)])).collect();
            let scope = Scope { filters: Filters::understand(&only, &[]).unwrap(), from, ..Scope::default() };
            let mut rows = RowFilter::new(scope, Arc::new(Classifier::default()));
            let read = |filter: Option<&mut LineFilter>| {
                let mut reader = LineReader::new(&Layout::all_named(), Projection::everything());
                let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
                match filter {
                    Some(filter) => reader.read_matching(log.as_bytes(), 0, &mut 0, filter, &mut batch, &mut texts),
                    None => reader.read_block(log.as_bytes(), 0, &mut 0, &mut batch, &mut texts),
                };
                (batch, texts)
            };
            let (all, texts) = read(None);
            let wanted = rows.rows(&all, &texts);
            let (kept, own) = read(Some(&mut LineFilter::new(&rows)));
            let path = |batch: &RequestBatch, texts: &Dictionaries, row| {
                batch.code(TextColumn::Path, row).map(|code| texts.of(TextColumn::Path).text(code).to_owned())
            };
            let wanted: Vec<_> = wanted.iter().map(|row| *row as usize)
                .map(|row| (all.time[row], path(&all, &texts, row), all.number(NumberColumn::Bytes, row))).collect();
            let found: Vec<_> = (0..kept.rows())
                .map(|row| (kept.time[row], path(&kept, &own, row), kept.number(NumberColumn::Bytes, row))).collect();
            prop_assert_eq!(found, wanted);
        }
    }
}
