//! Parts of a file (RFC 9110 §14).
//!
//! Absurd requests are bounded: overlapping and touching ranges become one, and whoever asks for more than
//! [`MOST_RANGES`] of them, or for more octets than the file has, gets the whole file instead (§17.15).
//!
//! ```
//! use exedra_answering::answer::ranges::{Ranges, understand};
//! assert_eq!(understand("bytes=0-99,900-", 1000), Ranges::Parts(vec![0..100, 900..1000]));
//! assert_eq!(understand("bytes=5000-", 1000), Ranges::Outside);
//! assert_eq!(understand("lines=1-2", 1000), Ranges::Ignored);
//! ```

use std::ops::Range;

/// How many separate ranges one answer holds at most.
pub const MOST_RANGES: usize = 16;

/// What a `Range` field comes to for a file of some size.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Ranges {
    /// It is not to be heeded.
    Ignored,
    /// These parts.
    Parts(Vec<Range<u64>>),
    /// None of it lies within the file: 416.
    Outside,
}

/// Understands a `Range` field.
pub fn understand(field: &str, size: u64) -> Ranges {
    let Some((unit, listed)) = field.split_once('=') else { return Ranges::Ignored };
    if !unit.trim().eq_ignore_ascii_case("bytes") {
        return Ranges::Ignored;
    }
    let mut parts: Vec<Range<u64>> = Vec::new();
    let mut any = false;
    for spec in listed.split(',').map(str::trim).filter(|spec| !spec.is_empty()) {
        let Some(part) = one(spec, size) else { return Ranges::Ignored };
        any = true;
        if !part.is_empty() {
            parts.push(part);
        }
        if parts.len() > 10 * MOST_RANGES {
            return Ranges::Ignored;
        }
    }
    let wanted: u64 = parts.iter().map(|part| part.end - part.start).fold(0, u64::saturating_add);
    let parts = joined(parts);
    match parts.len() {
        0 if any => Ranges::Outside,
        0 => Ranges::Ignored,
        1 => Ranges::Parts(parts),
        2..=MOST_RANGES if wanted <= size => Ranges::Parts(parts),
        _ => Ranges::Ignored,
    }
}

/// One range of a list; an empty one lies outside. `None` for what is none at all.
fn one(spec: &str, size: u64) -> Option<Range<u64>> {
    let (first, last) = spec.split_once('-')?;
    let number = |text: &str| -> Option<u64> {
        let digits = !text.is_empty() && text.bytes().all(|octet| octet.is_ascii_digit());
        // A number that does not fit lies beyond every file.
        digits.then(|| text.parse().unwrap_or(u64::MAX))
    };
    match (first.trim(), last.trim()) {
        ("", suffix) => Some(size.saturating_sub(number(suffix)?)..size),
        (first, "") => Some(number(first)?.min(size)..size),
        (first, last) => {
            let (first, last) = (number(first)?, number(last)?);
            (first <= last).then(|| first.min(size)..last.saturating_add(1).min(size))
        }
    }
}

/// The parts in the order asked for, those that overlap or touch made one.
fn joined(parts: Vec<Range<u64>>) -> Vec<Range<u64>> {
    let mut apart: Vec<Range<u64>> = Vec::new();
    for mut part in parts {
        apart.retain(|other| {
            let touches = part.start <= other.end && other.start <= part.end;
            if touches {
                part = part.start.min(other.start)..part.end.max(other.end);
            }
            !touches
        });
        apart.push(part);
    }
    apart
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::first("bytes=0-99", &[(0, 100)])]
    #[case::open("bytes=900-", &[(900, 1000)])]
    #[case::suffix("bytes=-10", &[(990, 1000)])]
    #[case::long_suffix("bytes=-5000", &[(0, 1000)])]
    #[case::beyond_end("bytes=990-5000", &[(990, 1000)])]
    #[case::several("bytes=0-9, 20-29", &[(0, 10), (20, 30)])]
    #[case::order_kept("bytes=500-509,0-9", &[(500, 510), (0, 10)])]
    #[case::overlapping("bytes=0-99,50-149", &[(0, 150)])]
    #[case::touching("bytes=0-9,10-19", &[(0, 20)])]
    #[case::one_outside("bytes=0-9,2000-", &[(0, 10)])]
    #[case::again_and_again("bytes=0-,0-,0-", &[(0, 1000)])]
    #[case::capitals("BYTES=0-0", &[(0, 1)])]
    #[case::huge("bytes=0-99999999999999999999999", &[(0, 1000)])]
    fn parts(#[case] field: &str, #[case] expected: &[(u64, u64)]) {
        assert_eq!(
            understand(field, 1000),
            Ranges::Parts(expected.iter().map(|&(start, end)| start..end).collect())
        );
    }

    #[rstest]
    #[case::beyond("bytes=1000-", Ranges::Outside)]
    #[case::nothing("bytes=-0", Ranges::Outside)]
    #[case::backwards("bytes=9-0", Ranges::Ignored)]
    #[case::words("bytes=a-b", Ranges::Ignored)]
    #[case::signs("bytes=+1-2", Ranges::Ignored)]
    #[case::empty("bytes=", Ranges::Ignored)]
    #[case::no_unit("0-9", Ranges::Ignored)]
    #[case::other_unit("lines=0-9", Ranges::Ignored)]
    fn odd_ones(#[case] field: &str, #[case] expected: Ranges) {
        assert_eq!(understand(field, 1000), expected);
    }

    proptest! {
        #[test]
        fn never_more_than_the_file(field in "bytes=([0-9]{0,4}-[0-9]{0,4},?){0,30}", size in 0u64..2000) {
            if let Ranges::Parts(parts) = understand(&field, size) {
                prop_assert!(!parts.is_empty() && parts.len() <= MOST_RANGES);
                prop_assert!(parts.iter().all(|part| part.start < part.end && part.end <= size));
                prop_assert!(parts.iter().map(|part| part.end - part.start).sum::<u64>() <= size);
                for (place, part) in parts.iter().enumerate() {
                    prop_assert!(parts[place + 1..].iter().all(|other| part.end < other.start || other.end < part.start));
                }
            }
        }
    }
}
