//! Facts read through a recorder: what an answer depends on is what was read while it was decided.
//!
//! An answer may be given again, from memory here or by a cache in front, only to requests for which everything it was
//! decided by is the same. A list of that, kept by hand beside the code that decides, is wrong on the day somebody forgets
//! it, and then one visitor is sent what was made for another. So whoever decides has no [`Facts`], only
//! [`RecordedFacts`]: reading one records it, and [`Dependence`] is what was read.
//!
//! The law, held by a property test: a fact that is not in the dependence of an answer may have any value without
//! changing the answer.
//!
//! ```
//! use exedra_answering::facts::{Facts, Fields, Known, RecordedFacts};
//! let headers = [(http::header::ACCEPT_LANGUAGE, "fo".parse().unwrap())].into_iter().collect();
//! let client = Known::Is("192.0.2.7".parse().unwrap());
//! let facts = RecordedFacts::new(Facts { fields: Fields::All(&headers), client, ..Facts::UNKNOWN });
//! assert!(!facts.dependence().is_beyond_octets());
//! facts.field(&http::header::ACCEPT_LANGUAGE);
//! assert!(facts.dependence().vary().eq([&http::header::ACCEPT_LANGUAGE]));
//! facts.client();
//! assert!(facts.dependence().is_on_client(), "it may not be given to anybody else");
//! ```

use super::{FactName, Facts, Fields, Known, LocalTime, Scheme};
use http::{HeaderName, header};
use smallvec::SmallVec;
use std::borrow::Cow;
use std::cell::{Cell, RefCell};
use std::net::IpAddr;

/// What an answer depends on, besides the method, host, path and query asked for and what stands on the disk.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Dependence {
    read: u32,
    fields: SmallVec<[HeaderName; 2]>,
}

/// Fields that the decision itself reads, and rules most often; each has a bit.
const NAMED: [HeaderName; 14] = [
    header::ACCEPT_ENCODING,
    header::IF_NONE_MATCH,
    header::IF_MODIFIED_SINCE,
    header::IF_MATCH,
    header::IF_UNMODIFIED_SINCE,
    header::RANGE,
    header::IF_RANGE,
    header::AUTHORIZATION,
    header::ACCEPT,
    header::USER_AGENT,
    header::ORIGIN,
    header::REFERER,
    header::COOKIE,
    header::ACCEPT_LANGUAGE,
];
/// The first so many of them but the very first: caches heed these by rules of their own (RFC 9110 §13, §14; RFC 9111
/// §3.5), so that they do not stand in `Vary`.
const HEEDED_ANYWAY: std::ops::RangeInclusive<usize> = 1..=7;

const CLIENT: u32 = 1 << 16;
const COUNTRY: u32 = 1 << 17;
const SCHEME: u32 = 1 << 18;
const TLS: u32 = 1 << 19;
const PROTOCOL: u32 = 1 << 20;
const TIME: u32 = 1 << 21;
const PASSWORD: u32 = 1 << 22;
/// What the query says, and not only that it is kept.
const QUERY: u32 = 1 << 24;
/// What is so of the connection alone: where it came to, and by which certificate.
const CONNECTION: u32 = 1 << 23;

impl Dependence {
    /// Whether it is on something that can differ between two requests that are octet for octet the same and came by
    /// the same scheme and protocol: who asks, from where, when, or whether a password is right.
    pub fn is_beyond_octets(&self) -> bool {
        self.read & (CLIENT | COUNTRY | TIME | PASSWORD | CONNECTION) != 0
    }

    /// Whether it is on who asks, as far as no field of the request tells: a cache that serves many must not keep it.
    pub fn is_on_client(&self) -> bool {
        self.read & (CLIENT | COUNTRY | CONNECTION) != 0
    }

    /// Whether a fact had a say. Those that a request is addressed by (method, host, port, path, query) always have.
    pub fn is_on(&self, name: &FactName) -> bool {
        let on = |bit: u32| self.read & bit != 0;
        match name {
            FactName::Client => on(CLIENT),
            FactName::Country => on(COUNTRY),
            FactName::Scheme => on(SCHEME),
            FactName::Tls => on(TLS),
            FactName::TlsName | FactName::Certificate | FactName::ServerAddress | FactName::ServerPort => {
                on(CONNECTION)
            }
            FactName::Protocol => on(PROTOCOL),
            FactName::Hour | FactName::Weekday | FactName::Date => on(TIME),
            FactName::User => on(PASSWORD),
            FactName::Agent | FactName::Browser | FactName::System | FactName::Device => {
                self.is_on_field(&header::USER_AGENT)
            }
            FactName::Referrer => self.is_on_field(&header::REFERER),
            FactName::Cookie(_) => self.is_on_field(&header::COOKIE),
            FactName::Field(name) => self.is_on_field(name),
            FactName::Method
            | FactName::Host
            | FactName::Port
            | FactName::Path
            | FactName::Query
            | FactName::Parameter(_) => true,
        }
    }

