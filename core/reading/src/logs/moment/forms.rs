//! The forms in which times occur in logs, for whoever has a text and wants to know which it is.
//!
//! ```
//! use exedra_reading::logs::moment::forms;
//! let (form, length) = forms::begins(b"2026-11-14 05:12:40,125 INFO").unwrap();
//! assert_eq!((form.argument(), length), ("%Y-%m-%d %H:%M:%S,%f", 23));
//! assert!(forms::begins(b"20 files").is_none());
//! ```

use super::{CLASSIC, Codes, TimeForm};
use std::sync::LazyLock;

/// Those of text, as strftime codes: what says more comes before what says less. A day before its month wins over a month before its
/// day where both would do.
const TEXTS: &[&str] = &[
    CLASSIC,
    "%d/%b/%Y:%H:%M:%S%.f %z",
    "%d/%b/%Y:%H:%M:%S,%f %z",
    "%d/%b/%Y:%H:%M:%S%.f",
    "%d/%b/%Y %H:%M:%S%.f %z",
    "%d/%b/%Y %H:%M:%S%.f",
    "%d-%b-%Y %H:%M:%S%.f",
    "%Y-%m-%dT%H:%M:%S%.f%z",
    "%Y-%m-%dT%H:%M:%S,%f%z",
    "%Y-%m-%dT%H:%M:%S,%f",
    "%Y-%m-%dT%H:%M:%S%.f",
    "%Y-%m-%d %H:%M:%S%.f %z",
    "%Y-%m-%d %H:%M:%S%.f%z",
    "%Y-%m-%d %H:%M:%S%.f %Z",
    "%Y-%m-%d %H:%M:%S,%f",
    "%Y-%m-%d %H:%M:%S%.f",
    "%Y/%m/%d %H:%M:%S%.f",
    "%d.%m.%Y %H:%M:%S%.f",
    "%d/%m/%Y %H:%M:%S%.f",
    "%m/%d/%Y %H:%M:%S%.f",
    "%a, %d %b %Y %H:%M:%S %Z",
    "%a, %d %b %Y %H:%M:%S %z",
    "%a %b %d %H:%M:%S%.f %Y",
    "%a %b %d %Y %H:%M:%S",
    "%b %d %Y %H:%M:%S%.f",
    "%d %b %Y %H:%M:%S%.f",
    "%Y%m%dT%H%M%S%z",
    "%Y%m%d %H%M%S",
    "%b %d %H:%M:%S%.f",
    "%H:%M:%S,%f",
    "%H:%M:%S%.f",
];

/// Earlier than any log that somebody has today, and later than any: seconds since 1970, for numbers that may be times.
const SPAN: std::ops::Range<i64> = 631_152_000..4_102_444_800;

static COMPILED: LazyLock<Vec<(Codes, TimeForm)>> = LazyLock::new(|| {
    let form = |codes: &&str| Some((Codes::compile(codes)?, TimeForm::named(codes)?));
    TEXTS.iter().filter_map(form).collect()
});

/// The form of the time that a text begins with, and how many octets that takes: it ends where a word does.
pub fn begins(text: &[u8]) -> Option<(TimeForm, usize)> {
    let first = *text.first()?;
    if !(first.is_ascii_digit() || first.is_ascii_uppercase() || first == b' ') {
        return None;
    }
    let ends = |length: usize| text.get(length).is_none_or(|octet| !octet.is_ascii_alphanumeric());
    let mut longest: Option<(TimeForm, usize)> = None;
    for (codes, form) in COMPILED.iter() {
        let Some((parsed, length)) = codes.begins(text) else { continue };
        // A form that says less is not meant by a text that goes on.
        let is_longer = longest.as_ref().is_none_or(|(_, longest)| length > *longest);
        if is_longer && ends(length) && parsed.instant(Some(0)).is_some() {
            longest = Some((simplest(form, &text[..length]), length));
        }
    }
    longest.or_else(|| epoch(text))
}

/// The first form that fits all of some texts, if there is one.
pub fn of_all<'t>(texts: impl Iterator<Item = &'t [u8]> + Clone) -> Option<TimeForm> {
    let numbers = [TimeForm::Seconds, TimeForm::Milliseconds, TimeForm::Microseconds, TimeForm::Nanoseconds];
    let first = texts.clone().next()?;
    if let Some((form, _)) = epoch(first).filter(|(_, length)| *length == first.len()) {
        let fits = |text| epoch(text).is_some_and(|(other, length)| other == form && length == text.len());
        return texts.clone().all(fits).then_some(form).filter(|form| numbers.contains(form));
    }
    let iso = |text| TimeForm::Rfc3339.read(text).is_some();
    if texts.clone().all(iso) {
        return Some(TimeForm::Rfc3339);
    }
    let fits = |codes: &Codes, text| codes.read(text).is_some_and(|parsed| parsed.instant(Some(0)).is_some());
    let found = COMPILED.iter().find(|(codes, _)| texts.clone().all(|text| fits(codes, text)));
    found.map(|(_, form)| form.clone())
}

