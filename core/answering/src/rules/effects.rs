//! What a rule does to a request that it fits.
//!
//! An effect is a field of [`Effects`] (it answers, or stands in the way) or of [`Changes`] (it adds up), with its words
//! and its settings; `config::understand::effects` reads it, and it acts where answers are made.
//!
//! ```
//! use exedra_answering::rules::effects::{Changes, Cors, Effects, Lifetime};
//! use std::time::Duration;
//! let hour = Changes { cache: Some(Lifetime::For(Duration::from_secs(3600))), log: Some(false), ..Changes::default() };
//! let mut all = Changes { listing: Some(true), cache: Some(Lifetime::Never), ..Changes::default() };
//! all.add(&hour);
//! let effects = Effects { changes: all, ..Effects::default() };
//! let words: Vec<String> = effects.in_words(|_| String::new()).iter().map(|word| format!("{word}={}", word.value)).collect();
//! assert_eq!(words, ["cache=1 hour", "listing=on", "log=off"]);
//! let cors = Cors { origins: vec!["https://*.partner.example".to_owned()], ..Cors::default() };
//! assert_eq!(cors.allows("https://www.partner.example"), Some("https://www.partner.example"));
//! ```

use super::template::Template;
use crate::encode::Codec;
use crate::setting::{Kind, Setting, setting};
use exedra_common::text::Wildcard;
use exedra_common::units;
use http::{HeaderName, StatusCode};
use smallvec::SmallVec;
use std::fmt;
use std::time::Duration;

/// Settings of what rules do.
pub const EFFECTS: &[Setting] = &[
    setting(
        "rules",
        "redirect",
        Kind::Text,
        "redirect = \"/notices/{year}/{rest}\"",
        "sends the visitor there",
    ),
    setting(
        "rules",
        "status",
        Kind::Number,
        "status = 308",
        "how: 301, 302, 303, 307, 308; 307 where not set",
    ),
    setting(
        "rules",
        "query",
        Kind::Text,
        "query = \"drop\"",
        "leaves the query behind; it is kept where not set",
    ),
    setting(
        "rules",
        "serve",
        Kind::Text,
        "serve = \"/app.html\"",
        "serves another path of the site, unseen by the visitor",
    ),
    setting("rules", "refuse", Kind::Number, "refuse = 403", "answers with this status"),
    setting("rules", "gone", Kind::Flag, "gone = true", "answers that it is gone for good (410)"),
    setting("rules", "login", Kind::Text, "login = \"staff\"", "lets only users of this [[realm]] go on"),
    setting(
        "rules",
        "headers",
        Kind::Section,
        "headers = { X-Content-Type-Options = \"nosniff\" }",
        "fields of the answer; false takes one away",
    ),
    setting(
        "rules",
        "cache",
        Kind::Text,
        "cache = \"1 year\"",
        "how long the answer may be kept; or \"never\", or \"ask\" each time",
    ),
    setting(
        "rules",
        "compress",
        Kind::FlagOrSection,
        "compress = false",
        "as in `compress`, without `effort`; or not at all",
    ),
    setting(
        "rules",
        "listing",
        Kind::Flag,
        "listing = true",
        "whether folders without an index file are listed",
    ),
    setting(
        "rules",
        "limit",
        Kind::Section,
        "limit = { requests = \"5 a second\", at_once = 20 }",
        "how much one client may take",
    ),
    setting("rules", "log", Kind::Flag, "log = false", "whether such requests are logged"),
    setting(
        "rules",
        "cors",
        Kind::TextsOrSection,
        "cors = [\"https://partner.example\"]",
        "origins whose pages may read the answer; or a section",
    ),
    setting("limit", "requests", Kind::Text, "requests = \"5 a second\"", "how many, in the long run"),
    setting(
        "limit",
        "at_once",
        Kind::Number,
        "at_once = 20",
        "how many may come at once before that counts; 10 where not set",
    ),
    setting("limit", "speed", Kind::Text, "speed = \"1 MB a second\"", "how fast each answer is sent"),
    setting("limit", "connections", Kind::Number, "connections = 8", "how many answers may be under way"),
    setting(
        "cors",
        "origins",
        Kind::Texts,
        "origins = [\"https://*.partner.example\"]",
        "whose pages may read; [\"*\"] is anybody's",
    ),
    setting(
        "cors",
        "fields",
        Kind::Texts,
        "fields = [\"X-Token\"]",
        "fields of a request that they may send",
    ),
    setting("cors", "exposed", Kind::Texts, "exposed = [\"ETag\"]", "fields of an answer that they may read"),
    setting(
        "cors",
        "with_credentials",
        Kind::Flag,
        "with_credentials = true",
        "whether cookies and passwords go along",
    ),
    setting("cors", "keep", Kind::Text, "keep = \"1 day\"", "how long they may remember this"),
];

/// Everything that happens. At most one of `answer` and `serve` is there.
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
    /// What is different about the answer, whoever gives it.
    pub changes: Changes,
}

/// What rules and folders change about an answer that they do not give.
#[derive(Debug, Clone, Default)]
pub struct Changes {
    /// How long the answer may be kept.
    pub cache: Option<Lifetime>,
    /// How it is compressed.
    pub compress: Option<CompressChange>,
    /// Whether folders without an index file are listed.
    pub listing: Option<bool>,
    /// How much one client may take; of several, all count.
    pub limits: SmallVec<[Limit; 1]>,
    /// Whether the request is logged.
    pub log: Option<bool>,
    /// Who else's pages may read the answer.
    pub cors: Option<Cors>,
}

