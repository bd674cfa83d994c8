//! Which host a request names, and by which port (RFC 9112 §3.2).

use exedra_answering::answer::Malformed;
use exedra_answering::answer::malformed::{fault_of_target, is_authority};
use http::request::Parts;
use http::{Version, header};

/// What is wrong with the host or the target of a request, if anything is. HTTP/1.1 wants exactly one host field, whatever
/// the target says (RFC 9112 §3.2).
pub fn fault(request: &Parts) -> Option<Malformed> {
    let mut fields = request.headers.get_all(header::HOST).iter();
    match (fields.next(), fields.next()) {
        (_, Some(_)) => return Some(Malformed::SeveralHosts),
        (None, _) if request.version == Version::HTTP_11 => return Some(Malformed::NoHost),
        (Some(host), _) if !host.to_str().is_ok_and(is_authority) => {
            return Some(Malformed::Host(String::from_utf8_lossy(host.as_bytes()).into_owned()));
        }
        _ => {}
    }
    if let Some(named) = authority(request).filter(|named| !is_authority(named)) {
        return Some(Malformed::Host(named.to_owned()));
    }
    let target = request.uri.path_and_query()?;
    fault_of_target(target.as_str().as_bytes())
}

/// The host that a request names, without its port.
pub fn host(request: &Parts) -> Option<&str> {
    authority(request).map(|authority| split(authority).0)
}

/// The host that a request names: in its target, or in exactly one field (RFC 9112 §3.2).
pub fn authority(request: &Parts) -> Option<&str> {
    if let Some(authority) = request.uri.authority() {
        return Some(authority.as_str().rsplit('@').next().unwrap_or_default());
    }
    let mut fields = request.headers.get_all(header::HOST).iter();
    match (fields.next(), fields.next()) {
        (Some(host), None) => host.to_str().ok(),
        (None, _) if request.version == Version::HTTP_10 => Some(""),
        _ => None,
    }
}

/// An authority into its host and its port. A dot at the host's end says that nothing is to be added to it (RFC 1034 §3.1):
/// it is the same host.
pub fn split(authority: &str) -> (&str, Option<u16>) {
    let (host, port) = match authority.rsplit_once(':') {
        Some((host, port)) if !port.contains(']') && (port.is_empty() || port.parse::<u16>().is_ok()) => {
            (host, port.parse().ok())
        }
        _ => (authority, None),
    };
    (host.strip_suffix('.').filter(|host| !host.is_empty()).unwrap_or(host), port)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_and_ports() {
        for (authority, host, port) in [
            ("a.example", "a.example", None),
            ("a.example.:8080", "a.example", Some(8080)),
            ("a.example.", "a.example", None),
            ("a.example:", "a.example", None),
            ("[2001:db8::1]:80", "[2001:db8::1]", Some(80)),
            ("[2001:db8::1]", "[2001:db8::1]", None),
            (".", ".", None),
        ] {
            assert_eq!(split(authority), (host, port), "{authority}");
        }
    }
}
