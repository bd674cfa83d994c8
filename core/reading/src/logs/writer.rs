//! A finished request into a line of a log.

use super::escape;
use super::layout::Layout;
use super::moment::{TimeForm, write_codes};
use super::template::{Field, Piece, variants};
use exedra_common::batch::NO_NUMBER;
use exedra_common::columns::{NumberColumn, TextColumn, Unit};
use std::borrow::Cow;

/// What is known of a request once it has been answered.
///
/// ```
/// use exedra_common::{NumberColumn, TextColumn};
/// use exedra_reading::logs::{Layout, LogTemplate, LoggedRequest};
/// let request = LoggedRequest::new(1_794_633_160_000, b"/tides?week=46")
///     .text(TextColumn::Client, "192.0.2.1")
///     .number(NumberColumn::Status, 200);
/// let layout = Layout::understand("{time:seconds} {client} {path} {status} {bytes}").unwrap();
/// let mut line = Vec::new();
/// LogTemplate::new(&layout).write(&request, &mut line);
/// assert_eq!(line, b"1794633160 192.0.2.1 /tides 200 -\n");
/// ```
#[derive(Debug, Clone)]
pub struct LoggedRequest<'a> {
    /// When it came in: milliseconds since 1970 UTC.
    time: i64,
    /// Path and query as they came.
    target: &'a [u8],
    /// Texts; empty where there is nothing.
    texts: [&'a [u8]; TextColumn::COUNT],
    /// Numbers, or [`NO_NUMBER`].
    numbers: [u64; NumberColumn::COUNT],
}

impl<'a> LoggedRequest<'a> {
    /// A request that came in at a time (milliseconds since 1970 UTC) for a target, path and query as they came.
    pub fn new(time: i64, target: &'a [u8]) -> Self {
        let mut texts = [&b""[..]; TextColumn::COUNT];
        let (path, query) = match memchr::memchr(b'?', target) {
            Some(mark) => (&target[..mark], &target[mark + 1..]),
            None => (target, &b""[..]),
        };
        texts[TextColumn::Path.index()] = path;
        texts[TextColumn::Query.index()] = query;
        LoggedRequest { time, target, texts, numbers: [NO_NUMBER; NumberColumn::COUNT] }
    }

    /// What it was, was sent or is called, as it came; an empty text is nothing.
    pub fn text<T: AsRef<[u8]> + ?Sized>(mut self, column: TextColumn, text: &'a T) -> Self {
        self.texts[column.index()] = text.as_ref();
        self
    }

    /// A text of it; empty where there is nothing.
    pub fn text_of(&self, column: TextColumn) -> &'a [u8] {
        self.texts[column.index()]
    }

    /// Path and query as they came.
    pub fn target(&self) -> &'a [u8] {
        self.target
    }

    /// A number of it, in the unit of the column.
    pub fn number(mut self, column: NumberColumn, number: u64) -> Self {
        self.numbers[column.index()] = number;
        self
    }
}

/// A layout made ready to write lines.
#[derive(Debug, Clone)]
pub struct LogTemplate {
    steps: Vec<(Step, Style)>,
    is_json: bool,
}

/// How the text of a field is kept within it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Style {
    /// It stands between spaces.
    Bare,
    /// It stands in quotation marks.
    Quoted,
    /// It stands between spaces, and no quotation mark may come near it.
    UnquotableBare,
    /// It stands in quotation marks, and no other quotation mark may come near it.
    Unquotable,
    /// It stands in a string of JSON.
    Json,
}

#[derive(Debug, Clone)]
enum Step {
    Literal(Box<[u8]>),
    Field(Field),
    /// The time without its fraction, so that a form in whole seconds is formatted once a second.
    Classic,
}

impl LogTemplate {
    /// Makes a layout ready.
    pub fn new(layout: &Layout) -> Self {
        // What may be missing is always written.
        let pieces = variants(&layout.pieces).swap_remove(0);
        let mut quoted = false;
        let (outside, inside) = match layout {
            layout if layout.is_json() => (Style::Bare, Style::Json),
            layout if layout.is_extended() => (Style::UnquotableBare, Style::Unquotable),
            _ => (Style::Bare, Style::Quoted),
        };
        let steps = pieces
            .iter()
            .map(|piece| match piece {
                Piece::Literal(text) => {
                    quoted ^= text.bytes().filter(|octet| *octet == b'"').count() % 2 == 1;
                    (Step::Literal(text.as_bytes().into()), Style::Bare)
                }
                Piece::Place(Field::Time(TimeForm::Classic)) => (Step::Classic, Style::Bare),
                // The request line is one quoted field for whoever reads it: its parts part at spaces.
                Piece::Place(field @ Field::Text(TextColumn::Method | TextColumn::Protocol))
                    if inside != Style::Json =>
                {
                    (Step::Field(field.clone()), outside)
                }
                Piece::Place(field) => (Step::Field(field.clone()), if quoted { inside } else { outside }),
                Piece::Gap => (Step::Literal(Box::from(*b" ")), Style::Bare),
                Piece::Optional(_) => (Step::Literal(Box::default()), Style::Bare),
            })
            .collect();
        LogTemplate { steps, is_json: layout.is_json() }
    }

