//! A line cut into parts, without knowing what they mean.
//!
//! Lines are cut at spaces, but not within quotation marks, brackets and times; or, where a file does that, at tabs, commas,
//! semicolons or bars. What stands around a value (brackets, a name and an equals sign, a comma behind it) is kept apart from it,
//! so that it can become the literal text of a template.
//!
//! ```
//! use exedra_reading::logs::search::tokens::{Separator, cut};
//! let line = br#"<134>Nov 14 05:12:40 pier web[812]: 192.0.2.1 "GET / HTTP/1.1" rt=0.003"#;
//! let values: Vec<&[u8]> = cut(line, Separator::Space).iter().map(|part| part.value(line)).collect();
//! let expected: [&[u8]; 7] =
//!     [b"134", b"Nov 14 05:12:40", b"pier", b"web[812]", b"192.0.2.1", b"GET / HTTP/1.1", b"0.003"];
//! assert_eq!(values, expected);
//! ```

use super::super::meaning::Meaning;
use super::super::moment::forms;
use super::super::scan::{closing_of_doubled, closing_quote, gap};
use super::super::values;
use std::ops::Range;

/// The most parts of a line that are looked at: what follows is one.
const MOST_PARTS: usize = 64;

/// What stands between the parts of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Separator {
    /// Spaces and tabs, any number of them.
    Space,
    /// One octet of this kind, with nothing else.
    Octet(u8),
}

/// How a part stands in its line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Shape {
    /// As it is.
    Bare,
    /// A number, with a slash between it and the next.
    Joined,
    /// In quotation marks.
    Quoted,
    /// A time, which may be several words.
    Time,
    /// An object of JSON up to the end of the line.
    Object,
    /// `key=value` up to the end of the line.
    Pairs,
}

/// A part of a line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// How it stands there.
    pub shape: Shape,
    /// Where it begins, with all that stands around its value.
    pub begins: usize,
    /// Its value.
    pub value: Range<usize>,
    /// Where it ends.
    pub ends: usize,
}

impl Part {
    /// The value.
    pub fn value<'l>(&self, line: &'l [u8]) -> &'l [u8] {
        &line[self.value.clone()]
    }

    /// What stands before the value.
    pub fn opening<'l>(&self, line: &'l [u8]) -> &'l [u8] {
        &line[self.begins..self.value.start]
    }

    /// What stands behind it.
    pub fn closing<'l>(&self, line: &'l [u8]) -> &'l [u8] {
        &line[self.value.end..self.ends]
    }
}

/// Cuts a line.
pub fn cut(line: &[u8], separator: Separator) -> Vec<Part> {
    let mut parts = Vec::new();
    let mut at = 0;
    while at < line.len() && parts.len() < MOST_PARTS {
        match separator {
            Separator::Space => {
                at += gap(&line[at..]);
                if at == line.len() {
                    break;
                }
                let part = word(line, at);
                at = part.ends;
                parts.push(part);
            }
            Separator::Octet(octet) => {
                let part = cell(line, at, octet);
                at = part.ends + 1;
                parts.push(part);
                // A separator at the end has an empty part behind it.
                if at == line.len() && line.ends_with(&[octet]) {
                    parts.push(plain(Shape::Bare, at, at..at, at));
                }
            }
        }
    }
    parts
}

fn plain(shape: Shape, begins: usize, value: Range<usize>, ends: usize) -> Part {
    Part { shape, begins, value, ends }
}

