//! Numbers as logs write them, as columns hold them: durations in any unit become microseconds.

use super::moment::number;
use super::swar;
use exedra_common::batch::NO_NUMBER;
use exedra_common::columns::{Column, Kind, NumberColumn, Unit};

/// The digits that a text begins with as a number, and how many they are; none where they are too many.
#[inline(always)]
pub(super) fn digits(text: &[u8]) -> (u64, usize) {
    if let Some(octets) = text.first_chunk() {
        let word = u64::from_le_bytes(*octets);
        match swar::first(swar::non_digits(word)) {
            0 => return (0, 0),
            8 => {}
            length => return (swar::number(word, length), length),
        }
    }
    many_digits(text)
}

/// The same of more than a few digits, or near the end of a text.
#[cold]
fn many_digits(text: &[u8]) -> (u64, usize) {
    const MOST: usize = 18;
    let (mut number, mut length) = (0, 0);
    for octet in text.iter().take(MOST + 1) {
        match octet {
            b'0'..=b'9' => (number, length) = (number * 10 + u64::from(octet - b'0'), length + 1),
            _ => break,
        }
    }
    if length > MOST { (0, 0) } else { (number, length) }
}

/// A number whose unit may stand behind it.
pub(super) fn with_unit(text: &[u8], column: NumberColumn, unit: Unit) -> Option<u64> {
    if text.last().is_some_and(u8::is_ascii_digit) {
        return value(text, column, unit);
    }
    let digits = text.iter().position(|octet| !matches!(octet, b'0'..=b'9' | b'.')).unwrap_or(text.len());
    let own = std::str::from_utf8(text[digits..].trim_ascii()).ok().and_then(Unit::of_time);
    match own.filter(|_| digits > 0 && Column::Number(column).declaration().kind == Kind::Duration) {
        Some(own) => value(&text[..digits], column, own),
        None => value(text, column, unit),
    }
}

/// The number that a text is, as a column holds it; [`NO_NUMBER`] for a dash. `None` is a mistake.
pub(super) fn value(text: &[u8], column: NumberColumn, unit: Unit) -> Option<u64> {
    if matches!(text, b"-" | b"") {
        return Some(NO_NUMBER);
    }
    let declaration = Column::Number(column).declaration();
    let number = match declaration.kind {
        Kind::Duration => duration(text, unit)?,
        _ => u64::try_from(number(text)?).ok()?,
    };
    // Some programs write 0 or 000 where there was no answer.
    if number == 0 && declaration.range.0 > 0 {
        return Some(NO_NUMBER);
    }
    let (least, most) = declaration.range;
    (least..=most).contains(&number).then_some(number)
}

/// Microseconds from a number of units, which may have a fraction. What has no unit has the one that its shape tells: seconds with
/// a fraction, milliseconds without.
fn duration(text: &[u8], unit: Unit) -> Option<u64> {
    let (whole, fraction) = match memchr::memchr(b'.', text) {
        Some(point) => (&text[..point], &text[point + 1..]),
        None => (text, &b""[..]),
    };
    let unit = match (unit, fraction.is_empty()) {
        (Unit::None, true) => Unit::Milliseconds,
        (Unit::None, false) => Unit::Seconds,
        (unit, _) => unit,
    };
    let mut scale = unit.nanoseconds();
    let whole = u64::try_from(number(whole)?).ok()?;
    // Centuries are longer than any answer takes.
    let mut nanoseconds = whole.checked_mul(scale)?;
    for octet in fraction {
        scale /= 10;
        let digit = u64::from(octet.checked_sub(b'0').filter(|digit| *digit < 10)?);
        nanoseconds = nanoseconds.checked_add(digit * scale)?;
    }
    Some(nanoseconds / 1_000)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    proptest! {
        #[test]
        fn numbers_are_as_long_as_there_are_digits(digits in "[0-9]{0,20}", behind in "([^0-9]{0,10})?") {
            let expected = match digits.len() {
                1..=18 => (digits.parse().unwrap(), digits.len()),
                _ => (0, 0),
            };
            prop_assert_eq!(super::digits(format!("{digits}{behind}").as_bytes()), expected);
        }
    }

    #[rstest]
    #[case::seconds("0.250", Unit::Seconds, Some(250_000))]
    #[case::milliseconds("12.5", Unit::Milliseconds, Some(12_500))]
    #[case::microseconds("7", Unit::Microseconds, Some(7))]
    #[case::of_its_own("1.5ms", Unit::Seconds, Some(1_500))]
    #[case::fraction_without_unit("0.250", Unit::None, Some(250_000))]
    #[case::whole_without_unit("250", Unit::None, Some(250_000))]
    #[case::nothing("-", Unit::Seconds, Some(NO_NUMBER))]
    #[case::centuries("99999999999999999999", Unit::Seconds, None)]
    #[case::words("soon", Unit::Seconds, None)]
    #[case::below_nothing("-3", Unit::Seconds, None)]
    fn durations_have_units(#[case] text: &str, #[case] unit: Unit, #[case] expected: Option<u64>) {
        assert_eq!(with_unit(text.as_bytes(), NumberColumn::Duration, unit), expected);
    }

    #[rstest]
    #[case::there("200", Some(200))]
    #[case::none_was_sent("000", Some(NO_NUMBER))]
    #[case::beyond("2000", None)]
    #[case::with_a_unit("200ms", None)]
    fn statuses_are_within_their_range(#[case] text: &str, #[case] expected: Option<u64>) {
        assert_eq!(with_unit(text.as_bytes(), NumberColumn::Status, Unit::None), expected);
    }
}
