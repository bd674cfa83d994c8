//! What stands in one place of many lines, and what can be said of it.

use super::super::meaning::Meaning;
use super::super::values;
use super::tokens::Shape;
use exedra_common::columns::Unit;
use std::collections::HashSet;

/// One place with what stands there in each line.
#[derive(Debug, Clone)]
pub struct Place<'l> {
    /// How it stands there.
    pub shape: Shape,
    /// The name that stands before the value, or in the heading.
    pub name: Option<String>,
    /// Whether spaces stand before it of which there are not equally many in all lines, as before numbers below each other.
    pub is_aligned: bool,
    /// The values, line by line.
    pub values: Vec<&'l [u8]>,
}

/// Methods that occur in logs (RFC 9110 §9, and those of extensions that are registered).
const METHODS: &[&[u8]] = &[
    b"GET",
    b"HEAD",
    b"POST",
    b"PUT",
    b"DELETE",
    b"CONNECT",
    b"OPTIONS",
    b"TRACE",
    b"PATCH",
    b"PROPFIND",
    b"PROPPATCH",
    b"MKCOL",
    b"COPY",
    b"MOVE",
    b"LOCK",
    b"UNLOCK",
    b"REPORT",
    b"SEARCH",
    b"QUERY",
];

impl<'l> Place<'l> {
    /// The values that are something.
    pub fn known(&self) -> impl Iterator<Item = &'l [u8]> + Clone + '_ {
        self.values.iter().copied().filter(|value| !matches!(*value, b"" | b"-"))
    }

    /// How many lines say something here.
    pub fn count(&self) -> usize {
        self.known().count()
    }

    /// How many of those that say something are of a kind: 1 for all. Nothing where none says anything.
    pub fn share(&self, is_of_kind: impl Fn(&[u8]) -> bool) -> f64 {
        let known = self.count();
        if known == 0 {
            0.0
        } else {
            self.known().filter(|value| is_of_kind(value)).count() as f64 / known as f64
        }
    }

    /// How many different values there are.
    pub fn distinct(&self) -> usize {
        self.known().collect::<HashSet<_>>().len()
    }

    /// What its name means, if it has one that we know.
    pub fn meaning(&self) -> Option<Meaning> {
        Meaning::of_path(&[], self.name.as_deref()?.as_bytes())
    }

    /// The values as whole numbers, where all that say something are some.
    pub fn numbers(&self) -> Option<Vec<u64>> {
        self.known().map(|value| std::str::from_utf8(value).ok()?.parse().ok()).collect()
    }
}

/// Whether a text is an address, be it with a port, in brackets or one of a list.
pub fn is_address(text: &[u8]) -> bool {
    values::client(text).is_some_and(|client| {
        let client = &text[client];
        values::is_ipv4(client) || values::is_ipv6(client)
    })
}

/// Whether a text is the name of a host in the world: parts with a dot between them, the last of letters.
pub fn is_host(text: &[u8]) -> bool {
    let Some(host) = values::host(text) else { return false };
    let last = text[host].rsplit(|octet| *octet == b'.').next().unwrap_or_default();
    text.contains(&b'.') && last.len() > 1 && last.iter().all(u8::is_ascii_alphabetic)
}

/// Whether a text is a method.
pub fn is_method(text: &[u8]) -> bool {
    METHODS.contains(&text)
}

/// Whether a text is a request line.
pub fn is_request(text: &[u8]) -> bool {
    let Some(space) = memchr::memchr(b' ', text) else { return false };
    let (method, rest) = (&text[..space], &text[space + 1..]);
    let target = rest.split(|octet| *octet == b' ').next().unwrap_or_default();
    is_method(method) && (is_path(target) || is_url(target) || target == b"*") || {
        let last = rest.rsplit(|octet| *octet == b' ').next().unwrap_or_default();
        is_protocol(last)
    }
}

/// Whether a text is a request line with a whole address in it.
pub fn asks_for_url(text: &[u8]) -> bool {
    text.split(|octet| *octet == b' ').nth(1).is_some_and(is_url)
}

/// Whether a text is a path, with or without a query.
pub fn is_path(text: &[u8]) -> bool {
    text.starts_with(b"/") && !text.contains(&b' ')
}

/// Whether a text is an address of the web.
pub fn is_url(text: &[u8]) -> bool {
    text.starts_with(b"http://") || text.starts_with(b"https://")
}

/// Whether a text is a protocol and its version.
pub fn is_protocol(text: &[u8]) -> bool {
    text.strip_prefix(b"HTTP/").is_some_and(|version| version.first().is_some_and(u8::is_ascii_digit))
}

/// Whether a text is a status that occurs.
pub fn is_status(text: &[u8]) -> bool {
    matches!(
        std::str::from_utf8(text).ok().filter(|text| text.len() == 3).and_then(|text| text.parse().ok()),
        Some(
            200..=208u16
            | 226
            | 300..=308
            | 400..=418
            | 421..=431
            | 444
            | 451
            | 499
            | 500..=511
            | 100..=103
            | 520..=526,
        )
    ) || text == b"000"
}

/// Whether a text is what a program calls itself (RFC 9110 §10.1.5): names with versions.
pub fn is_agent(text: &[u8]) -> bool {
    let slash = memchr::memchr(b'/', text);
    let name = &text[..slash.unwrap_or(0)];
    let version = &text[slash.map_or(text.len(), |slash| slash + 1)..];
    name.first().is_some_and(u8::is_ascii_alphabetic)
        && name.iter().all(|octet| octet.is_ascii_alphanumeric() || b" .-_+".contains(octet))
        && version.first().is_some_and(|octet| octet.is_ascii_digit() || matches!(octet, b'v' | b'%'))
        && !is_protocol(text)
        && !values::is_ipv4(version)
}

/// Whether a text names a content coding.
pub fn is_encoding(text: &[u8]) -> bool {
    matches!(text, b"gzip" | b"br" | b"zstd" | b"deflate" | b"identity" | b"compress")
}

/// Whether a text is a number.
pub fn is_number(text: &[u8]) -> bool {
    !text.is_empty()
        && text.iter().all(|octet| octet.is_ascii_digit() || *octet == b'.')
        && text[0] != b'.'
        && text.iter().filter(|octet| **octet == b'.').count() < 2
}

/// The unit that stands behind a number, if one does.
pub fn unit_behind(text: &[u8]) -> Option<Unit> {
    let digits = text.iter().take_while(|octet| octet.is_ascii_digit() || **octet == b'.').count();
    let unit = std::str::from_utf8(text.get(digits..)?.trim_ascii()).ok().and_then(Unit::of_time)?;
    (digits > 0 && is_number(&text[..digits])).then_some(unit)
}
