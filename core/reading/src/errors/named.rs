//! Values that stand behind their names: `client: 192.0.2.1,`, `[client 192.0.2.1:4711]`, `uri="/fog"`.

use std::ops::Range;

/// A value, and all that belongs to it: its name, the marks around it and what parts it from the rest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Named {
    /// The value.
    pub value: Range<usize>,
    /// All of it.
    pub whole: Range<usize>,
}

/// The value behind the first of some names, written in any case, that occurs in a text.
pub fn named(text: &str, names: &[&str]) -> Option<Named> {
    let small = text.to_ascii_lowercase();
    names.iter().find_map(|name| small.match_indices(name).find_map(|(at, _)| behind(text, at, name.len())))
}

/// The value behind a name that begins at a place.
fn behind(text: &str, at: usize, length: usize) -> Option<Named> {
    let octets = text.as_bytes();
    let before = at.checked_sub(1).map(|before| octets[before]);
    if !before.is_none_or(|octet| matches!(octet, b' ' | b',' | b'[' | b'(' | b';' | b'\t' | b'{')) {
        return None;
    }
    let in_brackets = before == Some(b'[');
    let rest = &octets[at + length..];
    let gap = match rest {
        [b':', b' ', ..] => 2,
        [b'=' | b':', ..] => 1,
        // A name alone says something only in brackets of its own.
        [b' ', ..] if in_brackets => 1,
        _ => return None,
    };
    let from = at + length + gap;
    let (value, mut end) = match octets.get(from)? {
        quote @ (b'"' | b'\'') => {
            let close = from + 1 + octets[from + 1..].iter().position(|octet| octet == quote)?;
            (from + 1..close, close + 1)
        }
        _ => {
            let ends = |octet: &u8| match in_brackets {
                true => *octet == b']',
                false => matches!(octet, b',' | b' ' | b'\t' | b';' | b')'),
            };
            let close = octets[from..].iter().position(ends).map_or(octets.len(), |length| from + length);
            (from..close, close)
        }
    };
    let mut begin = at;
    if in_brackets && octets.get(end) == Some(&b']') {
        (begin, end) = (begin - 1, end + 1);
    }
    // The comma that parts it from what stands before.
    while begin > 0 && matches!(octets[begin - 1], b' ' | b',' | b';') {
        begin -= 1;
    }
    (!value.is_empty()).then_some(Named { value, whole: begin..end })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::colon("failed, client: 192.0.2.1, server: a", &["client"], Some("192.0.2.1"))]
    #[case::brackets("[client 192.0.2.1:4711] gone", &["client"], Some("192.0.2.1:4711"))]
    #[case::quoted("x, request: \"GET / HTTP/1.1\", host: \"a\"", &["request"], Some("GET / HTTP/1.1"))]
    #[case::equals("msg uri=/fog remote_addr=192.0.2.1", &["remote_addr"], Some("192.0.2.1"))]
    #[case::second_name("from=192.0.2.1", &["client", "from"], Some("192.0.2.1"))]
    #[case::a_word("the client said: no", &["client"], None)]
    #[case::part_of_a_word("upclient: 7", &["client"], None)]
    fn values(#[case] text: &str, #[case] names: &[&str], #[case] expected: Option<&str>) {
        assert_eq!(named(text, names).map(|found| &text[found.value]), expected);
    }
}
