//! Lines that are objects of JSON (RFC 8259): values found by their names, wherever they stand.
//!
//! Objects within the object are looked into, so that `{"request": {"method": "GET"}}` says as much as `{"method": "GET"}`;
//! of a list the first value counts. Texts are handed on as slices of the line, still escaped: nothing is built for a
//! value that nobody asks for.
//!
//! ```
//! use exedra_common::{NumberColumn, Projection};
//! use exedra_reading::logs::{layout::Hints, objects::Objects};
//! let mut objects = Objects::new(Projection::everything(), &Hints::default());
//! let cut = objects.run(br#"{"ts": 1794633160, "request": {"method": "GET"}, "status": 404}"#).unwrap();
//! assert_eq!((cut.time, cut.number(NumberColumn::Status)), (1_794_633_160_000, Some(404)));
//! assert_eq!(objects.run(b"{\"ts\": ").unwrap_err().at, 7);
//! ```

use super::cut::{Cut, Reason, Stop};
use super::layout::Hints;
use super::meaning::{Gatherer, Keys, Meaning};
use super::scan::closing_quote;
use arrayvec::ArrayVec;
use exedra_common::columns::Projection;

/// How deep objects are looked into.
const DEEPEST: usize = 8;

/// Reads lines of JSON.
#[derive(Debug, Clone)]
pub struct Objects {
    gatherer: Gatherer,
    keys: Keys,
}

impl Objects {
    /// A reader for some columns.
    pub fn new(projection: Projection, hints: &Hints) -> Self {
        Objects { gatherer: Gatherer::new(projection, hints), keys: Keys::new(hints) }
    }

    /// How many values of the last line had a meaning.
    pub fn fields(&self) -> usize {
        self.gatherer.known
    }

    /// Cuts one line, given without its line end.
    pub fn run(&mut self, line: &[u8]) -> Result<Cut, Stop> {
        let begins = space(line, 0);
        if begins == line.len() {
            return Err(Stop { at: 0, reason: Reason::Empty });
        }
        let mut cut = Cut::default();
        let end = self.run_at(line, begins, &mut cut, false)?;
        if space(line, end) < line.len() {
            return Err(Stop { at: end, reason: Reason::TrailingText });
        }
        Ok(cut)
    }

    /// Reads the object that begins at a place; gives where it ends. `has_time` says whether the line has its time elsewhere.
    pub fn run_at(&mut self, line: &[u8], at: usize, cut: &mut Cut, has_time: bool) -> Result<usize, Stop> {
        if line.get(at) != Some(&b'{') {
            return Err(Stop { at, reason: Reason::Misfit });
        }
        self.gatherer.begin();
        let end = self.value(line, at, None, &mut ArrayVec::new(), cut)?;
        self.gatherer.finish(line, b"", cut, has_time)?;
        Ok(end)
    }

    /// Reads the value that begins at a place, behind these keys; gives where it ends.
    fn value<'l>(
        &mut self,
        line: &'l [u8],
        at: usize,
        meaning: Option<Meaning>,
        path: &mut ArrayVec<&'l [u8], DEEPEST>,
        cut: &mut Cut,
    ) -> Result<usize, Stop> {
        let misfit = |at| Stop { at, reason: Reason::Misfit };
        match line.get(at) {
            Some(b'"') => {
                let end = closing(line, at + 1)?;
                if let Some(meaning) = meaning {
                    self.gatherer.take(meaning, line, at + 1..end, cut)?;
                }
                Ok(end + 1)
            }
            Some(opening @ (b'{' | b'[')) => {
                let (is_object, closing_mark) =
                    (*opening == b'{', if *opening == b'{' { b'}' } else { b']' });
                let mut inner = space(line, at + 1);
                if line.get(inner) == Some(&closing_mark) {
                    return Ok(inner + 1);
                }
                // In a list only the first value has the meaning of the whole.
                let mut meaning = meaning;
                let mut key: &[u8] = b"";
                loop {
                    if is_object {
                        if line.get(inner) != Some(&b'"') {
                            return Err(misfit(inner));
                        }
                        let end = closing(line, inner + 1)?;
                        key = &line[inner + 1..end];
                        meaning = self.keys.meaning(path, key);
                        inner = space(line, end + 1);
                        if line.get(inner) != Some(&b':') {
                            return Err(misfit(inner));
                        }
                        inner = space(line, inner + 1);
                    }
                    let end = match line.get(inner) {
                        Some(b'{' | b'[') => {
                            path.try_push(key).map_err(|_| misfit(at))?;
                            let end = self.value(line, inner, meaning, path, cut)?;
                            path.pop();
                            end
                        }
                        _ => self.value(line, inner, meaning, path, cut)?,
                    };
                    inner = space(line, end);
                    match line.get(inner) {
                        Some(b',') => inner = space(line, inner + 1),
                        Some(mark) if *mark == closing_mark => return Ok(inner + 1),
                        _ => return Err(misfit(inner)),
                    }
                    meaning = None;
                }
            }
            Some(b'-' | b'0'..=b'9' | b't' | b'f' | b'n') => {
                let is_part =
                    |octet: &u8| octet.is_ascii_alphanumeric() || matches!(octet, b'-' | b'+' | b'.');
                let end =
                    line[at..].iter().position(|octet| !is_part(octet)).map_or(line.len(), |end| at + end);
                let is_number = !matches!(line[at], b't' | b'f' | b'n');
                if let Some(meaning) = meaning.filter(|_| is_number) {
                    self.gatherer.take(meaning, line, at..end, cut)?;
                } else if !is_number && !matches!(&line[at..end], b"true" | b"false" | b"null") {
                    return Err(misfit(at));
                }
                Ok(end)
            }
            _ => Err(misfit(at)),
        }
    }
}

