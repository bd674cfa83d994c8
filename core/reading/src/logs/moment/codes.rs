//! strftime codes made ready to run over the digits of a line.
//!
//! A log with milliseconds in its times has a different text on every line, so nothing can be remembered from the line before, and
//! a general parser costs more than all the rest of the line. What log times are made of is little: digits in a known number,
//! names of months and weekdays, a fraction, a zone. Codes that are none of these are left to the general parser.
//!
//! ```
//! use exedra_reading::logs::moment::Codes;
//! let codes = Codes::compile("%d.%m.%Y %H:%M:%S,%f").unwrap();
//! let (parsed, length) = codes.begins(b"14.11.2026 05:12:40,250 and more").unwrap();
//! assert_eq!((parsed.instant(None), length), (Some(1_794_633_160_250), 23));
//! assert!(codes.begins(b"fog").is_none());
//! assert!(Codes::compile("%G").is_none(), "left to the general parser");
//! ```

use super::{MONTHS, day_number};

const WEEKDAYS: [&[u8; 3]; 7] = [b"Sun", b"Mon", b"Tue", b"Wed", b"Thu", b"Fri", b"Sat"];
const DAY: i64 = 86_400_000;

/// strftime codes made ready to read times.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Codes {
    parts: Box<[Part]>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Part {
    Literal(u8),
    Year,
    Month,
    Day,
    MonthName,
    Weekday,
    Hour,
    Minute,
    Second,
    /// Digits after the point; with the point itself where it belongs to the code, and then all of it may be missing.
    Fraction {
        with_point: bool,
    },
    /// `+0200`, `+02:00` or `Z`.
    Offset,
    /// `GMT`, `UTC` or `Z`.
    ZoneName,
}

/// What a time said; what it did not say is missing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Parsed {
    year: Option<i64>,
    month: Option<i64>,
    day: Option<i64>,
    /// Milliseconds since midnight.
    of_day: i64,
    /// Milliseconds that its zone is ahead of UTC.
    ahead: i64,
}

impl Codes {
    /// Makes codes ready; `None` where some are not known here.
    pub fn compile(codes: &str) -> Option<Codes> {
        let mut parts = Vec::new();
        let mut rest = codes.as_bytes();
        while let Some((&octet, after)) = rest.split_first() {
            rest = after;
            if octet != b'%' {
                parts.push(Part::Literal(octet));
                continue;
            }
            let (kinds, length): (&[Part], usize) = match after {
                [b'Y', ..] => (&[Part::Year], 1),
                [b'm', ..] => (&[Part::Month], 1),
                [b'd' | b'e', ..] => (&[Part::Day], 1),
                [b'b' | b'h', ..] => (&[Part::MonthName], 1),
                [b'a', ..] => (&[Part::Weekday], 1),
                [b'H', ..] => (&[Part::Hour], 1),
                [b'M', ..] => (&[Part::Minute], 1),
                [b'S', ..] => (&[Part::Second], 1),
                [b'f', ..] => (&[Part::Fraction { with_point: false }], 1),
                [b'.', b'f', ..] => (&[Part::Fraction { with_point: true }], 2),
                [b'.', b'3' | b'6' | b'9', b'f', ..] => (&[Part::Fraction { with_point: true }], 3),
                [b'z', ..] => (&[Part::Offset], 1),
                [b':', b'z', ..] => (&[Part::Offset], 2),
                [b'Z', ..] => (&[Part::ZoneName], 1),
                [b'%', ..] => (&[Part::Literal(b'%')], 1),
                [b'F', ..] => {
                    (&[Part::Year, Part::Literal(b'-'), Part::Month, Part::Literal(b'-'), Part::Day], 1)
                }
                [b'T', ..] => {
                    (&[Part::Hour, Part::Literal(b':'), Part::Minute, Part::Literal(b':'), Part::Second], 1)
                }
                _ => return None,
            };
            parts.extend_from_slice(kinds);
            rest = &after[length..];
        }
        Some(Codes { parts: parts.into() })
    }

