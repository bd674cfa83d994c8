//! What is known of one request, under the names that rules, layouts and the console use.
//!
//! A fact is *known*, *absent* (the request had none) or *unknown* (whoever tells us could not know: an
//! access log has no cookies). The difference matters when recorded requests are run through a
//! configuration: an unknown fact must never be taken for an absent one.
//!
//! [`FACTS`] is the one list; a [`FactName`] is an entry of it, with its argument where it is a family. [`Facts`]
//! borrow everything; making them allocates nothing.
//!
//! ```
//! use exedra_answering::facts::{FACTS, FactName, Facts, Known, Scheme};
//! let facts = Facts { scheme: Known::Is(Scheme::Https), query: Known::Is("day=14+Sep"), ..Facts::UNKNOWN };
//! assert_eq!(facts.text(&FactName::Scheme), Known::Is("https".into()));
//! let day = FactName::of_family("parameter", "day").unwrap();
//! assert_eq!(facts.text(&day), Known::Is("14 Sep".into()));
//! assert_eq!(facts.text(&FactName::Agent), Known::Unknown, "nobody recorded the header fields");
//! assert!(FACTS.iter().any(|fact| fact.name == "client" && fact.kind == "address"));
//! ```

pub mod logged;
pub mod recorder;

pub use logged::{LoggedField, LoggedFields};
pub use recorder::{Dependence, Ground, RecordedFacts};

use exedra_common::Column;
use exedra_reading::classify::agents;
use form_urlencoded::parse;
use http::{HeaderMap, HeaderName, header};
use percent_encoding::percent_decode_str;
use std::borrow::Cow;
use std::fmt;
use std::net::{IpAddr, SocketAddr};

/// One thing that may be known of a request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Known<T> {
    /// It is this.
    Is(T),
    /// The request certainly had none.
    Absent,
    /// Nobody here can tell.
    Unknown,
}

impl<T> Known<T> {
    /// The value, where there is one; absent and unknown both give `None`.
    pub fn value(self) -> Option<T> {
        match self {
            Known::Is(value) => Some(value),
            Known::Absent | Known::Unknown => None,
        }
    }

    /// The same, another form of the value.
    pub fn map<U>(self, form: impl FnOnce(T) -> U) -> Known<U> {
        match self {
            Known::Is(value) => Known::Is(form(value)),
            Known::Absent => Known::Absent,
            Known::Unknown => Known::Unknown,
        }
    }
}

impl<T> From<Option<T>> for Known<T> {
    /// For sources that see everything: `None` is absent.
    fn from(option: Option<T>) -> Self {
        option.map_or(Known::Absent, Known::Is)
    }
}

/// The scheme a request came in by (RFC 9110 §4.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Scheme {
    /// Without TLS.
    Http,
    /// With TLS.
    Https,
}

impl Scheme {
    /// The scheme as it stands in an address.
    pub fn as_str(self) -> &'static str {
        match self {
            Scheme::Http => "http",
            Scheme::Https => "https",
        }
    }

    /// The port that goes without saying (RFC 9110 §4.2).
    pub fn port(self) -> u16 {
        match self {
            Scheme::Http => 80,
            Scheme::Https => 443,
        }
    }
}

/// The header fields of a request, or that nobody recorded them.
#[derive(Debug, Clone, Copy)]
pub enum Fields<'a> {
    /// All of them.
    All(&'a HeaderMap),
    /// Only these stand in a log: whether there were others, nobody knows.
    Logged(&'a LoggedFields<'a>),
    /// Not recorded.
    Unknown,
}

/// When a request came in, by the clocks of the service's time zone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LocalTime {
    /// The day.
    pub date: jiff::civil::Date,
    /// The hour of the day, 0 to 23.
    pub hour: u8,
}

impl From<&jiff::Zoned> for LocalTime {
    fn from(time: &jiff::Zoned) -> Self {
        LocalTime { date: time.date(), hour: u8::try_from(time.hour()).unwrap_or(0) }
    }
}

/// The days of the week, as facts name them.
pub const WEEKDAYS: [&str; 7] =
    ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];

/// A part of what an agent says of itself, as reports understand it. A program that asks by itself has none of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AgentPart {
    /// The browser.
    Browser,
    /// The operating system.
    System,
    /// `phone`, `tablet` or `computer`.
    Device,
}

/// Whoever understands agents. They are asked only when somebody wants to know: it takes its time.
pub type ReadAgent = fn(&str, AgentPart) -> Option<String>;

