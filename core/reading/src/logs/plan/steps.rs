//! The steps of a plan, made of a layout's pieces: what stands between two values is found together with the first of them.

use super::super::layout::Hints;
use super::super::moment::{CLASSIC, TimeForm, TimeReader};
use super::super::objects::Objects;
use super::super::pairs::Pairs;
use super::super::scan::Mark;
use super::super::template::{Field, Piece};
use super::OF_REQUESTS;
use exedra_common::columns::{Column, Kind, Projection, TextColumn};
use std::ops::RangeInclusive;

/// All steps of a plan, and what reads the times in them.
#[derive(Debug)]
pub(super) struct Steps {
    /// The steps, in order.
    pub(super) all: Vec<Step>,
    /// Of which piece of the layout each begins.
    first_pieces: Vec<usize>,
    /// What reads each time.
    pub(super) clocks: Vec<TimeReader>,
    /// What reads date and clock where they stand apart, joined by a space.
    pub(super) apart: Option<TimeReader>,
    /// Whether hosts stand before anything that shows that the layout fits.
    pub(super) checks_host: bool,
}

impl Steps {
    /// The steps of some pieces, of which those that nobody wants are only walked past.
    pub(super) fn of(pieces: &[Piece], projection: Projection, hints: &Hints) -> Self {
        let mut clocks = Vec::new();
        let (mut steps, mut first_pieces) = (Vec::new(), Vec::new());
        let (mut date, mut time_of_day) = (None, None);
        let mut checks_host = false;
        let of_requests = OF_REQUESTS.iter().any(|column| projection.has(*column));
        let mut at = 0;
        while at < pieces.len() {
            first_pieces.push(at);
            if let Some((target, behind)) = request_at(&pieces[at..]).filter(|_| opens_quotes(pieces, at)) {
                let is_wanted = of_requests;
                let is_url = *target == Field::Url;
                steps.push(Step::QuotedRequest { is_url, is_wanted, behind: Mark::new(behind) });
                at += 6;
                continue;
            }
            match &pieces[at] {
                Piece::Literal(text) => steps.push(Step::Literal(Mark::new(text))),
                Piece::Gap => steps.push(Step::Gap),
                Piece::Place(Field::Json) => {
                    steps.push(Step::Object(Box::new(Objects::new(projection, hints))))
                }
                Piece::Place(Field::Pairs) => {
                    steps.push(Step::Pairs(Box::new(Pairs::new(projection, hints))))
                }
                Piece::Place(field) => {
                    match field {
                        Field::Time(form) => clocks.push(TimeReader::new(form.clone()).near(hints.near)),
                        Field::Date(codes) => date = Some(codes),
                        Field::Clock(codes) => time_of_day = Some(codes),
                        Field::Text(TextColumn::Host) => checks_host |= clocks.is_empty(),
                        _ => {}
                    }
                    let field = if wanted(field, projection) { field.clone() } else { Field::Skip };
                    let is_quoted = opens_quotes(pieces, at);
                    steps.push(match pieces.get(at + 1) {
                        Some(Piece::Literal(next)) => {
                            let within = occurrences(&pieces[at], next);
                            // It is read with the value.
                            at += 1;
                            if is_quoted && next.starts_with('"') {
                                Step::Quoted(field, Mark::new(next))
                            } else {
                                let end = End::new(&field, next, within);
                                Step::Until(field, end)
                            }
                        }
                        Some(Piece::Gap) => {
                            let within = occurrences(&pieces[at], " ");
                            let end = End::new(&field, "", within);
                            Step::Until(field, end)
                        }
                        _ => Step::Rest(field),
                    });
                }
                // There is none: variants have been made of them.
                Piece::Optional(_) => {
                    first_pieces.pop();
                }
            }
            at += 1;
        }
        let apart = date.zip(time_of_day).map(|(date, clock)| {
            TimeReader::new(TimeForm::Codes(format!("{date} {clock}"))).near(hints.near)
        });
        Steps { all: steps, first_pieces, clocks, apart, checks_host }
    }

    /// How many of them begin with one of the first so many pieces.
    pub(super) fn begun_before(&self, pieces: usize) -> usize {
        self.first_pieces.iter().take_while(|first| **first < pieces).count()
    }
}

