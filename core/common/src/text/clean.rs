//! Text that came from a stranger, before a person sees it: nothing in it may move the cursor, ring a bell, change colours,
//! or turn the direction of what stands beside it.
//!
//! What cannot be shown is shown as what it is: `\x1b`, `\u{202e}`. Line breaks and tabs are for whoever lays a page out.
//!
//! ```
//! use exedra_common::text::{clean, clean_value, is_unsafe};
//! assert_eq!(clean("ring \u{7}the bell\n"), "ring \\x07the bell\n");
//! assert_eq!(clean_value("two\nlines"), "two\\nlines");
//! assert!(is_unsafe('\u{202e}') && !is_unsafe('ö'));
//! ```

use std::borrow::Cow;

/// Whether a character would do something else than be shown: C0 and C1 controls, marks of direction (Unicode TR 9), line
/// and paragraph separators, and letters that cannot be seen.
pub fn is_unsafe(letter: char) -> bool {
    match letter {
        '\n' | '\t' => false,
        '\u{061c}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' => true,
        '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}' => true,
        letter => letter.is_control(),
    }
}

/// A text that does nothing but be shown.
pub fn clean(text: &str) -> Cow<'_, str> {
    if text.bytes().all(|octet| matches!(octet, b' '..=b'~' | b'\n' | b'\t')) || !text.contains(is_unsafe) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    for letter in text.chars() {
        match u32::from(letter) {
            _ if !is_unsafe(letter) => out.push(letter),
            code @ 0..=0xff => out.push_str(&format!("\\x{code:02x}")),
            code => out.push_str(&format!("\\u{{{code:x}}}")),
        }
    }
    Cow::Owned(out)
}

/// The same for one value within a page: it has no lines of its own either.
pub fn clean_value(text: &str) -> Cow<'_, str> {
    match text.contains(['\n', '\t']) {
        false => clean(text),
        true => clean(&text.replace('\n', "\\n").replace('\t', "\\t")).into_owned().into(),
    }
}

/// JSON whose strings hold nothing that does something on a terminal: such characters are written as escapes (RFC 8259 §7),
/// so that the values stay the same.
pub fn clean_json(json: &str) -> Cow<'_, str> {
    let is_harmful = |letter: char| letter != '\r' && is_unsafe(letter);
    if json.is_ascii() || !json.contains(is_harmful) {
        return Cow::Borrowed(json);
    }
    let mut out = String::with_capacity(json.len() + 16);
    for letter in json.chars() {
        match is_harmful(letter) {
            true => letter
                .encode_utf16(&mut [0; 2])
                .iter()
                .for_each(|unit| out.push_str(&format!("\\u{unit:04x}"))),
            false => out.push(letter),
        }
    }
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain("/sælgæti?x=1", "/sælgæti?x=1")]
    #[case::escape("a\u{1b}[2J\u{7}", "a\\x1b[2J\\x07")]
    #[case::c1("\u{9b}31m", "\\x9b31m")]
    #[case::direction("a\u{202e}gpj.exe", "a\\u{202e}gpj.exe")]
    #[case::unseen("a\u{200b}b\u{feff}", "a\\u{200b}b\\u{feff}")]
    #[case::lines("a\r\nb\tc", "a\\x0d\nb\tc")]
    fn what_cannot_be_shown_is_named(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(clean(text), expected);
    }

    #[test]
    fn a_value_has_no_lines() {
        assert_eq!(clean_value("a\nb\u{7}"), "a\\nb\\x07");
    }

    proptest! {
        #[test]
        fn json_means_the_same_and_does_nothing(text in any::<String>(), marks in "[\u{80}-\u{9f}\u{202a}-\u{202e}\u{e0001}a]{0,9}") {
            let value = serde_json::json!({ "a": format!("{text}{marks}") });
            let plain = serde_json::to_string_pretty(&value).unwrap();
            let cleaned = clean_json(&plain);
            prop_assert!(!cleaned.contains(is_unsafe));
            prop_assert_eq!(serde_json::from_str::<serde_json::Value>(&cleaned).unwrap(), value);
        }
    }
}