/// Agents as reports understand them.
pub fn read_agent(agent: &str, part: AgentPart) -> Option<String> {
    let read = agents::read(agent);
    match part {
        AgentPart::Browser => read.browser.clone(),
        AgentPart::System => read.system.clone(),
        AgentPart::Device => read.device.map(str::to_owned),
    }
}

/// One request, as the decision sees it.
#[derive(Debug, Clone, Copy)]
pub struct Facts<'a> {
    /// Address of the client, after trusted forwarders have had their say.
    pub client: Known<IpAddr>,
    /// Country of that address: two letters (ISO 3166-1).
    pub country: Known<&'a str>,
    /// How the request came in.
    pub scheme: Known<Scheme>,
    /// Version of TLS, as in `1.3`.
    pub tls: Known<&'static str>,
    /// The name that the client asked for while the connection was secured (RFC 6066 §3).
    pub tls_name: Known<&'a str>,
    /// The first name of the certificate that it was shown.
    pub certificate: Known<&'a str>,
    /// Address and port of ours that the connection came to.
    pub server: Known<SocketAddr>,
    /// Whoever understands what the client's agent says of itself.
    pub agents: Option<ReadAgent>,
    /// Protocol and its version, as in `HTTP/1.1`.
    pub protocol: Known<&'static str>,
    /// Host without its port, as the client wrote it (RFC 9110 §7.2).
    pub host: Known<&'a str>,
    /// Port that the client named beside the host; absent when it named none.
    pub port: Known<u16>,
    /// Method token, case-sensitive (RFC 9110 §9.1).
    pub method: Known<&'a str>,
    /// Path as it came over the wire, before any decoding.
    pub path: Known<&'a str>,
    /// Query without its question mark.
    pub query: Known<&'a str>,
    /// Header fields.
    pub fields: Fields<'a>,
    /// When it came in, by local clocks.
    pub time: Known<LocalTime>,
    /// The same, in seconds since 1970 UTC.
    pub now: Known<i64>,
}

impl<'a> Facts<'a> {
    /// A request of which nothing is known.
    pub const UNKNOWN: Facts<'static> = Facts {
        client: Known::Unknown,
        country: Known::Unknown,
        scheme: Known::Unknown,
        tls: Known::Unknown,
        tls_name: Known::Unknown,
        certificate: Known::Unknown,
        server: Known::Unknown,
        agents: None,
        protocol: Known::Unknown,
        host: Known::Unknown,
        port: Known::Unknown,
        method: Known::Unknown,
        path: Known::Unknown,
        query: Known::Unknown,
        fields: Fields::Unknown,
        time: Known::Unknown,
        now: Known::Unknown,
    };

    /// The first value of a header field, where it is text.
    pub fn field(&self, name: &HeaderName) -> Known<&'a str> {
        match self.fields {
            Fields::All(map) => map.get(name).and_then(|value| value.to_str().ok()).into(),
            Fields::Logged(fields) => fields.get(name),
            Fields::Unknown => Known::Unknown,
        }
    }

    /// A header field as rules see it: several lines are one (RFC 9110 §5.3), octets that are no text are replaced.
    pub fn whole_field(&self, name: &HeaderName) -> Known<Cow<'a, str>> {
        let map = match self.fields {
            Fields::All(map) => map,
            Fields::Logged(fields) => return fields.get(name).map(Cow::Borrowed),
            Fields::Unknown => return Known::Unknown,
        };
        let mut lines = map.get_all(name).iter().map(|value| String::from_utf8_lossy(value.as_bytes()));
        let Some(first) = lines.next() else { return Known::Absent };
        Known::Is(lines.fold(first, |all, line| format!("{all}, {line}").into()))
    }

    /// A cookie by its name (RFC 6265 §4.2), without the quotes around it.
    pub fn cookie(&self, name: &str) -> Known<&'a str> {
        let Fields::All(map) = self.fields else { return Known::Unknown };
        let lines = map.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
        let pairs = lines.flat_map(|line| line.split(';'));
        let mut found = pairs.filter_map(|pair| pair.trim().split_once('='));
        found.find(|(key, _)| *key == name).map(|(_, value)| value.trim_matches('"')).into()
    }

    /// A parameter of the query as it is written, still encoded: the first of its name.
    pub fn raw_parameter(&self, name: &str) -> Known<&'a str> {
        match self.query {
            Known::Unknown => Known::Unknown,
            Known::Absent => Known::Absent,
            Known::Is(query) => {
                let pairs = query.split('&').filter(|pair| !pair.is_empty());
                let mut found = pairs.map(|pair| pair.split_once('=').unwrap_or((pair, "")));
                found.find(|(key, _)| same_key(key, name)).map(|(_, value)| value).into()
            }
        }
    }

    fn agent(&self, part: AgentPart) -> Known<Cow<'a, str>> {
        let Some(read) = self.agents else { return Known::Unknown };
        match self.whole_field(&header::USER_AGENT) {
            Known::Unknown => Known::Unknown,
            agent => agent.value().and_then(|agent| read(&agent, part)).map(Cow::Owned).into(),
        }
    }

    /// A fact as a text that people and conditions read: decoded where it was encoded.
    pub fn text(&self, name: &FactName) -> Known<Cow<'a, str>> {
        match name {
            FactName::Client => self.client.map(|client| client.to_string().into()),
            FactName::Country => self.country.map(Cow::Borrowed),
            FactName::Host => self.host.map(Cow::Borrowed),
            FactName::Scheme => self.scheme.map(|scheme| scheme.as_str().into()),
            FactName::Port => self.port.map(|port| port.to_string().into()),
            FactName::Method => self.method.map(Cow::Borrowed),
            FactName::Path => self.path.map(Cow::Borrowed),
            FactName::Query => self.query.map(Cow::Borrowed),
            FactName::Agent => self.whole_field(&header::USER_AGENT),
            FactName::Referrer => self.whole_field(&header::REFERER),
            FactName::Protocol => self.protocol.map(Cow::Borrowed),
            FactName::Tls => self.tls.map(Cow::Borrowed),
            FactName::TlsName => self.tls_name.map(Cow::Borrowed),
            FactName::Certificate => self.certificate.map(Cow::Borrowed),
            FactName::ServerAddress => {
                self.server.map(|server| server.ip().to_canonical().to_string().into())
            }
            FactName::ServerPort => self.server.map(|server| server.port().to_string().into()),
            FactName::Browser => self.agent(AgentPart::Browser),
            FactName::System => self.agent(AgentPart::System),
            FactName::Device => self.agent(AgentPart::Device),
            // Only the decision knows who has signed in.
            FactName::User => Known::Unknown,
            FactName::Hour => self.time.map(|time| time.hour.to_string().into()),
            FactName::Weekday => self.time.map(|time| weekday(&time).into()),
            FactName::Date => self.time.map(|time| time.date.to_string().into()),
            FactName::Parameter(key) => self.raw_parameter(key).map(decoded_value),
            FactName::Field(name) => self.whole_field(name),
            FactName::Cookie(name) => self.cookie(name).map(Cow::Borrowed),
        }
    }
}