    /// Whether what the query says had a say, and not only that there is one.
    pub fn is_on_content_of_query(&self) -> bool {
        self.read & QUERY != 0
    }

    /// Whether it is when the request came in.
    pub fn is_on_time(&self) -> bool {
        self.read & TIME != 0
    }

    /// Whether who has signed in had a say.
    pub fn is_on_login(&self) -> bool {
        self.read & PASSWORD != 0 || self.is_on_field(&header::AUTHORIZATION)
    }

    /// Whether a header field had a say.
    pub fn is_on_field(&self, name: &HeaderName) -> bool {
        match NAMED.iter().position(|named| named == name) {
            Some(nth) => self.read & (1 << nth) != 0,
            None => self.fields.contains(name),
        }
    }

    /// Fields that belong into `Vary` (RFC 9110 §12.5.5).
    pub fn vary(&self) -> impl Iterator<Item = &HeaderName> {
        let named = NAMED
            .iter()
            .enumerate()
            .filter(|(nth, _)| self.read & (1 << nth) != 0 && !HEEDED_ANYWAY.contains(nth));
        named.map(|(_, name)| name).chain(self.fields.iter().filter(|name| **name != header::HOST))
    }
}

/// The facts of a request, which remember what was read of them.
#[derive(Debug)]
pub struct RecordedFacts<'a> {
    facts: Facts<'a>,
    read: Cell<u32>,
    fields: RefCell<SmallVec<[HeaderName; 2]>>,
    /// Facts that a condition or a template asked for in vain, and how often any was.
    lacking: RefCell<SmallVec<[FactName; 1]>>,
    asked_in_vain: Cell<u32>,
}

impl<'a> RecordedFacts<'a> {
    /// Of which nothing has been read yet.
    pub fn new(facts: Facts<'a>) -> Self {
        RecordedFacts {
            facts,
            read: Cell::new(0),
            fields: RefCell::default(),
            lacking: RefCell::default(),
            asked_in_vain: Cell::new(0),
        }
    }

    /// What has been read so far.
    pub fn dependence(&self) -> Dependence {
        Dependence { read: self.read.get(), fields: self.fields.borrow().clone() }
    }

