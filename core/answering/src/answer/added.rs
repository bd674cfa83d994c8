//! What the rules that fit, and the folders on the way, have added up to.

use super::represent::{insert, value};
use super::trace::Place;
use super::{Answer, Body, Obligations};
use crate::config::Config;
use crate::facts::RecordedFacts;
use crate::rules::Cors;
use crate::rules::effects::Changes;
use http::{HeaderMap, HeaderName, HeaderValue, header};
use smallvec::SmallVec;
use smol_str::SmolStr;

/// What there is so far.
#[derive(Debug, Default)]
pub(super) struct Added {
    /// Fields of the answer, the later one winning; `None` takes one away.
    pub headers: Vec<(HeaderName, Option<HeaderValue>)>,
    /// What else is different.
    pub changes: Changes,
    /// Where it was said whether folders are listed.
    pub listing_place: Option<Place>,
    pub index: Option<Vec<String>>,
    /// Who has signed in.
    pub user: Option<SmolStr>,
    /// Realms whose users it is one of.
    pub passed: SmallVec<[usize; 1]>,
    /// The realm that asks for a name and a password.
    pub challenge: Option<usize>,
    /// Whether it is sent only while the month's allowance lasts.
    pub within_allowance: bool,
    /// In how many seconds the client may come again.
    pub retry_after: Option<u64>,
    /// The site's rules that have fitted, by their numbers.
    pub fired: SmallVec<[u32; 2]>,
    /// The rule that answered, or put another path in place.
    pub rule: Option<SmolStr>,
}

impl Added {
    /// Takes in what a rule or a folder changes. `place` is where it is said.
    pub fn change(&mut self, changes: &Changes, place: impl FnOnce() -> Place) {
        if changes.listing.is_some() {
            self.listing_place = Some(place());
        }
        self.changes.add(changes);
    }

    /// Makes it part of an answer.
    pub fn apply(self, config: &Config, facts: &RecordedFacts<'_>, answer: &mut Answer) {
        // What acts before the answer is known has acted: how it is compressed, whether it is a listing.
        let Changes { cache, compress: _, listing: _, limits, log, cors } = self.changes;
        let headers = &mut answer.headers;
        let is_lasting = answer.status.is_success() || answer.status == 304;
        if let Some(lifetime) = cache.filter(|_| is_lasting) {
            insert(
                headers,
                header::CACHE_CONTROL,
                &lifetime.field(self.user.is_some() || facts.dependence().is_on_client()),
            );
        }
        for (name, value) in self.headers {
            match value {
                Some(value) => _ = headers.insert(name, value),
                None => _ = headers.remove(name),
            }
        }
        if let Some(cors) = &cors {
            share(cors, facts, headers, answer.body == Body::None && answer.status == 204);
        }
        if let Some(realm) =
            self.challenge.and_then(|realm| config.realms.get(realm)).filter(|_| answer.status == 401)
        {
            let title = realm.title.replace('\\', "\\\\").replace('"', "\\\"");
            // RFC 7617 §2; a title beyond ASCII goes as it is, in UTF-8 (RFC 9110 §5.5, obs-text).
            let challenge = format!("Basic realm=\"{title}\", charset=\"UTF-8\"");
            let challenge =
                HeaderValue::from_bytes(challenge.as_bytes()).unwrap_or_else(|_| value(&challenge));
            headers.insert(header::WWW_AUTHENTICATE, challenge);
            headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
        }
        if let Some(seconds) = self.retry_after {
            headers.insert(header::RETRY_AFTER, HeaderValue::from(seconds));
            headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
        }
        answer.obligations = Some(Box::new(Obligations {
            limits,
            within_allowance: self.within_allowance,
            log: log.unwrap_or(true),
            user: self.user,
            fired: self.fired,
            rule: self.rule,
        }));
    }
}

/// Lets other people's pages read an answer (Fetch standard, "CORS protocol").
fn share(cors: &Cors, facts: &RecordedFacts<'_>, headers: &mut HeaderMap, is_preflight: bool) {
    let Some(origin) = facts.field(&header::ORIGIN).value() else { return };
    let Some(allowed) = cors.allows(origin) else { return };
    insert(headers, header::ACCESS_CONTROL_ALLOW_ORIGIN, allowed);
    if cors.with_credentials {
        headers.insert(header::ACCESS_CONTROL_ALLOW_CREDENTIALS, HeaderValue::from_static("true"));
    }
    if !cors.exposed.is_empty() {
        insert(headers, header::ACCESS_CONTROL_EXPOSE_HEADERS, &cors.exposed.join(", "));
    }
    if is_preflight && facts.field(&header::ACCESS_CONTROL_REQUEST_METHOD).value().is_some() {
        headers.insert(header::ACCESS_CONTROL_ALLOW_METHODS, HeaderValue::from_static("GET, HEAD"));
        if !cors.fields.is_empty() {
            insert(headers, header::ACCESS_CONTROL_ALLOW_HEADERS, &cors.fields.join(", "));
        }
        if let Some(time) = cors.keep {
            headers.insert(header::ACCESS_CONTROL_MAX_AGE, HeaderValue::from(time.as_secs()));
        }
    }
}
