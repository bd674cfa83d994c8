//! Times as logs write them.
//!
//! The classic form `14/Nov/2026:05:12:40 +0000` is read by hand, and only once for each distinct second:
//! a busy log repeats it thousands of times. Other forms go through strftime codes ([`codes`]). A form that does not say the
//! year or the day has them from the file's own date.
//!
//! ```
//! use exedra_reading::logs::moment::{TimeForm, TimeReader};
//! let mut clock = TimeReader::new(TimeForm::Classic);
//! assert_eq!(clock.read(b"14/Nov/2026:05:12:40 +0000"), Some(1_794_633_160_000));
//! assert_eq!(clock.read(b"tomorrow"), None);
//! let mut written = Vec::new();
//! TimeForm::named("rfc3339").unwrap().write(1_794_633_160_000, &mut written);
//! assert_eq!(written, b"2026-11-14T05:12:40.000Z");
//! ```

pub mod codes;
pub mod forms;

pub use codes::Codes;

use super::swar;
use jiff::{Timestamp, civil, fmt::strtime, tz::Offset, tz::TimeZone};
use std::fmt::Write as _;

/// How a layout writes a time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TimeForm {
    /// `%d/%b/%Y:%H:%M:%S %z`, the form of the common layout.
    Classic,
    /// Seconds since 1970, perhaps with a fraction.
    Seconds,
    /// Milliseconds since 1970.
    Milliseconds,
    /// Microseconds since 1970.
    Microseconds,
    /// Nanoseconds since 1970.
    Nanoseconds,
    /// RFC 3339.
    Rfc3339,
    /// strftime codes.
    Codes(String),
}

/// The strftime codes of the classic form.
pub const CLASSIC: &str = "%d/%b/%Y:%H:%M:%S %z";
/// How many octets a time of the classic form has.
pub const CLASSIC_LENGTH: usize = 26;

const MONTHS: [&[u8; 3]; 12] =
    [b"Jan", b"Feb", b"Mar", b"Apr", b"May", b"Jun", b"Jul", b"Aug", b"Sep", b"Oct", b"Nov", b"Dec"];

impl TimeForm {
    /// The form that an argument of `{time:…}` names; `None` when it cannot read a time.
    pub fn named(argument: &str) -> Option<TimeForm> {
        match argument {
            CLASSIC => Some(TimeForm::Classic),
            "seconds" => Some(TimeForm::Seconds),
            "milliseconds" => Some(TimeForm::Milliseconds),
            "microseconds" => Some(TimeForm::Microseconds),
            "nanoseconds" => Some(TimeForm::Nanoseconds),
            "rfc3339" => Some(TimeForm::Rfc3339),
            codes if codes.contains('%') => Some(TimeForm::Codes(codes.to_owned())),
            _ => None,
        }
    }

    /// The argument of `{time:…}` that names this form.
    pub fn argument(&self) -> &str {
        match self {
            TimeForm::Classic => CLASSIC,
            TimeForm::Seconds => "seconds",
            TimeForm::Milliseconds => "milliseconds",
            TimeForm::Microseconds => "microseconds",
            TimeForm::Nanoseconds => "nanoseconds",
            TimeForm::Rfc3339 => "rfc3339",
            TimeForm::Codes(codes) => codes,
        }
    }

    /// Milliseconds since 1970 UTC; `None` when the text is no time of this form, or does not say its day.
    pub fn read(&self, text: &[u8]) -> Option<i64> {
        match self {
            TimeForm::Classic => classic(text),
            TimeForm::Seconds => {
                let (whole, fraction) = match memchr::memchr(b'.', text) {
                    Some(point) => (&text[..point], &text[point + 1..]),
                    None => (text, &b""[..]),
                };
                let mut digits = [b'0'; 3];
                for (digit, octet) in digits.iter_mut().zip(fraction) {
                    *digit = *octet;
                }
                Some(number(whole)?.checked_mul(1000)?.checked_add(number(&digits)?)?)
            }
            TimeForm::Milliseconds => number(text),
            TimeForm::Microseconds => number(text).map(|time| time / 1_000),
            // These have a digit more than other numbers in logs.
            TimeForm::Nanoseconds => match text.split_at_checked(text.len().saturating_sub(6)) {
                Some((whole, rest)) if number(rest).is_some() => number(whole),
                _ => None,
            },
            TimeForm::Rfc3339 => text.strip_suffix(b"Z").and_then(|text| plain(text, b"Tt ")).or_else(|| {
                Some(std::str::from_utf8(text).ok()?.parse::<Timestamp>().ok()?.as_millisecond())
            }),
            TimeForm::Codes(codes) => match Codes::compile(codes) {
                Some(codes) => codes.read(text).and_then(|parsed| parsed.instant(None)),
                None => generally(codes, text),
            },
        }
        .filter(is_sensible)
    }

