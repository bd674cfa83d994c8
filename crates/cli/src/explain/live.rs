//! The same request made to the running service, and the two answers compared.

use super::asked::{Asked, fields};
use super::offline::Outcome;
use crate::Failure;
use exedra_core::config::Config;
use http::{HeaderMap, HeaderName, HeaderValue, header};
use serde::Serialize;
use std::collections::BTreeSet;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::time::Duration;

/// Fields that say nothing of the decision.
const LEFT_OUT: [HeaderName; 3] = [header::DATE, header::CONNECTION, header::TRANSFER_ENCODING];
/// How long the service may take.
const PATIENCE: Duration = Duration::from_secs(20);

/// What the running service answered, and what is different about it.
#[derive(Serialize)]
pub struct Compared {
    /// Where it was asked.
    pub at: SocketAddr,
    /// Whether both answers are the same.
    pub agrees: bool,
    /// What is different, in words.
    pub differences: Vec<String>,
    /// Status of its answer.
    pub status: u16,
    /// Header fields of its answer.
    #[serde(serialize_with = "fields")]
    pub headers: HeaderMap,
    /// Octets of the body that came, transfer codings undone.
    pub bytes: u64,
}

/// Asks and compares.
pub fn compare(
    config: &Config,
    asked: &Asked,
    expected: &Outcome,
    at: Option<SocketAddr>,
) -> Result<Compared, Failure> {
    let listener = config.listeners.first().map(|listener| listener.value);
    let at = at.or(listener).ok_or_else(|| Failure("the configuration has no listener".to_owned()))?;
    let (status, headers, bytes) = ask(asked, at, config).map_err(|error| {
        Failure(format!(
            "the service could not be asked at {at}: {error}; is it running? (--at names another place)"
        ))
    })?;
    let mut differences = Vec::new();
    if status != expected.status {
        differences.push(format!("status: {status} instead of {}", expected.status));
    }
    // An encoding may settle between the two: the same file then goes out in its better form.
    let tag =
        |headers: &HeaderMap| headers.get(header::ETAG).and_then(|tag| Some(tag.to_str().ok()?.to_owned()));
    let has_settled =
        tag(&headers).zip(tag(&expected.headers)).is_some_and(|(there, here)| here == format!("W/{there}"));
    let by_form = |name: &str| {
        has_settled
            && [header::ETAG, header::CONTENT_LENGTH, header::ACCEPT_RANGES].iter().any(|known| known == name)
    };
    let names: BTreeSet<&str> =
        expected.headers.keys().chain(headers.keys()).map(HeaderName::as_str).collect();
    for name in names.into_iter().filter(|name| !LEFT_OUT.iter().any(|left_out| left_out == name)) {
        let all = |headers: &HeaderMap| -> Vec<String> {
            headers
                .get_all(name)
                .iter()
                .map(|value| String::from_utf8_lossy(value.as_bytes()).into_owned())
                .collect()
        };
        let (here, there) = (all(&expected.headers), all(&headers));
        let unknown = name == header::CONTENT_LENGTH.as_str() && expected.bytes.is_none();
        if here != there && !unknown && !by_form(name) {
            let said =
                |values: &[String]| if values.is_empty() { "nothing".to_owned() } else { values.join(", ") };
            differences.push(format!("{name}: {} instead of {}", said(&there), said(&here)));
        }
    }
    if let Some(wanted) = expected.bytes.filter(|wanted| *wanted != bytes && !has_settled) {
        differences.push(format!("body: {bytes} bytes instead of {wanted}"));
    }
    Ok(Compared { at, agrees: differences.is_empty(), differences, status, headers, bytes })
}

/// One request by hand: the path goes over the wire exactly as it was written.
fn ask(asked: &Asked, at: SocketAddr, config: &Config) -> std::io::Result<(u16, HeaderMap, u64)> {
    let mut socket = TcpStream::connect_timeout(&at, PATIENCE)?;
    socket.set_read_timeout(Some(PATIENCE))?;
    let mut head = format!(
        "{} {} HTTP/1.1\r\nHost: {}\r\nConnection: close\r\n",
        asked.method,
        asked.target(),
        asked.authority
    );
    let own = socket.local_addr()?.ip();
    if asked.client != own && config.service.forwarders.iter().any(|network| network.contains(&own)) {
        let client = match asked.client {
            std::net::IpAddr::V4(address) => address.to_string(),
            std::net::IpAddr::V6(address) => format!("\"[{address}]\""),
        };
        head.push_str(&format!("Forwarded: for={client}\r\n"));
    }
    let mut octets = head.into_bytes();
    for (name, value) in &asked.headers {
        octets.extend_from_slice(name.as_str().as_bytes());
        octets.extend_from_slice(b": ");
        octets.extend_from_slice(value.as_bytes());
        octets.extend_from_slice(b"\r\n");
    }
    octets.extend_from_slice(b"\r\n");
    socket.write_all(&octets)?;
    let mut answer = Vec::new();
    socket.read_to_end(&mut answer)?;
    understand(&answer).ok_or_else(|| std::io::Error::other("what it answers is not HTTP"))
}

fn understand(answer: &[u8]) -> Option<(u16, HeaderMap, u64)> {
    let end = memchr::memmem::find(answer, b"\r\n\r\n")?;
    let head = std::str::from_utf8(&answer[..end]).ok()?;
    let mut lines = head.split("\r\n");
    let status = lines.next()?.split(' ').nth(1)?.parse().ok()?;
    let mut headers = HeaderMap::new();
    for line in lines {
        let (name, value) = line.split_once(':')?;
        headers.append(name.parse::<HeaderName>().ok()?, value.trim().parse::<HeaderValue>().ok()?);
    }
    let body = &answer[end + 4..];
    let chunked = headers.get(header::TRANSFER_ENCODING).is_some_and(|coding| coding == "chunked");
    Some((status, headers, if chunked { length_of_chunks(body) } else { body.len() as u64 }))
}

/// Octets in a chunked body (RFC 9112 §7.1).
fn length_of_chunks(mut body: &[u8]) -> u64 {
    let mut length = 0;
    while let Some(end) = memchr::memmem::find(body, b"\r\n") {
        let size = std::str::from_utf8(&body[..end])
            .ok()
            .and_then(|text| usize::from_str_radix(text.split(';').next()?.trim(), 16).ok());
        let Some(size) = size.filter(|size| *size > 0) else { break };
        length += size as u64;
        body = body.get(end + 2 + size + 2..).unwrap_or_default();
    }
    length
}
