//! Connections that begin with whom they come from: the PROXY protocol, versions 1 (a line of text) and 2 (octets).
//!
//! Only forwarders are believed; anybody else on such an address is turned away. Exactly the announcement is read, so
//! that whatever follows it is still there.

use ipnet::IpNet;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use tokio::io::{AsyncRead, AsyncReadExt};

/// What version 2 begins with.
const SIGNATURE: &[u8; 12] = b"\r\n\r\n\0\r\nQUIT\n";
/// The longest line of version 1.
const LONGEST_LINE: usize = 107;
/// The longest rest of version 2 that is read.
const LONGEST_REST: usize = 4096;

/// Reads the announcement of a connection from `peer`: whom it comes from, which is the peer itself where the
/// announcement says so.
pub async fn announced(
    stream: &mut (impl AsyncRead + Unpin),
    peer: IpAddr,
    forwarders: &[IpNet],
) -> io::Result<IpAddr> {
    let peer = peer.to_canonical();
    if !forwarders.iter().any(|network| network.contains(&peer)) {
        return Err(wrong("the peer is not among the trusted `forwarders`"));
    }
    let mut begin = [0; 12];
    stream.read_exact(&mut begin).await?;
    let from = match &begin == SIGNATURE {
        true => octets(stream).await?,
        false => line(stream, &begin).await?,
    };
    Ok(from.unwrap_or(peer))
}

async fn line(stream: &mut (impl AsyncRead + Unpin), begin: &[u8]) -> io::Result<Option<IpAddr>> {
    let mut line = begin.to_vec();
    while !line.ends_with(b"\r\n") {
        if line.len() >= LONGEST_LINE || !line.starts_with(b"PROXY ") {
            return Err(wrong("the connection does not begin with a PROXY header"));
        }
        line.push(stream.read_u8().await?);
    }
    let text = std::str::from_utf8(&line).map_err(|_| wrong("the PROXY header is not text"))?;
    let mut words = text.trim_end().split(' ').skip(1);
    match words.next() {
        Some("UNKNOWN") => Ok(None),
        Some("TCP4" | "TCP6") => {
            let source = words.next().and_then(|word| word.parse::<IpAddr>().ok());
            source
                .map(|source| Some(source.to_canonical()))
                .ok_or_else(|| wrong("the PROXY header has no valid source address"))
        }
        _ => Err(wrong("the PROXY header is malformed")),
    }
}

async fn octets(stream: &mut (impl AsyncRead + Unpin)) -> io::Result<Option<IpAddr>> {
    let (kind, family, length) = (stream.read_u8().await?, stream.read_u8().await?, stream.read_u16().await?);
    let mut rest = vec![0; usize::from(length)];
    if kind >> 4 != 2 || rest.len() > LONGEST_REST {
        return Err(wrong("the PROXY header is malformed"));
    }
    stream.read_exact(&mut rest).await?;
    match (kind & 0xf, family >> 4) {
        // The forwarder itself, to see whether we are there.
        (0, _) => Ok(None),
        (1, 1) => match rest.first_chunk::<4>().filter(|_| rest.len() >= 12) {
            Some(source) => Ok(Some(Ipv4Addr::from(*source).into())),
            None => Err(wrong("the PROXY header is too short")),
        },
        (1, 2) => match rest.first_chunk::<16>().filter(|_| rest.len() >= 36) {
            Some(source) => Ok(Some(IpAddr::from(Ipv6Addr::from(*source)).to_canonical())),
            None => Err(wrong("the PROXY header is too short")),
        },
        (1, _) => Ok(None),
        _ => Err(wrong("the PROXY header is malformed")),
    }
}

fn wrong(reason: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, reason)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const V2_TCP4: &[u8] =
        b"\r\n\r\n\0\r\nQUIT\n\x21\x11\0\x0c\xcb\x00\x71\x09\x7f\0\0\x01\x10\x00\x01\xbbGET";
    const V2_LOCAL: &[u8] = b"\r\n\r\n\0\r\nQUIT\n\x20\0\0\0GET";

    #[rstest]
    #[case::text(b"PROXY TCP4 203.0.113.9 127.0.0.1 4096 443\r\nGET", "10.0.0.1", Some("203.0.113.9"))]
    #[case::text_6(b"PROXY TCP6 2001:db8::7 ::1 4096 443\r\nGET", "10.0.0.1", Some("2001:db8::7"))]
    #[case::text_unknown(b"PROXY UNKNOWN\r\nGET", "10.0.0.1", Some("10.0.0.1"))]
    #[case::octets(V2_TCP4, "10.0.0.1", Some("203.0.113.9"))]
    #[case::octets_local(V2_LOCAL, "10.0.0.1", Some("10.0.0.1"))]
    #[case::a_stranger(V2_TCP4, "192.0.2.1", None)]
    #[case::a_request(b"GET / HTTP/1.1\r\nHost: a.example\r\n\r\n", "10.0.0.1", None)]
    #[case::no_address(b"PROXY TCP4 here there 1 2\r\nGET", "10.0.0.1", None)]
    #[case::too_short(b"\r\n\r\n\0\r\nQUIT\n\x21\x11\0\x02\0\0GET", "10.0.0.1", None)]
    #[case::cut_off(b"PROXY TCP4 203", "10.0.0.1", None)]
    fn announcements(#[case] mut octets: &[u8], #[case] peer: &str, #[case] expected: Option<&str>) {
        let runtime = tokio::runtime::Builder::new_current_thread().build().unwrap();
        let networks = ["10.0.0.0/8".parse().unwrap()];
        let found = runtime.block_on(announced(&mut octets, peer.parse().unwrap(), &networks));
        assert_eq!(found.ok().map(|address| address.to_string()).as_deref(), expected);
        if expected.is_some() {
            assert_eq!(octets, b"GET", "what follows is still there");
        }
    }
}