/// The name of a day of the week.
pub fn weekday(time: &LocalTime) -> &'static str {
    let offset = time.date.weekday().to_monday_zero_offset();
    WEEKDAYS[usize::try_from(offset).unwrap_or(0) % WEEKDAYS.len()]
}

/// Whether the key of a parameter, perhaps encoded, is a name.
fn same_key(key: &str, name: &str) -> bool {
    match key.bytes().any(|octet| matches!(octet, b'%' | b'+')) {
        true => parse(key.as_bytes()).next().is_some_and(|(key, _)| key == name),
        false => key == name,
    }
}

/// The value of a parameter as whoever filled in the form wrote it.
fn decoded_value(raw: &str) -> Cow<'_, str> {
    if !raw.bytes().any(|octet| matches!(octet, b'%' | b'+')) {
        return Cow::Borrowed(raw);
    }
    let spaced = raw.replace('+', " ");
    Cow::Owned(percent_decode_str(&spaced).decode_utf8_lossy().into_owned())
}

/// A fact by its name: what conditions test and templates put in.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum FactName {
    /// Address of the client.
    Client,
    /// Its country.
    Country,
    /// Host asked for.
    Host,
    /// Scheme.
    Scheme,
    /// Port named beside the host.
    Port,
    /// Method.
    Method,
    /// Path.
    Path,
    /// Query.
    Query,
    /// What the client calls itself.
    Agent,
    /// The page that linked here.
    Referrer,
    /// Protocol and version.
    Protocol,
    /// Version of TLS.
    Tls,
    /// The name asked for by TLS.
    TlsName,
    /// The certificate that was shown.
    Certificate,
    /// The address of ours that was asked.
    ServerAddress,
    /// The port of ours that was asked.
    ServerPort,
    /// The client's browser.
    Browser,
    /// Its operating system.
    System,
    /// Its kind of device.
    Device,
    /// Who has signed in.
    User,
    /// Hour of the day.
    Hour,
    /// Day of the week.
    Weekday,
    /// Day.
    Date,
    /// One parameter of the query.
    Parameter(Box<str>),
    /// One header field.
    Field(HeaderName),
    /// One cookie.
    Cookie(Box<str>),
}