#[derive(Debug, Clone)]
pub(super) enum Step {
    /// A text that must stand there.
    Literal(Mark),
    /// Spaces and tabs, at least one.
    Gap,
    /// A value and the text behind it.
    Until(Field, End),
    /// A value in quotation marks, of which the text behind it begins with the second.
    Quoted(Field, Mark),
    /// A whole request in quotation marks.
    QuotedRequest {
        /// Whether its targets are whole addresses with scheme and host.
        is_url: bool,
        /// Whether anybody wants to know what is in it.
        is_wanted: bool,
        /// The text behind it, which begins with a quotation mark.
        behind: Mark,
    },
    /// A value that is all the rest.
    Rest(Field),
    /// A JSON object.
    Object(Box<Objects>),
    /// `key=value` up to the end of the line.
    Pairs(Box<Pairs>),
}

/// Where a field ends that is not in quotation marks.
#[derive(Debug, Clone)]
pub(super) struct End {
    /// The text that follows it; empty for a gap.
    pub(super) text: Mark,
    /// How often that occurs in the field itself: a time may be several words.
    pub(super) within: usize,
    /// What the value is made of.
    pub(super) usual: Usual,
}

/// What a value is made of nearly always, so that its end can be told while it is read. Whatever else stands there is looked at in
/// the general way.
#[derive(Debug, Clone)]
pub(super) enum Usual {
    /// Digits, for the number column of this index; numbers within this range are kept as they are.
    Digits(usize, RangeInclusive<u64>),
    /// An address of IPv4, for the client.
    Address,
    /// A time in the classic form.
    ClassicTime,
    /// A lone dash: nothing.
    Dash,
    /// Whatever it is.
    Anything,
}

impl End {
    fn new(field: &Field, text: &str, within: usize) -> Self {
        let starts_with_digit = text.starts_with(|letter: char| letter.is_ascii_digit());
        let usual = match field {
            Field::Number(column, _) if !starts_with_digit => {
                let declaration = Column::Number(*column).declaration();
                let (least, most) = declaration.range;
                match declaration.kind {
                    Kind::Duration => Usual::Anything,
                    _ => Usual::Digits(column.index(), least..=most),
                }
            }
            Field::Text(TextColumn::Client) if !starts_with_digit => Usual::Address,
            Field::Time(TimeForm::Classic) => Usual::ClassicTime,
            // Where an agent should stand, a dash says that there was none.
            Field::Text(column) if *column != TextColumn::Agent => Usual::Dash,
            Field::Skip => Usual::Dash,
            _ => Usual::Anything,
        };
        End { text: Mark::new(text), within, usual }
    }

    /// Where reading goes on if a value ends at a place.
    #[inline]
    pub(super) fn behind(&self, line: &[u8], at: usize) -> Option<usize> {
        match self.text.len() {
            0 => matches!(line.get(at), Some(b' ' | b'\t')).then_some(at),
            length => self.text.stands_at(line, at).then_some(at + length),
        }
    }
}

fn wanted(field: &Field, projection: Projection) -> bool {
    match field {
        // Whether a line is read must not depend on what is wanted of it, and these and all that are no texts decide it.
        Field::Text(TextColumn::Client | TextColumn::User | TextColumn::Host) => true,
        Field::Text(column) => projection.has(*column),
        _ => true,
    }
}

/// The target of the request line that pieces begin with, `{method} {target} {protocol}"`, and the text behind it.
fn request_at(pieces: &[Piece]) -> Option<(&Field, &str)> {
    let place = |at: usize| match pieces.get(at) {
        Some(Piece::Place(field)) => Some(field),
        _ => None,
    };
    let space = |at: usize| matches!(pieces.get(at), Some(Piece::Literal(text)) if text == " ");
    let is_request = place(0) == Some(&Field::Text(TextColumn::Method))
        && space(1)
        && space(3)
        && place(4) == Some(&Field::Text(TextColumn::Protocol));
    let behind = match pieces.get(5) {
        Some(Piece::Literal(text)) if text.starts_with('"') && is_request => text,
        _ => return None,
    };
    place(2).filter(|field| matches!(field, Field::Target | Field::Url)).map(|field| (field, behind.as_str()))
}

fn opens_quotes(pieces: &[Piece], at: usize) -> bool {
    at > 0 && matches!(&pieces[at - 1], Piece::Literal(text) if text.ends_with('"'))
}

/// How often a text occurs in a field as it is written: a time may be several words.
fn occurrences(piece: &Piece, text: &str) -> usize {
    match piece {
        Piece::Place(Field::Time(TimeForm::Codes(codes)) | Field::Date(codes) | Field::Clock(codes)) => {
            codes.matches(text).count()
        }
        Piece::Place(Field::Time(TimeForm::Classic)) => CLASSIC.matches(text).count(),
        _ => 0,
    }
}