    /// Appends a time, in UTC.
    pub fn write(&self, milliseconds: i64, out: &mut Vec<u8>) {
        match self {
            TimeForm::Seconds => push_number(milliseconds.div_euclid(1000), out),
            TimeForm::Milliseconds => push_number(milliseconds, out),
            TimeForm::Microseconds => push_number(milliseconds.saturating_mul(1_000), out),
            TimeForm::Nanoseconds => push_number(milliseconds.saturating_mul(1_000_000), out),
            TimeForm::Classic => {
                let time = in_utc(milliseconds);
                let month = MONTHS[(time.month() - 1) as usize];
                out.extend_from_slice(&[
                    b'0' + (time.day() / 10) as u8,
                    b'0' + (time.day() % 10) as u8,
                    b'/',
                ]);
                out.extend_from_slice(month);
                out.push(b'/');
                push_number(i64::from(time.year()), out);
                for part in [time.hour(), time.minute(), time.second()] {
                    out.extend_from_slice(&[b':', b'0' + (part / 10) as u8, b'0' + (part % 10) as u8]);
                }
                out.extend_from_slice(b" +0000");
            }
            TimeForm::Rfc3339 => {
                let mut text = String::new();
                let stamp = Timestamp::from_millisecond(milliseconds).unwrap_or_default();
                let _ = write!(text, "{stamp:.3}");
                out.extend_from_slice(text.as_bytes());
            }
            TimeForm::Codes(codes) => write_codes(codes, milliseconds, out),
        }
    }
}

/// Whether a time written by strftime codes has the end of a line in it.
pub fn ends_line(codes: &str) -> bool {
    let mut written = Vec::new();
    write_codes(codes, 0, &mut written);
    written.iter().any(|octet| matches!(octet, b'\n' | b'\r'))
}

/// Appends a time by strftime codes, in UTC.
pub fn write_codes(codes: &str, milliseconds: i64, out: &mut Vec<u8>) {
    let zoned = Timestamp::from_millisecond(milliseconds).unwrap_or_default().to_zoned(TimeZone::UTC);
    out.extend_from_slice(zoned.strftime(codes).to_string().as_bytes());
}

/// The first instant a log may speak of: the year 1970.
const EARLIEST: i64 = 0;
/// The first instant it may not: the year 9990, so that a few days may be added to any time read.
const LATEST: i64 = 253_086_508_800_000;

/// Whether a log may speak of an instant.
fn is_sensible(milliseconds: &i64) -> bool {
    (EARLIEST..LATEST).contains(milliseconds)
}

/// A time by codes that [`Codes`] does not know.
fn generally(codes: &str, text: &[u8]) -> Option<i64> {
    let broken_down = strtime::parse(codes, text).ok()?;
    let stamp = match broken_down.to_timestamp() {
        Ok(stamp) => stamp,
        Err(_) => broken_down.to_datetime().ok()?.to_zoned(TimeZone::UTC).ok()?.timestamp(),
    };
    Some(stamp.as_millisecond())
}

/// Days since 1970 of a day of the calendar, if it is one.
fn day_number(year: i64, month: i64, day: i64) -> Option<i64> {
    let date = civil::Date::new(year.try_into().ok()?, month.try_into().ok()?, day.try_into().ok()?).ok()?;
    Some(i64::from((date - civil::date(1970, 1, 1)).get_days()))
}

