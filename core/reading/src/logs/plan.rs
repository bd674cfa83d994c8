//! A layout made ready to run: find this literal, slice, convert.
//!
//! [`Plan::run`] cuts one line into slices of itself and numbers, allocating nothing. It either reads the
//! whole line or says at which octet it stopped and what it wanted there.
//!
//! The request in quotation marks is one step, `"{method} {target} {protocol}"`: what arrives there from
//! scanners and broken clients has any shape, and a line must not be lost for it. A request that is not
//! method, target and protocol leaves those columns empty.
//!
//! ```
//! use exedra_common::{Projection, TextColumn};
//! use exedra_reading::logs::plan::{Plan, Reason};
//! use exedra_reading::logs::template::parse;
//! let mut plan = Plan::new(&parse("{client} {time:seconds} {status}").unwrap(), Projection::everything());
//! let line = b"192.0.2.7 1794633160 200";
//! assert_eq!(plan.run(line).unwrap().text(line, TextColumn::Client), Some(&b"192.0.2.7"[..]));
//! let stop = plan.run(b"192.0.2.7 1794633160 fog").unwrap_err();
//! assert_eq!((stop.at, stop.reason), (21, Reason::BadNumber));
//! ```

use super::moment::{TimeForm, TimeReader, number};
use super::template::{Field, Piece};
use exedra_common::batch::NO_NUMBER;
use exedra_common::columns::{Column, Kind, NumberColumn, Projection, TextColumn, Unit};
use thiserror::Error;

/// Why a line could not be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Error)]
pub enum Reason {
    /// Nothing stands in it.
    #[error("empty")]
    Empty,
    /// Longer than any line has reason to be.
    #[error("too long")]
    TooLong,
    /// Some text of the layout is not where it should be.
    #[error("does not fit the layout")]
    Misfit,
    /// A field in quotation marks does not end.
    #[error("a quotation mark is not closed")]
    Unquoted,
    /// The time is none.
    #[error("no time where one should be")]
    BadTime,
    /// A number is none.
    #[error("no number where one should be")]
    BadNumber,
    /// The line goes on after the layout has ended.
    #[error("goes on after the layout's end")]
    TrailingText,
}

/// Where reading a line stopped, and why.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stop {
    /// Octets from the beginning of the line.
    pub at: usize,
    /// What was wrong there.
    pub reason: Reason,
}

/// What one line said: slices of it, still escaped.
#[derive(Debug, Clone)]
pub struct Cut {
    /// Milliseconds since 1970 UTC.
    pub time: i64,
    /// Numbers, or [`NO_NUMBER`].
    pub numbers: [u64; NumberColumn::COUNT],
    /// Begin and end of each text in the line; both 0 where there is nothing.
    pub texts: [(u32, u32); TextColumn::COUNT],
}

impl Default for Cut {
    fn default() -> Self {
        Cut { time: 0, numbers: [NO_NUMBER; NumberColumn::COUNT], texts: [(0, 0); TextColumn::COUNT] }
    }
}

impl Cut {
    /// The octets of a text in the line that was cut; `None` where there is nothing.
    pub fn text<'l>(&self, line: &'l [u8], column: TextColumn) -> Option<&'l [u8]> {
        let (from, until) = self.texts[column.index()];
        (until > from).then(|| &line[from as usize..until as usize])
    }

    /// A number, where the line has one.
    pub fn number(&self, column: NumberColumn) -> Option<u64> {
        Some(self.numbers[column.index()]).filter(|number| *number != NO_NUMBER)
    }

    /// A text stands here; a lone dash stands for nothing.
    pub(super) fn set(&mut self, column: TextColumn, line: &[u8], from: usize, until: usize) {
        self.texts[column.index()] =
            if line[from..until] == *b"-" { (0, 0) } else { (from as u32, until as u32) };
    }
}

#[derive(Debug, Clone)]
enum Step {
    Literal(Box<[u8]>),
    Until(Field, Box<[u8]>),
    /// A time in which the text that follows it occurs so many times.
    UntilAfter(Field, Box<[u8]>, usize),
    Quoted(Field),
    QuotedRequest,
    Rest(Field),
}

/// The pieces of a layout, none of them optional, made ready to run over lines.
#[derive(Debug, Clone)]
pub struct Plan {
    steps: Vec<Step>,
    clocks: Vec<TimeReader>,
    /// What reads date and clock where they stand apart, joined by a space.
    apart: Option<TimeReader>,
    joined: Vec<u8>,
    fields: usize,
}

