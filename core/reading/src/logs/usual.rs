//! What nearly every line of nearly every log says, read in one go: client, time, request line, status, size and what is quoted behind.
//!
//! A plan looks at each place of a layout by itself and is ready for whatever stands there. Of the places that all access logs begin
//! with, nearly all lines say the usual: an address, nobody or the name of somebody who signed in, a time in the classic form, three
//! digits and some more. Where a line does, this has read them before a plan has chosen its second step; where anything is unusual, it
//! has read nothing, and the plan begins at the beginning. So it decides nothing that the plan does not.
//!
//! The ends of quotations and lines have been found before ([`Marks`]): so a line is gone through once, and the place of everything in it
//! is known before anything is read.

use super::addresses;
use super::cut::Cut;
use super::marks::Marks;
use super::moment::{CLASSIC_LENGTH, TimeForm, TimeReader};
use super::numbers;
use super::scan::Mark;
use super::swar;
use super::template::{Field, Piece};
use exedra_common::columns::{NumberColumn, Projection, TextColumn, Unit};

/// How many pieces of a layout it reads at least: `{client} {skip} {user} [{time}] "{method} {target} {protocol}" {status} {bytes}` and
/// the text behind them.
const PIECES: usize = 18;
/// How many octets the time has, with ` [` before it and `] "` behind.
const AROUND_TIME: usize = 2 + CLASSIC_LENGTH + 3;

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
    /// How many quotation marks these have, together with the end of the line.
    marks: usize,
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
        let marks = 2 + 2 * quoted.len() + 1;
        Some(UsualBeginning { behind: Mark::new(behind), quoted, pieces: at, is_whole, marks, request })
    }

    /// How many pieces of the layout it reads.
    pub(super) fn pieces(&self) -> usize {
        self.pieces
    }

    /// Whether the layout has no others.
    pub(super) fn is_whole(&self) -> bool {
        self.is_whole
    }

    /// Leaves it for later to look into requests.
    pub(super) fn put_off_requests(&mut self) {
        if self.request == Wants::Now {
            self.request = Wants::Later;
        }
    }

    /// Reads it from the line that begins at a place of some octets; says where the line goes on and where it ends, both from its
    /// beginning. Nothing where something is unusual, and nothing of a line whose end is not at hand. `clock` is what reads the plan's
    /// first time.
    #[inline(never)]
    pub(super) fn read_ahead(
        &self,
        octets: &[u8],
        line: usize,
        marks: &mut Marks,
        clock: &mut TimeReader,
        cut: &mut Cut,
    ) -> Option<(usize, usize)> {
        let ahead = marks.ahead(octets, line, self.marks);
        let text = &octets[line..];
        let mut last = self.marks - 1;
        let mut end = ahead.place(last)?;
        while text[end] != b'\n' {
            last += 1;
            end = ahead.place(last).filter(|_| !self.is_whole)?;
        }
        let (begin, request_end) = (ahead.place(0)?, ahead.place(1)?);
        let until = (begin + 1).checked_sub(AROUND_TIME)?;
        let around = text.get(until..)?.first_chunk::<AROUND_TIME>()?;
        let difference =
            swar::difference(around, 0, b" [") | swar::difference(around, AROUND_TIME - 3, b"] \"");
        let time = clock.read_classic(around[2..].first_chunk()?).filter(|_| difference == 0)?;
        let (client, user) = match text[..until].split_last_chunk() {
            Some((client, b" - -")) => (client.len(), (0, 0)),
            _ => named(&text[..until])?,
        };
        let is_address = addresses::ipv4_of(text.first_chunk()?) == Some(client);
        (is_address || addresses::is_ipv6(&text[..client])).then_some(())?;
        let status = status_behind(text.get(request_end - 1..)?.first_chunk()?)?;
        let (bytes, length) = numbers::digits(&text[request_end + 6..]);
        let mut next = self.behind.end_at(text, request_end + 6 + length).filter(|_| length > 0)?;
        cut.texts[TextColumn::Client.index()] = (0, client as u32);
        cut.texts[TextColumn::User.index()] = user;
        cut.time = time;
        cut.numbers[NumberColumn::Status.index()] = status;
        cut.numbers[NumberColumn::Bytes.index()] = bytes;
        for ((column, behind), (begin, end)) in self.quoted.iter().zip(ahead.pairs().skip(1)) {
            // That both are quotation marks is seen by what must stand there.
            if begin + 1 != next || text[end - 1] == b'\\' {
                return None;
            }
            if let Some(column) = column {
                cut.set(*column, text, next, end);
            }
            next = behind.end_at(text, end)?;
        }
        let end = end - usize::from(text[end - 1] == b'\r');
        if next > end || (self.is_whole && next < end) {
            return None;
        }
        match self.request {
            Wants::Nothing => {}
            Wants::Now => cut.set_request(text, begin + 1, request_end, false),
            Wants::Later => cut.request = (begin as u32 + 1, request_end as u32),
        }
        marks.pass(last + 1);
        Some((next, end))
    }
}

