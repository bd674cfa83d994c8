//! Header fields of requests that were logged: of most fields no log tells.
//!
//! ```
//! use exedra_answering::facts::LoggedField;
//! assert_eq!(LoggedField::of(&http::header::REFERER), Some(LoggedField::Referrer));
//! assert_eq!(LoggedField::of(&http::header::COOKIE), None);
//! ```

use super::Known;
use http::{HeaderName, header};

/// Header fields that a log tells of.
#[derive(Debug, Clone, Copy)]
pub struct LoggedFields<'a> {
    /// `User-Agent`.
    pub agent: Known<&'a str>,
    /// `Referer`.
    pub referrer: Known<&'a str>,
    /// `Accept-Encoding`, as far as it follows from what was sent.
    pub accept_encoding: Known<&'a str>,
    /// `Authorization`, where somebody had signed in.
    pub authorization: Known<&'a str>,
}

impl<'a> LoggedFields<'a> {
    /// Of which nothing is known.
    pub const UNKNOWN: LoggedFields<'static> = LoggedFields {
        agent: Known::Unknown,
        referrer: Known::Unknown,
        accept_encoding: Known::Unknown,
        authorization: Known::Unknown,
    };

    pub(super) fn get(&self, name: &HeaderName) -> Known<&'a str> {
        match LoggedField::of(name) {
            Some(LoggedField::Agent) => self.agent,
            Some(LoggedField::Referrer) => self.referrer,
            Some(LoggedField::AcceptEncoding) => self.accept_encoding,
            Some(LoggedField::Authorization) => self.authorization,
            None => Known::Unknown,
        }
    }
}

/// A header field that a log tells of. Whoever asks what a log tells goes through these, so that none is forgotten.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LoggedField {
    /// `User-Agent`.
    Agent,
    /// `Referer`.
    Referrer,
    /// `Accept-Encoding`.
    AcceptEncoding,
    /// `Authorization`.
    Authorization,
}

impl LoggedField {
    /// The one of this name; no log tells of any other.
    pub fn of(name: &HeaderName) -> Option<Self> {
        Some(match *name {
            header::USER_AGENT => LoggedField::Agent,
            header::REFERER => LoggedField::Referrer,
            header::ACCEPT_ENCODING => LoggedField::AcceptEncoding,
            header::AUTHORIZATION => LoggedField::Authorization,
            _ => return None,
        })
    }
}
