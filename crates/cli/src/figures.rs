//! Numbers and texts as people read them.

use exedra_core::clean::clean_value;
use unicode_width::UnicodeWidthStr;

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
    format!("{value:.decimals$} {}", units[unit])
}

/// A part of a whole in percent: `2.1 %`.
pub fn share(part: u64, whole: u64) -> String {
    match whole {
        0 => "–".to_owned(),
        whole => format!("{:.1} %", part as f64 * 100.0 / whole as f64),
    }
}

/// One of a thing, or several.
pub fn several(count: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(count), if count == 1 { one } else { many })
}

/// A text cut in its middle to fit some columns of a terminal.
pub fn shorten(text: &str, room: usize) -> String {
    let clean = clean_value(text);
    if clean.width() <= room {
        return clean.into_owned();
    }
    let letters: Vec<char> = clean.chars().collect();
    let mut keep = letters.len();
    loop {
        keep -= 1;
        let head = keep.div_ceil(2);
        let cut: String =
            letters[..head].iter().chain(&['…']).chain(&letters[letters.len() - (keep - head)..]).collect();
        if cut.width() <= room || keep == 0 {
            return cut;
        }
    }
}

/// A length of time as people say it.
pub fn duration(seconds: f64) -> String {
    let whole = seconds.round() as u64;
    match (whole / 3600, whole % 3600 / 60, whole % 60) {
        (0, 0, seconds) => format!("{seconds} s"),
        (0, minutes, 0) => format!("{minutes} min"),
        (0, minutes, seconds) => format!("{minutes} min {seconds} s"),
        (hours, 0, _) => format!("{hours} h"),
        (hours, minutes, _) => format!("{hours} h {minutes} min"),
    }
}

/// The width to write for: the terminal's, but no wider than reads well, and 100 where there is none.
pub fn width() -> usize {
    terminal_size::terminal_size().map_or(100, |(width, _)| usize::from(width.0).clamp(60, 100))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0.4, "0 s")]
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

    #[test]
    fn long_names_are_cut_in_the_middle() {
        assert_eq!(shorten("/notices/2026/harbour.html", 12), "/notic….html");
        assert_eq!(shorten("/短い/道", 20), "/短い/道");
        assert_eq!(shorten("a\u{1b}[2Jb\nc", 20), "a\\x1b[2Jb\\nc");
    }
}
