//! Requests that are tried: made from what a rule asks for, so that it fits.
//!
//! ```
//! use exedra_answering::config::understand;
//! let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n";
//! let config = understand(text, std::path::Path::new("")).unwrap();
//! use exedra_answering::check::probe::ways;
//! use exedra_answering::config::SiteId;
//! let ways = ways(&config, SiteId(0));
//! assert_eq!(ways.iter().map(|probe| probe.address()).collect::<Vec<_>>(), ["http://a.example/"]);
//! ```

use super::sample::texts;
use crate::config::{Config, Site, SiteId};
use crate::facts::{AgentPart, FactName, Facts, Fields, Known, LocalTime, RecordedFacts, Scheme};
use crate::rules::when::{Asks, Condition, Entry, Test};
use crate::rules::{Holds, Rule, SoFar};
use base64::Engine;
use http::{HeaderMap, HeaderName, HeaderValue, header};
use std::net::{IpAddr, SocketAddr};

/// A request that is tried.
#[derive(Debug, Clone)]
pub struct Probe {
    /// The scheme that it comes by.
    pub scheme: Scheme,
    /// The host that it names.
    pub host: String,
    /// The port that it names.
    pub port: Option<u16>,
    /// Its path.
    pub path: String,
    /// Its query.
    pub query: Option<String>,
    /// Its method.
    pub method: String,
    headers: HeaderMap,
    client: IpAddr,
    country: Option<String>,
    tls: Option<&'static str>,
    protocol: &'static str,
    server: SocketAddr,
    tls_name: Option<String>,
    certificate: Option<String>,
    time: LocalTime,
}

/// Addresses a client may have where nothing is asked of it, of networks that nobody has (RFC 5737, RFC 3849).
const CLIENTS: [&str; 4] = ["192.0.2.1", "198.51.100.77", "203.0.113.177", "2001:db8::1"];

impl Probe {
    /// A request to a host of a site, of which nothing is asked yet.
    pub fn of(host: &str, scheme: Scheme) -> Self {
        let mut headers = HeaderMap::new();
        headers.insert(header::ACCEPT, HeaderValue::from_static("text/html"));
        Probe {
            scheme,
            host: host.replace('*', "any"),
            port: None,
            path: "/".to_owned(),
            query: None,
            method: "GET".to_owned(),
            headers,
            client: IpAddr::from([192, 0, 2, 1]),
            country: None,
            tls: (scheme == Scheme::Https).then_some("1.3"),
            protocol: "HTTP/1.1",
            server: SocketAddr::from(([192, 0, 2, 10], scheme.port())),
            tls_name: (scheme == Scheme::Https).then(|| host.replace('*', "any")),
            certificate: (scheme == Scheme::Https).then(|| host.replace('*', "any")),
            time: LocalTime { date: jiff::civil::date(2030, 1, 1), hour: 12 },
        }
    }