/// Names of facts that have no argument.
const PLAIN: [(&str, FactName); 23] = [
    ("client", FactName::Client),
    ("country", FactName::Country),
    ("host", FactName::Host),
    ("scheme", FactName::Scheme),
    ("port", FactName::Port),
    ("method", FactName::Method),
    ("path", FactName::Path),
    ("query", FactName::Query),
    ("agent", FactName::Agent),
    ("referrer", FactName::Referrer),
    ("protocol", FactName::Protocol),
    ("tls", FactName::Tls),
    ("tls_name", FactName::TlsName),
    ("certificate", FactName::Certificate),
    ("server_address", FactName::ServerAddress),
    ("server_port", FactName::ServerPort),
    ("browser", FactName::Browser),
    ("system", FactName::System),
    ("device", FactName::Device),
    ("user", FactName::User),
    ("hour", FactName::Hour),
    ("weekday", FactName::Weekday),
    ("date", FactName::Date),
];

impl FactName {
    /// The fact of a name without an argument.
    pub fn plain(name: &str) -> Option<FactName> {
        PLAIN.iter().find(|(known, _)| *known == name).map(|(_, fact)| fact.clone())
    }

    /// The fact of a family and its argument. `None` where there is no such family, or no such argument can be.
    pub fn of_family(family: &str, argument: &str) -> Option<FactName> {
        match family {
            "parameter" => Some(FactName::Parameter(argument.into())),
            "field" => argument.parse().ok().map(FactName::Field),
            "cookie" => Some(FactName::Cookie(argument.into())),
            _ => None,
        }
    }

    /// Whether letters are compared without regard to their case.
    pub fn ignores_case(&self) -> bool {
        matches!(
            self,
            FactName::Host
                | FactName::Scheme
                | FactName::Country
                | FactName::Weekday
                | FactName::TlsName
                | FactName::Certificate
                | FactName::Browser
                | FactName::System
                | FactName::Device
        )
    }
}

impl FactName {
    /// The only values it has; empty where there may be any.
    pub fn values(&self) -> &'static [&'static str] {
        let named = PLAIN.iter().find(|(_, fact)| fact == self);
        let fact = named.and_then(|(name, _)| FACTS.iter().find(|fact| fact.name == *name));
        fact.map_or(&[], Fact::values)
    }
}

impl fmt::Display for FactName {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            FactName::Parameter(name) => write!(out, "parameter:{name}"),
            FactName::Field(name) => write!(out, "field:{name}"),
            FactName::Cookie(name) => write!(out, "cookie:{name}"),
            plain => {
                let name = PLAIN.iter().find(|(_, fact)| fact == plain).map_or("", |(name, _)| name);
                out.write_str(name)
            }
        }
    }
}

/// An entry of the list of facts.
#[derive(Debug, Clone, Copy)]
pub struct Fact {
    /// The name rules and templates use.
    pub name: &'static str,
    /// What kind of value it is.
    pub kind: &'static str,
    /// How a rule asks for it.
    pub example: &'static str,
    /// What it means.
    pub about: &'static str,
    /// The only values it has, where no column of logs of the same name says them.
    own_values: &'static [&'static str],
}

impl Fact {
    /// The only values it has; empty where there may be any. What logs call by the same name has the same.
    pub fn values(&self) -> &'static [&'static str] {
        match Column::named(self.name) {
            Some(column) if self.own_values.is_empty() => column.declaration().values,
            _ => self.own_values,
        }
    }

    const fn one_of(self, own_values: &'static [&'static str]) -> Fact {
        Fact { own_values, ..self }
    }
}

const fn fact(name: &'static str, kind: &'static str, example: &'static str, about: &'static str) -> Fact {
    Fact { name, kind, example, about, own_values: &[] }
}

