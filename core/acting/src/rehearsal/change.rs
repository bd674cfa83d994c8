//! How two answers to one request differ, for whoever asked.

use exedra_answering::answer::{Answer, Body};
use http::{HeaderMap, HeaderName, header};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is different for whoever asked, in the order of how much it matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = RehearsedChange)]
pub enum AnswerChange {
    /// It fails with a server error.
    Fails,
    /// It is redirected without end.
    RedirectLoop,
    /// It is redirected to an address where nothing is.
    RedirectedToMissing,
    /// It is no longer found.
    Lost,
    /// It is refused.
    Refused,
    /// A name and a password are asked for.
    LoginAsked,
    /// It is over a limit: 429.
    Limited,
    /// It was missing, and is found.
    Found,
    /// It was refused, and is let in.
    LetIn,
    /// It failed, and works.
    Works,
    /// It was over a limit, and is not.
    Unlimited,
    /// It is sent to another address.
    Redirected,
    /// It is no longer redirected, or takes fewer redirects.
    Direct,
    /// Something else is sent.
    OtherContent,
    /// Another status, which is neither better nor worse.
    OtherStatus,
    /// It is compressed, or otherwise than before.
    Compression,
    /// How long it may be kept differs.
    Caching,
    /// Header fields differ.
    Fields,
}

impl AnswerChange {
    /// Whether somebody is worse off by it.
    pub fn is_worse(self) -> bool {
        self <= AnswerChange::Limited
    }

    /// Whether somebody is better off by it.
    pub fn is_better(self) -> bool {
        matches!(
            self,
            AnswerChange::Found
                | AnswerChange::LetIn
                | AnswerChange::Works
                | AnswerChange::Unlimited
                | AnswerChange::Direct
        )
    }

    /// It in words.
    pub fn words(self) -> &'static str {
        match self {
            AnswerChange::Fails => "fails with a server error",
            AnswerChange::RedirectLoop => "redirect loop",
            AnswerChange::RedirectedToMissing => "redirected to a missing page",
            AnswerChange::Lost => "no longer found",
            AnswerChange::Refused => "refused",
            AnswerChange::LoginAsked => "asked for a password",
            AnswerChange::Limited => "over the limit (429)",
            AnswerChange::Found => "found, was missing",
            AnswerChange::LetIn => "let in, was refused",
            AnswerChange::Works => "works, failed before",
            AnswerChange::Unlimited => "no longer over a limit",
            AnswerChange::Redirected => "sent to another address",
            AnswerChange::Direct => "fewer redirects",
            AnswerChange::OtherContent => "other content",
            AnswerChange::OtherStatus => "another status",
            AnswerChange::Compression => "compressed differently",
            AnswerChange::Caching => "kept in caches differently",
            AnswerChange::Fields => "other header fields",
        }
    }
}

/// Where an answer leads in the end: redirects into our own sites are followed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct End {
    /// The status there; of an address that is not ours, that of the redirect.
    pub status: u16,
    /// What is sent there: site and place of a file.
    pub file: Option<(String, String)>,
    /// Body bytes there, where they are known.
    pub bytes: Option<u64>,
    /// The address, where it is another than was asked for.
    pub address: Option<String>,
    /// How many redirects it took.
    pub redirects: usize,
    /// Whether they never end.
    pub is_endless: bool,
}

/// What an end means to whoever asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Meaning {
    Good,
    Missing,
    Refused,
    Login,
    Fails,
    Endless,
    Other,
}

impl End {
    fn meaning(&self) -> Meaning {
        match self.status {
            _ if self.is_endless => Meaning::Endless,
            200..=399 => Meaning::Good,
            404 | 410 => Meaning::Missing,
            401 => Meaning::Login,
            403 | 451 => Meaning::Refused,
            500..=599 => Meaning::Fails,
            _ => Meaning::Other,
        }
    }
}