    /// What the decision sees of it.
    pub fn facts(&self) -> Facts<'_> {
        Facts {
            client: Known::Is(self.client),
            country: self.country.as_deref().into(),
            scheme: Known::Is(self.scheme),
            tls: self.tls.into(),
            tls_name: self.tls_name.as_deref().into(),
            certificate: self.certificate.as_deref().into(),
            server: Known::Is(self.server),
            agents: Some(of_probe),
            protocol: Known::Is(self.protocol),
            host: Known::Is(&self.host),
            port: self.port.into(),
            method: Known::Is(&self.method),
            path: Known::Is(&self.path),
            query: self.query.as_deref().into(),
            fields: Fields::All(&self.headers),
            time: Known::Is(self.time),
            now: Known::Unknown,
        }
    }

    /// The address that it asks for.
    pub fn address(&self) -> String {
        let port = self.port.map(|port| format!(":{port}")).unwrap_or_default();
        let query = self.query.as_ref().map(|query| format!("?{query}")).unwrap_or_default();
        format!("{}://{}{port}{}{query}", self.scheme.as_str(), self.host, self.path)
    }

    /// The same, with what a rule asks for besides its path, as far as that can be had.
    #[must_use]
    pub fn asked_by(mut self, rule: &Rule) -> Self {
        for condition in &rule.when {
            self.satisfy(condition);
        }
        self.set_time(&rule.when);
        self
    }

    /// The same, so that a rule does not fit, as far as that can be had by what it asks for besides its path.
    #[must_use]
    pub fn not_asked_by(mut self, rule: &Rule) -> Self {
        for condition in &rule.when {
            let others: Vec<Probe> = match condition.fact {
                FactName::Hour | FactName::Weekday | FactName::Date => {
                    // The days of a week, and some that no season reaches.
                    let days = (0..8).chain([100, 200, 400, 4000]);
                    let days = days.map(|later| self.time.date.saturating_add(jiff::Span::new().days(later)));
                    let times = days.flat_map(|date| [3, 9, 12, 16, 22].map(|hour| LocalTime { date, hour }));
                    times.map(|time| Probe { time, ..self.clone() }).collect()
                }
                _ => {
                    let changed = |value: Option<String>| {
                        let mut changed = self.clone();
                        changed.set(&condition.fact, value.as_deref());
                        changed
                    };
                    values_against(condition).into_iter().map(changed).collect()
                }
            };
            if let Some(other) = others.into_iter().find(|other| !other.meets(condition, None)) {
                self = other;
                return self;
            }
        }
        self
    }

    /// Whether a condition holds for it.
    fn meets(&self, condition: &Condition, user: Option<&str>) -> bool {
        let so_far = SoFar { user, path: &self.path };
        condition.holds(&RecordedFacts::new(self.facts()), so_far) == Holds::Yes
    }

    fn satisfy(&mut self, condition: &Condition) {
        if self.meets(condition, None) {
            return;
        }
        for value in values(condition) {
            let mut changed = self.clone();
            changed.set(&condition.fact, value.as_deref());
            let user = value.as_deref().filter(|_| condition.fact == FactName::User);
            if changed.meets(condition, user) {
                *self = changed;
                return;
            }
        }
    }

    fn set(&mut self, fact: &FactName, value: Option<&str>) {
        let text = value.unwrap_or_default();
        match fact {
            FactName::Client => self.client = text.parse().unwrap_or(self.client),
            FactName::Country => self.country = value.map(str::to_owned),
            FactName::Host => self.host = text.to_owned(),
            FactName::Scheme => {
                self.scheme = if text.eq_ignore_ascii_case("https") { Scheme::Https } else { Scheme::Http };
            }
            FactName::Port => self.port = text.parse().ok(),
            FactName::Method => self.method = text.to_owned(),
            FactName::Query => self.query = value.map(str::to_owned),
            FactName::Agent => self.set_field(&header::USER_AGENT, value),
            FactName::Referrer => self.set_field(&header::REFERER, value),
            FactName::Field(name) => self.set_field(name, value),
            FactName::Cookie(name) => {
                let cookie = value.map(|value| format!("{name}={value}"));
                self.set_field(&header::COOKIE, cookie.as_deref());
            }
            FactName::User => {
                let pair = base64::prelude::BASE64_STANDARD.encode(format!("{text}:x"));
                self.set_field(&header::AUTHORIZATION, Some(&format!("Basic {pair}")));
            }
            FactName::Parameter(name) => {
                let query = self.query.take().unwrap_or_default();
                let others = form_urlencoded::parse(query.as_bytes()).filter(|(known, _)| *known != **name);
                let mut pairs = form_urlencoded::Serializer::new(String::new());
                pairs.extend_pairs(others);
                if let Some(value) = value {
                    pairs.append_pair(name, value);
                }
                self.query = Some(pairs.finish()).filter(|query| !query.is_empty());
            }
            FactName::Tls => {
                self.tls = ["1.2", "1.3"].into_iter().find(|version| *version == text);
            }
            FactName::Protocol => {
                let known = ["HTTP/1.0", "HTTP/1.1", "HTTP/2.0"];
                self.protocol = known.into_iter().find(|name| *name == text).unwrap_or(self.protocol);
            }
            // The path is made by the pattern, time all at once.
            FactName::ServerAddress => {
                self.server.set_ip(text.parse().unwrap_or(self.server.ip()));
            }
            FactName::ServerPort => self.server.set_port(text.parse().unwrap_or(self.server.port())),
            FactName::TlsName => self.tls_name = value.map(str::to_owned),
            FactName::Certificate => self.certificate = value.map(str::to_owned),
            FactName::Browser => self.set_agent("browser", text),
            FactName::System => self.set_agent("system", text),
            FactName::Device => self.set_agent("device", text),
            FactName::Path | FactName::Hour | FactName::Weekday | FactName::Date => {}
        }
    }

    /// Has the agent say something of itself, in a way that only [`of_probe`] understands.
    fn set_agent(&mut self, part: &str, value: &str) {
        let agent = self.headers.get(&header::USER_AGENT).and_then(|agent| agent.to_str().ok());
        let agent = format!("{}\t{part}={value}", agent.unwrap_or_default());
        self.set_field(&header::USER_AGENT, Some(&agent));
    }

    fn set_field(&mut self, name: &HeaderName, value: Option<&str>) {
        match value.and_then(|value| HeaderValue::from_str(value).ok()) {
            Some(value) => _ = self.headers.insert(name, value),
            None => _ = self.headers.remove(name),
        }
    }

    /// Chooses a time at which all conditions on time hold, if there is one.
    fn set_time(&mut self, conditions: &[Condition]) {
        let on_time: Vec<&Condition> = conditions
            .iter()
            .filter(|condition| matches!(condition.fact, FactName::Hour | FactName::Weekday | FactName::Date))
            .collect();
        let named = on_time.iter().filter_map(|condition| match &condition.asks {
            Asks::Among(entries) => Some(entries),
            Asks::Presence(_) => None,
        });
        let named = named.flatten().filter_map(|entry| match entry.test {
            Test::Dates(from, _) => Some(from),
            _ => None,
        });
        let days = named
            .chain([self.time.date])
            .flat_map(|day| (0..8).map(move |later| day.saturating_add(jiff::Span::new().days(later))));
        for time in days.flat_map(|date| (0..24).map(move |hour| LocalTime { date, hour })) {
            let at = Probe { time, ..self.clone() };
            if on_time.iter().all(|condition| at.meets(condition, None)) {
                self.time = time;
                return;
            }
        }
    }
}

