//! Where parts of a line end: quotations, gaps, and whatever stands before a known text.

use super::swar;

/// Where a quotation ends that began before a place: at the next quotation mark that has no backslash before it.
pub(super) fn closing_quote(line: &[u8], from: usize) -> Option<usize> {
    // Hardly any has a backslash before it; and where there is nothing, it is the next or the one after a dash.
    let first = match line.get(from..)? {
        [b'"', ..] => from,
        [_, b'"', ..] => from + 1,
        rest => from + memchr::memchr(b'"', rest)?,
    };
    if first == from || line[first - 1] != b'\\' {
        return Some(first);
    }
    let mut at = from;
    loop {
        at += memchr::memchr2(b'"', b'\\', line.get(at..)?)?;
        if line[at] == b'"' {
            return Some(at);
        }
        // A backslash takes the octet after it along.
        at += 2;
    }
}

/// As [`closing_quote`], where two quotation marks within it stand for one.
pub(super) fn closing_of_doubled(line: &[u8], from: usize) -> Option<usize> {
    let mut end = closing_quote(line, from)?;
    while line.get(end + 1) == Some(&b'"') {
        end = closing_quote(line, end + 2)?;
    }
    Some(end)
}

/// How many spaces and tabs a text begins with.
pub(super) fn gap(text: &[u8]) -> usize {
    text.iter().take_while(|octet| matches!(octet, b' ' | b'\t')).count()
}

/// A text of a layout, made ready to be found in lines. An empty one stands for a gap.
///
/// Most are a few octets long and most values before them are short, so eight octets are compared at once and the first few
/// of a value are looked through before a search of longer reach is begun.
#[derive(Debug, Clone)]
pub(super) struct Mark {
    text: Box<[u8]>,
    /// Its first octets as a number, and which bits of that are theirs.
    word: u64,
    mask: u64,
}

impl Mark {
    /// A text made ready.
    pub(super) fn new(text: &str) -> Self {
        let mut octets = [0; 8];
        let length = text.len().min(8);
        octets[..length].copy_from_slice(&text.as_bytes()[..length]);
        let mask = if length == 8 { u64::MAX } else { (1 << (8 * length)) - 1 };
        Mark { text: text.as_bytes().into(), word: u64::from_le_bytes(octets), mask }
    }

    /// How many octets it has.
    #[inline]
    pub(super) fn len(&self) -> usize {
        self.text.len()
    }

    /// Its first octet.
    #[inline]
    pub(super) fn first(&self) -> Option<u8> {
        self.text.first().copied()
    }

    /// Whether it stands at a place of a line.
    #[inline(always)]
    pub(super) fn stands_at(&self, line: &[u8], at: usize) -> bool {
        let Some(rest) = line.get(at..) else { return false };
        match rest.first_chunk() {
            Some(eight) if self.text.len() <= 8 => (u64::from_le_bytes(*eight) ^ self.word) & self.mask == 0,
            _ => self.begins(rest),
        }
    }

    /// Whether a text begins with it: where that is short, or this is long.
    #[cold]
    fn begins(&self, text: &[u8]) -> bool {
        text.starts_with(&self.text)
    }

    /// Where it ends if it stands at a place of a line.
    #[inline(always)]
    pub(super) fn end_at(&self, line: &[u8], at: usize) -> Option<usize> {
        self.stands_at(line, at).then_some(at + self.len())
    }

    /// Where it occurs next.
    pub(super) fn next(&self, line: &[u8], from: usize) -> Option<usize> {
        let mut at = from;
        let Some(first) = self.first() else {
            return memchr::memchr2(b' ', b'\t', line.get(at..)?).map(|length| at + length);
        };
        loop {
            at = near(first, line, at)?;
            if self.stands_at(line, at) {
                return Some(at);
            }
            at += 1;
        }
    }
}

/// Where an octet occurs next, which is probably not far.
#[inline]
fn near(octet: u8, line: &[u8], from: usize) -> Option<usize> {
    let mut at = from;
    for _ in 0..2 {
        let Some(octets) = line.get(at..).and_then(|rest| rest.first_chunk()) else { break };
        let found = swar::first_of(u64::from_le_bytes(*octets), octet);
        if found != 0 {
            return Some(at + swar::first(found));
        }
        at += 8;
    }
    memchr::memchr(octet, line.get(at..)?).map(|length| at + length)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    proptest! {
        #[test]
        fn a_mark_is_found_where_its_text_is(
            line in "[ab\\]\" \u{80}]{0,60}", text in "[ab\\]\" \u{80}]{1,10}", from in 0usize..20)
        {
            let (line, octets, mark) = (line.as_bytes(), text.as_bytes(), Mark::new(&text));
            let stands = |at: usize| line.get(at..).is_some_and(|rest| rest.starts_with(octets));
            prop_assert_eq!(mark.next(line, from), (from..line.len()).find(|at| stands(*at)));
            prop_assert_eq!(mark.stands_at(line, from), stands(from));
        }

        #[test]
        fn a_quotation_ends_where_no_backslash_takes_its_mark_along(
            line in proptest::collection::vec(prop_oneof![Just(b'"'), Just(b'\\'), Just(b'a')], 0..40), from in 0usize..10)
        {
            let (mut at, mut end) = (from, None);
            while at < line.len() && end.is_none() {
                match line[at] {
                    b'"' => end = Some(at),
                    b'\\' => at += 2,
                    _ => at += 1,
                }
            }
            prop_assert_eq!(closing_quote(&line, from), end);
        }
    }

    #[rstest]
    #[case::plain(br#"a" b"#, Some(1), Some(1))]
    #[case::escaped(br#"a\"b" c"#, Some(4), Some(4))]
    #[case::doubled(br#"a""b" c"#, Some(1), Some(4))]
    #[case::open(br#"a b"#, None, None)]
    #[case::backslash_at_the_end(br"a\", None, None)]
    fn quotations_end(#[case] line: &[u8], #[case] plain: Option<usize>, #[case] doubled: Option<usize>) {
        assert_eq!((closing_quote(line, 0), closing_of_doubled(line, 0)), (plain, doubled));
    }
}
