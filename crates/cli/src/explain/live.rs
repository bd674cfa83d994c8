//! The same request made to the running service, and the two answers compared.

use crate::failure::Failure;
use exedra_answering::config::Config;
use exedra_answering::facts::Scheme;
use exedra_api::explaining::Outcome;
use exedra_service::control::explaining::asked::{Described, fields};
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
    pub headers: Vec<(String, String)>,
    /// Octets of the body that came, transfer codings undone.
    pub bytes: u64,
}

/// Asks and compares.
pub fn compare(
    config: &Config,
    asked: &Described,
    expected: &Outcome,
    at: Option<SocketAddr>,
) -> Result<Compared, Failure> {
    let by_scheme = config.listeners.iter().find(|listener| listener.scheme() == asked.scheme);
    let listener = by_scheme.or(config.listeners.first());
    let at = at.or(listener.map(|listener| listener.address.value));
    let at = at.ok_or_else(|| Failure("the configuration has no listener".to_owned()))?;
    let is_secured = listener.is_some_and(|listener| listener.https);
    let (status, headers, bytes) = ask(asked, at, is_secured, config).map_err(|error| {
        Failure(format!(
            "the service could not be asked at {at}: {error}; is it running? (--at names another place)"
        ))
    })?;
    let mut differences = Vec::new();
    if status != expected.status {
        differences.push(format!("status: {status} instead of {}", expected.status));
    }
    // An encoding may settle between the two: the same file then goes out in its better form.
    let headers = fields(&headers);
    let tag = |headers: &[(String, String)]| {
        headers.iter().find(|(name, _)| name == "etag").map(|(_, value)| value.clone())
    };
    let has_settled =
        tag(&headers).zip(tag(&expected.headers)).is_some_and(|(there, here)| here == format!("W/{there}"));
    let by_form = |name: &str| {
        has_settled
            && [header::ETAG, header::CONTENT_LENGTH, header::ACCEPT_RANGES].iter().any(|known| known == name)
    };
    let names: BTreeSet<&str> =
        expected.headers.iter().chain(&headers).map(|(name, _)| name.as_str()).collect();
    for name in names.into_iter().filter(|name| !LEFT_OUT.iter().any(|left_out| left_out == name)) {
        let all = |headers: &[(String, String)]| -> Vec<String> {
            headers.iter().filter(|(known, _)| known == name).map(|(_, value)| value.clone()).collect()
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
fn ask(
    asked: &Described,
    at: SocketAddr,
    is_secured: bool,
    config: &Config,
) -> std::io::Result<(u16, HeaderMap, u64)> {
    let mut socket = TcpStream::connect_timeout(&at, PATIENCE)?;
    socket.set_read_timeout(Some(PATIENCE))?;
    let mut head = format!(
        "{} {} HTTP/1.1\r\nHost: {}\r\nConnection: close\r\n",
        asked.method,
        asked.shown().target(),
        asked.authority
    );
    let own = socket.local_addr()?.ip();
    let wants_https = asked.scheme == Scheme::Https && !is_secured;
    let is_trusted = config.service.forwarders.iter().any(|network| network.contains(&own));
    if wants_https && !is_trusted {
        return Err(std::io::Error::other("nothing answers by HTTPS there"));
    }
    if is_trusted && (asked.client != own || wants_https) {
        let client = match asked.client {
            std::net::IpAddr::V4(address) => address.to_string(),
            std::net::IpAddr::V6(address) => format!("\"[{address}]\""),
        };
        head.push_str(&format!("Forwarded: for={client};proto={}\r\n", asked.scheme.as_str()));
    }
    let mut octets = head.into_bytes();
    for (name, value) in &asked.headers {
        octets.extend_from_slice(name.as_str().as_bytes());
        octets.extend_from_slice(b": ");
        octets.extend_from_slice(value.as_bytes());
        octets.extend_from_slice(b"\r\n");
    }
    octets.extend_from_slice(b"\r\n");
    let answer = match is_secured {
        true => exedra_service::access::certificates::asking::exchange(socket, asked.host(), &octets)?,
        false => {
            let mut answer = Vec::new();
            socket.write_all(&octets)?;
            socket.read_to_end(&mut answer)?;
            answer
        }
    };
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
