//! The path as rules see it (RFC 3986 §6.2.2): unreserved octets decoded, everything that must be encoded
//! encoded, in capitals. So a rule for `/a-b` also fits `/a%2Db`, and one for `/sæl` fits `/s%c3%a6l`.
//!
//! What rules capture is given back as the client wrote it.
//!
//! ```
//! use exedra_answering::rules::Seen;
//! let seen = Seen::new("/a%2Db/s%c3%a6l");
//! assert_eq!(seen.text(), "/a-b/s%C3%A6l");
//! assert_eq!(&seen.written()[seen.original(1..4)], "a%2Db");
//! assert_eq!(seen.below(1).written(), "/s%c3%a6l");
//! ```

use std::borrow::Cow;
use std::ops::Range;

/// A tidy path, as the client wrote it and as rules see it.
#[derive(Debug, Clone)]
pub struct Seen<'p> {
    written: Cow<'p, str>,
    other: Option<Other>,
}

/// What rules see, where that is not what was written.
#[derive(Debug, Clone)]
struct Other {
    text: String,
    /// For every octet of the text, and its end, where in what was written it comes from.
    from: Vec<u32>,
}

impl<'p> Seen<'p> {
    /// Sees a path, from which dot segments have been removed.
    pub fn new(written: impl Into<Cow<'p, str>>) -> Self {
        let written = written.into();
        let other = (!written.bytes().all(is_itself)).then(|| normal(&written));
        Seen { written, other }
    }

    /// The path as rules see it.
    pub fn text(&self) -> &str {
        self.other.as_ref().map_or(&self.written, |other| &other.text)
    }

    /// The path as it was written.
    pub fn written(&self) -> &str {
        &self.written
    }

    /// A part of what rules see, as it was written: octets of that.
    pub fn original(&self, part: Range<usize>) -> Range<usize> {
        let Some(other) = &self.other else { return part };
        let at = |place: usize| other.from.get(place).map_or(self.written.len(), |&at| at as usize);
        at(part.start)..at(part.end).max(at(part.start))
    }

    /// The path below a folder that is so many segments deep.
    pub fn below(&self, depth: usize) -> Seen<'_> {
        let text = self.written.as_ref();
        let start = text.match_indices('/').nth(depth).map_or(text.len(), |(at, _)| at);
        Seen::new(&text[start..])
    }
}

/// A literal path of a configuration, as rules see it. Percent signs that encode nothing stand for themselves.
pub fn normalise(text: &str) -> String {
    let octets = text.as_bytes();
    let lone = |at: usize| {
        let digits = octets.get(at + 1..at + 3);
        !digits.is_some_and(|digits| digits.iter().all(u8::is_ascii_hexdigit))
    };
    let mut sound = String::with_capacity(text.len());
    for (at, letter) in text.char_indices() {
        match letter {
            '%' if lone(at) => sound.push_str("%25"),
            letter => sound.push(letter),
        }
    }
    normal(&sound).text
}

fn normal(written: &str) -> Other {
    let octets = written.as_bytes();
    let mut other =
        Other { text: String::with_capacity(octets.len() + 8), from: Vec::with_capacity(octets.len() + 8) };
    let mut at = 0;
    while at < octets.len() {
        let from = at as u32;
        let (octet, was_encoded) = match hex(octets, at) {
            Some(octet) => (octet, true),
            None => (octets[at], false),
        };
        at += if was_encoded { 3 } else { 1 };
        match was_encoded {
            true if is_unreserved(octet) => other.text.push(char::from(octet)),
            false if is_itself(octet) => other.text.push(char::from(octet)),
            _ => other.text.push_str(percent_encoding::percent_encode_byte(octet)),
        }
        other.from.resize(other.text.len(), from);
    }
    other.from.push(octets.len() as u32);
    other
}

/// The octet that is encoded at a place.
fn hex(octets: &[u8], at: usize) -> Option<u8> {
    let digit = |octet: u8| char::from(octet).to_digit(16).and_then(|digit| u8::try_from(digit).ok());
    match octets.get(at..at + 3)? {
        [b'%', high, low] => Some(digit(*high)? << 4 | digit(*low)?),
        _ => None,
    }
}

/// RFC 3986 §2.3.
fn is_unreserved(octet: u8) -> bool {
    octet.is_ascii_alphanumeric() || matches!(octet, b'-' | b'.' | b'_' | b'~')
}

/// Whether an octet of a path stands for nothing but itself (RFC 3986 §3.3).
fn is_itself(octet: u8) -> bool {
    ITSELF[usize::from(octet)]
}

/// The same for all octets: every path is held against it. What is reserved elsewhere in an address stands here as it is.
const ITSELF: [bool; 256] = {
    let mut table = [false; 256];
    let others = b"-._~/!$&'()*+,;=:@[]?#";
    let mut octet = 0;
    while octet < 128 {
        table[octet] = (octet as u8).is_ascii_alphanumeric();
        octet += 1;
    }
    let mut nth = 0;
    while nth < others.len() {
        table[others[nth] as usize] = true;
        nth += 1;
    }
    table
};

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("/a-b/c.html", "/a-b/c.html")]
    #[case("/a%2Db", "/a-b")]
    #[case("/%41%7e", "/A~")]
    #[case("/s%c3%a6l", "/s%C3%A6l")]
    #[case("/a|b\"c", "/a%7Cb%22c")]
    #[case("/a%2fb", "/a%2Fb")]
    fn what_rules_see(#[case] written: &str, #[case] text: &str) {
        assert_eq!(Seen::new(written).text(), text);
    }

    #[rstest]
    #[case("/sæl", "/s%C3%A6l")]
    #[case("/100%", "/100%25")]
    #[case("/a b", "/a%20b")]
    #[case("/%2e%2E", "/..")]
    fn what_a_configuration_says(#[case] literal: &str, #[case] text: &str) {
        assert_eq!(normalise(literal), text);
    }

    proptest! {
        #[test]
        fn parts_are_given_back_as_written(path in "/(%2[dDfF]|%c3%A6|[a-c/|]){0,12}", cut in 0usize..40) {
            let seen = Seen::new(path.as_str());
            let mut cut = cut.min(seen.text().len());
            while seen.text()[..cut].ends_with('%') || seen.text()[..cut].ends_with("%2") || seen.text()[..cut].ends_with("%7")
                || seen.text()[..cut].ends_with("%C") || seen.text()[..cut].ends_with("%A") {
                cut -= 1;
            }
            let (before, after) = (seen.original(0..cut), seen.original(cut..seen.text().len()));
            prop_assert_eq!(before.end, after.start);
            prop_assert_eq!(after.end, path.len());
            let again = Seen::new(&path[before]);
            prop_assert_eq!(again.text(), &seen.text()[..cut]);
        }
    }
}
