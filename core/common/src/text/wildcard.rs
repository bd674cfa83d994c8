//! A pattern in which `*` stands for anything: the one kind there is, for filters, media types and agents.
//!
//! A backslash takes its meaning from the letter after it, so that a text with a star in it can be meant as it is.

use std::fmt;

/// A text in which each `*` stands for any letters, also none.
///
/// ```
/// use exedra_common::text::Wildcard;
/// let pages = Wildcard::new("/notices/*.html");
/// assert!(pages.fits("/notices/2026/fog.html") && !pages.fits("/notices/fog.pdf"));
/// assert!(Wildcard::new(r"/a\*b").fits("/a*b"));
/// assert!(Wildcard::exactly("/a*b").fits("/a*b") && !Wildcard::exactly("/a*b").fits("/axb"));
/// assert!(Wildcard::new("*firefox*").in_any_case().fits("Mozilla/5.0 Firefox/140.0"));
/// ```
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Wildcard {
    /// What stands between the stars; one part more than there are stars.
    parts: Vec<String>,
    /// The same in small letters, where case does not matter.
    small: Option<Vec<String>>,
}

impl Wildcard {
    /// The pattern that a text is.
    pub fn new(pattern: &str) -> Self {
        let mut parts = vec![String::new()];
        let mut letters = pattern.chars();
        while let Some(letter) = letters.next() {
            match letter {
                '*' => parts.push(String::new()),
                '\\' => push(&mut parts, letters.next().unwrap_or('\\')),
                letter => push(&mut parts, letter),
            }
        }
        Wildcard { parts, small: None }
    }

    /// One that only this very text fits.
    pub fn exactly(text: &str) -> Self {
        Wildcard { parts: vec![text.to_owned()], small: None }
    }

    /// The same, with small and capital letters of ASCII taken for one another.
    pub fn in_any_case(mut self) -> Self {
        self.small = Some(self.parts.iter().map(|part| part.to_ascii_lowercase()).collect());
        self
    }

    /// The text that alone fits, where there is no star.
    pub fn as_text(&self) -> Option<&str> {
        match &self.parts[..] {
            [text] => Some(text),
            _ => None,
        }
    }

    /// The same, where its case matters, too: nothing else fits.
    pub fn as_exact_text(&self) -> Option<&str> {
        self.as_text().filter(|_| self.small.is_none())
    }

    /// The text in which something stands for each star: it fits.
    pub fn filled(&self, instead: &str) -> String {
        self.parts.join(instead)
    }

    /// Whether a text fits.
    #[inline]
    pub fn fits(&self, text: &str) -> bool {
        // Most patterns have a star at one end, or none: every answer asks some twenty of them for its media type.
        match (&self.small, &self.parts[..]) {
            (None, [whole]) => whole == text,
            (None, [begin, end]) => {
                text.len() >= begin.len() + end.len()
                    && text.starts_with(begin.as_str())
                    && text.ends_with(end.as_str())
            }
            _ => self.fits_as_any(text),
        }
    }

    fn fits_as_any(&self, text: &str) -> bool {
        match &self.small {
            Some(small) if text.bytes().any(|octet| octet.is_ascii_uppercase()) => {
                fits(small, &text.to_ascii_lowercase())
            }
            Some(small) => fits(small, text),
            None => fits(&self.parts, text),
        }
    }
}

/// As it is written in a configuration or a filter.
impl fmt::Display for Wildcard {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (nth, part) in self.parts.iter().enumerate() {
            let star = if nth > 0 { "*" } else { "" };
            write!(out, "{star}{}", part.replace('\\', "\\\\").replace('*', "\\*"))?;
        }
        Ok(())
    }
}

fn push(parts: &mut [String], letter: char) {
    if let Some(last) = parts.last_mut() {
        last.push(letter);
    }
}

fn fits(parts: &[String], text: &str) -> bool {
    let [beginning, rest @ ..] = parts else { return false };
    let Some((end, between)) = rest.split_last() else { return text == beginning };
    let Some(mut text) = text.strip_prefix(beginning.as_str()) else { return false };
    for part in between {
        match text.find(part.as_str()) {
            Some(at) => text = &text[at + part.len()..],
            None => return false,
        }
    }
    text.ends_with(end.as_str())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("LindryKiosk/1.*", "LindryKiosk/1.2", true)]
    #[case("LindryKiosk/1.*", "LindryKiosk/2.0", false)]
    #[case("*Kiosk*", "a Kiosk of old", true)]
    #[case("Boat", "Boat", true)]
    #[case("Boat", "Boats", false)]
    #[case("a*b*c", "a-b-b-c", true)]
    #[case("a*b*c", "a-c", false)]
    #[case("ab*b", "ab", false)]
    #[case("*", "", true)]
    #[case("", "", true)]
    #[case(r"a\\*", r"a\b", true)]
    fn patterns(#[case] pattern: &str, #[case] text: &str, #[case] expected: bool) {
        assert_eq!(Wildcard::new(pattern).fits(text), expected);
    }

    proptest! {
        #[test]
        fn what_is_written_out_is_understood_again(pattern in r"[a*\\]{0,8}", text in r"[a*\\]{0,8}") {
            let wildcard = Wildcard::new(&pattern);
            prop_assert_eq!(&Wildcard::new(&wildcard.to_string()), &wildcard);
            prop_assert!(Wildcard::new(&Wildcard::exactly(&text).to_string()).fits(&text));
        }

        #[test]
        fn stars_mean_what_a_plain_search_finds(pattern in "[ab*]{0,6}", text in "[ab]{0,8}") {
            fn plain(pattern: &[u8], text: &[u8]) -> bool {
                match (pattern, text) {
                    ([], _) => text.is_empty(),
                    ([b'*', rest @ ..], _) => (0..=text.len()).any(|at| plain(rest, &text[at..])),
                    ([one, rest @ ..], [other, after @ ..]) => one == other && plain(rest, after),
                    _ => false,
                }
            }
            prop_assert_eq!(Wildcard::new(&pattern).fits(&text), plain(pattern.as_bytes(), text.as_bytes()));
        }
    }
}
