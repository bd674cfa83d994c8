//! Which host a request names, and by which port (RFC 9112 §3.2).

use http::request::Parts;
use http::{Version, header};

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