    /// Whether a time of this form says its day of the month.
    pub fn has_day(&self) -> bool {
        self.parts.contains(&Part::Day)
    }

    /// Whether a time of this form says its year.
    pub fn has_year(&self) -> bool {
        self.parts.contains(&Part::Year)
    }

    /// Whether a time of this form says its zone.
    pub fn has_zone(&self) -> bool {
        self.parts.iter().any(|part| matches!(part, Part::Offset | Part::ZoneName))
    }

    /// The time that a text begins with, and how many octets it takes.
    pub fn begins(&self, text: &[u8]) -> Option<(Parsed, usize)> {
        let mut parsed = Parsed::default();
        let mut at = 0;
        for part in &self.parts {
            let rest = text.get(at..)?;
            at += match part {
                Part::Literal(octet) => (rest.first()? == octet).then_some(1)?,
                Part::Year => {
                    parsed.year = Some(digits(rest, 4)?);
                    4
                }
                Part::Month => {
                    parsed.month = Some(digits(rest, 2)?);
                    2
                }
                Part::Day => {
                    // One digit may stand alone or behind a space.
                    let (day, length) = match rest {
                        [b' ', one @ b'0'..=b'9', ..] => (i64::from(one - b'0'), 2),
                        [b'0'..=b'9', b'0'..=b'9', ..] => (digits(rest, 2)?, 2),
                        [one @ b'0'..=b'9', ..] => (i64::from(one - b'0'), 1),
                        _ => return None,
                    };
                    parsed.day = Some(day);
                    length
                }
                Part::MonthName => {
                    let name = rest.get(..3)?;
                    let month = MONTHS.iter().position(|known| name.eq_ignore_ascii_case(&known[..]))?;
                    parsed.month = Some(month as i64 + 1);
                    3
                }
                Part::Weekday => {
                    let name = rest.get(..3)?;
                    WEEKDAYS.iter().any(|known| name.eq_ignore_ascii_case(&known[..])).then_some(3)?
                }
                Part::Hour => {
                    parsed.of_day += digits(rest, 2).filter(|hour| *hour < 24)? * 3_600_000;
                    2
                }
                Part::Minute => {
                    parsed.of_day += digits(rest, 2).filter(|minute| *minute < 60)? * 60_000;
                    2
                }
                Part::Second => {
                    parsed.of_day += digits(rest, 2).filter(|second| *second <= 60)? * 1_000;
                    2
                }
                Part::Fraction { with_point: true } if rest.first() != Some(&b'.') => 0,
                Part::Fraction { with_point } => {
                    let point = usize::from(*with_point);
                    let fraction = &rest[point..];
                    let length = fraction.iter().take_while(|octet| octet.is_ascii_digit()).count();
                    if length == 0 {
                        return None;
                    }
                    let digit =
                        |nth: usize| fraction[..length].get(nth).map_or(0, |digit| i64::from(digit - b'0'));
                    parsed.of_day += digit(0) * 100 + digit(1) * 10 + digit(2);
                    point + length
                }
                Part::Offset => {
                    let (ahead, length) = offset(rest)?;
                    parsed.ahead = ahead;
                    length
                }
                Part::ZoneName => [&b"GMT"[..], b"UTC", b"Z"]
                    .into_iter()
                    .find(|name| rest.starts_with(name))
                    .map(|name| name.len())?,
            };
        }
        Some((parsed, at))
    }

    /// The time that a text is, all of it.
    pub fn read(&self, text: &[u8]) -> Option<Parsed> {
        self.begins(text).filter(|(_, length)| *length == text.len()).map(|(parsed, _)| parsed)
    }
}

