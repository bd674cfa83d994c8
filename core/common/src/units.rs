//! Sizes and times written out: `"256 bytes"`, `"50 MB"`, `"20 seconds"`, `"90 days"`.
//!
//! ```
//! use exedra_common::units::{duration, rate, size, speed};
//! use std::time::Duration;
//! assert_eq!((size("256 bytes"), size("10 MB"), size("1 MiB"), size("1 parsec")), (Some(256), Some(10_000_000), Some(1 << 20), None));
//! assert_eq!((duration("250 ms"), duration("1h")), (Some(Duration::from_millis(250)), Some(Duration::from_secs(3600))));
//! assert_eq!((rate("5 a second"), speed("1 MB a second")), (Some(5.0), Some(1_000_000)));
//! ```

use std::time::Duration;

/// A size in bytes. Units are powers of 1000 (`kB`, `MB`, `GB`) or of 1024 (`KiB`, `MiB`, `GiB`).
pub fn size(text: &str) -> Option<u64> {
    let plain = text.trim();
    let plain = plain.strip_suffix("bytes").or_else(|| plain.strip_suffix("byte")).unwrap_or(plain);
    plain.trim().parse::<bytesize::ByteSize>().ok().map(|size| size.as_u64())
}

/// A length of time: a number and its unit, from microseconds to years: `"5 s"`, `"250 ms"`, `"1h"`, `"7 days"`, `"1.5 hours"`.
pub fn duration(text: &str) -> Option<Duration> {
    length(text).map(|(time, _)| time)
}

/// A length of whole seconds.
pub fn seconds(text: &str) -> Option<Duration> {
    duration(text).filter(|time| time.subsec_nanos() == 0)
}

/// A length of time, and whether it counts whole days.
pub fn length(text: &str) -> Option<(Duration, bool)> {
    let text = text.trim();
    let digits = text.find(|letter: char| !letter.is_ascii_digit() && letter != '.')?;
    let (number, unit) = text.split_at(digits);
    let second = 1_000_000;
    let unit = match unit.trim() {
        "us" | "µs" | "microsecond" | "microseconds" => 1,
        "ms" | "millisecond" | "milliseconds" => 1_000,
        "s" | "sec" | "second" | "seconds" => second,
        "min" | "minute" | "minutes" => 60 * second,
        "h" | "hour" | "hours" => 3_600 * second,
        "d" | "day" | "days" => DAY * second,
        "w" | "week" | "weeks" => 7 * DAY * second,
        // By the calendar's average; nothing that is bounded by years minds.
        "year" | "years" => 365 * DAY * second,
        _ => return None,
    };
    let (whole, fraction) = number.split_once('.').unwrap_or((number, "0"));
    let digits =
        |text: &str| (!text.is_empty() && text.len() <= 19).then(|| text.parse::<u64>().ok()).flatten();
    let part = u128::from(digits(fraction)?) * u128::from(unit) / 10u128.pow(fraction.len() as u32);
    let micros = digits(whole)?.checked_mul(unit)?.checked_add(u64::try_from(part).ok()?)?;
    let counts_days = unit >= DAY * second && micros.is_multiple_of(DAY * second);
    Some((Duration::from_micros(micros), counts_days))
}

/// A length of time in the calendar: whole days, weeks, months or years, at least a day.
pub fn calendar(text: &str) -> Option<jiff::Span> {
    let (number, unit) = text.trim().split_once(' ')?;
    let number = number.parse::<i64>().ok().filter(|number| (1..=100_000).contains(number))?;
    let span = jiff::Span::new();
    match unit.trim() {
        "day" | "days" => Some(span.days(number)),
        "week" | "weeks" => span.try_weeks(number).ok(),
        "month" | "months" => span.try_months(number).ok(),
        "year" | "years" => span.try_years(number).ok(),
        _ => None,
    }
}

/// A number in a length of time: `"5 a second"`, `"100 a minute"`. Gives how many that is a second.
pub fn rate(text: &str) -> Option<f64> {
    let (number, seconds) = per(text)?;
    let number = number.trim().parse::<u32>().ok().filter(|number| *number > 0)?;
    Some(f64::from(number) / seconds)
}

