//! A finished request into a line of a log.

use super::columns::TextColumn;
use super::escape;
use super::layout::Layout;
use super::moment::{TimeForm, write_codes};
use super::template::{Field, Piece, variants};
use std::borrow::Cow;

/// What is known of a request once it has been answered. Nothing is an empty text.
#[derive(Debug, Clone)]
pub struct LoggedRequest<'a> {
    /// When it came in: milliseconds since 1970 UTC.
    pub time: i64,
    /// Response status.
    pub status: u16,
    /// Body bytes sent.
    pub bytes: u64,
    /// Body bytes before compression.
    pub full_bytes: u64,
    /// Microseconds until the last octet was handed over.
    pub duration: u64,
    /// Address of the client.
    pub client: &'a str,
    /// Signed-in name.
    pub user: &'a str,
    /// Method.
    pub method: &'a str,
    /// Path and query as they came.
    pub target: Cow<'a, [u8]>,
    /// Protocol and version.
    pub protocol: &'a str,
    /// The page that linked here, as it came.
    pub referrer: &'a [u8],
    /// What the client calls itself, as it came.
    pub agent: &'a [u8],
    /// `http` or `https`.
    pub scheme: &'a str,
    /// Host asked for.
    pub host: &'a str,
    /// Content coding of the answer.
    pub encoding: &'a str,
    /// The rule that answered.
    pub rule: &'a str,
}

/// A layout made ready to write lines.
#[derive(Debug, Clone)]
pub struct LogTemplate {
    steps: Vec<(Step, Style)>,
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

/// Microseconds in a second: a whole number of those would mostly be zero.
const SECOND: u32 = 1_000_000;

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
                Piece::Optional(_) => (Step::Literal(Box::default()), Style::Bare),
            })
            .collect();
        LogTemplate { steps }
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
                Field::Status => u64::from(request.status),
                Field::Bytes => request.bytes,
                Field::FullBytes => request.full_bytes,
                Field::Duration(SECOND) => {
                    let (whole, rest) =
                        (request.duration / u64::from(SECOND), request.duration % u64::from(SECOND));
                    out.extend_from_slice(format!("{whole}.{rest:06}").as_bytes());
                    continue;
                }
                Field::Duration(unit) => request.duration / u64::from(*unit),
                Field::Time(form) => {
                    form.write(request.time, out);
                    continue;
                }
                Field::Date(codes) | Field::Clock(codes) => {
                    write_codes(codes, request.time, out);
                    continue;
                }
                Field::Text(_) | Field::Target | Field::Skip => {
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
    let is_target = matches!(field, Field::Target | Field::Text(TextColumn::Path | TextColumn::Query));
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
    let query_mark = || memchr::memchr(b'?', &request.target);
    let text = match field {
        Field::Target => &request.target[..],
        Field::Text(column) => match column {
            TextColumn::Client => request.client.as_bytes(),
            TextColumn::User => request.user.as_bytes(),
            TextColumn::Method => request.method.as_bytes(),
            TextColumn::Scheme => request.scheme.as_bytes(),
            TextColumn::Host => request.host.as_bytes(),
            TextColumn::Path => &request.target[..query_mark().unwrap_or(request.target.len())],
            TextColumn::Query => query_mark().map_or(&b""[..], |mark| &request.target[mark + 1..]),
            TextColumn::Protocol => request.protocol.as_bytes(),
            TextColumn::Referrer => request.referrer,
            TextColumn::Agent => request.agent,
            TextColumn::Encoding => request.encoding.as_bytes(),
            TextColumn::Rule => request.rule.as_bytes(),
        },
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
        let request = LoggedRequest {
            time: 1_794_633_160_000,
            status: 404,
            bytes: 1,
            full_bytes: 1,
            duration: 1,
            client: "192.0.2.1",
            user: "",
            method: "GET",
            target: target.into(),
            protocol: "HTTP/1.1",
            referrer: referrer.as_bytes(),
            agent: agent.as_bytes(),
            scheme: "http",
            host: "lamp.example",
            encoding: "",
            rule: "",
        };
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