impl Parsed {
    /// Milliseconds since 1970 UTC. What the time does not say of its day is taken from `near`, an instant that is not long
    /// before any of its neighbours: the last such day that is not after it. `None` where the day is none, or where it is not
    /// said and nothing is near.
    pub fn instant(&self, near: Option<i64>) -> Option<i64> {
        let whole = |days: i64| days * DAY + self.of_day - self.ahead;
        match (self.year, self.month, self.day) {
            (Some(year), Some(month), Some(day)) => Some(whole(day_number(year, month, day)?)),
            (None, Some(month), Some(day)) => {
                let near = near?;
                let year = i64::from(super::in_utc(near).year());
                // Clocks differ a little, zones by up to a day; nobody logs what is to come.
                let of =
                    |year: i64| day_number(year, month, day).map(whole).filter(|time| *time <= near + DAY);
                (0..8).find_map(|back| of(year + 1 - back))
            }
            (None, None, None) => {
                let near = near?;
                let today = whole(near.div_euclid(DAY));
                Some(if today > near + DAY / 24 { today - DAY } else { today })
            }
            _ => None,
        }
    }
}

/// A number of so many digits.
fn digits(text: &[u8], count: usize) -> Option<i64> {
    text.get(..count)?.iter().try_fold(0, |number, octet| match octet {
        b'0'..=b'9' => Some(number * 10 + i64::from(octet - b'0')),
        _ => None,
    })
}

/// How many milliseconds a zone is ahead of UTC, and how many octets it takes.
fn offset(text: &[u8]) -> Option<(i64, usize)> {
    let sign = match text.first()? {
        b'Z' | b'z' => return Some((0, 1)),
        b'+' => 1,
        b'-' => -1,
        _ => return None,
    };
    let hours = digits(&text[1..], 2).filter(|hours| *hours < 24)?;
    let colon = usize::from(text.get(3) == Some(&b':'));
    let minutes = digits(text.get(3 + colon..)?, 2).filter(|minutes| *minutes < 60)?;
    Some((sign * (hours * 60 + minutes) * 60_000, 5 + colon))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const NEAR: i64 = 1_794_633_160_000;

    #[rstest]
    #[case::iso("%Y-%m-%dT%H:%M:%S%.f%z", "2026-11-14T07:12:40.25+02:00", Some(NEAR + 250))]
    #[case::iso_whole("%Y-%m-%dT%H:%M:%S%.f%z", "2026-11-14T05:12:40Z", Some(NEAR))]
    #[case::comma("%Y-%m-%d %H:%M:%S,%f", "2026-11-14 05:12:40,125", Some(NEAR + 125))]
    #[case::mail("%a, %d %b %Y %H:%M:%S %Z", "Sat, 14 Nov 2026 05:12:40 GMT", Some(NEAR))]
    #[case::year_of_the_file("%b %d %H:%M:%S", "Nov 14 05:12:40", Some(NEAR))]
    #[case::padded("%b %d %H:%M:%S", "Nov  4 05:12:40", Some(NEAR - 10 * DAY))]
    #[case::the_year_before("%b %d %H:%M:%S", "Dec 31 23:59:59", Some(1_767_225_599_000))]
    #[case::leap_day("%b %d %H:%M:%S", "Feb 29 00:00:00", Some(1_709_164_800_000))]
    #[case::day_of_the_file("%H:%M:%S", "05:00:00", Some(NEAR - 760_000))]
    #[case::the_day_before("%H:%M:%S", "23:00:00", Some(NEAR - 760_000 - 6 * 3_600_000))]
    #[case::no_day("%Y-%m-%d %H:%M:%S", "2026-02-30 05:12:40", None)]
    #[case::no_hour("%H:%M:%S", "24:00:00", None)]
    #[case::more("%H:%M:%S", "05:00:00 ", None)]
    #[case::cut("%H:%M:%S", "05:00:0", None)]
    fn times(#[case] codes: &str, #[case] text: &str, #[case] expected: Option<i64>) {
        let parsed = Codes::compile(codes).unwrap().read(text.as_bytes());
        assert_eq!(parsed.and_then(|parsed| parsed.instant(Some(NEAR))), expected);
    }

    #[test]
    fn a_day_that_is_not_said_is_not_made_up() {
        let parsed = Codes::compile("%H:%M:%S").unwrap().read(b"05:00:00").unwrap();
        assert_eq!(parsed.instant(None), None);
    }
}
