//! What nearly every line of nearly every log says, read in one go: client, time, request line, status, size and what is quoted behind.
//!
//! A plan looks at each place of a layout by itself and is ready for whatever stands there. Of the places that all access logs begin
//! with, nearly all lines say the usual: an address of IPv4, nobody who signed in, a time in the classic form, three digits and some
//! more. Where a line does, this has read them before a plan has chosen its second step; where anything is unusual, it has read nothing,
//! and the plan begins at the beginning. So it decides nothing that the plan does not.
//!
//! It needs not know where a line ends: it goes through it from one quotation mark to the next and stops at an end before one. So a
//! line that is nothing else is gone through once, where its end would have to be found before.

use super::cut::Cut;
use super::moment::{CLASSIC_LENGTH, TimeForm, TimeReader};
use super::numbers;
use super::scan::Mark;
use super::template::{Field, Piece};
use super::values;
use exedra_common::columns::{NumberColumn, Projection, TextColumn, Unit};

/// How many pieces of a layout it reads at least: `{client} {skip} {user} [{time}] "{method} {target} {protocol}" {status} {bytes}` and
/// the text behind them.
const PIECES: usize = 18;
/// Between the client and the time, where nobody has signed in.
const NOBODY: &[u8; 6] = b" - - [";

/// The beginning of a layout, and what stands behind it.
#[derive(Debug, Clone)]
pub(super) struct UsualBeginning {
    behind: Mark,
    /// Texts in quotation marks that follow, if anybody wants them, and what stands behind each: a quotation mark first.
    quoted: Vec<(Option<TextColumn>, Mark)>,
    /// How many pieces of the layout these are.
    pieces: usize,
    /// Whether there are no others.
    is_whole: bool,
    request: Wants,
}

/// Whether anybody wants to know what was asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Wants {
    Nothing,
    Now,
    /// Perhaps later, of a few lines: see [`Cut::look_into_request`].
    Later,
}

impl UsualBeginning {
    /// Of a layout that begins so, and goes on with a text.
    pub(super) fn of(pieces: &[Piece], projection: Projection, request: Wants) -> Option<Self> {
        let place = |at: usize| match pieces.get(at) {
            Some(Piece::Place(field)) => Some(field),
            _ => None,
        };
        let literal = |at: usize| match pieces.get(at) {
            Some(Piece::Literal(text)) => Some(text.as_str()),
            _ => None,
        };
        let places = [0, 2, 4, 6, 8, 10, 12, 14, 16].map(place);
        let literals = [1, 3, 5, 7, 9, 11, 13, 15].map(literal);
        let text = |column| Some(Field::Text(column));
        let expected = [
            text(TextColumn::Client),
            Some(Field::Skip),
            text(TextColumn::User),
            Some(Field::Time(TimeForm::Classic)),
            text(TextColumn::Method),
            Some(Field::Target),
            text(TextColumn::Protocol),
            Some(Field::Number(NumberColumn::Status, Unit::None)),
            Some(Field::Number(NumberColumn::Bytes, Unit::Bytes)),
        ];
        let is_usual = places.iter().zip(&expected).all(|(place, expected)| *place == expected.as_ref())
            && literals == [" ", " ", " [", "] \"", " ", " ", "\" ", " "].map(Some);
        let behind = literal(PIECES - 1).filter(|_| is_usual)?;
        if behind.starts_with(|letter: char| letter.is_ascii_digit()) {
            return None;
        }
        let (mut quoted, mut at, mut before) = (Vec::new(), PIECES, behind);
        while let Some((field, next)) = place(at).zip(literal(at + 1))
            && before.ends_with('"')
            && next.starts_with('"')
        {
            let column = match field {
                Field::Skip => None,
                // Of these not everything is taken.
                Field::Text(TextColumn::Client | TextColumn::User | TextColumn::Host) => break,
                Field::Text(column) => Some(*column),
                _ => break,
            };
            quoted.push((column.filter(|column| projection.has(*column)), Mark::new(next)));
            (at, before) = (at + 2, next);
        }
        let is_whole = at == pieces.len();
        Some(UsualBeginning { behind: Mark::new(behind), quoted, pieces: at, is_whole, request })
    }

    /// How many pieces of the layout it reads.
    pub(super) fn pieces(&self) -> usize {
        self.pieces
    }

    /// Leaves it for later to look into requests.
    pub(super) fn put_off_requests(&mut self) {
        if self.request == Wants::Now {
            self.request = Wants::Later;
        }
    }

    /// Reads a line that is nothing else, given with whatever follows it, and says how long it is; nothing where anything is unusual.
    #[inline(never)]
    pub(super) fn read_line(&self, text: &[u8], clock: &mut TimeReader, cut: &mut Cut) -> Option<usize> {
        let end = if self.is_whole { self.read(text, clock, cut)? } else { return None };
        matches!(text[end..], [] | [b'\n', ..] | [b'\r', b'\n', ..]).then_some(end)
    }

