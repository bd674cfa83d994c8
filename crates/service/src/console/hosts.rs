//! By which names the console may be reached.
//!
//! A page from elsewhere can give a name of its own the console's address, and so have a browser take the console for a
//! part of that page. An address, or `localhost`, cannot be given away like that; other names must be configured.

use super::caller::Console;
use super::failure::{Failure, problem};
use super::peer::SECURED;
use axum::extract::{Request, State};
use axum::http::uri::Authority;
use axum::http::{HeaderMap, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use std::net::{IpAddr, Ipv6Addr};
use std::sync::Arc;

/// Lets through only who asks the console by a name that it has: 421 otherwise (RFC 9110 §15.5.20).
pub async fn only_our_hosts(State(console): State<Arc<Console>>, request: Request, next: Next) -> Response {
    let named = match console.site() {
        Ok(site) => host(request.headers()).map(|host| {
            let is_ours = is_safe(&host) || site.config.service.console_hosts.contains(&host);
            (host, is_ours)
        }),
        Err(failure) => return Failure::into_response(failure),
    };
    match named {
        Some((_, true)) => next.run(request).await,
        Some((host, false)) => {
            let detail = format!(
                "If this name is yours, add it to [service]: console_hosts = [\"{host}\"]. Addresses and localhost work without."
            );
            problem(StatusCode::MISDIRECTED_REQUEST, "The console is not known by this name", &detail)
        }
        None => problem(
            StatusCode::BAD_REQUEST,
            "It is not said which host is asked",
            "The Host field is missing, or no host.",
        ),
    }
}

/// The host that is asked, in lower case.
fn host(headers: &HeaderMap) -> Option<String> {
    Some(authority(headers)?.host().trim_end_matches('.').to_ascii_lowercase())
}

/// The port by which the client reaches the console, which need not be the one it listens on.
pub fn port(headers: &HeaderMap) -> u16 {
    let usual = if headers.contains_key(SECURED) { 443 } else { 80 };
    authority(headers).and_then(|authority| authority.port_u16()).unwrap_or(usual)
}

fn authority(headers: &HeaderMap) -> Option<Authority> {
    headers.get(header::HOST)?.to_str().ok()?.parse().ok()
}

fn is_safe(host: &str) -> bool {
    let bracketed = host.strip_prefix('[').and_then(|rest| rest.strip_suffix(']'));
    let is_address = host.parse::<IpAddr>().is_ok()
        || bracketed.is_some_and(|address| address.parse::<Ipv6Addr>().is_ok());
    is_address || host == "localhost" || host.ends_with(".localhost")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_and_localhost_cannot_be_given_to_somebody_else() {
        for host in ["127.0.0.1", "192.0.2.7", "[::1]", "localhost", "exedra.localhost"] {
            assert!(is_safe(host), "{host}");
        }
        for host in ["lindry.example", "127.0.0.1.example", "localhost.example", "1", "[::1", ""] {
            assert!(!is_safe(host), "{host}");
        }
    }
}
