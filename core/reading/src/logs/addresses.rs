//! Addresses of IPv4 and IPv6, told without going through them octet by octet.
//!
//! How long an address and each of its numbers are differs from line to line, and a processor that asks octet by octet guesses wrong
//! several times in each. Here each octet is a bit of a word, and what must hold is asked of all of them at once.

use std::net::Ipv6Addr;
use wide::i8x16;

/// How many octets the longest address of IPv4 has.
const LONGEST_IPV4: usize = 15;
/// And of IPv6, where none of IPv4 is in it.
const LONGEST_IPV6: usize = 39;

/// How many octets the address of IPv4 has that a text begins with: four numbers below 256 between dots.
#[inline]
pub(super) fn ipv4(text: &[u8]) -> Option<usize> {
    match text.first_chunk() {
        Some(octets) => ipv4_of(octets),
        None => ipv4_of(&padded(text)),
    }
}

/// The same of octets of which there are enough for any, so that no end need be looked for.
#[inline(always)]
pub(super) fn ipv4_of(octets: &[u8; LONGEST_IPV4 + 1]) -> Option<usize> {
    let octets = Octets::new(octets);
    let at_least = |least: u8| octets.at_least(least);
    let digits = at_least(b'0') & !at_least(b'9' + 1);
    let dots = octets.are(b'.');
    // The fourth octet that is no digit ends it; the other three are dots.
    let fourth = (0..3).fold(!digits, |others, _| others & others.wrapping_sub(1));
    let end = fourth.trailing_zeros();
    let within = (1u32 << (end & 31)) - 1;
    let first = ((dots << 1) | 1) & within;
    let longest = first & (digits >> 1) & (digits >> 2);
    let [two, three, five, six] = [b'2', b'3', b'5', b'6'].map(at_least);
    let is_greater_than_255 = longest & (three | (two & ((six >> 1) | ((five >> 1) & (six >> 2)))));
    let wrong =
        (!digits & !dots & within) | (first & !digits) | (longest & (digits >> 3)) | is_greater_than_255;
    let has_last = digits & (within ^ (within >> 1)) != 0;
    (wrong == 0 && has_last && end as usize <= LONGEST_IPV4).then_some(end as usize)
}

/// Whether a text is an address of IPv6 (RFC 4291 §2.2).
pub(super) fn is_ipv6(text: &[u8]) -> bool {
    if text.contains(&b'.') {
        return std::str::from_utf8(text).is_ok_and(|text| text.parse::<Ipv6Addr>().is_ok());
    }
    text.len() <= LONGEST_IPV6 && is_ipv6_of(&padded(text), text.len())
}

/// Whether the first of some octets are one, without an address of IPv4 in it.
#[inline]
fn is_ipv6_of(octets: &[u8; 48], length: usize) -> bool {
    let (mut digits, mut colons) = (0u64, 0u64);
    for part in octets.as_chunks().0.iter().rev() {
        let (octets, lower) = (Octets::new(part), Octets::new(&part.map(|octet| octet | 0x20)));
        let decimal = octets.at_least(b'0') & !octets.at_least(b'9' + 1);
        let letters = lower.at_least(b'a') & !lower.at_least(b'f' + 1);
        digits = digits << 16 | u64::from(decimal | letters);
        colons = colons << 16 | u64::from(octets.are(b':'));
    }
    let within = (1u64 << (length & 63)) - 1;
    let (digits, colons) = (digits & within, colons & within);
    let first = digits & !(digits << 1);
    let too_long = digits & (digits >> 1) & (digits >> 2) & (digits >> 3) & (digits >> 4);
    // Once, two colons stand for as many numbers as are missing; elsewhere one stands between two numbers.
    let double = colons & (colons >> 1);
    let lonely = colons & !double & !(double << 1) & !((digits << 1) & (digits >> 1));
    let numbers = first.count_ones();
    let has_all = match double.count_ones() {
        0 => numbers == 8,
        1 => numbers < 8,
        _ => false,
    };
    (digits | colons) == within && (too_long | lonely) == 0 && has_all
}

/// A text with spaces behind it.
fn padded<const N: usize>(text: &[u8]) -> [u8; N] {
    let mut octets = [b' '; N];
    octets[..text.len()].copy_from_slice(text);
    octets
}

/// Sixteen octets, asked at once: each reply is a bit for each, the lowest for the first.
struct Octets(i8x16);

impl Octets {
    #[inline(always)]
    fn new(octets: &[u8; 16]) -> Self {
        Octets(i8x16::new(octets.map(u8::cast_signed)))
    }

    /// Which are at least this one, of ASCII; what is no ASCII is less than all.
    #[inline(always)]
    fn at_least(&self, least: u8) -> u32 {
        self.0.simd_gt(i8x16::splat(least.cast_signed() - 1)).to_bitmask()
    }

    /// Which are this one.
    #[inline(always)]
    fn are(&self, octet: u8) -> u32 {
        self.0.simd_eq(i8x16::splat(octet.cast_signed())).to_bitmask()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn an_address_of_ipv4_ends_where_its_fourth_number_does(text in "([0-9]{0,4}\\.){2,4}[0-9]{0,4}[ .a]?[0-9]{0,3}") {
            let parts = regex::Regex::new(r"^(\d{1,3})\.(\d{1,3})\.(\d{1,3})\.(\d+)").unwrap();
            let expected = parts.captures(&text).and_then(|found| {
                let numbers = (1..=4).map(|nth| found[nth].parse::<u64>().unwrap());
                (found[4].len() <= 3 && numbers.max() <= Some(255)).then(|| found[0].len())
            });
            prop_assert_eq!(ipv4(text.as_bytes()), expected);
        }

        #[test]
        fn an_address_of_ipv6_is_what_the_standard_library_takes_for_one(
            text in prop_oneof![
                "([0-9a-fA-F]{1,4}:){0,8}[0-9a-f]{0,4}(:[0-9a-f]{0,4}){0,4}",
                "([0-9a-f]{0,4}:{1,2}){0,9}[0-9a-fg]{0,5}",
                "(:|::)?([0-9a-f]{1,4}:){0,6}(:|192\\.0\\.2\\.[0-9]{1,3})?",
                "[:0-9a-z.\u{e4}-]{0,50}",
            ])
        {
            prop_assert_eq!(is_ipv6(text.as_bytes()), text.parse::<Ipv6Addr>().is_ok());
        }
    }
}
