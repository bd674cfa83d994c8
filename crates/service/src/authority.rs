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

/// An authority into its host and its port.
pub fn split(authority: &str) -> (&str, Option<u16>) {
    match authority.rsplit_once(':') {
        Some((host, port)) if !port.contains(']') && (port.is_empty() || port.parse::<u16>().is_ok()) => {
            (host, port.parse().ok())
        }
        _ => (authority, None),
    }
}