fn space(line: &[u8], at: usize) -> usize {
    let rest = line.get(at..).unwrap_or_default();
    at + rest.iter().position(|octet| !matches!(octet, b' ' | b'\t' | b'\r')).unwrap_or(rest.len())
}

/// Where a string ends that began before a place.
fn closing(line: &[u8], from: usize) -> Result<usize, Stop> {
    closing_quote(line, from).ok_or(Stop { at: from, reason: Reason::Unquoted })
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::{NumberColumn, TextColumn};
    use rstest::rstest;

    fn run(line: &str) -> Result<Cut, Stop> {
        Objects::new(Projection::everything(), &Hints::default()).run(line.as_bytes())
    }

    #[rstest]
    #[case::flat(r#"{"time":"2026-11-14T05:12:40.25Z","client":"192.0.2.1","method":"GET","url":"/a?b=c","status":200,"bytes":5,"duration_ms":1.5}"#)]
    #[case::spaced(r#"{ "ts" : 1794633160.25 , "remote_ip" : "192.0.2.1", "uri" : "/a?b=c", "statusCode":"200", "size" : 5, "latency":"1.5ms", "method":"GET"}"#)]
    #[case::nested(r#"{"level":"info","ts":1794633160250,"request":{"remote_ip":"192.0.2.1","method":"GET","uri":"/a?b=c","headers":{"User-Agent":["x","y"],"Other":[]}},"status":200,"size":5,"duration":0.0015,"ok":true,"no":null}"#)]
    #[case::line(r#"{"REMOTE_ADDR":"192.0.2.1","Time":"14/Nov/2026:05:12:40 +0000","request":"GET /a?b=c HTTP/1.1","status":200,"bytes":5,"duration":"1500us"}"#)]
    #[case::absolute(r#"{"timestamp":"2026-11-14T07:12:40+02:00","client":"192.0.2.1","url":"https://a.example/a?b=c","method":"GET","status":200,"bytes":5,"elapsed":0.0015}"#)]
    #[case::apart(r#"{"date":"2026-11-14","time":"05:12:40","client":"192.0.2.1","path":"/a","QUERY_STRING":"b=c","method":"GET","status":200,"bytes":5,"duration_us":1500}"#)]
    fn values_are_found_by_their_names(#[case] line: &str) {
        let cut = run(line).unwrap();
        let text = |column| cut.text(line.as_bytes(), column).map(|text| std::str::from_utf8(text).unwrap());
        assert_eq!(cut.time / 1000, 1_794_633_160);
        let numbers = [NumberColumn::Status, NumberColumn::Bytes, NumberColumn::Duration];
        assert_eq!(numbers.map(|column| cut.number(column)), [Some(200), Some(5), Some(1_500)]);
        assert_eq!(
            [TextColumn::Client, TextColumn::Method, TextColumn::Path, TextColumn::Query].map(text),
            [Some("192.0.2.1"), Some("GET"), Some("/a"), Some("b=c")]
        );
    }

    #[rstest]
    #[case::not_an_object("[1]", 0, Reason::Misfit)]
    #[case::cut_off(r#"{"time":"2026-11-14T05:12:40Z","path":"/a"#, 39, Reason::Unquoted)]
    #[case::cut_off_later(r#"{"time":"2026-11-14T05:12:40Z","path":"/a","#, 43, Reason::Misfit)]
    #[case::no_time(r#"{"path":"/a"}"#, 0, Reason::BadTime)]
    #[case::another_kind(r#"{"time":"2026-11-14T05:12:40Z","message":"hello"}"#, 0, Reason::Misfit)]
    #[case::number(r#"{"time":1794633160,"path":"/a","status":"many"}"#, 41, Reason::BadNumber)]
    #[case::two(r#"{"time":1794633160,"path":"/a"}{}"#, 31, Reason::TrailingText)]
    fn stops_where_the_mistake_is(#[case] line: &str, #[case] at: usize, #[case] reason: Reason) {
        assert_eq!(run(line).unwrap_err(), Stop { at, reason });
    }

    #[test]
    fn depth_has_a_bound() {
        let line = format!("{}1{}", "[".repeat(100_000), "]".repeat(100_000));
        assert!(run(&format!("{{\"a\":{line}}}")).is_err());
    }
}