    /// The facts for whoever tells how an answer came about. Nothing may be decided by them.
    pub fn unrecorded(&self) -> &Facts<'a> {
        &self.facts
    }

    /// Facts that a condition or a template asked for and nobody knows.
    pub fn lacking(&self) -> SmallVec<[FactName; 1]> {
        self.lacking.borrow().clone()
    }

    /// How often a fact was asked for that nobody knows.
    pub fn asked_in_vain(&self) -> u32 {
        self.asked_in_vain.get()
    }

    /// Something would have been decided by a fact that nobody knows.
    pub(crate) fn record_lack(&self, name: &FactName) {
        self.asked_in_vain.set(self.asked_in_vain.get() + 1);
        let mut lacking = self.lacking.borrow_mut();
        if !lacking.contains(name) {
            lacking.push(name.clone());
        }
    }

    fn record(&self, bits: u32) {
        self.read.set(self.read.get() | bits);
    }

    /// Somebody is about to read this field.
    fn record_field(&self, name: &HeaderName) {
        match NAMED.iter().position(|named| named == name) {
            Some(nth) => self.record(1 << nth),
            None => {
                let mut fields = self.fields.borrow_mut();
                if !fields.contains(name) {
                    fields.push(name.clone());
                }
            }
        }
    }

    /// Whether a password is right, or how often somebody may ask, has had a say.
    pub fn record_password(&self) {
        self.record(PASSWORD);
    }

    /// Address of the client.
    pub fn client(&self) -> Known<IpAddr> {
        self.record(CLIENT);
        self.facts.client
    }

    /// The scheme.
    pub fn scheme(&self) -> Known<Scheme> {
        self.record(SCHEME);
        self.facts.scheme
    }

    /// The host.
    pub fn host(&self) -> Known<&'a str> {
        self.facts.host
    }

    /// The port named beside it.
    pub fn port(&self) -> Known<u16> {
        self.facts.port
    }

    /// The method.
    pub fn method(&self) -> Known<&'a str> {
        self.facts.method
    }

    /// The path that was asked for.
    pub fn path(&self) -> Known<&'a str> {
        self.facts.path
    }

    /// The query, for whoever decides by what it says.
    pub fn query(&self) -> Known<&'a str> {
        self.record(QUERY);
        self.facts.query
    }

    /// The query to go on with, whatever it says: an address that keeps it, the order of a listing.
    pub fn kept_query(&self) -> Known<&'a str> {
        self.facts.query
    }

    /// When it came in, by local clocks.
    pub fn time(&self) -> Known<LocalTime> {
        self.record(TIME);
        self.facts.time
    }

    /// Whether a second (since 1970 UTC) has passed, where the time is known. That it has stays so, and is nothing to
    /// depend on; that it has not changes by itself.
    pub fn has_passed(&self, second: i64) -> Option<bool> {
        let passed = self.facts.now.value().map(|now| second < now);
        if passed == Some(false) {
            self.record(TIME);
        }
        passed
    }

    /// The first value of a header field, where it is text.
    pub fn field(&self, name: &HeaderName) -> Known<&'a str> {
        self.record_field(name);
        self.facts.field(name)
    }

    /// A header field of which several lines are one: see [`Facts::whole_field`].
    pub fn whole_field(&self, name: &HeaderName) -> Known<Cow<'a, str>> {
        self.record_field(name);
        self.facts.whole_field(name)
    }

    /// All lines of a header field that are text, as one; `None` where there are none or nobody knows.
    pub fn joined(&self, name: &HeaderName) -> Option<Cow<'a, str>> {
        self.record_field(name);
        let map = match self.facts.fields {
            Fields::All(map) => map,
            Fields::Logged(_) | Fields::Unknown => {
                return self.facts.field(name).value().map(Cow::Borrowed);
            }
        };
        let mut lines = map.get_all(name).iter().filter_map(|line| line.to_str().ok());
        let first = lines.next()?;
        Some(lines.fold(first.into(), |all, line| format!("{all}, {line}").into()))
    }

    /// A parameter of the query as it is written.
    pub fn raw_parameter(&self, name: &str) -> Known<&'a str> {
        self.record(QUERY);
        let value = self.facts.raw_parameter(name);
        if value == Known::Unknown {
            self.record_lack(&FactName::Parameter(name.into()));
        }
        value
    }

    /// A fact as a text, as [`Facts::text`] gives it.
    pub fn text(&self, name: &FactName) -> Known<Cow<'a, str>> {
        match name {
            FactName::Client => self.record(CLIENT),
            FactName::Country => self.record(COUNTRY),
            FactName::Scheme => self.record(SCHEME),
            FactName::Protocol => self.record(PROTOCOL),
            FactName::Tls => self.record(TLS),
            FactName::User => self.record(PASSWORD),
            FactName::Hour | FactName::Weekday | FactName::Date => self.record(TIME),
            FactName::Agent | FactName::Browser | FactName::System | FactName::Device => {
                self.record_field(&header::USER_AGENT);
            }
            FactName::TlsName | FactName::Certificate | FactName::ServerAddress | FactName::ServerPort => {
                self.record(CONNECTION)
            }
            FactName::Referrer => self.record_field(&header::REFERER),
            FactName::Cookie(_) => self.record_field(&header::COOKIE),
            FactName::Field(name) => self.record_field(name),
            FactName::Query | FactName::Parameter(_) => self.record(QUERY),
            FactName::Method | FactName::Host | FactName::Port | FactName::Path => {}
        }
        let value = self.facts.text(name);
        if value == Known::Unknown {
            self.record_lack(name);
        }
        value
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use http::HeaderMap;

    #[test]
    fn what_was_read_is_what_is_depended_on_and_what_varies() {
        let map = HeaderMap::new();
        let facts = Facts { fields: Fields::All(&map), now: Known::Is(100), ..Facts::UNKNOWN };
        let facts = RecordedFacts::new(facts);
        assert_eq!(facts.dependence(), Dependence::default());
        assert_eq!(facts.has_passed(99), Some(true));
        assert!(!facts.dependence().is_beyond_octets(), "what has passed stays passed");
        facts.field(&header::IF_NONE_MATCH);
        facts.field(&header::ACCEPT_ENCODING);
        facts.text(&FactName::Field("x-tide".parse().unwrap()));
        facts.text(&FactName::Cookie("tongue".into()));
        facts.text(&FactName::Host);
        let read = facts.dependence();
        assert!(!read.is_beyond_octets() && read.is_on_field(&header::IF_NONE_MATCH));
        let varies: Vec<&str> = read.vary().map(HeaderName::as_str).collect();
        assert_eq!(varies, ["accept-encoding", "cookie", "x-tide"]);
        facts.has_passed(100);
        facts.client();
        assert!(facts.dependence().is_beyond_octets() && facts.dependence().is_on_client());
    }
}