/// `2026-11-14 05:12:40`, perhaps with a fraction, in UTC; between date and clock stands one of some octets.
fn plain(text: &[u8], between: &[u8]) -> Option<i64> {
    let (whole, fraction) = text.split_at_checked(19)?;
    let separators = [(4, b'-'), (7, b'-'), (13, b':'), (16, b':')];
    if separators.iter().any(|&(at, octet)| whole[at] != octet) || !between.contains(&whole[10]) {
        return None;
    }
    let two = |at: usize| number(&whole[at..at + 2]);
    let days = day_number(number(&whole[..4])?, two(5)?, two(8)?)?;
    let (hour, minute, second) = (two(11)?, two(14)?, two(17)?);
    let milliseconds = match fraction {
        [] => 0,
        [b'.', digits @ ..] if !digits.is_empty() && number(digits).is_some() => {
            let digit = |nth: usize| digits.get(nth).map_or(0, |digit| i64::from(digit - b'0'));
            digit(0) * 100 + digit(1) * 10 + digit(2)
        }
        _ => return None,
    };
    let fits = hour < 24 && minute < 60 && second <= 60;
    fits.then_some((days * 86_400 + hour * 3_600 + minute * 60 + second) * 1_000 + milliseconds)
}

fn in_utc(milliseconds: i64) -> civil::DateTime {
    Offset::UTC.to_datetime(Timestamp::from_millisecond(milliseconds).unwrap_or_default())
}

fn push_number(number: i64, out: &mut Vec<u8>) {
    out.extend_from_slice(itoa::Buffer::new().format(number).as_bytes());
}

/// A decimal number that fits; `None` for anything else, the empty text included.
pub fn number(text: &[u8]) -> Option<i64> {
    if text.is_empty() || text.len() > 18 {
        return None;
    }
    text.iter().try_fold(0i64, |number, octet| match octet {
        b'0'..=b'9' => Some(number * 10 + i64::from(octet - b'0')),
        _ => None,
    })
}

fn classic(text: &[u8]) -> Option<i64> {
    let text: &[u8; CLASSIC_LENGTH] = text.try_into().ok()?;
    if text[2] != b'/' || text[6] != b'/' || text[20] != b' ' {
        return None;
    }
    let month = MONTHS.iter().position(|name| name[..] == text[3..6])? as i64 + 1;
    let days = day_number(number(&text[7..11])?, month, number(&text[..2])?)?;
    let sign = match text[21] {
        b'+' => 1,
        b'-' => -1,
        _ => return None,
    };
    let (zone_hours, zone_minutes) = (number(&text[22..24])?, number(&text[24..26])?);
    if zone_hours > 23 || zone_minutes > 59 {
        return None;
    }
    let offset = sign * (zone_hours * 60 + zone_minutes) * 60_000;
    Some(days * 86_400_000 - offset + classic_of_day(text)?)
}

/// Milliseconds since midnight of the clock in the classic form.
#[inline(always)]
fn classic_of_day(text: &[u8; CLASSIC_LENGTH]) -> Option<i64> {
    const CLOCK: u64 = u64::from_le_bytes(*b"00:00:00");
    // What is one more than a digit may stand for, or than a colon, reaches the highest bit.
    const TO_BEYOND: u64 = u64::from_le_bytes([118, 118, 127, 118, 118, 127, 118, 118]);
    let clock = u64::from_le_bytes(*text[12..].first_chunk()?) ^ CLOCK;
    let is_clock = swar::reaching(clock, TO_BEYOND) == 0 && text[11] == b':';
    let [h, hh, _, m, mm, _, s, ss] = clock.to_le_bytes().map(i64::from);
    let (hour, minute, second) = (10 * h + hh, 10 * m + mm, 10 * s + ss);
    (is_clock && hour < 24 && minute < 60 && second <= 60)
        .then_some(((hour * 60 + minute) * 60 + second) * 1_000)
}

/// A time form that remembers the last text it read: neighbours in a log mostly share their second, and
/// nearly always their day.
#[derive(Debug, Clone)]
pub struct TimeReader {
    form: TimeForm,
    is_classic: bool,
    codes: Option<Codes>,
    /// An instant near those that are read, for forms that do not say the year or the day.
    near: Option<i64>,
    last: [u8; 32],
    length: usize,
    milliseconds: i64,
    /// When the day began of the last text in the classic form.
    midnight: i64,
}

