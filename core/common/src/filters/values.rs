//! The values that a filter names, understood by the kind of its column.
//!
//! ```
//! use exedra_common::filters::Filters;
//! let filters = Filters::understand(&["status=404,5xx", "client=198.51.100.0/24"], &[]).unwrap();
//! let values: Vec<_> = filters.iter().map(|filter| &filter.values).collect();
//! assert!(values[0].has_number(503) && !values[0].has_number(403));
//! assert!(values[1].has_text("198.51.100.7") && !values[1].has_text("harbour"));
//! ```

use super::{FilterError, Operator};
use crate::columns::{Column, Compared, Kind};
use crate::text::{Wildcard, nearest};
use crate::units;
use ipnet::IpNet;
use std::net::IpAddr;

/// Values, any of which a request may have.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Values {
    /// Texts.
    Texts(Vec<TextValue>),
    /// Numbers from here to there, both included.
    Numbers(Vec<Range>),
}

/// A text that is meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TextValue {
    /// None at all.
    Nothing,
    /// Those that fit a pattern.
    Pattern(Wildcard),
    /// Addresses in a network.
    Network(IpNet),
}

impl TextValue {
    fn as_exact_text(&self) -> Option<&str> {
        match self {
            TextValue::Pattern(pattern) => pattern.as_exact_text(),
            TextValue::Nothing | TextValue::Network(_) => None,
        }
    }
}

/// Numbers from here to there, both included.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Range {
    from: u64,
    to: u64,
}

/// The greatest number a batch holds.
const MOST: u64 = u64::MAX - 1;

impl Range {
    const fn is_lower_bound(self) -> bool {
        self.to == MOST
    }

    const fn is_upper_bound(self) -> bool {
        self.from == 0 && self.to < MOST
    }
}

impl Values {
    pub(super) fn understand(column: Column, operator: Operator, written: &str) -> Result<Self, FilterError> {
        let declaration = column.declaration();
        if declaration.kind == Kind::Text {
            if !matches!(operator, Operator::Is | Operator::IsNot) {
                return Err(FilterError::NoOrder(declaration.name));
            }
            let texts = parts(written).map(|part| text(column, part)).collect::<Result<_, _>>()?;
            return Ok(Values::Texts(texts));
        }
        let number = |text: &str| number(column, text.trim());
        let range = |from, to| Ok(Values::Numbers(vec![Range { from, to }]));
        match operator {
            Operator::Is | Operator::IsNot => {
                let ranges = parts(written).map(|part| match class(declaration.kind, part.trim()) {
                    Some(class) => Ok(class),
                    None => number(part).map(|number| Range { from: number, to: number }),
                });
                Ok(Values::Numbers(ranges.collect::<Result<_, _>>()?))
            }
            Operator::AtLeast => range(number(written)?, MOST),
            Operator::AtMost => range(0, number(written)?),
            Operator::Above => range(number(written)?.saturating_add(1).min(MOST), MOST),
            Operator::Below => match number(written)?.checked_sub(1) {
                Some(most) => range(0, most),
                None => Err(FilterError::NoValue {
                    column: declaration.name,
                    value: written.trim().to_owned(),
                    wanted: "more than the least there is",
                    remedy: "nothing is less than 0",
                }),
            },
        }
    }

    /// Any text at all.
    pub(super) fn any_text() -> Self {
        Values::Texts(vec![TextValue::Pattern(Wildcard::new("*"))])
    }

    /// Numbers from one to another, both included.
    pub(super) fn between(from: u64, to: u64) -> Self {
        Values::Numbers(vec![Range { from, to: to.min(MOST) }])
    }

    /// Texts that fit one of some patterns.
    pub(super) fn fitting(patterns: impl IntoIterator<Item = Wildcard>) -> Self {
        Values::Texts(patterns.into_iter().map(TextValue::Pattern).collect())
    }

    /// Either these or those, also where two bounds meet.
    pub(super) fn join(&mut self, other: Values) {
        match (self, other) {
            (Values::Texts(texts), Values::Texts(more)) => texts.extend(more),
            (Values::Numbers(ranges), Values::Numbers(more)) => ranges.extend(more),
            // One column has one kind of values.
            _ => {}
        }
    }