/// Every fact a request has.
pub const FACTS: &[Fact] = &[
    fact(
        "client",
        "address",
        "client = [\"203.0.113.0/24\", \"!203.0.113.7\"]",
        "where the request came from, after trusted forwarders; addresses and networks",
    ),
    fact("country", "text", "country = \"FO\"", "of the client, by `countries` (ISO 3166-1, two letters)"),
    fact("scheme", "text", "scheme = \"http\"", "http or https, as the request came in"),
    fact("tls", "text", "tls = \"1.2\"", "version of TLS").one_of(&["1.2", "1.3"]),
    fact("tls_name", "text", "tls_name = false", "the name asked for by TLS (RFC 6066 §3)"),
    fact("certificate", "text", "certificate = \"*.lindry.example\"", "first name of the certificate shown"),
    fact("server_address", "address", "server_address = \"192.0.2.10\"", "address of ours that was asked"),
    fact("server_port", "number", "server_port = 7343", "port of ours that was asked"),
    fact("protocol", "text", "protocol = \"HTTP/1.0\"", "protocol and its version")
        .one_of(&["HTTP/1.0", "HTTP/1.1", "HTTP/2.0"]),
    fact("host", "text", "host = \"www.*\"", "the host asked for, without its port"),
    fact("port", "number", "port = 7380", "the port named beside the host"),
    fact("method", "text", "method = \"!GET\"", "what the client wants done (RFC 9110 §9)"),
    fact("path", "text", "path = \"*.pdf\"", "always from the first slash, without the query"),
    fact("query", "text", "query = false", "what follows the question mark"),
    fact("agent", "text", "agent = \"LindryKiosk/*\"", "what the client calls itself"),
    fact("browser", "text", "browser = \"firefox\"", "of a person, as reports tell it; programs have none"),
    fact("system", "text", "system = \"android\"", "of a person's device, as reports tell it"),
    fact("device", "text", "device = [\"phone\", \"tablet\"]", "phone, tablet or computer, of a person"),
    fact("referrer", "text", "referrer = \"https://forum.example/*\"", "the page that linked here"),
    fact("user", "text", "user = \"anna\"", "who has signed in, by a rule before this one"),
    fact("hour", "number", "hour = \"22-5\"", "0 to 23, in the service's time zone"),
    fact("weekday", "text", "weekday = [\"saturday\", \"sunday\"]", "in the service's time zone"),
    fact(
        "date",
        "date",
        "date = \"2030-12-01..2031-01-06\"",
        "in the service's time zone, both ends included",
    ),
    fact("parameter", "family", "parameter = { season = \"winter\" }", "a parameter of the query, decoded"),
    fact("field", "family", "field = { Accept-Language = \"fo*\" }", "a header field of the request"),
    fact("cookie", "family", "cookie = { tongue = true }", "a cookie of the request"),
];

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn every_name_has_its_place_in_the_list_and_says_itself() {
        for fact in FACTS {
            let name = match fact.kind {
                "family" => FactName::of_family(fact.name, "x").unwrap(),
                _ => FactName::plain(fact.name).unwrap(),
            };
            assert!(name.to_string().starts_with(fact.name));
        }
        assert_eq!(FACTS.len(), PLAIN.len() + 3);
    }

    #[rstest]
    #[case("season", "winter", "winter")]
    #[case("name", "Anna%20B", "Anna B")]
    #[case("plus", "a+b", "a b")]
    #[case("bare", "", "")]
    #[case("with space", "1", "1")]
    fn parameters(#[case] name: &str, #[case] raw: &str, #[case] decoded: &str) {
        let query = "season=winter&season=summer&name=Anna%20B&plus=a+b&bare&with%20space=1";
        let facts = Facts { query: Known::Is(query), ..Facts::UNKNOWN };
        assert_eq!(facts.raw_parameter(name), Known::Is(raw));
        assert_eq!(facts.text(&FactName::Parameter(name.into())).value().unwrap(), decoded);
        assert_eq!(facts.raw_parameter("none"), Known::Absent);
        assert_eq!(Facts::UNKNOWN.raw_parameter(name), Known::Unknown);
    }

    #[test]
    fn fields_and_cookies() {
        let mut map = HeaderMap::new();
        map.append("cookie", "a=1; tongue=\"fo\"".parse().unwrap());
        map.append("cookie", "late=x".parse().unwrap());
        map.append("via", "one".parse().unwrap());
        map.append("via", "two".parse().unwrap());
        map.append("user-agent", http::HeaderValue::from_bytes(b"B\xe5t/1").unwrap());
        let facts = Facts { fields: Fields::All(&map), ..Facts::UNKNOWN };
        assert_eq!(facts.cookie("tongue"), Known::Is("fo"));
        assert_eq!(facts.cookie("late"), Known::Is("x"));
        assert_eq!(facts.cookie("ton"), Known::Absent);
        assert_eq!(facts.whole_field(&header::VIA).value().unwrap(), "one, two");
        assert_eq!(facts.text(&FactName::Agent).value().unwrap(), "B\u{fffd}t/1");
        assert_eq!(Facts::UNKNOWN.cookie("a"), Known::Unknown);
    }
}
