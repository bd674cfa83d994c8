//! A line that stands as a text in an object of JSON, as machines that collect the output of many programs write it.
//!
//! ```
//! use exedra_reading::logs::wrapped::wrapped;
//! let line = br#"{"log": "say \"ahoy\"\n", "stream": "stdout"}"#;
//! assert_eq!(*wrapped(line, b"log").unwrap(), *br#"say "ahoy""#);
//! assert!(wrapped(line, b"message").is_none());
//! ```

use super::escape;
use super::scan::closing_quote;
use serde_json::Value;
use std::borrow::Cow;

/// The text under a key of the object that a line is, without the line end it may have itself.
pub fn wrapped<'l>(line: &'l [u8], key: &[u8]) -> Option<Cow<'l, [u8]>> {
    let from = line.iter().position(|octet| *octet == b'{')?;
    let mut at = from + 1;
    loop {
        // A key, or a text that is a value: only a key is followed by a colon.
        at += memchr::memchr(b'"', line.get(at..)?)? + 1;
        let end = closing_quote(line, at)?;
        let found = &line[at..end] == key;
        let after = end + 1 + line[end + 1..].iter().take_while(|octet| octet.is_ascii_whitespace()).count();
        at = end + 1;
        if !found || line.get(after) != Some(&b':') {
            continue;
        }
        let begin =
            after + 1 + line[after + 1..].iter().take_while(|octet| octet.is_ascii_whitespace()).count();
        if line.get(begin) != Some(&b'"') {
            return None;
        }
        let text = &line[begin + 1..closing_quote(line, begin + 1)?];
        let is_end = |octet: &u8| matches!(octet, b'\n' | b'\r');
        return Some(match escape::undo(text) {
            Cow::Borrowed(text) => Cow::Borrowed(text),
            Cow::Owned(mut text) => {
                text.truncate(text.len() - text.iter().rev().take_while(|octet| is_end(octet)).count());
                // A line is one line.
                text.iter_mut().filter(|octet| is_end(octet)).for_each(|octet| *octet = b' ');
                Cow::Owned(text)
            }
        });
    }
}

/// The texts of the object that a line is, by their keys, longest first.
pub(super) fn texts(line: &[u8]) -> Vec<(String, String)> {
    let Ok(Value::Object(object)) = serde_json::from_slice(line) else { return Vec::new() };
    let mut texts: Vec<(String, String)> = object
        .into_iter()
        .filter_map(|(key, value)| match value {
            Value::String(text) => Some((key, text)),
            _ => None,
        })
        .collect();
    texts.sort_by_key(|(_, text)| std::cmp::Reverse(text.len()));
    texts
}
