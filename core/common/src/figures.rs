//! Numbers and texts as people read them.
//!
//! ```
//! use exedra_common::figures::{bytes, several};
//! assert_eq!((bytes(1_500_000), several(1, "file", "files")), ("1.50 MB".to_owned(), "1 file".to_owned()));
//! ```

/// A whole number with its thousands apart: `1,234,567`.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (place, digit) in digits.chars().enumerate() {
        if place > 0 && (digits.len() - place).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// A number with so many digits behind its point. Exactly half of the last digit goes up, as people round and browsers do (ECMA-262,
/// `toFixed`): 1 of 400 is 0.3 % in a report and in the console.
pub fn fixed(number: f64, digits: usize) -> String {
    // Of numbers in powers of two, those are halves of the last digit that end with the power after it.
    let last = number * f64::powi(2.0, digits as i32 + 1);
    let is_half = last.fract() == 0.0 && last % 2.0 != 0.0;
    let up = if is_half { f64::powi(10.0, -(digits as i32) - 1).copysign(number) } else { 0.0 };
    format!("{:.digits$}", number + up)
}

/// Bytes in powers of 1000, three digits: `1.24 GB`.
pub fn bytes(bytes: u64) -> String {
    let units = ["B", "kB", "MB", "GB", "TB", "PB", "EB"];
    let mut value = bytes as f64;
    let mut unit = 0;
    while value >= 999.5 && unit + 1 < units.len() {
        value /= 1000.0;
        unit += 1;
    }
    let decimals = match value {
        _ if unit == 0 => 0,
        value if value < 9.995 => 2,
        value if value < 99.95 => 1,
        _ => 0,
    };
    format!("{} {}", fixed(value, decimals), units[unit])
}

/// A part of a whole in percent: `2.1 %`.
pub fn share(part: u64, whole: u64) -> String {
    match whole {
        0 => "–".to_owned(),
        whole => format!("{} %", fixed(part as f64 * 100.0 / whole as f64, 1)),
    }
}

/// One of a thing, or several.
pub fn several(count: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(count), if count == 1 { one } else { many })
}

/// A length of time as people say it.
pub fn duration(seconds: f64) -> String {
    if seconds > 0.0 && seconds < 0.9995 {
        return milliseconds(seconds * 1000.0);
    }
    let whole = seconds.round() as u64;
    match (whole / 3600, whole % 3600 / 60, whole % 60) {
        (0, 0, seconds) => format!("{seconds} s"),
        (0, minutes, 0) => format!("{minutes} min"),
        (0, minutes, seconds) => format!("{minutes} min {seconds} s"),
        (hours, 0, _) => format!("{hours} h"),
        (hours, minutes, _) => format!("{hours} h {minutes} min"),
    }
}

/// A short length of time: three digits.
pub fn milliseconds(milliseconds: f64) -> String {
    match milliseconds {
        short if short < 0.9995 => format!("{} µs", fixed(short * 1000.0, 0)),
        some if some < 9.995 => format!("{} ms", fixed(some, 2)),
        some if some < 99.95 => format!("{} ms", fixed(some, 1)),
        some if some < 999.5 => format!("{} ms", fixed(some, 0)),
        some if some < 99_950.0 => format!("{} s", fixed(some / 1000.0, 1)),
        long => duration(long / 1000.0),
    }
}

/// A length of time that may be long, in one unit: three digits.
pub fn long_time(milliseconds: f64) -> String {
    const UNITS: [(f64, &str); 3] = [(86_400e3, "d"), (3_600e3, "h"), (60e3, "min")];
    let Some((length, unit)) = UNITS.into_iter().find(|(length, _)| milliseconds >= 2.0 * length) else {
        return self::milliseconds(milliseconds);
    };
    match milliseconds / length {
        few if few < 9.995 => format!("{} {unit}", fixed(few, 2)),
        some if some < 99.95 => format!("{} {unit}", fixed(some, 1)),
        many => format!("{} {unit}", grouped(many.round() as u64)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0.0, "0 s")]
    #[case(0.203, "203 ms")]
    #[case(120.0, "2 min")]
    #[case(89.2, "1 min 29 s")]
    #[case(3600.0, "1 h")]
    #[case(10_799.0, "2 h 59 min")]
    fn lengths_of_time(#[case] seconds: f64, #[case] words: &str) {
        assert_eq!(duration(seconds), words);
    }

    #[rstest]
    #[case(0, "0", "0 B")]
    #[case(999, "999", "999 B")]
    #[case(1_000, "1,000", "1.00 kB")]
    #[case(999_600, "999,600", "1.00 MB")]
    #[case(12_345_678, "12,345,678", "12.3 MB")]
    #[case(u64::MAX, "18,446,744,073,709,551,615", "18.4 EB")]
    fn numbers(#[case] number: u64, #[case] plain: &str, #[case] size: &str) {
        assert_eq!((grouped(number).as_str(), bytes(number).as_str()), (plain, size));
    }

    #[rstest]
    #[case(0.25, "250 µs")]
    #[case(95_700.0, "95.7 s")]
    #[case(741_000.0, "12.3 min")]
    #[case(7_200_000.0, "2.00 h")]
    #[case(400_000_000_000.0, "4,630 d")]
    fn times_keep_to_three_digits(#[case] milliseconds: f64, #[case] expected: &str) {
        assert_eq!(long_time(milliseconds), expected);
    }
}