impl Plan {
    /// A plan for pieces, which only walks past the columns nobody wants.
    pub fn new(pieces: &[Piece], projection: Projection) -> Self {
        let mut clocks = Vec::new();
        let mut steps: Vec<Step> = Vec::new();
        let (mut date, mut time_of_day) = (None, None);
        let mut at = 0;
        while at < pieces.len() {
            match &pieces[at] {
                Piece::Literal(text) => steps.push(Step::Literal(text.as_bytes().into())),
                Piece::Place(_) if is_request(&pieces[at..]) && opens_quotes(pieces, at) => {
                    steps.push(Step::QuotedRequest);
                    at += 4;
                }
                Piece::Place(field) => {
                    match field {
                        Field::Time(form) => clocks.push(TimeReader::new(form.clone())),
                        Field::Date(codes) => date = Some(codes),
                        Field::Clock(codes) => time_of_day = Some(codes),
                        _ => {}
                    }
                    let field = if wanted(field, projection) { field.clone() } else { Field::Skip };
                    steps.push(match pieces.get(at + 1) {
                        Some(Piece::Literal(next)) if next.starts_with('"') && opens_quotes(pieces, at) => {
                            Step::Quoted(field)
                        }
                        Some(Piece::Literal(next)) => match occurrences(&pieces[at], next) {
                            0 => Step::Until(field, next.as_bytes().into()),
                            times => Step::UntilAfter(field, next.as_bytes().into(), times),
                        },
                        _ => Step::Rest(field),
                    });
                }
                // There is none: variants have been made of them.
                Piece::Optional(_) => {}
            }
            at += 1;
        }
        let apart = date
            .zip(time_of_day)
            .map(|(date, clock)| TimeReader::new(TimeForm::Codes(format!("{date} {clock}"))));
        let fields = pieces
            .iter()
            .filter(|piece| matches!(piece, Piece::Place(field) if *field != Field::Skip))
            .count();
        Plan { steps, clocks, apart, joined: Vec::new(), fields }
    }

    /// How many fields it reads from a line.
    pub fn fields(&self) -> usize {
        self.fields
    }

    /// Cuts one line, given without its line end.
    pub fn run(&mut self, line: &[u8]) -> Result<Cut, Stop> {
        let Plan { steps, clocks, apart, joined, .. } = self;
        let mut cut = Cut::default();
        let (mut date, mut time_of_day) = (0..0, 0..0);
        if line.is_empty() {
            return Err(Stop { at: 0, reason: Reason::Empty });
        }
        let mut clock = 0;
        let mut at = 0;
        for step in steps {
            let stop = |reason| Stop { at, reason };
            let (field, until) = match step {
                Step::Literal(text) => {
                    if !line[at..].starts_with(text) {
                        return Err(stop(Reason::Misfit));
                    }
                    at += text.len();
                    continue;
                }
                Step::QuotedRequest => {
                    let until = closing_quote(line, at).ok_or(stop(Reason::Unquoted))?;
                    request(&mut cut, line, at, until);
                    at = until;
                    continue;
                }
                Step::Until(field, next) => (field, find(line, at, next).ok_or(stop(Reason::Misfit))?),
                Step::UntilAfter(field, next, times) => {
                    let mut found = find(line, at, next);
                    for _ in 0..*times {
                        found = found.and_then(|found| find(line, found + 1, next));
                    }
                    (field, found.ok_or(stop(Reason::Misfit))?)
                }
                Step::Quoted(field) => (field, closing_quote(line, at).ok_or(stop(Reason::Unquoted))?),
                Step::Rest(field) => (field, line.len()),
            };
            let text = &line[at..until];
            match field {
                Field::Skip => {}
                // A name may have spaces in it, but a dash before them is a field of its own.
                Field::Text(TextColumn::User) if text.starts_with(b"- ") => return Err(stop(Reason::Misfit)),
                Field::Text(column) => cut.set(*column, line, at, until),
                Field::Target => target(&mut cut, line, at, until),
                Field::Number(column, unit) => {
                    let number = value(text, *column, *unit).ok_or(stop(Reason::BadNumber))?;
                    cut.numbers[column.index()] = number;
                }
                Field::Time(_) => {
                    cut.time = clocks[clock].read(text).ok_or(stop(Reason::BadTime))?;
                    clock += 1;
                }
                Field::Date(_) => date = at..until,
                Field::Clock(_) => time_of_day = at..until,
            }
            at = until;
        }
        if at < line.len() {
            return Err(Stop { at, reason: Reason::TrailingText });
        }
        if let Some(reader) = apart {
            joined.clear();
            joined.extend_from_slice(&line[date]);
            joined.push(b' ');
            joined.extend_from_slice(&line[time_of_day.clone()]);
            cut.time = reader.read(joined).ok_or(Stop { at: time_of_day.start, reason: Reason::BadTime })?;
        }
        Ok(cut)
    }
}

