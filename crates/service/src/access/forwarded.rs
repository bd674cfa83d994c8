//! What those in front say of a client, where they are trusted: in `Forwarded` (RFC 7239), or in the older
//! `X-Forwarded-For` and `X-Forwarded-Proto`. Which of them they set is configured; the other is passed on as it came from
//! the client, who may write anything into it, and is not looked at.

use exedra_answering::config::ForwardedBy;
use exedra_answering::facts::Scheme;
use http::{HeaderMap, HeaderName, header};
use ipnet::IpNet;
use std::net::IpAddr;

/// Fields in which somebody in front has a say.
pub const FIELDS: [HeaderName; 3] = [header::FORWARDED, FOR, PROTO];

const FOR: HeaderName = HeaderName::from_static("x-forwarded-for");
const PROTO: HeaderName = HeaderName::from_static("x-forwarded-proto");

/// Where a request came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Origin {
    /// Address of the client.
    pub client: IpAddr,
    /// The scheme that the client used, where somebody says so.
    pub scheme: Option<Scheme>,
}

/// One who stood in the way, as the next one saw it.
#[derive(Default)]
struct Hop<'f> {
    address: Option<IpAddr>,
    scheme: Option<&'f str>,
}

/// Where a request came from: the last one that a trusted forwarder names and that is no forwarder itself.
pub fn origin(peer: IpAddr, headers: &HeaderMap, forwarders: &[IpNet], by: ForwardedBy) -> Origin {
    let mut origin = Origin { client: peer.to_canonical(), scheme: None };
    let trusted = |address: IpAddr| forwarders.iter().any(|network| network.contains(&address));
    if forwarders.is_empty() || !trusted(origin.client) {
        return origin;
    }
    let hops = match by {
        ForwardedBy::Forwarded => standard(headers),
        ForwardedBy::XForwardedFor => older(headers),
    };
    for hop in hops {
        // Whoever hides its address still says by what scheme it was reached.
        if let Some(scheme) = hop.scheme.and_then(scheme) {
            origin.scheme = Some(scheme);
        }
        let Some(address) = hop.address else { return origin };
        origin.client = address;
        if !trusted(address) {
            return origin;
        }
    }
    origin
}

/// The last one first.
fn standard(headers: &HeaderMap) -> Vec<Hop<'_>> {
    let elements = headers.get_all(header::FORWARDED).iter().rev();
    let elements = elements.flat_map(|line| line.to_str().unwrap_or_default().rsplit(','));
    elements
        .map(|element| {
            let mut hop = Hop::default();
            for (name, value) in element.split(';').filter_map(|pair| pair.split_once('=')) {
                let value = value.trim().trim_matches('"');
                match name.trim().to_ascii_lowercase().as_str() {
                    "for" => hop.address = address(value),
                    "proto" => hop.scheme = Some(value),
                    _ => {}
                }
            }
            hop
        })
        .collect()
}

fn older(headers: &HeaderMap) -> Vec<Hop<'_>> {
    let lines = |name: HeaderName| {
        let lines: Vec<&str> =
            headers.get_all(name).iter().rev().filter_map(|line| line.to_str().ok()).collect();
        lines.into_iter().flat_map(|line| line.rsplit(',')).map(str::trim).filter(|text| !text.is_empty())
    };
    let mut schemes = lines(PROTO);
    lines(FOR).map(|text| Hop { address: address(text), scheme: schemes.next() }).collect()
}

fn scheme(text: &str) -> Option<Scheme> {
    [Scheme::Http, Scheme::Https].into_iter().find(|scheme| scheme.as_str().eq_ignore_ascii_case(text))
}

fn address(value: &str) -> Option<IpAddr> {
    if let Ok(address) = value.parse::<IpAddr>() {
        return Some(address.to_canonical());
    }
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

    const HTTPS: Option<Scheme> = Some(Scheme::Https);

    #[rstest]
    #[case::not_trusted("203.0.113.1", "forwarded", "for=192.0.2.9;proto=https", "203.0.113.1", None)]
    #[case::trusted("10.0.0.1", "forwarded", "for=192.0.2.9", "192.0.2.9", None)]
    #[case::port_and_more("10.0.0.1", "forwarded", "proto=https;For=\"192.0.2.9:4711\"", "192.0.2.9", HTTPS)]
    #[case::ipv6("10.0.0.1", "forwarded", "for=\"[2001:db8::7]:80\"", "2001:db8::7", None)]
    #[case::chain(
        "10.0.0.1",
        "forwarded",
        "for=192.0.2.9;proto=https, for=10.0.0.7;proto=http",
        "192.0.2.9",
        HTTPS
    )]
    #[case::forged_first(
        "10.0.0.1",
        "forwarded",
        "for=198.51.100.1;proto=https, for=192.0.2.9",
        "192.0.2.9",
        None
    )]
    #[case::hidden("10.0.0.1", "forwarded", "for=_hidden;proto=https", "10.0.0.1", HTTPS)]
    #[case::nothing("10.0.0.1", "forwarded", "", "10.0.0.1", None)]
    #[case::older("10.0.0.1", "x-forwarded-for", "198.51.100.1, 192.0.2.9", "192.0.2.9", None)]
    #[case::older_chain("10.0.0.1", "x-forwarded-for", "192.0.2.9, 10.0.0.7", "192.0.2.9", None)]
    #[case::older_ipv6("10.0.0.1", "x-forwarded-for", "2001:db8::7", "2001:db8::7", None)]
    fn last_untrusted(
        #[case] peer: &str,
        #[case] name: &'static str,
        #[case] field: &str,
        #[case] expected: &str,
        #[case] scheme: Option<Scheme>,
    ) {
        let mut headers = HeaderMap::new();
        headers.insert(name, field.parse().unwrap());
        let by = if name == "forwarded" { ForwardedBy::Forwarded } else { ForwardedBy::XForwardedFor };
        let found = origin(peer.parse().unwrap(), &headers, &["10.0.0.0/8".parse().unwrap()], by);
        assert_eq!(found, Origin { client: expected.parse().unwrap(), scheme });
    }

    #[test]
    fn the_field_that_forwarders_do_not_set_is_the_clients_own_and_not_believed() {
        let mut headers = HeaderMap::new();
        headers.insert("x-forwarded-for", "192.0.2.9".parse().unwrap());
        headers.insert("x-forwarded-proto", "https".parse().unwrap());
        headers.insert("forwarded", "for=198.51.100.1;proto=http".parse().unwrap());
        let networks = ["10.0.0.0/8".parse().unwrap()];
        let found = |by| {
            let found = origin("10.0.0.1".parse().unwrap(), &headers, &networks, by);
            (found.client.to_string(), found.scheme)
        };
        assert_eq!(found(ForwardedBy::XForwardedFor), ("192.0.2.9".to_owned(), HTTPS));
        assert_eq!(found(ForwardedBy::Forwarded), ("198.51.100.1".to_owned(), Some(Scheme::Http)));
    }
}