/// The form of the time that a text is, all of it.
pub fn whole(text: &[u8]) -> Option<TimeForm> {
    begins(text).filter(|(_, length)| *length == text.len()).map(|(form, _)| form)
}

/// Where RFC 3339 says the same, it is the name people know.
fn simplest(form: &TimeForm, text: &[u8]) -> TimeForm {
    let iso = ["%Y-%m-%dT%H:%M:%S%.f%z", "%Y-%m-%d %H:%M:%S%.f%z"];
    match TimeForm::Rfc3339.read(text) {
        Some(_) if iso.contains(&form.argument()) => TimeForm::Rfc3339,
        _ => form.clone(),
    }
}

/// A number that counts from 1970 on, in the unit that its length tells.
fn epoch(text: &[u8]) -> Option<(TimeForm, usize)> {
    let digits = text.iter().take_while(|octet| octet.is_ascii_digit()).count();
    let fraction = match text.get(digits) {
        Some(b'.') => text[digits + 1..].iter().take_while(|octet| octet.is_ascii_digit()).count(),
        _ => 0,
    };
    let length = if fraction > 0 { digits + 1 + fraction } else { digits };
    if text.get(length).is_some_and(|octet| octet.is_ascii_alphanumeric() || *octet == b'.') {
        return None;
    }
    let form = match (digits, fraction) {
        (9 | 10, _) => TimeForm::Seconds,
        (12 | 13, 0) => TimeForm::Milliseconds,
        (15 | 16, 0) => TimeForm::Microseconds,
        (18 | 19, 0) => TimeForm::Nanoseconds,
        _ => return None,
    };
    let milliseconds = form.read(&text[..length])?;
    SPAN.contains(&(milliseconds / 1_000)).then_some((form, length))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("14/Nov/2026:05:12:40 +0000", "%d/%b/%Y:%H:%M:%S %z")]
    #[case("14/Nov/2026:05:12:40.123 +0000", "%d/%b/%Y:%H:%M:%S%.f %z")]
    #[case("14/Nov/2026:05:12:40", "%d/%b/%Y:%H:%M:%S%.f")]
    #[case("2026-11-14T05:12:40Z", "rfc3339")]
    #[case("2026-11-14T05:12:40.123456789+02:00", "rfc3339")]
    #[case("2026-11-14T05:12:40+0200", "rfc3339")]
    #[case("2026-11-14T05:12:40.5", "%Y-%m-%dT%H:%M:%S%.f")]
    #[case("2026-11-14 05:12:40", "%Y-%m-%d %H:%M:%S%.f")]
    #[case("2026/11/14 05:12:40", "%Y/%m/%d %H:%M:%S%.f")]
    #[case("14.11.2026 05:12:40", "%d.%m.%Y %H:%M:%S%.f")]
    #[case("11/14/2026 05:12:40", "%m/%d/%Y %H:%M:%S%.f")]
    #[case("Sat, 14 Nov 2026 05:12:40 GMT", "%a, %d %b %Y %H:%M:%S %Z")]
    #[case("Sat Nov 14 05:12:40 2026", "%a %b %d %H:%M:%S%.f %Y")]
    #[case("Nov  4 05:12:40", "%b %d %H:%M:%S%.f")]
    #[case("05:12:40.25", "%H:%M:%S%.f")]
    #[case("1794633160", "seconds")]
    #[case("1794633160.25", "seconds")]
    #[case("1794633160250", "milliseconds")]
    #[case("1794633160250000", "microseconds")]
    #[case("1794633160250000000", "nanoseconds")]
    fn are_known(#[case] text: &str, #[case] argument: &str) {
        let form = whole(text.as_bytes()).unwrap();
        assert_eq!(form.argument(), argument);
    }

    #[rstest]
    #[case::address("192.0.2.1")]
    #[case::small("123456789012")]
    #[case::word("Mozilla/5.0")]
    #[case::no_day("31/Feb/2026:05:12:40")]
    #[case::version("10.15.7")]
    fn are_none(#[case] text: &str) {
        assert_eq!(whole(text.as_bytes()), None);
    }
}
