//! A request as it was recorded, and what a decision may know of it.
//!
//! A log says less than a request did: it has no cookies. What it does not say is *unknown*, and never taken for absent.

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use exedra_answering::config::Config;
use exedra_answering::encode::Codec;
use exedra_answering::facts::{Facts, Fields, Known, LocalTime, LoggedFields, Scheme, read_agent};
use exedra_common::{Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use exedra_reading::classify::{Countries, agents};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::collections::HashMap;
use std::net::IpAddr;

/// One request as it was recorded: what stands in the columns of its row.
#[derive(Debug, Clone, Copy, Default)]
pub struct RecordedRequest<'r> {
    /// When it came in: milliseconds since 1970 UTC.
    pub time: i64,
    /// Name of the site that answered.
    pub site: Option<&'r str>,
    /// Address of the client.
    pub client: Option<&'r str>,
    /// Who had signed in.
    pub user: Option<&'r str>,
    /// Method.
    pub method: Option<&'r str>,
    /// Scheme.
    pub scheme: Option<&'r str>,
    /// Host as it was asked for, perhaps with a port.
    pub host: Option<&'r str>,
    /// Path.
    pub path: Option<&'r str>,
    /// Query without its question mark.
    pub query: Option<&'r str>,
    /// Protocol and its version.
    pub protocol: Option<&'r str>,
    /// The page that linked there.
    pub referrer: Option<&'r str>,
    /// What the client calls itself.
    pub agent: Option<&'r str>,
    /// Content coding that was sent.
    pub encoding: Option<&'r str>,
    /// Status that it was answered.
    pub status: u16,
    /// Body bytes that were sent.
    pub bytes: u64,
}

impl<'r> RecordedRequest<'r> {
    /// The columns that are looked at.
    pub fn projection() -> Projection {
        let texts: Projection = [
            TextColumn::Site,
            TextColumn::Client,
            TextColumn::User,
            TextColumn::Method,
            TextColumn::Scheme,
            TextColumn::Host,
            TextColumn::Path,
            TextColumn::Query,
            TextColumn::Protocol,
            TextColumn::Referrer,
            TextColumn::Agent,
            TextColumn::Encoding,
        ]
        .into_iter()
        .collect();
        texts.with([NumberColumn::Status, NumberColumn::Bytes].into_iter().collect())
    }

    /// A row of a batch.
    pub fn of(batch: &RequestBatch, row: usize, texts: &'r Dictionaries) -> Self {
        let text = |column: TextColumn| batch.code(column, row).map(|code| texts.of(column).text(code));
        RecordedRequest {
            time: batch.time[row],
            site: text(TextColumn::Site),
            client: text(TextColumn::Client),
            user: text(TextColumn::User),
            method: text(TextColumn::Method),
            scheme: text(TextColumn::Scheme),
            host: text(TextColumn::Host),
            path: text(TextColumn::Path),
            query: text(TextColumn::Query),
            protocol: text(TextColumn::Protocol),
            referrer: text(TextColumn::Referrer),
            agent: text(TextColumn::Agent),
            encoding: text(TextColumn::Encoding),
            status: batch
                .number(NumberColumn::Status, row)
                .and_then(|status| u16::try_from(status).ok())
                .unwrap_or(0),
            bytes: batch.number(NumberColumn::Bytes, row).unwrap_or(0),
        }
    }

    /// Whether the log is one that says whatever it knows: what is not there was not there.
    fn is_complete(&self) -> bool {
        self.scheme.is_some()
    }

    /// Whether a person asked, as far as the agent tells.
    pub fn is_of_person(&self) -> bool {
        self.agent.is_some_and(|agent| agents::read(agent).crawler.is_none())
    }
}

/// What is known of requests beyond their rows.
#[derive(Clone)]
pub struct Surroundings {
    /// Which codings each agent was sent: whoever takes one once takes it again.
    pub accepted: Accepted,
    /// What knows countries of addresses.
    pub countries: Option<std::sync::Arc<Countries>>,
    /// Whose days and hours rules mean.
    pub zone: TimeZone,
}

impl Surroundings {
    /// Of which nothing is known but the zone.
    pub fn new(zone: TimeZone) -> Self {
        Surroundings { accepted: Accepted::default(), countries: None, zone }
    }
}

/// Which codings each agent was sent.
#[derive(Debug, Clone, Default)]
pub struct Accepted(HashMap<String, u8>);

/// How many agents are told apart: rarer ones are met later.
const MOST_AGENTS: usize = 20_000;

impl Accepted {
    /// The columns that are looked at.
    pub fn projection() -> Projection {
        [TextColumn::Agent, TextColumn::Encoding].into_iter().collect()
    }

    /// Learns from a row of a batch.
    pub fn add(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries) {
        let text = |column: TextColumn| batch.code(column, row).map(|code| texts.of(column).text(code));
        let (Some(agent), Some(bit)) = (text(TextColumn::Agent), text(TextColumn::Encoding).and_then(bit))
        else {
            return;
        };
        let is_full = self.0.len() >= MOST_AGENTS;
        match self.0.get_mut(agent) {
            Some(known) => *known |= bit,
            None if is_full => {}
            None => _ = self.0.insert(agent.to_owned(), bit),
        }
    }

    /// Adds what was learned elsewhere.
    pub fn merge(&mut self, other: Accepted) {
        for (agent, bits) in other.0 {
            *self.0.entry(agent).or_default() |= bits;
        }
    }

