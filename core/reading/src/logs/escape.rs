//! Keeping a field inside its line, whatever a stranger put into it.
//!
//! Written: a quotation mark, a backslash and every control character become a backslash form, so that no
//! field can end its line, forge another one or move a terminal's cursor. Fields that stand bare also
//! escape their spaces. Read: the forms are undone; octets that are no UTF-8 stay `\xHH`.
//!
//! ```
//! use exedra_reading::logs::escape::{undo, write};
//! let mut field = Vec::new();
//! write(b"say \"ahoy\"\n", false, &mut field);
//! assert!(!field.contains(&b'\n'), "a field stays on its line");
//! assert_eq!(&*undo(&field), b"say \"ahoy\"\n");
//! ```

use std::borrow::Cow;

/// As [`write`], for readers that take any quotation mark for the first or the last.
pub fn write_unquotable(text: &[u8], bare: bool, out: &mut Vec<u8>) {
    if !text.contains(&b'"') {
        return write(text, bare, out);
    }
    for part in text.split_inclusive(|octet| *octet == b'"') {
        match part.strip_suffix(b"\"") {
            Some(before) => {
                if !before.is_empty() {
                    write(before, bare, out);
                }
                hex(b'"', out);
            }
            None => write(part, bare, out),
        }
    }
}

/// Appends a text to a string of JSON (RFC 8259 §7). Octets that are no UTF-8 become the text `\xHH`, as they
/// are read; nothing at all stays empty.
pub fn write_json(text: &[u8], out: &mut Vec<u8>) {
    // A lone dash would be read as nothing.
    if text == b"-" {
        return unicode('-', out);
    }
    for chunk in text.utf8_chunks() {
        for letter in chunk.valid().chars() {
            match letter {
                '"' | '\\' => out.extend_from_slice(&[b'\\', letter as u8]),
                letter if letter.is_control() || is_format(letter) => unicode(letter, out),
                letter => out.extend_from_slice(letter.encode_utf8(&mut [0; 4]).as_bytes()),
            }
        }
        for &octet in chunk.invalid() {
            out.push(b'\\');
            hex(octet, out);
        }
    }
}

/// A letter by its number. Those written so all have four digits.
fn unicode(letter: char, out: &mut Vec<u8>) {
    out.extend_from_slice(format!("\\u{:04x}", u32::from(letter)).as_bytes());
}

/// Appends a text to a line. `bare` fields stand between spaces, the others between quotation marks.
/// Nothing at all is written `-`.
pub fn write(text: &[u8], bare: bool, out: &mut Vec<u8>) {
    if text.is_empty() {
        out.push(b'-');
        return;
    }
    if text == b"-" {
        out.extend_from_slice(b"\\x2d");
        return;
    }
    // All octets are looked at, whatever the first ones say: so several can be looked at at once.
    let lowest = if bare { 0x21 } else { 0x20 };
    let is_plain = |octet: u8| (octet >= lowest) & (octet < 0x7f) & (octet != b'"') & (octet != b'\\');
    if text.iter().fold(true, |plain, &octet| plain & is_plain(octet)) {
        return out.extend_from_slice(text);
    }
    for chunk in text.utf8_chunks() {
        for letter in chunk.valid().chars() {
            match letter {
                '"' | '\\' => out.extend_from_slice(&[b'\\', letter as u8]),
                ' ' if bare => hex(b' ', out),
                letter if letter.is_control() || is_format(letter) => {
                    letter.encode_utf8(&mut [0; 4]).bytes().for_each(|octet| hex(octet, out));
                }
                letter => out.extend_from_slice(letter.encode_utf8(&mut [0; 4]).as_bytes()),
            }
        }
        chunk.invalid().iter().for_each(|&octet| hex(octet, out));
    }
}

/// Characters that are invisible but turn or hide what stands around them: directions and separators.
fn is_format(letter: char) -> bool {
    matches!(letter, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}')
}

fn hex(octet: u8, out: &mut Vec<u8>) {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    out.extend_from_slice(&[b'\\', b'x', DIGITS[usize::from(octet >> 4)], DIGITS[usize::from(octet & 15)]]);
}