    /// Either these or those; a lower and an upper bound that meet mean what is between.
    pub(super) fn or(&mut self, other: Values) {
        match (self, other) {
            (Values::Texts(texts), Values::Texts(more)) => texts.extend(more),
            (Values::Numbers(ranges), Values::Numbers(more)) => {
                for one in more {
                    let meets = |known: &&mut Range| {
                        let bounds = known.is_lower_bound() && one.is_upper_bound()
                            || known.is_upper_bound() && one.is_lower_bound();
                        bounds && known.from.max(one.from) <= known.to.min(one.to)
                    };
                    match ranges.iter_mut().find(meets) {
                        Some(known) => {
                            *known = Range { from: known.from.max(one.from), to: known.to.min(one.to) };
                        }
                        None => ranges.push(one),
                    }
                }
            }
            // One column has one kind of values.
            _ => {}
        }
    }

    /// Whether a request with this text has one of them.
    pub fn has_text(&self, text: &str) -> bool {
        let Values::Texts(values) = self else { return false };
        let mut address = None;
        values.iter().any(|value| match value {
            TextValue::Nothing => text.is_empty(),
            TextValue::Pattern(pattern) => pattern.fits(text),
            TextValue::Network(network) => {
                let address = *address.get_or_insert_with(|| text.parse::<IpAddr>().ok());
                address.is_some_and(|address| network.contains(&address.to_canonical()))
            }
        })
    }

    /// The texts that alone are meant, letter by letter; `None` where others may be.
    pub fn exact_texts(&self) -> Option<Vec<&str>> {
        let Values::Texts(values) = self else { return None };
        values.iter().map(TextValue::as_exact_text).collect()
    }

    /// Whether a request with this number has one of them.
    pub fn has_number(&self, number: u64) -> bool {
        let Values::Numbers(ranges) = self else { return false };
        ranges.iter().any(|range| (range.from..=range.to).contains(&number))
    }

    /// Whether a request without any value is meant.
    pub fn has_nothing(&self) -> bool {
        matches!(self, Values::Texts(values) if values.contains(&TextValue::Nothing))
    }

    /// Operators and values as they are written after the column's name; several where one cannot say it.
    pub(super) fn written(&self, kind: Kind) -> Vec<String> {
        let joined = |values: Vec<String>| {
            if values.is_empty() { None } else { Some(format!("={}", values.join(","))) }
        };
        match self {
            Values::Texts(values) => {
                let text = |value: &TextValue| match value {
                    TextValue::Nothing => String::new(),
                    TextValue::Pattern(pattern) => pattern.to_string().replace(',', "\\,"),
                    TextValue::Network(network) if network.prefix_len() == network.max_prefix_len() => {
                        network.addr().to_string()
                    }
                    TextValue::Network(network) => network.to_string(),
                };
                joined(values.iter().map(text).collect()).into_iter().collect()
            }
            Values::Numbers(ranges) => {
                let (bounds, values): (Vec<&Range>, Vec<&Range>) =
                    ranges.iter().partition(|range| range.as_value(kind).is_none());
                let values: Vec<String> =
                    values.into_iter().filter_map(|range| range.as_value(kind)).collect();
                let bounds = bounds.into_iter().flat_map(|range| {
                    // Of two ways to say the same the rounder: `>10 MB`, not `>=10000001`.
                    let digits = |text: &str| text.bytes().filter(u8::is_ascii_digit).count();
                    let rounder =
                        |one: String, other: String| if digits(&other) < digits(&one) { other } else { one };
                    let number = |number| written_number(kind, number);
                    let from = (range.from > 0).then(|| {
                        rounder(format!(">={}", number(range.from)), format!(">{}", number(range.from - 1)))
                    });
                    let to = (range.to < MOST).then(|| {
                        rounder(format!("<={}", number(range.to)), format!("<{}", number(range.to + 1)))
                    });
                    [from, to].into_iter().flatten()
                });
                joined(values).into_iter().chain(bounds).collect()
            }
        }
    }
}

