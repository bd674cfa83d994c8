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
//! use exedra_reading::logs::{cut::Reason, layout::Hints, plan::Plan, template::parse};
//! let pieces = parse("{client} {time:seconds} {status}").unwrap();
//! let mut plan = Plan::new(&pieces, Projection::everything(), &Hints::default());
//! let line = b"192.0.2.7 1794633160 200";
//! assert_eq!(plan.run(line).unwrap().text(line, TextColumn::Client), Some(&b"192.0.2.7"[..]));
//! let stop = plan.run(b"192.0.2.7 1794633160 fog").unwrap_err();
//! assert_eq!((stop.at, stop.reason), (21, Reason::BadNumber));
//! ```

mod steps;

use super::addresses;
use super::cut::{Cut, Reason, Stop};
use super::layout::Hints;
use super::marks::Marks;
use super::moment::{CLASSIC_LENGTH, TimeReader};
use super::numbers;
use super::scan::{Mark, closing_of_doubled, closing_quote, gap};
use super::template::{Field, Piece};
use super::usual::{UsualBeginning, Wants};
use super::values;
use exedra_common::batch::NO_TIME;
use exedra_common::columns::{Projection, TextColumn};
use std::ops::Range;
use steps::{End, Step, Steps, Usual};

/// The pieces of a layout, none of them optional, made ready to run over lines.
#[derive(Debug, Clone)]
pub struct Plan {
    steps: Vec<Step>,
    /// What reads the first of them in one go, where they are the usual ones.
    usual: Option<UsualBeginning>,
    /// How many these are.
    usual_steps: usize,
    clocks: Vec<TimeReader>,
    /// What reads date and clock where they stand apart, joined by a space.
    apart: Option<TimeReader>,
    joined: Vec<u8>,
    fields: usize,
    /// How many fields named values had in the last line.
    named: usize,
    /// Whether hosts stand before anything that shows that the layout fits, so that they must look like some.
    checks_host: bool,
    has_time: bool,
}

impl Plan {
    /// A plan for pieces, which only walks past the columns nobody wants.
    pub fn new(pieces: &[Piece], projection: Projection, hints: &Hints) -> Self {
        let of_requests = OF_REQUESTS.iter().any(|column| projection.has(*column));
        let wants = if of_requests { Wants::Now } else { Wants::Nothing };
        let usual = UsualBeginning::of(pieces, projection, wants);
        let is_field = |piece: &&Piece| match piece {
            Piece::Place(field) => !matches!(field, Field::Skip | Field::Json | Field::Pairs),
            _ => false,
        };
        let request = |piece: &&Piece| matches!(piece, Piece::Place(Field::Request));
        // A whole request says three things.
        let fields = pieces.iter().filter(is_field).count() + 2 * pieces.iter().filter(request).count();
        let steps = Steps::of(pieces, projection, hints);
        let usual_steps = usual.as_ref().map_or(0, |usual| steps.begun_before(usual.pieces()));
        let Steps { all: steps, clocks, apart, checks_host, .. } = steps;
        let has_time = apart.is_some() || !clocks.is_empty();
        Plan {
            steps,
            usual,
            usual_steps,
            clocks,
            apart,
            joined: Vec::new(),
            fields,
            named: 0,
            checks_host,
            has_time,
        }
    }

    /// From now on requests may be left for [`Cut::look_into_request`].
    pub(super) fn put_off_requests(&mut self) {
        if let Some(usual) = &mut self.usual {
            usual.put_off_requests();
        }
    }

    /// How many fields it reads from a line, as the last one had them.
    pub fn fields(&self) -> usize {
        self.fields + self.named
    }

    /// Cuts one line, given without its line end.
    pub fn run(&mut self, line: &[u8]) -> Result<Cut, Stop> {
        let mut cut = Cut::default();
        self.run_into(line, &mut cut).map(|()| cut)
    }

    /// Cuts the line that begins at a place of some octets, if it begins with the usual, and says how long it is without its end.
    /// Where nothing is said, nothing is known yet.
    #[inline]
    pub(super) fn run_ahead(
        &mut self,
        octets: &[u8],
        line: usize,
        marks: &mut Marks,
        cut: &mut Cut,
    ) -> Option<usize> {
        let usual = self.usual.as_ref()?;
        *cut = Cut { time: NO_TIME, ..Cut::default() };
        let is_whole = usual.is_whole();
        let (next, length) = usual.read_ahead(octets, line, marks, &mut self.clocks[0], cut)?;
        if !is_whole {
            self.run_steps(&octets[line..line + length], (self.usual_steps, next, 1), cut).ok()?;
        }
        Some(length)
    }

