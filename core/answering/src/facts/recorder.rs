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

/// How many header fields have a bit of their own.
const NAMED_FIELDS: usize = 14;
/// Fields that the decision itself reads, and rules most often; each has a bit.
const NAMED: [HeaderName; NAMED_FIELDS] = [
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

/// Declares what is remembered beside header fields, each with a bit of its own.
macro_rules! grounds {
    ($($(#[$doc:meta])* $name:ident,)*) => {
        /// What an answer may depend on beside header fields, and beside what a request is addressed by.
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        pub enum Ground { $($(#[$doc])* $name,)* }

        impl Ground {
            const ALL: &[Ground] = &[$(Ground::$name),*];

            /// Its bit, behind those of the named fields.
            const fn bit(self) -> u32 {
                1 << (NAMED_FIELDS + self as usize)
            }
        }
    };
}

grounds! {
    /// The address of the client.
    Client,
    /// Its country.
    Country,
    /// http or https.
    Scheme,
    /// The version of TLS.
    Tls,
    /// The protocol and its version.
    Protocol,
    /// When the request came in.
    Time,
    /// Who has signed in, and whether the password is right.
    Password,
    /// What is so of the connection alone: where it came to, and by which certificate.
    Connection,
    /// What the query says, and not only that it is kept.
    Query,
}

const _: () = assert!(NAMED_FIELDS + Ground::ALL.len() <= u32::BITS as usize);

/// What reading a fact is remembered as; nothing for what a request is addressed by, which always has a say.
enum ReadAs<'n> {
    Ground(Ground),
    Field(&'n HeaderName),
    Address,
}

impl FactName {
    fn read_as(&self) -> ReadAs<'_> {
        match self {
            FactName::Client => ReadAs::Ground(Ground::Client),
            FactName::Country => ReadAs::Ground(Ground::Country),
            FactName::Scheme => ReadAs::Ground(Ground::Scheme),
            FactName::Tls => ReadAs::Ground(Ground::Tls),
            FactName::TlsName | FactName::Certificate | FactName::ServerAddress | FactName::ServerPort => {
                ReadAs::Ground(Ground::Connection)
            }
            FactName::Protocol => ReadAs::Ground(Ground::Protocol),
            FactName::Hour | FactName::Weekday | FactName::Date => ReadAs::Ground(Ground::Time),
            FactName::User => ReadAs::Ground(Ground::Password),
            FactName::Query | FactName::Parameter(_) => ReadAs::Ground(Ground::Query),
            FactName::Agent | FactName::Browser | FactName::System | FactName::Device => {
                ReadAs::Field(&header::USER_AGENT)
            }
            FactName::Referrer => ReadAs::Field(&header::REFERER),
            FactName::Cookie(_) => ReadAs::Field(&header::COOKIE),
            FactName::Field(name) => ReadAs::Field(name),
            FactName::Method | FactName::Host | FactName::Port | FactName::Path => ReadAs::Address,
        }
    }
}

impl Dependence {
    /// Whether it is on something that can differ between two requests that are octet for octet the same and came by
    /// the same scheme and protocol: who asks, from where, when, or whether a password is right.
    pub fn is_beyond_octets(&self) -> bool {
        self.is_on_any(&[Ground::Client, Ground::Country, Ground::Time, Ground::Password, Ground::Connection])
    }

    /// Whether it is on who asks, as far as no field of the request tells: a cache that serves many must not keep it.
    pub fn is_on_client(&self) -> bool {
        self.is_on_any(&[Ground::Client, Ground::Country, Ground::Connection])
    }

    fn is_on_any(&self, grounds: &[Ground]) -> bool {
        grounds.iter().any(|ground| self.read & ground.bit() != 0)
    }

    /// Whether a fact had a say. Those that a request is addressed by (method, host, port, path, query) always have.
    pub fn is_on(&self, name: &FactName) -> bool {
        match name.read_as() {
            ReadAs::Ground(Ground::Query) | ReadAs::Address => true,
            ReadAs::Ground(ground) => self.is_on_any(&[ground]),
            ReadAs::Field(name) => self.is_on_field(name),
        }
    }

    /// Everything beside header fields that had a say.
    pub fn grounds(&self) -> impl Iterator<Item = Ground> {
        Ground::ALL.iter().copied().filter(|ground| self.is_on_any(&[*ground]))
    }

    /// The header fields that had a say.
    pub fn fields(&self) -> impl Iterator<Item = &HeaderName> {
        let named = NAMED.iter().enumerate().filter(|(nth, _)| self.read & (1 << nth) != 0);
        named.map(|(_, name)| name).chain(&self.fields)
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

    fn record(&self, ground: Ground) {
        self.read.set(self.read.get() | ground.bit());
    }

    /// Somebody is about to read this field.
    fn record_field(&self, name: &HeaderName) {
        match NAMED.iter().position(|named| named == name) {
            Some(nth) => self.read.set(self.read.get() | 1 << nth),
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
        self.record(Ground::Password);
    }

    /// Address of the client.
    pub fn client(&self) -> Known<IpAddr> {
        self.record(Ground::Client);
        self.facts.client
    }

    /// The scheme.
    pub fn scheme(&self) -> Known<Scheme> {
        self.record(Ground::Scheme);
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
        self.record(Ground::Query);
        self.facts.query
    }

    /// The query to go on with, whatever it says: an address that keeps it, the order of a listing.
    pub fn kept_query(&self) -> Known<&'a str> {
        self.facts.query
    }

    /// When it came in, by local clocks.
    pub fn time(&self) -> Known<LocalTime> {
        self.record(Ground::Time);
        self.facts.time
    }

    /// Whether a second (since 1970 UTC) has passed, where the time is known. That it has stays so, and is nothing to
    /// depend on; that it has not changes by itself.
    pub fn has_passed(&self, second: i64) -> Option<bool> {
        let passed = self.facts.now.value().map(|now| second < now);
        if passed == Some(false) {
            self.record(Ground::Time);
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
        self.record(Ground::Query);
        let value = self.facts.raw_parameter(name);
        if value == Known::Unknown {
            self.record_lack(&FactName::Parameter(name.into()));
        }
        value
    }

    /// A fact as a text, as [`Facts::text`] gives it.
    pub fn text(&self, name: &FactName) -> Known<Cow<'a, str>> {
        match name.read_as() {
            ReadAs::Ground(ground) => self.record(ground),
            ReadAs::Field(name) => self.record_field(name),
            ReadAs::Address => {}
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