/// One effect as people read it; displayed, it is the key that a configuration uses, as in `headers.x-token`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EffectInWords {
    /// The word that a configuration uses for it.
    pub name: &'static str,
    /// Which part of it, as of a header its name.
    pub part: Option<String>,
    /// What it comes to.
    pub value: String,
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

impl fmt::Display for EffectInWords {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(self.name)?;
        self.part.iter().try_for_each(|part| write!(out, ".{part}"))
    }
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
        let mut names: Vec<_> =
            self.in_words(|_| String::new()).into_iter().map(|effect| effect.name).collect();
        names.dedup();
        names
    }

    /// What happens, in the order in which it does. `realm` gives the name of a realm.
    pub fn in_words(&self, realm: impl Fn(usize) -> String) -> Vec<EffectInWords> {
        // Whoever adds an effect is told by the compiler that it has no words yet.
        let Effects { answer, serve, login, headers, changes } = self;
        let Changes { cache, compress, listing, limits, log, cors } = changes;
        let mut words = Vec::new();
        let mut say = |name, part: Option<&str>, value| {
            words.push(EffectInWords { name, part: part.map(str::to_owned), value });
        };
        if let Some(login) = login {
            say("login", None, realm(*login));
        }
        limits.iter().for_each(|limit| say("limit", None, limit.to_string()));
        for (name, template) in headers {
            let value = template.as_ref().map_or("taken away", |template| template.text());
            say("headers", Some(name.as_str()), value.to_owned());
        }
        if let Some(lifetime) = cache {
            say("cache", None, lifetime.to_string());
        }
        for (part, value) in compress.iter().flat_map(CompressChange::in_words) {
            say("compress", Some(part), value);
        }
        if let Some(listing) = listing {
            say("listing", None, on_off(*listing).to_owned());
        }
        if let Some(log) = log {
            say("log", None, on_off(*log).to_owned());
        }
        if let Some(cors) = cors {
            say("cors", None, cors.to_string());
        }
        if let Some(path) = serve {
            say("serve", None, path.text().to_owned());
        }
        match answer {
            Some(Answering::Redirect { target, status, drops_query }) => {
                let query = if *drops_query { ", query dropped" } else { "" };
                say("redirect", None, format!("{} ({}{query})", target.text(), status.as_u16()));
            }
            Some(Answering::Refuse(status)) => say("refuse", None, status.as_u16().to_string()),
            Some(Answering::Gone) => say("gone", None, "410".to_owned()),
            None => {}
        }
        words
    }
}

impl Changes {
    /// Takes in what comes later, which goes before what was there.
    pub fn add(&mut self, later: &Changes) {
        let Changes { cache, compress, listing, limits, log, cors } = later;
        self.cache = cache.or(self.cache);
        self.listing = listing.or(self.listing);
        self.log = log.or(self.log);
        self.limits.extend_from_slice(limits);
        if let Some(change) = compress {
            self.compress.get_or_insert_default().add(change);
        }
        if let Some(cors) = cors {
            self.cors = Some(cors.clone());
        }
    }
}

impl CompressChange {
    /// Takes in a later change.
    pub fn add(&mut self, later: &CompressChange) {
        let CompressChange { codecs, types, at_least, not_for } = later;
        let later_or = |later: &Option<Vec<Wildcard>>, own: &mut Option<Vec<Wildcard>>| {
            if later.is_some() {
                own.clone_from(later);
            }
        };
        later_or(types, &mut self.types);
        later_or(not_for, &mut self.not_for);
        self.at_least = at_least.or(self.at_least);
        if codecs.is_some() {
            self.codecs.clone_from(codecs);
        }
    }

    /// What is different, each with its word.
    fn in_words(&self) -> Vec<(&'static str, String)> {
        let CompressChange { codecs, types, at_least, not_for } = self;
        let codecs =
            codecs.as_ref().map(|codecs| codecs.iter().map(|codec| codec.name()).collect::<Vec<_>>());
        [
            ("codecs", codecs.map(|codecs| listed(&codecs))),
            ("types", types.as_ref().map(|types| listed(types))),
            ("at_least", at_least.map(|bytes| format!("{bytes} bytes"))),
            ("not_for", not_for.as_ref().map(|agents| listed(agents))),
        ]
        .into_iter()
        .filter_map(|(part, value)| Some((part, value?)))
        .collect()
    }
}

/// The items of a list as people read them.
pub fn listed<T: ToString>(items: &[T]) -> String {
    let texts: Vec<String> = items.iter().map(T::to_string).collect();
    if texts.is_empty() { "none".to_owned() } else { texts.join(", ") }
}

/// A switch as people read it.
pub fn on_off(on: bool) -> &'static str {
    if on { "on" } else { "off" }
}

impl fmt::Display for Lifetime {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Lifetime::For(time) => out.write_str(&units::in_words(*time)),
            Lifetime::Never => out.write_str("never"),
            Lifetime::Asking => out.write_str("ask each time"),
        }
    }
}

impl fmt::Display for Limit {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let requests = self.requests.map(|rate| match rate {
            1.0.. => format!("{rate} requests a second, {} at once", self.at_once),
            _ => {
                format!("{} requests a minute, {} at once", (rate * 60_000.0).round() / 1000.0, self.at_once)
            }
        });
        let speed = self.speed.map(|bytes| format!("{bytes} bytes a second"));
        let connections = self.connections.map(|most| format!("{most} answers under way"));
        out.write_str(&[requests, speed, connections].into_iter().flatten().collect::<Vec<_>>().join("; "))
    }
}

impl fmt::Display for Cors {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let credentials = if self.with_credentials { ", with credentials" } else { "" };
        write!(out, "{}{credentials}", listed(&self.origins))
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