    /// Appends one line, its end included.
    pub fn write(&self, request: &LoggedRequest<'_>, out: &mut Vec<u8>) {
        for (step, style) in &self.steps {
            let field = match step {
                Step::Literal(text) => {
                    out.extend_from_slice(text);
                    continue;
                }
                Step::Classic => {
                    classic(request.time, out);
                    continue;
                }
                Step::Field(field) => field,
            };
            let number = match field {
                Field::Number(column, unit) => match (request.numbers[column.index()], unit) {
                    (NO_NUMBER, _) => {
                        out.extend_from_slice(if self.is_json { b"null" } else { b"-" });
                        continue;
                    }
                    // A whole number of seconds would mostly be zero.
                    (number, Unit::Seconds) => {
                        let (whole, rest) = (number / 1_000_000, number % 1_000_000);
                        out.extend_from_slice(format!("{whole}.{rest:06}").as_bytes());
                        continue;
                    }
                    (number, Unit::Nanoseconds) => number.saturating_mul(1_000),
                    (number, Unit::Milliseconds) => number / 1_000,
                    (number, _) => number,
                },
                Field::Time(form) => {
                    form.write(request.time, out);
                    continue;
                }
                Field::Date(codes) | Field::Clock(codes) => {
                    write_codes(codes, request.time, out);
                    continue;
                }
                Field::Request => {
                    let texts = [TextColumn::Method, TextColumn::Path, TextColumn::Protocol];
                    for (nth, column) in texts.into_iter().enumerate() {
                        if nth > 0 {
                            out.push(b' ');
                        }
                        let field = if nth == 1 { Field::Target } else { Field::Text(column) };
                        escape::write(&text(&field, request), nth != 1, out);
                    }
                    continue;
                }
                // Nobody writes those: the configuration refuses them.
                Field::Json | Field::Pairs => continue,
                Field::Text(_) | Field::Target | Field::Url | Field::Skip => {
                    let text = text(field, request);
                    match style {
                        Style::Json => escape::write_json(&text, out),
                        Style::Unquotable => escape::write_unquotable(&text, false, out),
                        Style::UnquotableBare => escape::write_unquotable(&text, true, out),
                        style => escape::write(&text, *style == Style::Bare, out),
                    }
                    continue;
                }
            };
            out.extend_from_slice(itoa::Buffer::new().format(number).as_bytes());
        }
        out.push(b'\n');
    }
}

/// The most octets of a target that are written, and of any other text. What a client says may be as long as the largest
/// head; of that a log, and everything that reads it, takes so much.
pub const MOST_OF_TARGET: usize = 8192;
/// See [`MOST_OF_TARGET`].
pub const MOST_OF_TEXT: usize = 2048;
/// What stands behind a text of which the rest was not written.
pub const CUT: &[u8] = b"...(cut)";

fn text<'r>(field: &Field, request: &'r LoggedRequest<'_>) -> Cow<'r, [u8]> {
    let is_target =
        matches!(field, Field::Target | Field::Url | Field::Text(TextColumn::Path | TextColumn::Query));
    let text = whole_text(field, request);
    let most = if is_target { MOST_OF_TARGET } else { MOST_OF_TEXT };
    match text.len() > most {
        false => text,
        // Not within a letter of several octets.
        true => {
            let end = (most - 3..=most).rev().find(|at| text[*at] & 0xc0 != 0x80).unwrap_or(most);
            [&text[..end], CUT].concat().into()
        }
    }
}

fn whole_text<'r>(field: &Field, request: &'r LoggedRequest<'_>) -> Cow<'r, [u8]> {
    let text = match field {
        Field::Target | Field::Url => request.target,
        Field::Text(column) => request.texts[column.index()],
        _ => b"",
    };
    Cow::Borrowed(text)
}

fn classic(time: i64, out: &mut Vec<u8>) {
    thread_local! {
        static LAST: std::cell::RefCell<(i64, Vec<u8>)> = const { std::cell::RefCell::new((i64::MIN, Vec::new())) };
    }
    let second = time.div_euclid(1000);
    LAST.with_borrow_mut(|(last, text)| {
        if *last != second {
            text.clear();
            TimeForm::Classic.write(second * 1000, text);
            *last = second;
        }
        out.extend_from_slice(text);
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_client_says_takes_so_much_of_a_line_and_no_more() {
        let target = ["/é".repeat(20_000).as_bytes(), b"?x"].concat();
        let (referrer, agent) = ("r".repeat(60_000), "å".repeat(1025));
        let request = LoggedRequest::new(1_794_633_160_000, &target)
            .number(NumberColumn::Status, 404)
            .text(TextColumn::Client, "192.0.2.1")
            .text(TextColumn::Referrer, &referrer)
            .text(TextColumn::Agent, &agent);
        for layout in ["full", "json", "extended"] {
            let mut line = Vec::new();
            LogTemplate::new(&Layout::understand(layout).unwrap()).write(&request, &mut line);
            assert!(line.len() < 2 * (4 * MOST_OF_TARGET + 4 * MOST_OF_TEXT), "{layout}: {}", line.len());
            let text = String::from_utf8(line).unwrap();
            assert_eq!(text.matches("...(cut)").count(), 3, "{layout}");
            assert_eq!(text.matches('\u{fffd}').count(), 0, "{layout}: no letter is cut in two");
        }
    }
}