/// Undoes the backslash forms of a field. Unknown forms stay as they are.
pub fn undo(field: &[u8]) -> Cow<'_, [u8]> {
    let Some(first) = memchr::memchr(b'\\', field) else { return Cow::Borrowed(field) };
    let mut out = field[..first].to_vec();
    let mut rest = &field[first..];
    while let Some((&octet, after)) = rest.split_first() {
        rest = after;
        if octet != b'\\' {
            out.push(octet);
            continue;
        }
        match after {
            [quoted @ (b'"' | b'\\'), ..] => {
                out.push(*quoted);
                rest = &after[1..];
            }
            [b'x', high, low, ..] => match (digit(*high), digit(*low)) {
                (Some(high), Some(low)) => {
                    out.push(high << 4 | low);
                    rest = &after[3..];
                }
                _ => out.push(b'\\'),
            },
            [b'u', digits @ ..] => match numbered(digits) {
                Some((letter, took)) => {
                    out.extend_from_slice(letter.encode_utf8(&mut [0; 4]).as_bytes());
                    rest = &digits[took..];
                }
                None => out.push(b'\\'),
            },
            [letter @ (b't' | b'n' | b'r' | b'/'), ..] => {
                out.push(match letter {
                    b't' => b'\t',
                    b'n' => b'\n',
                    b'r' => b'\r',
                    _ => b'/',
                });
                rest = &after[1..];
            }
            _ => out.push(b'\\'),
        }
    }
    Cow::Owned(out)
}

/// A letter by its number (RFC 8259 §7), perhaps as a pair of surrogates; and how many octets that took.
fn numbered(digits: &[u8]) -> Option<(char, usize)> {
    let four = |digits: &[u8]| {
        digits.get(..4)?.iter().try_fold(0, |number, &octet| Some(number << 4 | u32::from(digit(octet)?)))
    };
    let first = four(digits)?;
    if let (0xd800..0xdc00, Some(b"\\u")) = (first, digits.get(4..6)) {
        let second = four(&digits[6..]).filter(|second| (0xdc00..0xe000).contains(second))?;
        let letter = char::from_u32(0x1_0000 + ((first - 0xd800) << 10) + (second - 0xdc00))?;
        return Some((letter, 10));
    }
    char::from_u32(first).map(|letter| (letter, 4))
}

fn digit(octet: u8) -> Option<u8> {
    (octet as char).to_digit(16).map(|digit| digit as u8)
}

/// Octets as text: what is no UTF-8 becomes `\xHH`.
pub fn as_text(octets: &[u8]) -> Cow<'_, str> {
    match std::str::from_utf8(octets) {
        Ok(text) => Cow::Borrowed(text),
        Err(_) => {
            let mut text = String::with_capacity(octets.len() + 8);
            for chunk in octets.utf8_chunks() {
                text.push_str(chunk.valid());
                let mut escaped = Vec::new();
                chunk.invalid().iter().for_each(|&octet| hex(octet, &mut escaped));
                text.push_str(std::str::from_utf8(&escaped).unwrap_or_default());
            }
            Cow::Owned(text)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn any_octets_come_back(octets in proptest::collection::vec(any::<u8>(), 1..60), bare in any::<bool>()) {
            let mut line = Vec::new();
            write(&octets, bare, &mut line);
            prop_assert!(line.iter().all(|octet| *octet >= b' ' && *octet != 0x7f), "{line:?}");
            prop_assert!(!(bare && line.contains(&b' ')));
            prop_assert_eq!(undo(&line).into_owned(), octets);
        }

        #[test]
        fn json_is_json_and_comes_back(octets in proptest::collection::vec(any::<u8>(), 0..60)) {
            let mut line = Vec::new();
            write_json(&octets, &mut line);
            let quoted = [b"\"", &line[..], b"\""].concat();
            let parsed: Result<String, _> = serde_json::from_slice(&quoted);
            prop_assert_eq!(parsed.ok(), Some(as_text(&octets).into_owned()));
            let undone = undo(&line);
            prop_assert_eq!(as_text(&undone), as_text(&octets));
        }
    }

    #[test]
    fn forms_of_json_are_undone() {
        let undone = undo(br"a\/b \u00e9 \ud83d\ude00 \ud83d \q \n|");
        assert_eq!(undone.as_ref(), "a/b é 😀 \\ud83d \\q \n|".as_bytes());
    }

    #[test]
    fn nothing_can_be_forged() {
        let mut line = Vec::new();
        write(b"a\"\r\n192.0.2.1 - - \x1b[2J\xff", false, &mut line);
        assert_eq!(line, br#"a\"\x0d\x0a192.0.2.1 - - \x1b[2J\xff"#);
    }
}