fn wanted(field: &Field, projection: Projection) -> bool {
    match field {
        Field::Text(column) => projection.has(*column),
        // Whether a line is read must not depend on what is wanted of it, and these decide it.
        Field::Target
        | Field::Number(..)
        | Field::Time(_)
        | Field::Date(_)
        | Field::Clock(_)
        | Field::Skip => true,
    }
}

fn is_request(pieces: &[Piece]) -> bool {
    let place = |at: usize| match pieces.get(at) {
        Some(Piece::Place(field)) => Some(field),
        _ => None,
    };
    let space = |at: usize| matches!(pieces.get(at), Some(Piece::Literal(text)) if text == " ");
    place(0) == Some(&Field::Text(TextColumn::Method))
        && space(1)
        && place(2) == Some(&Field::Target)
        && space(3)
        && place(4) == Some(&Field::Text(TextColumn::Protocol))
        && matches!(pieces.get(5), Some(Piece::Literal(text)) if text.starts_with('"'))
}

fn opens_quotes(pieces: &[Piece], at: usize) -> bool {
    at > 0 && matches!(&pieces[at - 1], Piece::Literal(text) if text.ends_with('"'))
}

fn find(line: &[u8], from: usize, text: &[u8]) -> Option<usize> {
    let mut at = from;
    loop {
        at += memchr::memchr(text[0], &line[at..])?;
        if line[at..].starts_with(text) {
            return Some(at);
        }
        at += 1;
    }
}

/// How often a text occurs in a field as it is written: a time may be several words.
fn occurrences(piece: &Piece, text: &str) -> usize {
    match piece {
        Piece::Place(Field::Time(TimeForm::Codes(codes)) | Field::Date(codes) | Field::Clock(codes)) => {
            codes.matches(text).count()
        }
        _ => 0,
    }
}

fn closing_quote(line: &[u8], from: usize) -> Option<usize> {
    let mut at = from;
    loop {
        at += memchr::memchr2(b'"', b'\\', &line[at..])?;
        if line[at] == b'"' {
            return Some(at);
        }
        // A backslash takes the octet after it along.
        at += 2;
        if at > line.len() {
            return None;
        }
    }
}

/// A request line: method, target and protocol, if it is one.
pub(super) fn request(cut: &mut Cut, line: &[u8], from: usize, until: usize) {
    let text = &line[from..until];
    let Some(first) = memchr::memchr(b' ', text) else { return };
    let last = memchr::memrchr(b' ', text).unwrap_or(first);
    let is_protocol = last > first && text[last + 1..].starts_with(b"HTTP/");
    let target_end = if is_protocol { last } else { text.len() };
    if first == 0 || first + 1 >= target_end {
        return;
    }
    cut.set(TextColumn::Method, line, from, from + first);
    target(cut, line, from + first + 1, from + target_end);
    if is_protocol {
        cut.set(TextColumn::Protocol, line, from + last + 1, until);
    }
}

/// Path and query in one.
pub(super) fn target(cut: &mut Cut, line: &[u8], from: usize, until: usize) {
    match memchr::memchr(b'?', &line[from..until]) {
        Some(mark) => {
            cut.texts[TextColumn::Path.index()] = (from as u32, (from + mark) as u32);
            // A query may be a lone `-`, which means nothing only where a whole field is one.
            cut.texts[TextColumn::Query.index()] = ((from + mark + 1) as u32, until as u32);
        }
        None => cut.set(TextColumn::Path, line, from, until),
    }
}

/// The number that a text is, as a column holds it; [`NO_NUMBER`] for a dash. `None` is a mistake.
pub(super) fn value(text: &[u8], column: NumberColumn, unit: Unit) -> Option<u64> {
    if text == b"-" {
        return Some(NO_NUMBER);
    }
    let declaration = Column::Number(column).declaration();
    let number = match declaration.kind {
        Kind::Duration => duration(text, unit.microseconds())?,
        _ => u64::try_from(number(text)?).ok()?,
    };
    let (least, most) = declaration.range;
    (least..=most).contains(&number).then_some(number)
}

/// Microseconds from a number of units, which may have a fraction.
fn duration(text: &[u8], unit: u32) -> Option<u64> {
    let (whole, fraction) = match memchr::memchr(b'.', text) {
        Some(point) => (&text[..point], &text[point + 1..]),
        None => (text, &b""[..]),
    };
    let mut scale = u64::from(unit);
    let mut microseconds = u64::try_from(number(whole)?).ok()?.checked_mul(scale)?;
    for octet in fraction {
        scale /= 10;
        microseconds += u64::from(octet.checked_sub(b'0').filter(|digit| *digit < 10)?) * scale;
    }
    Some(microseconds)
}

#[cfg(test)]
mod tests {
    use super::super::Layout;
    use super::*;
    use rstest::rstest;

