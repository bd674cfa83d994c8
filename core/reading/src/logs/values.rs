//! What a value must look like to be what a layout takes it for.
//!
//! A layout that fits a line by accident reads nonsense: a month's name for the client, a number of a process for the host. So a
//! client must look like an address or a name, and a host like a host; where it does not, the line is another layout's, or it
//! is unread.
//!
//! ```
//! use exedra_reading::logs::values::client;
//! let named = |text: &'static str| client(text.as_bytes()).map(|range| &text[range]);
//! assert_eq!(named("192.0.2.1"), Some("192.0.2.1"));
//! assert_eq!(named("\"[2001:db8::1]:443\""), Some("2001:db8::1"), "without quotation marks, brackets and port");
//! assert_eq!(named("unknown, 203.0.113.7, 198.51.100.2"), Some("203.0.113.7"), "the first address of a list");
//! assert_eq!(named("<134>1"), None);
//! ```

use super::addresses;
use std::net::IpAddr;
use std::ops::Range;

/// The client that a text names, as a part of it: an address or the name of a host. Of a list (`X-Forwarded-For`) it is the first
/// address. `None` where the text is nothing of that.
pub fn client(text: &[u8]) -> Option<Range<usize>> {
    if is_ipv4(text) {
        return Some(0..text.len());
    }
    if memchr::memchr(b',', text).is_none() {
        return one(text, 0..text.len()).map(|(range, _)| range);
    }
    let mut named = None;
    let mut from = 0;
    for part in text.split(|octet| *octet == b',') {
        let (range, is_address) = one(text, from..from + part.len())?;
        if is_address {
            return Some(range);
        }
        named = named.or(Some(range));
        from += part.len() + 1;
    }
    named
}

/// One client within a text, and whether it is an address.
fn one(text: &[u8], mut range: Range<usize>) -> Option<(Range<usize>, bool)> {
    let is_edge = |octet: &u8| matches!(octet, b' ' | b'"' | b'\'');
    range.start += text[range.clone()].iter().take_while(|octet| is_edge(octet)).count();
    range.end -= text[range.clone()].iter().rev().take_while(|octet| is_edge(octet)).count();
    let value = &text[range.clone()];
    if let [b'[', inner @ ..] = value {
        let end = memchr::memchr(b']', inner)?;
        let port = &inner[end + 1..];
        let is_port = port.is_empty() || port.strip_prefix(b":").is_some_and(is_number);
        return (is_port && is_ipv6(&inner[..end])).then(|| (range.start + 1..range.start + 1 + end, true));
    }
    if let Some(colon) = memchr::memchr(b':', value) {
        if memchr::memchr(b':', &value[colon + 1..]).is_some() {
            if is_ipv6(value) {
                return Some((range, true));
            }
            // Without brackets it cannot be told where the port begins, unless it is too long for a part of an address.
            let last = memchr::memrchr(b':', value)?;
            let is_port = value.len() - last > 5 && is_number(&value[last + 1..]);
            return (is_port && is_ipv6(&value[..last])).then(|| (range.start..range.start + last, true));
        }
        // Where servers listen on a socket in the file system, nobody has an address.
        let is_nobody = value == b"unix:";
        let before = range.start..range.start + colon;
        return match is_number(&value[colon + 1..]) || is_nobody {
            true => one(text, before),
            false => None,
        };
    }
    if is_ipv4(value) || network(value).is_some_and(|(address, _)| is_ipv4(address)) {
        return Some((range, true));
    }
    is_name(value).then_some((range, false))
}

/// An address and how many bits of it count, as in `192.0.2.0/24`.
fn network(text: &[u8]) -> Option<(&[u8], &[u8])> {
    let slash = memchr::memchr(b'/', text)?;
    Some((&text[..slash], &text[slash + 1..])).filter(|(_, bits)| is_number(bits))
}

/// The host that a text names, as a part of it, without its port; `None` where it is none.
pub fn host(text: &[u8]) -> Option<Range<usize>> {
    if let [b'[', inner @ ..] = text {
        let end = memchr::memchr(b']', inner)?;
        return is_ipv6(&inner[..end]).then_some(0..end + 2);
    }
    let end = match memchr::memchr(b':', text) {
        Some(colon) if is_number(&text[colon + 1..]) => colon,
        Some(_) => return is_ipv6(text).then_some(0..text.len()),
        None => text.len(),
    };
    (is_ipv4(&text[..end]) || is_name(&text[..end])).then_some(0..end)
}

