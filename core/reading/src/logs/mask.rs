//! Addresses cut to their network, so that what is kept does not point at one person.
//!
//! ```
//! use exedra_reading::logs::mask::{masked, network};
//! assert_eq!(masked("192.0.2.77".parse().unwrap()).to_string(), "192.0.2.0");
//! assert_eq!(network("harbour.example"), None);
//! ```

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// The network of an address: the first 24 bits of IPv4, the first 48 of IPv6, the rest zero.
pub fn masked(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V4(address) => Ipv4Addr::from_bits(address.to_bits() & 0xffff_ff00).into(),
        IpAddr::V6(address) => Ipv6Addr::from_bits(address.to_bits() & (u128::MAX << 80)).into(),
    }
}

/// The network of an address as it is written in a log, as in `192.0.2.0/24`; nothing where it is no address.
pub fn network(client: &str) -> Option<String> {
    let network = masked(client.parse().ok()?);
    Some(format!("{network}/{}", if network.is_ipv4() { 24 } else { 48 }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("203.0.113.77", "203.0.113.0")]
    #[case("::ffff:203.0.113.77", "203.0.113.0")]
    #[case("2001:db8:1:2:3:4:5:6", "2001:db8:1::")]
    fn networks(#[case] address: &str, #[case] network: &str) {
        assert_eq!(masked(address.parse().unwrap()), network.parse::<IpAddr>().unwrap());
    }

    #[test]
    fn networks_in_words() {
        assert_eq!(super::network("203.0.113.77").as_deref(), Some("203.0.113.0/24"));
        assert_eq!(super::network("2001:db8:1:2::9").as_deref(), Some("2001:db8:1::/48"));
        assert_eq!(super::network("pier.example"), None);
    }
}