impl TimeReader {
    /// A reader for times of one form.
    pub fn new(form: TimeForm) -> Self {
        let codes = match &form {
            TimeForm::Codes(codes) => Codes::compile(codes),
            _ => None,
        };
        let is_classic = form == TimeForm::Classic;
        TimeReader {
            form,
            is_classic,
            codes,
            near: None,
            last: [0; 32],
            length: usize::MAX,
            milliseconds: 0,
            midnight: 0,
        }
    }

    /// The same, which takes what a time does not say of its day from an instant near it (milliseconds since 1970 UTC).
    pub fn near(mut self, near: Option<i64>) -> Self {
        self.near = near;
        self
    }

    /// As [`TimeForm::read`].
    pub fn read(&mut self, text: &[u8]) -> Option<i64> {
        match text.try_into() {
            Ok(text) if self.is_classic => self.read_classic(text),
            _ if text.len() == self.length && self.last[..self.length] == *text => Some(self.milliseconds),
            _ => self.read_anew(text),
        }
    }

    /// The same of the classic form, which this one must be of.
    #[inline(always)]
    pub(super) fn read_classic(&mut self, text: &[u8; CLASSIC_LENGTH]) -> Option<i64> {
        let word =
            |text: &[u8], at: usize| text[at..].first_chunk().map_or(0, |word| u64::from_le_bytes(*word));
        let difference = |at: usize| word(text, at) ^ word(&self.last, at);
        // Where all but the clock is the same, day and zone are.
        let is_of_that_day = (difference(0) | difference(3) | (difference(18) >> 16)) == 0;
        match is_of_that_day && self.length == CLASSIC_LENGTH {
            true => Some(self.midnight + classic_of_day(text)?).filter(is_sensible),
            false => self.read_anew(text),
        }
    }

    #[inline(never)]
    fn read_anew(&mut self, text: &[u8]) -> Option<i64> {
        let milliseconds = match &self.codes {
            Some(codes) => codes.read(text)?.instant(self.near).filter(is_sensible)?,
            None => self.form.read(text)?,
        };
        if text.len() <= self.last.len() {
            self.last[..text.len()].copy_from_slice(text);
            self.length = text.len();
            self.milliseconds = milliseconds;
            let classic = text.try_into().ok().filter(|_| self.is_classic);
            self.midnight = milliseconds - classic.and_then(classic_of_day).unwrap_or(0);
        }
        Some(milliseconds)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::utc("14/Nov/2026:05:12:40 +0000", Some(1_794_633_160_000))]
    #[case::west("13/Nov/2026:22:12:40 -0700", Some(1_794_633_160_000))]
    #[case::half_hour("14/Nov/2026:10:42:40 +0530", Some(1_794_633_160_000))]
    #[case::leap_day("29/Feb/2028:00:00:00 +0000", Some(1_835_395_200_000))]
    #[case::no_leap_day("29/Feb/2027:00:00:00 +0000", None)]
    #[case::no_month("14/Nav/2026:05:12:40 +0000", None)]
    #[case::hour_24("14/Nov/2026:24:00:00 +0000", None)]
    #[case::cut("14/Nov/2026:05:12:40", None)]
    #[case::empty("", None)]
    fn the_classic_form(#[case] text: &str, #[case] expected: Option<i64>) {
        assert_eq!(TimeForm::Classic.read(text.as_bytes()), expected);
        let slow = TimeForm::Codes(CLASSIC.to_owned());
        assert_eq!(slow.read(text.as_bytes()), expected, "by strftime codes");
    }

    proptest! {
        #[test]
        fn remembering_changes_nothing(seconds in proptest::collection::vec(1_790_000_000i64..1_790_000_200, 1..40)) {
            let mut reader = TimeReader::new(TimeForm::Classic);
            for second in seconds {
                let mut text = Vec::new();
                TimeForm::Classic.write(second * 1000, &mut text);
                prop_assert_eq!(reader.read(&text), Some(second * 1000));
                text[19] = b'x';
                prop_assert_eq!(reader.read(&text), None);
            }
        }

        #[test]
        fn what_is_written_is_read(seconds in 0i64..200_000_000_000) {
            for form in [TimeForm::Classic, TimeForm::Seconds, TimeForm::Milliseconds, TimeForm::Rfc3339] {
                let mut text = Vec::new();
                form.write(seconds * 1000, &mut text);
                prop_assert_eq!(TimeReader::new(form).read(&text), Some(seconds * 1000));
            }
        }
    }
}