/// What the agent of a request that is tried says of itself.
fn of_probe(agent: &str, part: AgentPart) -> Option<String> {
    let part = match part {
        AgentPart::Browser => "browser=",
        AgentPart::System => "system=",
        AgentPart::Device => "device=",
    };
    agent.split('\t').find_map(|said| said.strip_prefix(part)).map(str::to_owned)
}

/// Values with which a condition may hold; `None` is absence.
fn values(condition: &Condition) -> Vec<Option<String>> {
    let entries: &[Entry] = match &condition.asks {
        Asks::Presence(true) => return vec![Some("x".to_owned())],
        Asks::Presence(false) => return vec![None],
        Asks::Among(entries) => entries,
    };
    let mut values = Vec::new();
    for entry in entries.iter().filter(|entry| !entry.negated) {
        match &entry.test {
            Test::Text(pattern) => values.extend(["x", "", "xy"].map(|rest| Some(pattern.filled(rest)))),
            // Some addresses of a network may be excluded.
            Test::Network(network) => {
                values.extend(network.hosts().take(300).step_by(7).map(|address| Some(address.to_string())));
                values.push(Some(network.network().to_string()));
            }
            Test::Numbers(from, _) => values.push(Some(from.to_string())),
            Test::Regex(regex) => values.extend(texts(regex.as_str()).into_iter().map(Some)),
            Test::Weekday(_) | Test::Dates(..) => {}
        }
    }
    values.push(None);
    values.extend(CLIENTS.map(|client| Some(client.to_owned())));
    values.extend(["x", "GET", "HEAD", "http", "https"].map(|text| Some(text.to_owned())));
    values
}

/// Values with which a condition may not hold: those that it excludes, and those that nobody named.
fn values_against(condition: &Condition) -> Vec<Option<String>> {
    let mut values = Vec::new();
    if let Asks::Among(entries) = &condition.asks {
        for entry in entries.iter().filter(|entry| entry.negated) {
            match &entry.test {
                Test::Text(pattern) => values.push(Some(pattern.filled("x"))),
                Test::Network(network) => values.push(Some(network.network().to_string())),
                Test::Numbers(from, _) => values.push(Some(from.to_string())),
                Test::Regex(regex) => values.extend(texts(regex.as_str()).into_iter().map(Some)),
                Test::Weekday(_) | Test::Dates(..) => {}
            }
        }
    }
    values.push(None);
    values.extend(CLIENTS.map(|client| Some(client.to_owned())));
    let others = ["zz", "1", "GET", "HEAD", "http", "https", "1.2", "1.3", "HTTP/1.0", "HTTP/2.0"];
    values.extend(others.map(|text| Some(text.to_owned())));
    values
}

/// Ways in which a site may be asked: by its main host, another, a name below, with and without HTTPS.
pub fn ways(config: &Config, id: SiteId) -> Vec<Probe> {
    let site: &Site = config.site(id);
    let mut hosts: Vec<&str> = site.main_host.iter().map(|host| host.value.as_str()).collect();
    hosts.extend(
        site.hosts.iter().map(|host| host.value.as_str()).filter(|host| !host.ends_with(".localhost")),
    );
    hosts.dedup();
    hosts.truncate(4);
    let schemes = [Scheme::Http, Scheme::Https];
    let there = schemes
        .into_iter()
        .filter(|scheme| config.listeners.iter().any(|listener| listener.scheme() == *scheme));
    there.flat_map(|scheme| hosts.iter().map(move |host| Probe::of(host, scheme))).collect()
}