    fn plan(layout: &str) -> Plan {
        Plan::new(&Layout::understand(layout).unwrap().pieces, Projection::everything())
    }

    fn combined() -> Plan {
        plan("combined")
    }

    #[rstest]
    #[case::plain(r#"GET /a/b?c=d HTTP/1.1"#, Some("GET"), Some("/a/b"), Some("c=d"), Some("HTTP/1.1"))]
    #[case::old(r#"GET /a"#, Some("GET"), Some("/a"), None, None)]
    #[case::spaces(r#"GET /a b HTTP/1.0"#, Some("GET"), Some("/a b"), None, Some("HTTP/1.0"))]
    #[case::nothing("-", None, None, None, None)]
    #[case::garbage(r"\x16\x03\x01", None, None, None, None)]
    #[case::quoted(r#"GET /\"x\" HTTP/1.1"#, Some("GET"), Some(r#"/\"x\""#), None, Some("HTTP/1.1"))]
    #[case::empty("", None, None, None, None)]
    fn requests_of_any_shape(
        #[case] request: &str,
        #[case] method: Option<&str>,
        #[case] path: Option<&str>,
        #[case] query: Option<&str>,
        #[case] protocol: Option<&str>,
    ) {
        let line =
            format!(r#"192.0.2.1 - ann lee [14/Nov/2026:05:12:40 +0000] "{request}" 400 - "-" "a \"b\" c""#);
        let line = line.as_bytes();
        let mut plan = combined();
        let cut = plan.run(line).unwrap();
        let text = |column| cut.text(line, column).map(|octets| std::str::from_utf8(octets).unwrap());
        assert_eq!(text(TextColumn::Method), method);
        assert_eq!(text(TextColumn::Path), path);
        assert_eq!(text(TextColumn::Query), query);
        assert_eq!(text(TextColumn::Protocol), protocol);
        assert_eq!(text(TextColumn::User), Some("ann lee"));
        assert_eq!(text(TextColumn::Referrer), None);
        assert_eq!(text(TextColumn::Agent), Some(r#"a \"b\" c"#));
        assert_eq!(cut.number(NumberColumn::Status), Some(400));
        assert_eq!(cut.number(NumberColumn::Bytes), None);
    }

    #[rstest]
    #[case::empty("", 0, Reason::Empty)]
    #[case::other("hello", 0, Reason::Misfit)]
    #[case::time("192.0.2.1 - - [yesterday] \"GET / HTTP/1.1\" 200 1 \"-\" \"-\"", 15, Reason::BadTime)]
    #[case::status(
        "192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] \"GET / HTTP/1.1\" 20x 1 \"-\" \"-\"",
        60,
        Reason::BadNumber
    )]
    #[case::cut("192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] \"GET / HT", 44, Reason::Unquoted)]
    #[case::more(
        "192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] \"GET / HTTP/1.1\" 200 1 \"-\" \"-\" 7",
        73,
        Reason::TrailingText
    )]
    fn stops_where_the_mistake_is(#[case] line: &str, #[case] at: usize, #[case] reason: Reason) {
        assert_eq!(combined().run(line.as_bytes()).unwrap_err(), Stop { at, reason });
    }

    #[rstest]
    #[case("{duration:seconds}", "0.250", Some(250_000))]
    #[case("{duration:milliseconds}", "12.5", Some(12_500))]
    #[case("{duration:microseconds}", "7", Some(7))]
    #[case("{duration:seconds}", "-", None)]
    fn durations_have_units(#[case] field: &str, #[case] text: &str, #[case] expected: Option<u64>) {
        let line = format!("1794633160 {text}");
        let cut = plan(&format!("{{time:seconds}} {field}")).run(line.as_bytes()).unwrap();
        assert_eq!(cut.number(NumberColumn::Duration), expected);
    }

    #[rstest]
    #[case::defaults("{date} {clock} {client}", "2026-11-14 05:12:40 192.0.2.1", 1_794_633_160_000)]
    #[case::fraction("{date}T{clock}Z {client}", "2026-11-14T05:12:40.25Z x", 1_794_633_160_250)]
    #[case::other_order("[{clock}] {client} {date:%d.%m.%Y}", "[05:12:40] x 14.11.2026", 1_794_633_160_000)]
    #[case::zone(
        "{date:%d/%b/%Y}:{clock:%H:%M:%S %z} {client}",
        "14/Nov/2026:07:12:40 +0200 x",
        1_794_633_160_000
    )]
    #[case::words("{time:%b %d %Y %H:%M:%S} {client}", "Nov 14 2026 05:12:40 x", 1_794_633_160_000)]
    fn times_in_one_field_or_two(#[case] layout: &str, #[case] line: &str, #[case] time: i64) {
        assert_eq!(plan(layout).run(line.as_bytes()).unwrap().time, time);
    }
}