/// Where a client ends, and where a user is named behind it, who is all the rest.
fn named(text: &[u8]) -> Option<(usize, (u32, u32))> {
    const NOTHING: &[u8; 3] = b" - ";
    let client = memchr::memchr(b' ', text)?;
    let user = client + NOTHING.len();
    let is_name = text[client..].starts_with(NOTHING) && !matches!(text[user..], [] | [b'-']);
    (is_name && memchr::memchr2(b' ', b'\t', &text[user..]).is_none())
        .then_some((client, (user as u32, text.len() as u32)))
}

/// The status behind a request: of an octet, which is no backslash, the quotation mark, three digits and a space.
#[inline(always)]
fn status_behind(octets: &[u8; 8]) -> Option<u64> {
    const USUAL: u64 = u64::from_le_bytes(*b"\0\" 000 \0");
    // Digits become what they stand for, and all else is nothing; what is more than that reaches the highest bit.
    const TO_BEYOND: u64 = u64::from_le_bytes([0, 127, 127, 118, 118, 118, 127, 0]);
    const BETWEEN: u64 = u64::from_le_bytes([0, 255, 255, 255, 255, 255, 255, 0]);
    let said = (u64::from_le_bytes(*octets) ^ USUAL) & BETWEEN;
    let [_, _, _, hundreds, tens, ones, ..] = said.to_le_bytes().map(u64::from);
    let is_usual = swar::reaching(said, TO_BEYOND) == 0 && octets[0] != b'\\' && hundreds > 0;
    is_usual.then_some(hundreds * 100 + tens * 10 + ones)
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
            "2001:db8::1",
            "198.51.100.255",
            "192.0.2.256",
            "fe80::1%a /",
            "quay.example",
            "-",
            "1.2.3.4.5",
            "192.0.2.1, 10.0.0.1",
        ],
        &[" - - [", " - ann [", " - ann lee [", " x - [", "  - - [", " -  [", " - \"ann\" [", " - a[b] ["],
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
            lines in proptest::collection::vec(proptest::collection::vec(prop_oneof![6 => Just(0usize), 1 => 0usize..8], 9), 1..5),
            behind in prop_oneof![Just(""), Just(" {full_bytes}"), Just(" \"{host}\"")])
        {
            let combined = Layout::understand("combined").unwrap().template;
            let layout = Layout::understand(&format!("{combined}{behind}")).unwrap();
            let mut plan = Plan::new(&layout.pieces, Projection::everything(), &Hints::default());
            for choice in lines {
                let line: String = choice.iter().zip(PARTS).map(|(nth, parts)| parts[nth % parts.len()]).collect();
                let told = |cut: Cut| (cut.time, cut.numbers, cut.texts);
                let expected = plan.run(line.as_bytes()).map(told);
                for behind in ["", "\n", "\r\n", "\n\"\n", "\n192.0.2.1 \" \"\n"] {
                    let (mut cut, before) = (Cut::default(), "\"a\"\n");
                    let octets = [before.as_bytes(), line.as_bytes(), behind.as_bytes()].concat();
                    let length = plan.run_ahead(&octets, before.len(), &mut Marks::default(), &mut cut);
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
        let mut length =
            |text: &str| plan.run_ahead(text.as_bytes(), 0, &mut Marks::default(), &mut Cut::default());
        assert_eq!(length(&format!("{line}\nfog")), Some(line.len()));
        assert_eq!(length(&format!("{line}\r\nfog")), Some(line.len()));
        assert_eq!(length(&format!("{line} 7\n")), None);
        assert_eq!(length(line), None, "its end is not at hand");
    }
}