/// Whether a text is an address of IPv4: four numbers below 256 between dots.
pub fn is_ipv4(text: &[u8]) -> bool {
    addresses::ipv4(text) == Some(text.len())
}

/// Whether a text is an address of IPv6, perhaps with a zone or the bits of a network behind it.
pub fn is_ipv6(text: &[u8]) -> bool {
    let end = text.iter().position(|octet| matches!(octet, b'%' | b'/')).unwrap_or(text.len());
    end <= 45 && addresses::is_ipv6(&text[..end])
}

/// Whether an address lies behind whoever faces the world: a balancer, and no client.
pub fn is_internal(text: &[u8]) -> bool {
    let address = std::str::from_utf8(text).ok().and_then(|text| text.parse::<IpAddr>().ok());
    match address.map(|address| address.to_canonical()) {
        Some(IpAddr::V4(address)) => address.is_private() || address.is_loopback() || address.is_link_local(),
        Some(IpAddr::V6(address)) => {
            address.is_loopback() || address.is_unique_local() || address.is_unicast_link_local()
        }
        None => false,
    }
}

/// Whether a text could be the name of a host: letters, digits, dots, dashes and underscores, one of them a letter; or letters of
/// other alphabets.
pub fn is_name(text: &[u8]) -> bool {
    let is_part = |octet: &u8| octet.is_ascii_alphanumeric() || matches!(octet, b'.' | b'-' | b'_' | 0x80..);
    let is_letter = |octet: &u8| octet.is_ascii_alphabetic() || *octet >= 0x80;
    text.len() <= 255
        && text.first().is_some_and(|octet| octet.is_ascii_alphanumeric() || *octet >= 0x80)
        && text.iter().all(is_part)
        && text.iter().any(is_letter)
}

fn is_number(text: &[u8]) -> bool {
    !text.is_empty() && text.iter().all(u8::is_ascii_digit)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::port("192.0.2.1:51234", Some("192.0.2.1"))]
    #[case::ipv6("2001:db8::1", Some("2001:db8::1"))]
    #[case::ipv6_with_port("2001:db8::1:51234", Some("2001:db8::1"))]
    #[case::ipv6_with_what_may_be_a_part("2001:db8::1:5123", Some("2001:db8::1:5123"))]
    #[case::mapped("::ffff:192.0.2.1", Some("::ffff:192.0.2.1"))]
    #[case::zone("fe80::1%eth0", Some("fe80::1%eth0"))]
    #[case::network("192.0.2.0/24", Some("192.0.2.0/24"))]
    #[case::quoted("'192.0.2.1'", Some("192.0.2.1"))]
    #[case::name("ship-7.pier.example", Some("ship-7.pier.example"))]
    #[case::masked("192.0.2.x", Some("192.0.2.x"))]
    #[case::list("203.0.113.7, 10.0.0.1", Some("203.0.113.7"))]
    #[case::list_of_names("pier, quay", Some("pier"))]
    #[case::socket("unix:", Some("unix"))]
    #[case::time("05:12:40", None)]
    #[case::iso("2026-11-14T05:12:40Z", None)]
    #[case::priority("<134>Nov", None)]
    #[case::number("812", None)]
    #[case::too_large("192.0.2.256", None)]
    #[case::process("keeper[812]:", None)]
    #[case::words("a client", None)]
    #[case::pipe("|", None)]
    #[case::nothing("", None)]
    fn clients(#[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(client(text.as_bytes()).map(|range| &text[range]), expected);
    }

    #[rstest]
    #[case("harbour.example:8080", Some("harbour.example"))]
    #[case("[2001:db8::1]:443", Some("[2001:db8::1]"))]
    #[case("localhost", Some("localhost"))]
    #[case("192.0.2.1", Some("192.0.2.1"))]
    #[case("GET", Some("GET"))]
    #[case("[14/Nov/2026", None)]
    #[case("a/b", None)]
    fn hosts(#[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(host(text.as_bytes()).map(|range| &text[range]), expected);
    }

    #[rstest]
    #[case("10.0.0.7", true)]
    #[case("127.0.0.1", true)]
    #[case("fd00::1", true)]
    #[case("203.0.113.7", false)]
    #[case("pier", false)]
    fn what_is_behind_a_balancer(#[case] text: &str, #[case] expected: bool) {
        assert_eq!(is_internal(text.as_bytes()), expected);
    }
}