    /// `Accept-Encoding` of a request, as far as it is known.
    pub fn of(&self, request: &RecordedRequest<'_>) -> Known<&'static str> {
        let learned = request.agent.and_then(|agent| self.0.get(agent)).copied().unwrap_or(0);
        match learned | request.encoding.and_then(bit).unwrap_or(0) {
            // Every browser takes gzip, and Brotli where nobody on the way can meddle with it.
            0 if request.agent.is_some_and(|agent| agents::read(agent).browser.is_some()) => {
                Known::Is(if request.scheme == Some("https") { "br, gzip" } else { "gzip" })
            }
            0 => Known::Unknown,
            bits => Known::Is(written(bits)),
        }
    }
}

/// The bit of a coding.
fn bit(coding: &str) -> Option<u8> {
    Codec::ALL.iter().position(|codec| codec.name() == coding).map(|nth| 1 << nth)
}

/// Codings as a field names them: one text for each set of them, made once.
fn written(bits: u8) -> &'static str {
    static WRITTEN: std::sync::OnceLock<Vec<String>> = std::sync::OnceLock::new();
    let all = WRITTEN.get_or_init(|| {
        let of = |bits: u32| {
            let names = Codec::ALL.iter().enumerate().filter(|(nth, _)| bits & (1 << nth) != 0);
            names.map(|(_, codec)| codec.name()).collect::<Vec<_>>().join(", ")
        };
        (0..1 << Codec::ALL.len()).map(of).collect()
    });
    all.get(usize::from(bits)).map_or("", String::as_str)
}

/// Texts of a request that facts borrow and that its row does not hold.
#[derive(Debug, Default)]
pub struct Owned {
    authorization: Option<String>,
    host: Option<String>,
}

impl Owned {
    /// What a decision by some configuration needs of a request.
    pub fn of(request: &RecordedRequest<'_>, config: &Config) -> Self {
        let credentials = |user: &str| format!("Basic {}", BASE64_STANDARD.encode(format!("{user}:")));
        // Without a host in the log it was one of the site's.
        let of_site = || {
            let id = config.site_named(request.site?).ok()?;
            let site = config.site(id);
            site.main_host.as_ref().or(site.hosts.first()).map(|host| host.value.replace('*', "any"))
        };
        Owned {
            authorization: request.user.map(credentials),
            host: if request.host.is_none() { of_site() } else { None },
        }
    }
}

/// The header fields that a row tells of.
pub fn fields<'r>(
    request: &RecordedRequest<'r>,
    owned: &'r Owned,
    around: &Surroundings,
) -> LoggedFields<'r> {
    let or = |value: Option<&'r str>, is_absent: bool| match value {
        Some(value) => Known::Is(value),
        None if is_absent => Known::Absent,
        None => Known::Unknown,
    };
    LoggedFields {
        agent: or(request.agent, request.is_complete()),
        referrer: or(request.referrer, request.is_complete() || request.agent.is_some()),
        accept_encoding: around.accepted.of(request),
        // Who had not signed in may have sent nothing, or something wrong.
        authorization: or(owned.authorization.as_deref(), true),
    }
}

/// What is known of a request.
pub fn facts<'r>(
    request: &RecordedRequest<'r>,
    owned: &'r Owned,
    fields: &'r LoggedFields<'r>,
    around: &'r Surroundings,
) -> Facts<'r> {
    let (host, port) = match request.host.map(split_port) {
        Some((host, port)) => (Some(host), port.map_or(Known::Unknown, Known::Is)),
        None => (owned.host.as_deref(), Known::Unknown),
    };
    let client: Option<IpAddr> = request.client.and_then(|client| client.parse().ok());
    let country = match (&around.countries, client) {
        (Some(countries), Some(client)) => Known::from(countries.of(client)),
        _ => Known::Unknown,
    };
    let known = |value: Option<&'r str>| value.map_or(Known::Unknown, Known::Is);
    Facts {
        client: client.map_or(Known::Unknown, Known::Is),
        country,
        scheme: match request.scheme {
            Some("https") => Known::Is(Scheme::Https),
            Some("http") => Known::Is(Scheme::Http),
            _ => Known::Unknown,
        },
        agents: Some(read_agent),
        protocol: request.protocol.and_then(protocol).map_or(Known::Unknown, Known::Is),
        host: known(host),
        port,
        method: Known::Is(request.method.unwrap_or("GET")),
        path: known(request.path),
        query: request.query.into(),
        fields: Fields::Logged(fields),
        time: local(request.time, &around.zone).map_or(Known::Unknown, Known::Is),
        ..Facts::UNKNOWN
    }
}

/// When a request came in, by local clocks.
pub fn local(time: i64, zone: &TimeZone) -> Option<LocalTime> {
    let stamp = Timestamp::from_millisecond(time).ok()?;
    Some(LocalTime::from(&stamp.to_zoned(zone.clone())))
}

/// A host and the port beside it.
fn split_port(host: &str) -> (&str, Option<u16>) {
    match host.rsplit_once(':') {
        Some((name, port)) if !name.contains(':') || name.ends_with(']') => match port.parse() {
            Ok(port) => (name, Some(port)),
            Err(_) => (host, None),
        },
        _ => (host, None),
    }
}

fn protocol(written: &str) -> Option<&'static str> {
    ["HTTP/1.0", "HTTP/1.1", "HTTP/2", "HTTP/2.0", "HTTP/3"].into_iter().find(|known| *known == written)
}