/// Fields that say of the same file the same, or whose difference is none to whoever asked.
const SAID_ELSEWHERE: [HeaderName; 4] = [header::ETAG, header::LAST_MODIFIED, header::VARY, header::LOCATION];

/// Fields that differ between two answers.
fn differing(old: &HeaderMap, new: &HeaderMap) -> Vec<HeaderName> {
    let mut names: Vec<HeaderName> = Vec::new();
    for name in old.keys().chain(new.keys()) {
        let is_same = || old.get_all(name).iter().eq(new.get_all(name).iter());
        if !SAID_ELSEWHERE.contains(name) && !names.contains(name) && !is_same() {
            names.push(name.clone());
        }
    }
    names
}

/// Whether two bodies are the same, whatever coding they are sent in.
fn is_same_body(old: &Body, new: &Body) -> bool {
    let file = |body: &Body| match body {
        Body::File { path, .. } | Body::Parts { path, .. } => Some(path.clone()),
        Body::None | Body::Page(_) | Body::PageEncoded(..) => None,
    };
    let is_page = |body: &Body| matches!(body, Body::Page(_) | Body::PageEncoded(..));
    file(old) == file(new) && is_page(old) == is_page(new)
}

/// Whether two answers are the same to whoever asked.
pub fn is_same(old: &Answer, new: &Answer) -> bool {
    old.status == new.status
        && old.headers.get(header::LOCATION) == new.headers.get(header::LOCATION)
        && is_same_body(&old.body, &new.body)
        && (old.headers == new.headers || differing(&old.headers, &new.headers).is_empty())
}

/// What differs for whoever asked between two answers that are not the same, by where each leads in the end.
pub fn change((old, old_end): (&Answer, &End), (new, new_end): (&Answer, &End)) -> AnswerChange {
    let (before, after) = (old_end.meaning(), new_end.meaning());
    if before != after {
        let worse = match after {
            Meaning::Good => None,
            // Neither could have it.
            Meaning::Refused | Meaning::Missing if matches!(before, Meaning::Refused | Meaning::Missing) => {
                Some(AnswerChange::OtherStatus)
            }
            Meaning::Missing if new_end.redirects > 0 => Some(AnswerChange::RedirectedToMissing),
            Meaning::Missing => Some(AnswerChange::Lost),
            Meaning::Refused => Some(AnswerChange::Refused),
            Meaning::Login => Some(AnswerChange::LoginAsked),
            Meaning::Fails => Some(AnswerChange::Fails),
            Meaning::Endless => Some(AnswerChange::RedirectLoop),
            Meaning::Other => Some(AnswerChange::OtherStatus),
        };
        return worse.unwrap_or(match before {
            Meaning::Missing => AnswerChange::Found,
            Meaning::Refused | Meaning::Login => AnswerChange::LetIn,
            Meaning::Fails | Meaning::Endless => AnswerChange::Works,
            Meaning::Good | Meaning::Other => AnswerChange::OtherStatus,
        });
    }
    if after == Meaning::Good {
        let is_other = old_end.file != new_end.file
            || (old_end.file.is_none() && old_end.address != new_end.address && new_end.redirects > 0);
        if new_end.redirects > old_end.redirects || (new_end.redirects > 0 && is_other) {
            return AnswerChange::Redirected;
        }
        if new_end.redirects < old_end.redirects {
            return if is_other { AnswerChange::OtherContent } else { AnswerChange::Direct };
        }
        if is_other {
            return AnswerChange::OtherContent;
        }
    }
    if old.status != new.status {
        return AnswerChange::OtherStatus;
    }
    let differing = differing(&old.headers, &new.headers);
    if differing.contains(&header::CONTENT_ENCODING) {
        return AnswerChange::Compression;
    }
    if differing.contains(&header::CACHE_CONTROL) {
        return AnswerChange::Caching;
    }
    if !is_same_body(&old.body, &new.body) {
        return AnswerChange::OtherContent;
    }
    AnswerChange::Fields
}