/// The part that begins at a place, where spaces part them.
fn word(line: &[u8], at: usize) -> Part {
    let rest = &line[at..];
    match rest[0] {
        b'"' => {
            if let Some(end) = closing_quote(line, at + 1) {
                return with_marks(line, plain(Shape::Quoted, at, at + 1..end, end + 1));
            }
        }
        b'[' => {
            if let Some(part) = bracketed(line, at) {
                return part;
            }
        }
        b'\'' => {
            if let Some(part) = in_single_quotes(line, at) {
                return part;
            }
        }
        b'{' if rest.trim_ascii_end().ends_with(b"}") => {
            return plain(Shape::Object, at, at..line.len(), line.len());
        }
        b'<' if at == 0 => {
            let digits = rest[1..].iter().take_while(|octet| octet.is_ascii_digit()).count();
            if digits > 0 && rest.get(digits + 1) == Some(&b'>') {
                return plain(Shape::Bare, at, 1..digits + 1, digits + 2);
            }
        }
        _ => {}
    }
    if let Some(length) = time(rest) {
        return with_marks(line, plain(Shape::Time, at, at..at + length, at + length));
    }
    let length = rest.iter().position(|octet| matches!(octet, b' ' | b'\t')).unwrap_or(rest.len());
    if let Some(part) = with_status(line, at, length) {
        return part;
    }
    if let Some(part) = joined(line, at, length) {
        return part;
    }
    if let Some(part) = keyed(line, at, length) {
        return part;
    }
    let mut end = at + length;
    // A list of addresses goes on behind its commas.
    while line[end - 1] == b',' && values::client(&line[at..end - 1]).is_some_and(|client| client.len() > 6) {
        let from = end + gap(&line[end..]);
        let length = line[from..].iter().position(|octet| matches!(octet, b' ' | b'\t'));
        let next = length.map_or(line.len(), |length| from + length);
        let is_address = |text: &[u8]| values::is_ipv4(text) || values::is_ipv6(text) || text == b"unknown";
        if from == end || !is_address(line[from..next].strip_suffix(b",").unwrap_or(&line[from..next])) {
            break;
        }
        end = next;
    }
    let (mut value, ends) = (at..end, end);
    let is_mark = |octet: &u8| matches!(octet, b',' | b';' | b':' | b'|' | b')' | b'(');
    if value.len() > 1 && values::client(&line[value.clone()]).is_none() {
        value.start += line[value.clone()].iter().take_while(|octet| matches!(octet, b'(')).count();
        value.end -= line[value.clone()].iter().rev().take_while(|octet| is_mark(octet)).count();
    }
    if value.is_empty() { plain(Shape::Bare, at, at..end, end) } else { plain(Shape::Bare, at, value, ends) }
}

/// A part and the marks right behind it.
fn with_marks(line: &[u8], mut part: Part) -> Part {
    let rest = &line[part.ends..];
    let marks = rest.iter().take_while(|octet| matches!(octet, b',' | b';' | b':' | b'|' | b')')).count();
    if rest.get(marks).is_none_or(|octet| matches!(octet, b' ' | b'\t')) {
        part.ends += marks;
    }
    part
}

/// What stands in single quotation marks: up to one that a gap follows, as a name may have one within.
fn in_single_quotes(line: &[u8], at: usize) -> Option<Part> {
    let is_end = |end: &usize| line.get(end + 1).is_none_or(|octet| matches!(octet, b' ' | b'\t'));
    let end = memchr::memchr_iter(b'\'', &line[at + 1..]).map(|end| at + 1 + end).find(is_end)?;
    Some(plain(Shape::Bare, at, at + 1..end, end + 1))
}

/// What stands in brackets, if it is not the address of a client with a port behind it.
fn bracketed(line: &[u8], at: usize) -> Option<Part> {
    let end = at + memchr::memchr(b']', &line[at..])?;
    let after = line.get(end + 1);
    if end == at + 1
        || !after.is_none_or(|octet| matches!(octet, b' ' | b'\t' | b',' | b';' | b':' | b'[' | b'"'))
    {
        return None;
    }
    if after == Some(&b':') && line.get(end + 2).is_some_and(u8::is_ascii_digit) {
        return None;
    }
    let inner = &line[at + 1..end];
    let shape = if time(inner) == Some(inner.len()) { Shape::Time } else { Shape::Bare };
    Some(with_marks(line, plain(shape, at, at + 1..end, end + 1)))
}

/// What stands before a slash and a status: `KEPT/200`, as caches write how they came by an answer.
fn with_status(line: &[u8], at: usize, length: usize) -> Option<Part> {
    let word = &line[at..at + length];
    let (name, status) = word.split_at_checked(length.checked_sub(4)?)?;
    let is_name = |octet: &u8| octet.is_ascii_uppercase() || *octet == b'_';
    let fits = !name.is_empty()
        && name.iter().all(is_name)
        && status[0] == b'/'
        && status[1..].iter().all(u8::is_ascii_digit);
    fits.then(|| plain(Shape::Bare, at, at..at + name.len(), at + name.len() + 1))
}

