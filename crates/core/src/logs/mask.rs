//! Addresses cut to their network, so that what is kept does not point at one person.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// The network of an address: the first 24 bits of IPv4, the first 48 of IPv6, the rest zero.
pub fn masked(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V4(address) => Ipv4Addr::from_bits(address.to_bits() & 0xffff_ff00).into(),
        IpAddr::V6(address) => Ipv6Addr::from_bits(address.to_bits() & (u128::MAX << 80)).into(),
    }
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
}
