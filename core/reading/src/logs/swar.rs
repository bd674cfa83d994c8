//! SIMD within a register (SWAR): what eight octets are, told at once and without a branch for each.
//!
//! How long an address or a number is differs from line to line, so that a processor that asks octet by octet guesses wrong once in
//! every value, and waits longer for that than for all the rest. A word of eight answers for all of them in a few sums.
//!
//! ```
//! use exedra_reading::logs::swar::{first, non_digits, number};
//! let word = u64::from_le_bytes(*b"512 \"-\" ");
//! assert_eq!(first(non_digits(word)), 3);
//! assert_eq!(number(word, 3), 512);
//! ```

const ONES: u64 = u64::from_le_bytes([1; 8]);
const HIGHEST: u64 = ONES << 7;

/// The highest bit of every octet that is no digit.
#[inline]
pub fn non_digits(word: u64) -> u64 {
    // Digits become 0 to 9.
    reaching(word ^ (ONES * u64::from(b'0')), ONES * u64::from(128 - 10u8))
}

/// The highest bit of every octet that reaches it when a number of its own is added, at most 127, or had reached it before.
#[inline]
pub fn reaching(word: u64, added: u64) -> u64 {
    (((word & !HIGHEST) + added) | word) & HIGHEST
}

/// The highest bit of the first octet that is this one; of those behind it, nothing is said.
#[inline]
pub fn first_of(word: u64, octet: u8) -> u64 {
    // Where the octet stands, there is nothing left, and taking one from nothing borrows from the highest bit.
    let rest = word ^ (u64::from(octet) * ONES);
    rest.wrapping_sub(ONES) & !rest & HIGHEST
}

/// Whether a text has an octet of ASCII that is this one, or any that is no ASCII.
#[inline]
pub fn has_or_is_no_ascii(text: &[u8], octet: u8) -> bool {
    let any = |word: u64| (first_of(word, octet) | word) & HIGHEST;
    match text.last_chunk::<8>() {
        // The last eight overlap with those before them.
        Some(last) => {
            let words = text.as_chunks::<8>().0.iter().chain([last]);
            words.fold(0, |found, word| found | any(u64::from_le_bytes(*word))) != 0
        }
        None => text.iter().any(|other| *other == octet || !other.is_ascii()),
    }
}

/// Nothing where some octets, at most eight, stand at a place of a text, which must have room for them there; otherwise, how they differ.
#[inline(always)]
pub fn difference<const TEXT: usize, const OCTETS: usize>(
    text: &[u8; TEXT],
    at: usize,
    octets: &[u8; OCTETS],
) -> u64 {
    const { assert!(OCTETS <= 8 && TEXT >= 8) };
    // A word that does not go beyond the text, and which of its octets these are.
    let from = at.min(TEXT - 8);
    let skip = 8 * (at - from) as u32;
    let mut expected = [0; 8];
    expected[..OCTETS].copy_from_slice(octets);
    let word = text[from..].first_chunk().map_or(0, |word| u64::from_le_bytes(*word)) >> skip;
    (word ^ u64::from_le_bytes(expected)) << (64 - 8 * OCTETS)
}

/// The place of the first octet whose highest bit is set; 8 where none is.
#[inline]
pub fn first(highest: u64) -> usize {
    highest.trailing_zeros() as usize / 8
}

/// The number that the first octets are, from 1 to 8 digits.
#[inline]
pub fn number(word: u64, digits: usize) -> u64 {
    // Zeros before them change nothing. Neighbours are added up, then neighbouring pairs, then fours.
    let values = (word & (ONES * 0x0f)) << (64 - 8 * digits);
    let pairs = values.wrapping_mul(10).wrapping_add(values >> 8);
    const EVERY_SECOND: u64 = 0x0000_00ff_0000_00ff;
    let even = (pairs & EVERY_SECOND).wrapping_mul(100 + (1_000_000 << 32));
    let odd = ((pairs >> 16) & EVERY_SECOND).wrapping_mul(1 + (10_000 << 32));
    even.wrapping_add(odd) >> 32
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn octets_differ_where_others_stand(text in proptest::array::uniform10(b'a'..=b'c'), at in 0usize..8) {
            prop_assert_eq!(difference(&text, at, b"ab") == 0, text[at..].starts_with(b"ab"));
        }

        #[test]
        fn an_octet_is_found_wherever_it_stands(text in "[a-c\u{80}\\\\]{0,30}") {
            let expected = text.bytes().any(|octet| octet == b'\\' || octet > 127);
            prop_assert_eq!(has_or_is_no_ascii(text.as_bytes(), b'\\'), expected);
        }

        #[test]
        fn as_octet_by_octet(octets in proptest::array::uniform8(prop_oneof![4 => b'0'..=b'9', 1 => any::<u8>()]), octet in b'0'..=b'9') {
            let word = u64::from_le_bytes(octets);
            for (at, octet) in octets.iter().enumerate() {
                prop_assert_eq!(non_digits(word) >> (8 * at + 7) & 1 == 1, !octet.is_ascii_digit());
            }
            prop_assert_eq!(first(non_digits(word)), octets.iter().position(|octet| !octet.is_ascii_digit()).unwrap_or(8));
            prop_assert_eq!(first(first_of(word, octet)), octets.iter().position(|other| *other == octet).unwrap_or(8));
            let digits = first(non_digits(word));
            if digits > 0 {
                let text = std::str::from_utf8(&octets[..digits]).unwrap();
                prop_assert_eq!(number(word, digits), text.parse::<u64>().unwrap());
            }
        }
    }
}