/// The first of at least four numbers with slashes between them, as balancers write how long each step took; or a later one. Three
/// may be a date.
fn joined(line: &[u8], at: usize, length: usize) -> Option<Part> {
    let word = &line[at..at + length];
    let is_number = |text: &[u8]| {
        let digits = text.strip_prefix(b"-").or(text.strip_prefix(b"+")).unwrap_or(text);
        !digits.is_empty() && digits.iter().all(u8::is_ascii_digit)
    };
    let slash = memchr::memchr(b'/', word).filter(|slash| is_number(&word[..*slash]))?;
    let is_later =
        at.checked_sub(2).is_some_and(|before| line[before].is_ascii_digit() && line[at - 1] == b'/');
    let are_many = || {
        let mut numbers = word.split(|octet| *octet == b'/');
        numbers.clone().count() >= 4 && numbers.all(is_number)
    };
    (is_later || are_many()).then(|| plain(Shape::Joined, at, at..at + slash, at + slash + 1))
}

/// `name=value`, the value perhaps in quotation marks or brackets; or `name:value`, where the name is one that we know: any other
/// may be a host with its port.
fn keyed(line: &[u8], at: usize, length: usize) -> Option<Part> {
    let word = &line[at..at + length];
    let is_key = |octet: &u8| octet.is_ascii_alphanumeric() || matches!(octet, b'_' | b'-' | b'.');
    let equals = word.iter().position(|octet| !is_key(octet)).filter(|equals| *equals > 0)?;
    match word[equals] {
        b'=' => {}
        b':' if equals + 1 < length && Meaning::of_key(&word[..equals]).is_some() => {}
        _ => return None,
    }
    let from = at + equals + 1;
    let (shape, value, ends) = match line.get(from) {
        Some(b'"') => {
            let end = closing_quote(line, from + 1)?;
            (Shape::Quoted, from + 1..end, end + 1)
        }
        Some(b'[') => {
            let end = from + memchr::memchr(b']', &line[from..])?;
            (Shape::Bare, from + 1..end, end + 1)
        }
        _ => {
            let marks = word[equals + 1..].iter().rev().take_while(|octet| matches!(octet, b',' | b';'));
            (Shape::Bare, from..at + length - marks.count(), at + length)
        }
    };
    Some(with_marks(line, plain(shape, at, value, ends)))
}

/// The part that begins at a place, where an octet parts them.
fn cell(line: &[u8], at: usize, separator: u8) -> Part {
    if line.get(at) == Some(&b'"')
        && let Some(end) = closing_of_doubled(line, at + 1)
        && line.get(end + 1).is_none_or(|octet| *octet == separator)
    {
        return plain(Shape::Quoted, at, at + 1..end, end + 1);
    }
    let end = memchr::memchr(separator, &line[at..]).map_or(line.len(), |length| at + length);
    let (mut value, mut shape) = (at..end, Shape::Bare);
    if let [b'[', inner @ .., b']'] = &line[at..end] {
        value = at + 1..end - 1;
        if time(inner) == Some(inner.len()) {
            shape = Shape::Time;
        }
    } else {
        // `name:value` or `name=value`.
        let is_key = |octet: &u8| octet.is_ascii_alphabetic() || matches!(octet, b'_' | b'-');
        let key = line[at..end].iter().take_while(|octet| is_key(octet)).count();
        let is_marked = matches!(line.get(at + key), Some(b':' | b'=')) && at + key < end;
        if key > 0 && is_marked && !line[at + key..end].starts_with(b"://") {
            value.start = at + key + 1;
        }
    }
    plain(shape, at, value, end)
}

/// How long a time is that a text begins with; numbers are none here.
fn time(text: &[u8]) -> Option<usize> {
    let (_, length) = forms::begins(text)?;
    text[..length].iter().any(|octet| !octet.is_ascii_digit() && *octet != b'.').then_some(length)
}
