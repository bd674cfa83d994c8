//! What is known of one request, under the names that rules, layouts and the console use.
//!
//! A fact is *known*, *absent* (the request had none) or *unknown* (whoever tells us could not know: an
//! access log has no cookies). The difference matters when recorded requests are run through a
//! configuration: an unknown fact must never be taken for an absent one.
//!
//! [`FACTS`] is the one list. Everything borrows; making `Facts` allocates nothing.

use http::HeaderMap;
use std::net::IpAddr;

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
}

impl<T> From<Option<T>> for Known<T> {
    /// For sources that see everything: `None` is absent.
    fn from(option: Option<T>) -> Self {
        option.map_or(Known::Absent, Known::Is)
    }
}

/// The scheme a request came in by (RFC 9110 §4.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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
}

/// The header fields of a request, or that nobody recorded them.
#[derive(Debug, Clone, Copy)]
pub enum Fields<'a> {
    /// All of them.
    All(&'a HeaderMap),
    /// Not recorded.
    Unknown,
}

/// One request, as the decision sees it.
#[derive(Debug, Clone, Copy)]
pub struct Facts<'a> {
    /// Address of the client, after trusted forwarders have had their say.
    pub client: Known<IpAddr>,
    /// How the request came in.
    pub scheme: Known<Scheme>,
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
}

impl<'a> Facts<'a> {
    /// The first value of a header field, where it is text.
    pub fn field(&self, name: &http::HeaderName) -> Known<&'a str> {
        match self.fields {
            Fields::All(map) => map.get(name).and_then(|value| value.to_str().ok()).into(),
            Fields::Unknown => Known::Unknown,
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
    /// One value it could have.
    pub example: &'static str,
    /// What it means.
    pub about: &'static str,
}

const fn fact(name: &'static str, kind: &'static str, example: &'static str, about: &'static str) -> Fact {
    Fact { name, kind, example, about }
}

/// Every fact a request has.
pub const FACTS: &[Fact] = &[
    fact("client", "address", "203.0.113.7", "where the request came from, after trusted forwarders"),
    fact("scheme", "text", "https", "http or https"),
    fact("host", "text", "harbour.lindry.example", "the host asked for, without its port"),
    fact("port", "number", "7380", "the port named beside the host"),
    fact("method", "text", "GET", "what the client wants done (RFC 9110 §9)"),
    fact("path", "text", "/tides/today.html", "always from the first slash, without the query"),
    fact("query", "text", "season=winter", "what follows the question mark"),
    fact("field", "family", "{field:Accept-Language}", "a header field of the request, by its name"),
];