impl Range {
    /// A number, or a class of a hundred, as it is written.
    fn as_value(self, kind: Kind) -> Option<String> {
        let is_class = kind == Kind::Integer
            && self.to < 1_000
            && self.from.is_multiple_of(100)
            && self.to == self.from + 99
            && self.from > 0;
        match self.from == self.to {
            true => Some(written_number(kind, self.from)),
            false => is_class.then(|| format!("{}xx", self.from / 100)),
        }
    }
}

/// A number as it is written, in the largest unit that needs no fraction.
fn written_number(kind: Kind, number: u64) -> String {
    let units: &[(u64, &str)] = match kind {
        Kind::Size => &[(1_000_000_000, " GB"), (1_000_000, " MB"), (1_000, " kB")],
        Kind::Duration => &[(60_000_000, " min"), (1_000_000, " s"), (1_000, " ms"), (1, " us")],
        _ => &[],
    };
    match units.iter().find(|(unit, _)| number > 0 && number.is_multiple_of(*unit)) {
        Some((unit, name)) => format!("{}{name}", number / unit),
        None => number.to_string(),
    }
}

/// What stands between commas that no backslash makes letters.
fn parts(written: &str) -> impl Iterator<Item = &str> {
    let mut escaped = false;
    written.split(move |letter: char| {
        let is_end = letter == ',' && !escaped;
        escaped = letter == '\\' && !escaped;
        is_end
    })
}

fn text(column: Column, written: &str) -> Result<TextValue, FilterError> {
    let declaration = column.declaration();
    if written.is_empty() {
        return Ok(TextValue::Nothing);
    }
    if declaration.compared == Compared::Address {
        if let Ok(network) = written.trim().parse::<IpNet>() {
            return Ok(TextValue::Network(network.trunc()));
        }
        if written.contains('/') {
            return Err(FilterError::NoValue {
                column: declaration.name,
                value: written.to_owned(),
                wanted: "a network",
                remedy: "write it like 198.18.0.0/15 or 2001:db8::/32",
            });
        }
        // Addresses have several ways of being written.
        if let Ok(address) = written.trim().parse::<IpAddr>() {
            return Ok(TextValue::Network(address.to_canonical().into()));
        }
    }
    let pattern = Wildcard::new(written);
    let pattern = match declaration.compared {
        Compared::InAnyCase => pattern.in_any_case(),
        Compared::Exactly | Compared::Address => pattern,
    };
    let values = declaration.values;
    if !values.is_empty() && !values.iter().any(|value| pattern.fits(value)) {
        return Err(FilterError::NoSuchValue {
            column: declaration.name,
            value: written.to_owned(),
            nearest: nearest(written, values.iter().copied()),
            values,
        });
    }
    Ok(TextValue::Pattern(pattern))
}

/// A class of a hundred whole numbers: `4xx`.
fn class(kind: Kind, written: &str) -> Option<Range> {
    let digit = written.strip_suffix("xx").or_else(|| written.strip_suffix("XX"))?;
    let digit = digit.parse::<u64>().ok().filter(|digit| kind == Kind::Integer && (1..=9).contains(digit))?;
    Some(Range { from: digit * 100, to: digit * 100 + 99 })
}

fn number(column: Column, written: &str) -> Result<u64, FilterError> {
    let declaration = column.declaration();
    let (found, wanted, remedy) = match declaration.kind {
        Kind::Size => (units::size(written), "a size", "write it like 10 MB or 256 bytes"),
        Kind::Duration => {
            let time = units::duration(written).and_then(|time| u64::try_from(time.as_micros()).ok());
            let time = time.or_else(|| (written == "0").then_some(0));
            (time, "a length of time", "write its unit, as in 5 s or 250 ms")
        }
        _ => (written.parse().ok(), "a whole number", "write 404, or 4xx for all from 400 to 499"),
    };
    let no_value =
        |wanted| FilterError::NoValue { column: declaration.name, value: written.to_owned(), wanted, remedy };
    let number = found.filter(|number| *number <= MOST).ok_or_else(|| no_value(wanted))?;
    let (least, most) = declaration.range;
    match (least..=most).contains(&number) {
        true => Ok(number),
        false => Err(no_value("a status from 100 to 999")),
    }
}