    /// As [`Plan::run`], into a cut of whatever line before.
    pub fn run_into(&mut self, line: &[u8], cut: &mut Cut) -> Result<(), Stop> {
        *cut = Cut { time: NO_TIME, ..Cut::default() };
        if line.is_empty() {
            return Err(Stop { at: 0, reason: Reason::Empty });
        }
        self.run_steps(line, (0, 0, 0), cut)
    }

    /// Runs the steps from one on, at a place of the line, where so many times have been read.
    fn run_steps(
        &mut self,
        line: &[u8],
        (first, mut at, mut clock): (usize, usize, usize),
        cut: &mut Cut,
    ) -> Result<(), Stop> {
        let Plan { steps, clocks, apart, joined, named, checks_host, has_time, .. } = self;
        let (mut date, mut time_of_day) = (0..0, 0..0);
        let mut client_is_name = false;
        for step in &mut steps[first..] {
            let stop = |reason| Stop { at, reason };
            // Where the value is, where reading goes on, and what must stand there.
            let (field, value, next, behind) = match step {
                Step::Literal(text) => {
                    at = text.end_at(line, at).ok_or(stop(Reason::Misfit))?;
                    continue;
                }
                Step::Gap => {
                    let length = gap(&line[at..]);
                    if length == 0 {
                        return Err(stop(Reason::Misfit));
                    }
                    at += length;
                    continue;
                }
                Step::QuotedRequest { is_url, is_wanted, behind } => {
                    let until = closing_quote(line, at).ok_or(stop(Reason::Unquoted))?;
                    if *is_wanted {
                        cut.set_request(line, at, until, *is_url);
                    }
                    at = behind.end_at(line, until).ok_or(Stop { at: until, reason: Reason::Misfit })?;
                    continue;
                }
                Step::Object(objects) => {
                    at = objects.run_at(line, at, cut, *has_time)?;
                    *named = objects.fields();
                    continue;
                }
                Step::Pairs(pairs) => {
                    pairs.run_at(line, at, cut, *has_time)?;
                    *named = pairs.fields();
                    at = line.len();
                    continue;
                }
                Step::Until(field, end) => {
                    match &end.usual {
                        Usual::Digits(column, range) => {
                            let (number, length) = numbers::digits(&line[at..]);
                            if range.contains(&number)
                                && length > 0
                                && let Some(next) = end.behind(line, at + length)
                            {
                                (cut.numbers[*column], at) = (number, next);
                                continue;
                            }
                        }
                        Usual::Address => {
                            if let Some(length) = addresses::ipv4(&line[at..])
                                && let Some(next) = end.behind(line, at + length)
                            {
                                cut.set(TextColumn::Client, line, at, at + length);
                                (client_is_name, at) = (false, next);
                                continue;
                            }
                        }
                        Usual::ClassicTime => {
                            if let Some(next) = end.behind(line, at + CLASSIC_LENGTH)
                                && let Some(time) = clocks[clock].read(&line[at..at + CLASSIC_LENGTH])
                            {
                                (cut.time, clock, at) = (time, clock + 1, next);
                                continue;
                            }
                        }
                        Usual::Dash => {
                            if line.get(at) == Some(&b'-')
                                && let Some(next) = end.behind(line, at + 1)
                            {
                                at = next;
                                continue;
                            }
                        }
                        Usual::Anything => {}
                    }
                    let (value, next) = until(line, at, field, end).ok_or(stop(Reason::Misfit))?;
                    (field, value, next + end.text.len(), None)
                }
                Step::Quoted(field, behind) => {
                    let end = closing_quote(line, at).ok_or(stop(Reason::Unquoted))?;
                    if matches!(field, Field::Skip) {
                        at = behind.end_at(line, end).ok_or(Stop { at: end, reason: Reason::Misfit })?;
                        continue;
                    }
                    (field, at..end, end, Some(behind))
                }
                Step::Rest(field) => match unquoted(line, at, &Mark::new("")) {
                    Some((value, next)) => (field, value, next, None),
                    None => (field, at..line.len(), line.len(), None),
                },
            };
            let text = &line[value.clone()];
            let is_nothing = matches!(text, b"-" | b"");
            match field {
                Field::Skip => {}
                Field::Text(TextColumn::User) if !is_nothing && is_more_than_a_name(text, client_is_name) => {
                    return Err(stop(Reason::Misfit));
                }
                Field::Text(TextColumn::Client) if !is_nothing => {
                    let inner = values::client(text).ok_or(stop(Reason::BadClient))?;
                    let last = text[inner.end - 1];
                    client_is_name = !(last.is_ascii_digit() || memchr::memchr(b':', text).is_some());
                    let from = value.start;
                    cut.set(TextColumn::Client, line, from + inner.start, from + inner.end);
                }
                Field::Text(TextColumn::Host) if !is_nothing => match values::host(text) {
                    Some(inner) => {
                        cut.set(TextColumn::Host, line, value.start + inner.start, value.start + inner.end)
                    }
                    None if *checks_host => return Err(stop(Reason::BadHost)),
                    None => cut.set(TextColumn::Host, line, value.start, value.end),
                },
                Field::Text(column) => cut.set(*column, line, value.start, value.end),
                Field::Target => cut.set_target(line, value.start, value.end),
                Field::Url => cut.set_url(line, value),
                Field::Request => cut.set_request(line, value.start, value.end, false),
                Field::Number(column, unit) => {
                    let number = numbers::with_unit(text, *column, *unit).ok_or(stop(Reason::BadNumber))?;
                    cut.numbers[column.index()] = number;
                }
                Field::Time(_) => {
                    cut.time = clocks[clock].read(text).ok_or(stop(Reason::BadTime))?;
                    clock += 1;
                }
                Field::Date(_) => date = value,
                Field::Clock(_) => time_of_day = value,
                // They have steps of their own.
                Field::Json | Field::Pairs => {}
            }
            at = match behind {
                Some(text) => text.end_at(line, next).ok_or(Stop { at: next, reason: Reason::Misfit })?,
                None => next,
            };
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
        Ok(())
    }
}

/// What a request line may say.
pub(super) const OF_REQUESTS: [TextColumn; 6] = [
    TextColumn::Method,
    TextColumn::Path,
    TextColumn::Query,
    TextColumn::Protocol,
    TextColumn::Scheme,
    TextColumn::Host,
];

/// Whether what stands where a user is named is several fields. A name may have spaces in it, but a dash or an address before them is
/// a field of its own, and so is what follows the name of a client that is perhaps none.
fn is_more_than_a_name(text: &[u8], client_is_name: bool) -> bool {
    let Some(space) = memchr::memchr(b' ', text) else { return false };
    let first = &text[..space];
    client_is_name || first == b"-" || values::is_ipv4(first) || values::is_ipv6(first)
}

/// The value of a field that ends where a text follows, and where that begins.
fn until(line: &[u8], at: usize, field: &Field, end: &End) -> Option<(Range<usize>, usize)> {
    let End { text, within, .. } = end;
    if line.get(at) == Some(&b'"')
        && let Some(found) = unquoted(line, at, text)
    {
        return Some(found);
    }
    let mut from = at;
    let is_address = matches!(field, Field::Text(TextColumn::Client | TextColumn::Host));
    // In the brackets of an address of IPv6 anything may stand.
    if is_address && line.get(at) == Some(&b'[') {
        from += memchr::memchr(b']', &line[at..])?;
    }
    let mut found = text.next(line, from)?;
    for _ in 0..*within {
        found = text.next(line, found + 1)?;
    }
    // Behind a comma a list goes on.
    while is_address && found > at && line[found - 1] == b',' && text.first() != Some(b',') {
        found = text.next(line, found + 1)?;
    }
    Some((at..found, found))
}

/// A value in quotation marks that the layout has none for, and where what follows it begins: such a value ends with its own.
/// Two quotation marks within it stand for one. `None` where none begins, or where something else follows its end.
fn unquoted(line: &[u8], at: usize, next: &Mark) -> Option<(Range<usize>, usize)> {
    if line.get(at) != Some(&b'"') {
        return None;
    }
    let end = closing_of_doubled(line, at + 1)?;
    let rest = &line[end + 1..];
    let ends = match next.len() {
        0 => rest.is_empty() || gap(rest) > 0,
        _ => next.stands_at(line, end + 1),
    };
    ends.then_some((at + 1..end, end + 1))
}

#[cfg(test)]
mod tests {
    use super::super::Layout;
    use super::*;
    use exedra_common::columns::NumberColumn;
    use rstest::rstest;

    fn plan(layout: &str) -> Plan {
        Plan::new(&Layout::understand(layout).unwrap().pieces, Projection::everything(), &Hints::default())
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
    #[case::container(
        "web-1 | 192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] \"GET / HTTP/1.1\" 200 1 \"-\" \"-\"",
        8,
        Reason::Misfit
    )]
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
