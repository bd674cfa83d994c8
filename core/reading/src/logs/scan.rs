//! Where parts of a line end: quotations, gaps, and whatever stands before a known text.

/// Where a quotation ends that began before a place: at the next quotation mark that has no backslash before it.
pub(super) fn closing_quote(line: &[u8], from: usize) -> Option<usize> {
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

/// Where a text occurs next; a gap where it is empty.
pub(super) fn find(line: &[u8], from: usize, text: &[u8]) -> Option<usize> {
    let mut at = from;
    let Some(&first) = text.first() else {
        return memchr::memchr2(b' ', b'\t', line.get(at..)?).map(|length| at + length);
    };
    loop {
        at += memchr::memchr(first, line.get(at..)?)?;
        if line[at..].starts_with(text) {
            return Some(at);
        }
        at += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

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
