//! Where a request really came from, when something we trust stands in front (RFC 7239).

use http::{HeaderMap, header};
use ipnet::IpNet;
use std::net::IpAddr;

/// The client's address: the last one that a trusted forwarder names and that is no forwarder itself.
pub fn client(peer: IpAddr, headers: &HeaderMap, forwarders: &[IpNet]) -> IpAddr {
    let peer = peer.to_canonical();
    let trusted = |address: IpAddr| forwarders.iter().any(|network| network.contains(&address));
    if forwarders.is_empty() || !trusted(peer) {
        return peer;
    }
    let mut believed = peer;
    for line in headers.get_all(header::FORWARDED).iter().rev() {
        for element in line.to_str().unwrap_or_default().rsplit(',') {
            let Some(address) = named(element) else { return believed };
            believed = address;
            if !trusted(address) {
                return believed;
            }
        }
    }
    believed
}

fn named(element: &str) -> Option<IpAddr> {
    let value = element.split(';').find_map(|pair| {
        let (name, value) = pair.split_once('=')?;
        name.trim().eq_ignore_ascii_case("for").then(|| value.trim().trim_matches('"'))
    })?;
    let bare = match value.strip_prefix('[') {
        Some(bracketed) => bracketed.split(']').next()?,
        None => value.split(':').next()?,
    };
    bare.parse::<IpAddr>().ok().map(|address| address.to_canonical())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::not_trusted("203.0.113.1", "for=192.0.2.9", "203.0.113.1")]
    #[case::trusted("10.0.0.1", "for=192.0.2.9", "192.0.2.9")]
    #[case::port_and_more("10.0.0.1", "proto=http;For=\"192.0.2.9:4711\"", "192.0.2.9")]
    #[case::ipv6("10.0.0.1", "for=\"[2001:db8::7]:80\"", "2001:db8::7")]
    #[case::chain("10.0.0.1", "for=192.0.2.9, for=10.0.0.7", "192.0.2.9")]
    #[case::forged_first("10.0.0.1", "for=198.51.100.1, for=192.0.2.9", "192.0.2.9")]
    #[case::hidden("10.0.0.1", "for=_hidden", "10.0.0.1")]
    #[case::nothing("10.0.0.1", "", "10.0.0.1")]
    fn last_untrusted(#[case] peer: &str, #[case] field: &str, #[case] expected: &str) {
        let mut headers = HeaderMap::new();
        if !field.is_empty() {
            headers.insert(header::FORWARDED, field.parse().unwrap());
        }
        let found = client(peer.parse().unwrap(), &headers, &["10.0.0.0/8".parse().unwrap()]);
        assert_eq!(found, expected.parse::<IpAddr>().unwrap());
    }
}