    /// Reads it from a line, and says where the line goes on; nothing where something is unusual. `clock` is what reads the plan's first
    /// time.
    #[inline(always)]
    pub(super) fn read(&self, line: &[u8], clock: &mut TimeReader, cut: &mut Cut) -> Option<usize> {
        let client = values::ipv4(line)?;
        let time = client + NOBODY.len();
        (line.get(client..time)? == NOBODY).then_some(())?;
        let until = time + CLASSIC_LENGTH;
        let request = until + 3;
        (line.get(until..request)? == b"] \"").then_some(())?;
        let milliseconds = clock.read(&line[time..until])?;
        let end = quotation(line, request)?;
        let [b'"', b' ', status @ .., b' '] = line.get(end..)?.first_chunk::<6>()? else { return None };
        let status = number_of(status)?;
        let (bytes, length) = numbers::digits(&line[end + 6..]);
        let mut next = self.behind.end_at(line, end + 6 + length).filter(|_| length > 0)?;
        cut.texts[TextColumn::Client.index()] = (0, client as u32);
        cut.time = milliseconds;
        cut.numbers[NumberColumn::Status.index()] = status;
        cut.numbers[NumberColumn::Bytes.index()] = bytes;
        for (column, behind) in &self.quoted {
            let end = quotation(line, next)?;
            if let Some(column) = column {
                cut.set(*column, line, next, end);
            }
            next = behind.end_at(line, end)?;
        }
        match self.request {
            Wants::Nothing => {}
            Wants::Now => cut.set_request(line, request, end, false),
            Wants::Later => cut.request = (request as u32, end as u32),
        }
        Some(next)
    }
}

/// Where a quotation ends that began before a place, if it does so on the same line and without a backslash before its end.
#[inline(always)]
fn quotation(text: &[u8], from: usize) -> Option<usize> {
    let end = match text.get(from..)? {
        [b'"', ..] => return Some(from),
        [b'-', b'"', ..] => return Some(from + 1),
        rest => from + memchr::memchr2(b'"', b'\n', rest)?,
    };
    (text[end] == b'"' && text[end - 1] != b'\\').then_some(end)
}

/// A status of three digits.
#[inline(always)]
fn number_of(digits: &[u8; 3]) -> Option<u64> {
    let [hundreds, tens, ones] = digits.map(|octet| u64::from(octet.wrapping_sub(b'0')));
    let is_status = (1..=9).contains(&hundreds) && tens < 10 && ones < 10;
    is_status.then_some(hundreds * 100 + tens * 10 + ones)
}

#[cfg(test)]
mod tests {
    use super::super::Layout;
    use super::super::layout::Hints;
    use super::super::plan::Plan;
    use super::*;
    use exedra_common::Projection;
    use proptest::prelude::*;

    const PARTS: [&[&str]; 9] = [
        &[
            "192.0.2.1",
            "198.51.100.255",
            "192.0.2.256",
            "2001:db8::1",
            "quay.example",
            "-",
            "1.2.3.4.5",
            "192.0.2.1, 10.0.0.1",
        ],
        &[" - - [", " - ann [", " - ann lee [", " x - [", "  - - ["],
        &[
            "14/Nov/2026:05:12:40 +0000",
            "14/Nov/2026:05:12:41 +0000",
            "14/Nov/2026:25:12:40 +0000",
            "yesterday",
        ],
        &["] \"", "]  \"", "]\""],
        &["GET /a?b HTTP/1.1", "GET /\\\"a\\\" HTTP/1.1", "-", "", "GET /a b"],
        &["\" ", "\"", "\"  "],
        &["200", "404", "099", "000", "20x", "2000", "-"],
        &[" 512", " -", " 0", " 999999999999999999999", " 5k", "  5"],
        &[" \"-\" \"Boat/1\"", " \"-\" \"a \\\" b\"", " \"-\" \"-\"", "", " \"-\"", " \"-\" \"Boat/1\" 7"],
    ];

    proptest! {
        /// A law: whatever stands in a line, it is read as without this.
        #[test]
        fn nothing_is_decided_that_the_plan_does_not(
            lines in proptest::collection::vec(proptest::collection::vec(prop_oneof![6 => Just(0usize), 1 => 0usize..8], 9), 1..5))
        {
            let layout = Layout::understand("combined").unwrap();
            let mut with = Plan::new(&layout.pieces, Projection::everything(), &Hints::default());
            let mut without = with.clone().step_by_step();
            for choice in lines {
                let line: String = choice.iter().zip(PARTS).map(|(nth, parts)| parts[nth % parts.len()]).collect();
                let told = |cut: Cut| (cut.time, cut.numbers, cut.texts);
                let said = |plan: &mut Plan| plan.run(line.as_bytes()).map(told);
                let expected = said(&mut without);
                prop_assert_eq!(said(&mut with), expected, "{}", line);
                for behind in ["", "\n", "\r\n", "\n\"\n", "\n192.0.2.1 \" \"\n"] {
                    let mut cut = Cut::default();
                    let length = with.run_usual(&[line.as_bytes(), behind.as_bytes()].concat(), &mut cut);
                    if let Some(length) = length {
                        prop_assert_eq!((length, Ok(told(cut))), (line.len(), expected), "{}", line);
                    }
                }
            }
        }
    }

    #[test]
    fn it_is_of_layouts_that_begin_so_and_go_on() {
        let is_usual = |layout: &str| {
            let pieces = Layout::understand(layout).unwrap().pieces;
            UsualBeginning::of(&pieces, Projection::everything(), Wants::Now).map(|usual| usual.is_whole)
        };
        assert_eq!(
            ["full", "combined", "common", "combined with host", "{client} {status}"].map(is_usual),
            [Some(false), Some(true), None, None, None]
        );
        let line = "192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] \"GET / HTTP/1.1\" 200 1 \"-\" \"Boat/1\"";
        let layout = Layout::understand("combined").unwrap();
        let mut plan = Plan::new(&layout.pieces, Projection::everything(), &Hints::default());
        let mut length = |text: &str| plan.run_usual(text.as_bytes(), &mut Cut::default());
        assert_eq!(length(&format!("{line}\nfog")), Some(line.len()));
        assert_eq!(length(&format!("{line} 7\n")), None);
    }
}