/// A size in a length of time: `"1 MB a second"`. Gives bytes a second, at least one.
pub fn speed(text: &str) -> Option<u64> {
    let (amount, seconds) = per(text)?;
    let bytes = size(amount)? as f64 / seconds;
    (bytes >= 1.0).then_some(bytes as u64)
}

fn per(text: &str) -> Option<(&str, f64)> {
    let (amount, unit) = text.rsplit_once(" a ").or_else(|| text.rsplit_once(" an "))?;
    Some((amount, duration(&format!("1 {unit}"))?.as_secs_f64()))
}

/// A length of time in its largest whole unit, as [`seconds`] reads it: `"90 days"`, `"1 hour"`. Parts of a second are left out.
pub fn in_words(time: Duration) -> String {
    const UNITS: [(u64, &str); 5] =
        [(365 * DAY, "year"), (DAY, "day"), (3600, "hour"), (60, "minute"), (1, "second")];
    let seconds = time.as_secs();
    let fits = |(length, _): &(u64, &str)| seconds >= *length && seconds.is_multiple_of(*length);
    let (length, unit) = UNITS.into_iter().find(fits).unwrap_or((1, "second"));
    let count = seconds / length;
    format!("{count} {unit}{}", if count == 1 { "" } else { "s" })
}

/// Seconds in a day without a change of clocks.
pub const DAY: u64 = 86_400;

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::Span;
    use rstest::rstest;

    #[rstest]
    #[case("256 bytes", Some(256))]
    #[case("1 byte", Some(1))]
    #[case("50 MB", Some(50_000_000))]
    #[case("2 KiB", Some(2048))]
    #[case("many", None)]
    #[case("-1 MB", None)]
    fn sizes(#[case] text: &str, #[case] expected: Option<u64>) {
        assert_eq!(size(text), expected);
    }

    #[rstest]
    #[case("5 a second", Some(5.0))]
    #[case("90 a minute", Some(1.5))]
    #[case("36 an hour", Some(0.01))]
    #[case("0 a second", None)]
    #[case("5", None)]
    #[case("5 a blink", None)]
    fn rates(#[case] text: &str, #[case] expected: Option<f64>) {
        assert_eq!(rate(text), expected);
        assert_eq!(speed("1 MB a second"), Some(1_000_000));
        assert_eq!(speed("6 kB a minute"), Some(100));
    }

    #[rstest]
    #[case("20 seconds", Some(20))]
    #[case("1 minute", Some(60))]
    #[case("90 days", Some(90 * DAY))]
    #[case("1 week", Some(7 * DAY))]
    #[case("2 fortnights", None)]
    #[case("20", None)]
    #[case("-1 day", None)]
    #[case("1h", Some(3_600))]
    #[case("1.5 hours", Some(5_400))]
    #[case("5000 ms", Some(5))]
    #[case("2 min", Some(120))]
    #[case("s", None)]
    #[case("1.2.3 s", None)]
    #[case("1. s", None)]
    #[case("99999999999999999999 days", None)]
    #[case("999999999999999999 weeks", None)]
    fn durations(#[case] text: &str, #[case] seconds: Option<u64>) {
        assert_eq!(duration(text), seconds.map(Duration::from_secs));
    }

    #[rstest]
    #[case("13 months", Some(Span::new().months(13)))]
    #[case("1 day", Some(Span::new().days(1)))]
    #[case("2 weeks", Some(Span::new().weeks(2)))]
    #[case("0 days", None)]
    #[case("12 hours", None)]
    #[case("1.5 years", None)]
    #[case("99999 years", None)]
    fn lengths_in_the_calendar(#[case] text: &str, #[case] span: Option<Span>) {
        assert_eq!(calendar(text).map(Span::fieldwise), span.map(Span::fieldwise));
    }

    proptest::proptest! {
        #[test]
        fn what_is_written_in_words_is_read_again(count in 0u64..10_000, unit in 0..5usize) {
            let time = Duration::from_secs(count * [1, 60, 3600, DAY, 365 * DAY][unit]);
            proptest::prop_assert_eq!(super::seconds(&in_words(time)), Some(time));
        }
    }

    #[test]
    fn lengths_in_words() {
        let written = [(0, "0 seconds"), (60, "1 minute"), (90, "90 seconds"), (7 * DAY, "7 days")];
        for (seconds, words) in written {
            assert_eq!(in_words(Duration::from_secs(seconds)), words);
        }
    }
}
