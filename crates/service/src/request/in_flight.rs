//! A request and what became of it: the line that is written when its body is done with, once, whatever
//! happened to it.

use super::connection::Connection;
use crate::access::authority::host;
use crate::access::limits::LimitPermit;
use crate::active::Active;
use crate::logs::access_log::client_text;
use crate::logs::error_log::ErrorLine;
use crate::request::connection::Secured;
use exedra_answering::answer::Obligations;
use exedra_answering::config::SiteId;
use exedra_answering::facts::Scheme;
use exedra_common::{NumberColumn, TextColumn};
use exedra_reading::logs::LoggedRequest;
use http::request::Parts;
use http::{HeaderValue, StatusCode, Version, header};
use smol_str::SmolStr;
use std::borrow::Cow;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Instant;

/// How much of a text stands in the log of errors.
const MOST_OF_ERROR: usize = 1024;

/// A request that is being answered.
pub struct InFlight {
    /// Where it is written down, and counted.
    pub service: Arc<Active>,
    /// The connection it came by.
    pub activity: Arc<dyn Connection>,
    /// When it came in: milliseconds since 1970 UTC.
    pub time: i64,
    /// The same, by a clock that only goes forward.
    pub began: Instant,
    /// Address of the client.
    pub client: IpAddr,
    /// Its country, where rules ask for it.
    pub country: Option<SmolStr>,
    /// How the request came in.
    pub scheme: Scheme,
    /// Address and port of ours that was asked.
    pub server: Option<SocketAddr>,
    /// How the connection was secured.
    pub tls: Option<Arc<Secured>>,
    /// Whether the octets of its head are all that it came with: neither encrypted nor beside others.
    pub is_bare: bool,
    /// The request.
    pub request: Parts,
    /// The site that answers.
    pub site: Option<SiteId>,
    /// Status of the answer.
    pub status: StatusCode,
    /// Content coding of the answer.
    pub encoding: &'static str,
    /// Body bytes before compression, where the body was compressed.
    pub full_bytes: Option<u64>,
    /// What rules oblige us to.
    pub obligations: Option<Box<Obligations>>,
    /// What counts against the client's limits until the answer has gone.
    pub permit: Option<LimitPermit>,
    /// Body bytes sent so far.
    pub bytes: u64,
    /// What went wrong, where something did.
    pub failure: Option<Failure>,
}

/// What went wrong with a request.
pub struct Failure {
    /// The file that was looked for.
    pub file: Option<String>,
    /// The cause in words.
    pub cause: String,
}

impl InFlight {
    /// Writes it down.
    pub fn write(self) {
        let service = &self.service;
        let log = match self.site {
            Some(id) => &service.logs[id.0],
            None => &service.no_site,
        };
        let client = client_text(self.client, log.masks_clients);
        let uri = &self.request.uri;
        let target = uri.path_and_query().map_or("*", |target| target.as_str());
        let field = |name| self.request.headers.get(name).map_or(&b""[..], HeaderValue::as_bytes);
        let named = host(&self.request).unwrap_or_default();
        let host = match named.bytes().any(|octet| octet.is_ascii_uppercase()) {
            true => Cow::Owned(named.to_ascii_lowercase()),
            false => Cow::Borrowed(named),
        };
        let request = LoggedRequest::new(self.time, target.as_bytes())
            .number(NumberColumn::Status, self.status.as_u16().into())
            .number(NumberColumn::Bytes, self.bytes)
            .number(NumberColumn::FullBytes, self.full_bytes.unwrap_or(self.bytes))
            .number(NumberColumn::Duration, microseconds_since(self.began))
            .text(TextColumn::Client, client.as_str())
            .text(
                TextColumn::User,
                self.obligations
                    .as_ref()
                    .and_then(|obligations| obligations.user.as_deref())
                    .unwrap_or_default(),
            )
            .text(TextColumn::Method, self.request.method.as_str())
            .text(TextColumn::Protocol, protocol(self.request.version))
            .text(TextColumn::Referrer, field(header::REFERER))
            .text(TextColumn::Agent, field(header::USER_AGENT))
            .text(TextColumn::Scheme, self.scheme.as_str())
            .text(TextColumn::Host, &*host)
            .text(TextColumn::Encoding, self.encoding)
            .text(
                TextColumn::Rule,
                self.obligations
                    .as_ref()
                    .and_then(|obligations| obligations.rule.as_deref())
                    .unwrap_or_default(),
            );
        if self.obligations.as_ref().is_none_or(|obligations| obligations.log) {
            log.record(&request);
        }
        if let (Some(site), Some(obligations)) = (self.site, &self.obligations) {
            service.fired.count(site, &obligations.fired);
        }
        if let Some(failure) = &self.failure {
            self.write_failure(failure, &request);
        }
        service.counter.count(self.bytes);
        self.activity.answered();
    }

    fn write_failure(&self, failure: &Failure, request: &LoggedRequest<'_>) {
        let service = &self.service;
        let time = jiff::Timestamp::from_millisecond(self.time).unwrap_or_default().to_string();
        let site = self.site.map(|id| service.config.site(id).name.value.as_str());
        service.errors.record(&ErrorLine {
            time: time.into(),
            site: site.map(Cow::Borrowed),
            client: String::from_utf8_lossy(request.text_of(TextColumn::Client)),
            method: beginning(request.text_of(TextColumn::Method)),
            host: beginning(request.text_of(TextColumn::Host)),
            target: beginning(request.target()),
            status: self.status.as_u16(),
            file: failure.file.as_deref().map(Cow::Borrowed),
            referrer: Some(beginning(request.text_of(TextColumn::Referrer))).filter(|text| !text.is_empty()),
            cause: failure.cause.as_str().into(),
        });
    }
}

/// The beginning of what a client said: the rest is in the access log, as far as it is anywhere.
fn beginning(octets: &[u8]) -> Cow<'_, str> {
    match octets.get(..MOST_OF_ERROR) {
        Some(beginning) if beginning.len() < octets.len() => {
            format!("{}...(cut)", String::from_utf8_lossy(beginning)).into()
        }
        _ => String::from_utf8_lossy(octets),
    }
}

/// Microseconds that have passed.
pub fn microseconds_since(began: Instant) -> u64 {
    u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX - 1)
}

/// A protocol and its version, as logs and rules name it.
pub fn protocol(version: Version) -> &'static str {
    match version {
        Version::HTTP_09 => "HTTP/0.9",
        Version::HTTP_10 => "HTTP/1.0",
        Version::HTTP_2 => "HTTP/2.0",
        _ => "HTTP/1.1",
    }
}
