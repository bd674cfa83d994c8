//! Lines of `key=value`, in any order, with anything else between them.
//!
//! Values with spaces stand in quotation marks. What is no pair is passed over; a line with fewer than three pairs that we know is
//! something else.
//!
//! ```
//! use exedra_common::{NumberColumn, Projection};
//! use exedra_reading::logs::{cut::Cut, layout::Hints, pairs::Pairs};
//! let mut pairs = Pairs::new(Projection::everything(), &Hints::default());
//! let line = br#"level=info time=2026-11-14T05:12:40Z method=GET path="/tide table" status=404"#;
//! let mut cut = Cut::default();
//! pairs.run_at(line, 0, &mut cut, false).unwrap();
//! assert_eq!((cut.time, cut.number(NumberColumn::Status)), (1_794_633_160_000, Some(404)));
//! ```

use super::cut::{Cut, Reason, Stop};
use super::layout::Hints;
use super::meaning::{Gatherer, Keys};
use exedra_common::columns::Projection;
use std::ops::Range;

/// How many pairs of a line must be known.
const FEWEST: usize = 3;

/// Reads pairs.
#[derive(Debug, Clone)]
pub struct Pairs {
    gatherer: Gatherer,
    keys: Keys,
}

impl Pairs {
    /// A reader for some columns.
    pub fn new(projection: Projection, hints: &Hints) -> Self {
        Pairs { gatherer: Gatherer::new(projection, hints), keys: Keys::new(hints) }
    }

    /// How many values of the last line had a meaning.
    pub fn fields(&self) -> usize {
        self.gatherer.known
    }

    /// Reads what follows a place up to the end of the line. `has_time` says whether the line has its time before them.
    pub fn run_at(&mut self, line: &[u8], at: usize, cut: &mut Cut, has_time: bool) -> Result<(), Stop> {
        self.gatherer.begin();
        let mut at = at;
        while let Some((key, value, next)) = next(line, at) {
            if let Some(meaning) = self.keys.meaning(&[], &line[key]) {
                self.gatherer.take(meaning, line, value, cut)?;
            }
            at = next;
        }
        if self.gatherer.known < FEWEST {
            return Err(Stop { at: 0, reason: Reason::Misfit });
        }
        self.gatherer.finish(line, b"", cut, has_time)
    }
}

/// The next pair from a place on, and where what follows it begins.
pub(super) fn next(line: &[u8], at: usize) -> Option<(Range<usize>, Range<usize>, usize)> {
    let equals = at + memchr::memchr(b'=', line.get(at..)?)?;
    let is_key = |octet: &u8| octet.is_ascii_alphanumeric() || matches!(octet, b'_' | b'-' | b'.' | b'@');
    let length = line[at..equals].iter().rev().take_while(|octet| is_key(octet)).count();
    let key = equals - length..equals;
    let (value, next) = match line.get(equals + 1) {
        Some(quote @ (b'"' | b'\'')) => {
            let from = equals + 2;
            let mut end = from;
            loop {
                match line.get(end) {
                    Some(octet) if octet == quote => break (from..end, end + 1),
                    Some(b'\\') => end += 2,
                    Some(_) => end += 1,
                    None => break (from..line.len(), line.len()),
                }
            }
        }
        _ => {
            let rest = &line[equals + 1..];
            let end = rest.iter().position(|octet| matches!(octet, b' ' | b'\t')).unwrap_or(rest.len());
            let end = equals + 1 + end;
            // What parts pairs from each other is no part of them.
            let marks = line[equals + 1..end].iter().rev().take_while(|octet| matches!(octet, b',' | b';'));
            (equals + 1..end - marks.count(), end)
        }
    };
    Some((key, value, next))
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::{NumberColumn, TextColumn};
    use rstest::rstest;

    #[rstest]
    #[case::plain(r#"time=1794633160 ip=192.0.2.1 method=GET path=/a?b=c status=200 bytes=5 duration=1.5ms"#)]
    #[case::marked(r#"time="2026-11-14T05:12:40Z", client="192.0.2.1:7", request="GET /a?b=c HTTP/1.1", status=200, size=5, duration_us=1500"#)]
    #[case::among_words(r#"INFO access log: ts=1794633160 src_ip=192.0.2.1; verb=GET; url=http://a.example/a?b=c; code=200; bytes=5; elapsed=0.0015; ok"#)]
    fn pairs_are_found_among_anything(#[case] line: &str) {
        let line = line.as_bytes();
        let mut cut = Cut::default();
        Pairs::new(Projection::everything(), &Hints::default()).run_at(line, 0, &mut cut, false).unwrap();
        let text = |column| cut.text(line, column).map(|text| std::str::from_utf8(text).unwrap());
        let texts = [TextColumn::Client, TextColumn::Method, TextColumn::Path, TextColumn::Query].map(text);
        assert_eq!(texts, [Some("192.0.2.1"), Some("GET"), Some("/a"), Some("b=c")]);
        let numbers = [NumberColumn::Status, NumberColumn::Bytes, NumberColumn::Duration];
        assert_eq!(numbers.map(|column| cut.number(column)), [Some(200), Some(5), Some(1_500)]);
        assert_eq!(cut.time, 1_794_633_160_000);
    }

    #[rstest]
    #[case::few("time=1794633160 path=/a", Reason::Misfit)]
    #[case::no_time("client=192.0.2.1 path=/a status=200 bytes=5", Reason::BadTime)]
    #[case::number("time=1794633160 path=/a status=many", Reason::BadNumber)]
    #[case::words("level=info msg=\"ready to serve\" port=80", Reason::Misfit)]
    #[case::open("time=1794633160 path=\"/a", Reason::Misfit)]
    fn what_is_something_else(#[case] line: &str, #[case] reason: Reason) {
        let mut pairs = Pairs::new(Projection::everything(), &Hints::default());
        assert_eq!(pairs.run_at(line.as_bytes(), 0, &mut Cut::default(), false).unwrap_err().reason, reason);
    }
}
