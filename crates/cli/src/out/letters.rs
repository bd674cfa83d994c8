//! Plain letters in place of bars, rules and signs, where the locale says that the terminal knows no others.
//!
//! Texts of logs stay as they are: only what we draw ourselves has a plain form.

use std::borrow::Cow;

/// What we draw, and what stands for it; each is as wide as the other.
const PLAIN: [(&str, &str); 11] = [
    ("█▉▊▋▌▄▅▆▇", "#"),
    ("▍▎▃", "="),
    ("▏▁▂", "-"),
    ("─━", "-"),
    ("│", "|"),
    ("…", "~"),
    ("–−", "-"),
    ("×", "x"),
    ("±", "~"),
    ("µμ", "u"),
    ("→", ">"),
];

/// Whether the locale (POSIX: `LC_ALL`, `LC_CTYPE`, `LANG`, the first that is set) has no letters but those of ASCII. Where none
/// is set, nobody has said so.
pub fn are_few() -> bool {
    let set = |name: &&str| std::env::var(name).ok().filter(|value| !value.is_empty());
    let locale = ["LC_ALL", "LC_CTYPE", "LANG"].iter().find_map(set).unwrap_or_default().to_ascii_lowercase();
    !locale.is_empty() && !locale.contains("utf-8") && !locale.contains("utf8")
}

/// A text with the letters that are known.
pub fn known(text: &str, are_few: bool) -> Cow<'_, str> {
    if !are_few || text.is_ascii() {
        return Cow::Borrowed(text);
    }
    let plain = |letter: char| {
        let found = PLAIN.iter().find(|(drawn, _)| drawn.contains(letter));
        found.map_or_else(|| letter.to_string(), |(_, plain)| (*plain).to_owned())
    };
    text.chars().map(plain).collect::<String>().into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_we_draw_has_a_plain_form() {
        assert_eq!(known("Traffic ──── ███▍ 12 µs …/短", true), "Traffic ---- ###= 12 us ~/短");
        assert_eq!(known("Traffic ──", false), "Traffic ──");
    }
}
