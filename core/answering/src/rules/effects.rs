//! What a rule does to a request that it fits.

use super::template::Template;
use crate::encode::Codec;
use exedra_common::text::Wildcard;
use http::{HeaderName, StatusCode};
use std::time::Duration;

/// Everything that happens. At most one of them answers.
#[derive(Debug, Clone, Default)]
pub struct Effects {
    /// It is answered with this, and no later rule is asked.
    pub answer: Option<Answering>,
    /// Another path of the site is served, unseen by the visitor; the later rules see that path.
    pub serve: Option<Template>,
    /// Nobody goes on who is not a user of this realm.
    pub login: Option<usize>,
    /// Header fields of the answer; `None` takes one away.
    pub headers: Vec<(HeaderName, Option<Template>)>,
    /// How long the answer may be kept.
    pub cache: Option<Lifetime>,
    /// How it is compressed.
    pub compress: Option<CompressChange>,
    /// Whether folders without an index file are listed.
    pub listing: Option<bool>,
    /// How much one client may take: the number of the limit among all of the configuration.
    pub limit: Option<Limit>,
    /// Whether the request is logged.
    pub log: Option<bool>,
    /// Who else's pages may read the answer.
    pub cors: Option<Cors>,
}

/// An effect that answers.
#[derive(Debug, Clone)]
pub enum Answering {
    /// The visitor is sent elsewhere.
    Redirect {
        /// Where to.
        target: Template,
        /// How.
        status: StatusCode,
        /// Whether the query stays behind.
        drops_query: bool,
    },
    /// The request is refused.
    Refuse(StatusCode),
    /// What was here is gone for good (RFC 9110 §15.5.11).
    Gone,
}

/// How long an answer may be kept (RFC 9111).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lifetime {
    /// So long without asking again.
    For(Duration),
    /// Not at all.
    Never,
    /// For as long as the service, asked each time, says that it is still the same.
    Asking,
}

/// What changes in how answers are compressed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CompressChange {
    /// Other codecs.
    pub codecs: Option<Vec<Codec>>,
    /// Other types.
    pub types: Option<Vec<Wildcard>>,
    /// Another smallest size, in bytes.
    pub at_least: Option<u64>,
    /// Other agents that get nothing compressed.
    pub not_for: Option<Vec<Wildcard>>,
}

/// How much one client may take.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Limit {
    /// Which limit this is: what one rule allows a client does not count against another rule's.
    pub id: usize,
    /// Requests a second, in the long run.
    pub requests: Option<f64>,
    /// Requests that may come at once before that counts.
    pub at_once: u32,
    /// Bytes a second, of each answer.
    pub speed: Option<u64>,
    /// Connections with a request under way.
    pub connections: Option<u32>,
}

/// Who else's pages may read an answer (Fetch standard, "CORS protocol").
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Cors {
    /// Their origins; `*` stands for anything.
    pub origins: Vec<String>,
    /// Request fields they may send.
    pub fields: Vec<String>,
    /// Answer fields they may read.
    pub exposed: Vec<String>,
    /// Whether cookies and passwords go along.
    pub with_credentials: bool,
    /// How long they may keep this permission.
    pub keep: Option<Duration>,
}

impl Effects {
    /// Whether there are none at all.
    pub fn is_empty(&self) -> bool {
        self.names().is_empty()
    }

    /// All templates.
    pub fn templates(&self) -> impl Iterator<Item = &Template> {
        let target = match &self.answer {
            Some(Answering::Redirect { target, .. }) => Some(target),
            _ => None,
        };
        let headers = self.headers.iter().filter_map(|(_, template)| template.as_ref());
        target.into_iter().chain(&self.serve).chain(headers)
    }

    /// The words that a configuration uses for what happens, in the order in which it does.
    pub fn names(&self) -> Vec<&'static str> {
        let answer = self.answer.as_ref().map(|answer| match answer {
            Answering::Redirect { .. } => "redirect",
            Answering::Refuse(_) => "refuse",
            Answering::Gone => "gone",
        });
        let has = |is: bool, name: &'static str| is.then_some(name);
        [
            has(self.login.is_some(), "login"),
            has(self.limit.is_some(), "limit"),
            has(!self.headers.is_empty(), "headers"),
            has(self.cache.is_some(), "cache"),
            has(self.compress.is_some(), "compress"),
            has(self.listing.is_some(), "listing"),
            has(self.log.is_some(), "log"),
            has(self.cors.is_some(), "cors"),
            has(self.serve.is_some(), "serve"),
            answer,
        ]
        .into_iter()
        .flatten()
        .collect()
    }
}

impl Lifetime {
    /// The value of `Cache-Control`. What only some may see is kept by nobody in between.
    pub fn field(&self, is_private: bool) -> String {
        match (self, is_private) {
            (Lifetime::For(time), false) => format!("max-age={}", time.as_secs()),
            (Lifetime::For(time), true) => format!("private, max-age={}", time.as_secs()),
            (Lifetime::Never, _) => "no-store".to_owned(),
            (Lifetime::Asking, _) => "no-cache".to_owned(),
        }
    }
}

impl Cors {
    /// Whether pages of an origin may read, and what they are told: their origin, or that anybody's may.
    pub fn allows<'o>(&self, origin: &'o str) -> Option<&'o str> {
        if self.origins.iter().any(|allowed| allowed == "*") && !self.with_credentials {
            return Some("*");
        }
        let fits = |allowed: &String| Wildcard::new(allowed).in_any_case().fits(origin);
        self.origins.iter().any(fits).then_some(origin)
    }
}
