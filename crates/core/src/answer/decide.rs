//! The order in which an answer is decided: host, main host, method, path, file or listing, coding,
//! conditions, ranges; and what happens when something fails on the way.

use super::conditions::{self, Outcome};
use super::listing::{self, Listed};
use super::negotiate::Codings;
use super::path::{NoPath, Resolved, resolve};
use super::ranges::{self, Ranges};
use super::represent::{self, Card, Representation, insert};
use super::trace::{Step, Trace, Untidy, Witness};
use super::verdicts::verdicts;
use super::{
    Answer, Body, Encodings, Entry, FileFacts, Form, Piece, Question, Reply, SitePath, Turn, Want, negotiate,
    pages,
};
use crate::config::{Config, Site, SiteId};
use crate::encode::Codec;
use crate::facts::{Facts, Fields, Scheme};
use http::header;
use http::{HeaderMap, HeaderValue, StatusCode};
use std::ops::Range;
use std::sync::Arc;

/// What sites answer to.
const ALLOWED: HeaderValue = HeaderValue::from_static("GET, HEAD, OPTIONS");

/// Decides a request, or asks the first question.
pub fn answer<'a>(config: &'a Config, facts: Facts<'a>) -> Turn<'a> {
    answer_before(config, facts, ())
}

/// The same, every step written down.
pub fn answer_traced<'a>(config: &'a Config, facts: Facts<'a>) -> Turn<'a, Trace> {
    answer_before(config, facts, Trace::default())
}

fn answer_before<'a, W: Witness>(config: &'a Config, facts: Facts<'a>, witness: W) -> Turn<'a, W> {
    let head_only = facts.method.value() == Some("HEAD");
    let mut deciding = Deciding { config, facts, site: None, head_only, witness };
    let Some(host) = facts.host.value() else {
        deciding.witness.see(|| Step::NoHost);
        return deciding.built_in(StatusCode::BAD_REQUEST);
    };
    let Some((id, as_default)) = site_for(config, host) else {
        deciding.witness.see(|| Step::NoSite { host: host.to_owned() });
        return deciding.built_in(StatusCode::MISDIRECTED_REQUEST);
    };
    deciding.site = Some(id);
    let site = config.site(id);
    deciding.witness.see(|| site_step(site, host, as_default));
    if let Some(main) = &site.main_host
        && !may_stay(host, &main.value)
    {
        let step = || Step::MainHost { host: main.value.clone(), place: main.span.clone() };
        deciding.witness.see(step);
        return deciding.redirect_to_host(&main.value);
    }
    match facts.method.value() {
        Some("GET" | "HEAD") => {}
        other => {
            deciding.witness.see(|| Step::Method { method: other.unwrap_or_default().to_owned() });
            if other == Some("OPTIONS") {
                let mut headers = HeaderMap::new();
                headers.insert(header::ALLOW, ALLOWED);
                return deciding.done(StatusCode::NO_CONTENT, headers, Body::None);
            }
            return deciding.failed(StatusCode::METHOD_NOT_ALLOWED);
        }
    }
    let written = facts.path.value().unwrap_or_default();
    match resolve(written) {
        Ok(path) if path.untidy => deciding.redirect_to_path(&path.tidy, Untidy::Slashes),
        Ok(path) => {
            let place = path.place.clone();
            deciding.witness.see(|| Step::Path { written: written.to_owned(), place: place.clone() });
            deciding.ask(id, place, Stage::Path(path))
        }
        Err(why) => {
            deciding.witness.see(|| Step::NoPath { written: written.to_owned(), why });
            match why {
                NoPath::Malformed => deciding.failed(StatusCode::BAD_REQUEST),
                NoPath::Nowhere => deciding.failed(StatusCode::NOT_FOUND),
            }
        }
    }
}

/// The site that answers to a host, and whether only because it answers to all unknown ones.
pub fn site_for(config: &Config, host: &str) -> Option<(SiteId, bool)> {
    let host = host.trim_end_matches('.');
    let found = match host.bytes().any(|octet| octet.is_ascii_uppercase()) {
        true => config.hosts.get(&host.to_ascii_lowercase()),
        false => config.hosts.get(host),
    };
    found.map(|id| (*id, false)).or(config.default_site.map(|id| (id, true)))
}

fn site_step(site: &Site, host: &str, as_default: bool) -> Step {
    let named = host.trim_end_matches('.').to_ascii_lowercase();
    let place =
        site.hosts.iter().find(|listed| listed.value == named).map_or(&site.name.span, |host| &host.span);
    Step::Site { host: host.to_owned(), site: site.name.value.clone(), as_default, place: place.clone() }
}

/// Whether a request need not be sent to the main host: it came there, or by a name below `.localhost`, which
/// only ever leads to one's own machine (RFC 6761 §6.3) and so lets a site be looked at before its name exists.
fn may_stay(written: &str, main: &str) -> bool {
    let written = written.trim_end_matches('.');
    let is_local = |host: &str| host.len() > 10 && host[host.len() - 10..].eq_ignore_ascii_case(".localhost");
    written.eq_ignore_ascii_case(main) || (written.is_ascii() && is_local(written) && !is_local(main))
}

/// A decision that waits for a reply.
#[derive(Debug)]
pub struct Waiting<'a, W = ()> {
    deciding: Deciding<'a, W>,
    asked: SitePath,
    stage: Stage<'a>,
}

/// What was asked about, and why.
#[derive(Debug)]
enum Stage<'a> {
    /// The place that the path means.
    Path(Resolved<'a>),
    /// A file that may stand for its folder: which of the list.
    Index(SitePath, usize),
    /// What is in a folder.
    Listing(SitePath),
    /// The encodings of a file that is to be sent, in one of these codings, perhaps for a status.
    Encodings(Arc<Card>, Codings, Option<StatusCode>),
    /// The site's own page for a status.
    ErrorPage(StatusCode),
}

/// What a reply says of a place, with the card of a file there.
enum Found {
    File(Arc<Card>),
    Other(Entry),
}

impl<'a, W: Witness> Waiting<'a, W> {
    /// Goes on with the reply.
    pub fn told(self, reply: Reply) -> Turn<'a, W> {
        let Waiting { mut deciding, asked, stage } = self;
        let found = match (reply, stage) {
            (Reply::Names(names), Stage::Listing(path)) => return deciding.list(&path, &names),
            (Reply::Encodings(known), Stage::Encodings(file, liked, status)) => {
                return deciding.encoded(asked, &file, Some(&liked), &known, status);
            }
            (Reply::Entry(Entry::File(facts)), stage) => {
                (Found::File(Arc::new(Card::new(&asked, facts, None))), stage)
            }
            (Reply::File(card), stage) => (Found::File(card), stage),
            (Reply::Entry(entry), stage) => (Found::Other(entry), stage),
            (Reply::Names(_) | Reply::Encodings(_), stage) => (Found::Other(Entry::Failed), stage),
        };
        let (found, stage) = found;
        deciding.witness.see(|| {
            let entry = match &found {
                Found::File(card) => Entry::File(card.facts),
                Found::Other(entry) => *entry,
            };
            Step::Looked { at: asked.clone(), found: entry, as_index: matches!(stage, Stage::Index(..)) }
        });
        match (stage, found) {
            (Stage::ErrorPage(status), Found::File(file)) => deciding.choose_form(asked, file, Some(status)),
            (Stage::ErrorPage(status), _) => deciding.built_in(status),
            (Stage::Path(path), Found::Other(Entry::Folder)) if path.as_folder => {
                deciding.look_for_index(path.place, 0)
            }
            (Stage::Path(path), Found::Other(Entry::Folder)) => {
                deciding.redirect_to_path(&format!("{}/", path.tidy), Untidy::Folder)
            }
            (Stage::Path(path), Found::File(_)) if path.as_folder => deciding.failed(StatusCode::NOT_FOUND),
            (Stage::Path(_) | Stage::Index(..), Found::File(file)) => deciding.choose_form(asked, file, None),
            (Stage::Index(folder, nth), Found::Other(Entry::Missing | Entry::Folder)) => {
                deciding.look_for_index(folder, nth + 1)
            }
            (Stage::Encodings(file, liked, status), _) => {
                deciding.encoded(asked, &file, Some(&liked), &Encodings::default(), status)
            }
            (Stage::Listing(_), Found::File(_) | Found::Other(Entry::Folder | Entry::File(_))) => {
                deciding.failed(StatusCode::INTERNAL_SERVER_ERROR)
            }
            (_, Found::Other(Entry::Missing)) => deciding.failed(StatusCode::NOT_FOUND),
            (_, Found::Other(Entry::Forbidden)) => deciding.failed(StatusCode::FORBIDDEN),
            (_, Found::Other(Entry::Failed | Entry::File(_))) => {
                deciding.failed(StatusCode::INTERNAL_SERVER_ERROR)
            }
        }
    }
}

#[derive(Debug)]
struct Deciding<'a, W> {
    config: &'a Config,
    facts: Facts<'a>,
    site: Option<SiteId>,
    head_only: bool,
    witness: W,
}

impl<'a, W: Witness> Deciding<'a, W> {
    fn settings(&self) -> Option<&'a Site> {
        self.site.map(|id| self.config.site(id))
    }

    fn ask(self, site: SiteId, path: SitePath, stage: Stage<'a>) -> Turn<'a, W> {
        let want = match stage {
            Stage::Listing(_) => Want::Names,
            Stage::Encodings(..) => Want::Encodings,
            Stage::Path(_) | Stage::Index(..) | Stage::ErrorPage(_) => Want::Entry,
        };
        let question = Question { site, path: path.clone(), want };
        Turn::Ask(question, Waiting { deciding: self, asked: path, stage })
    }

    fn look_for_index(mut self, folder: SitePath, nth: usize) -> Turn<'a, W> {
        let (Some(id), Some(site)) = (self.site, self.settings()) else {
            return self.built_in(StatusCode::INTERNAL_SERVER_ERROR);
        };
        if let Some(name) = site.index.get(nth) {
            let place = folder.join(name);
            return self.ask(id, place, Stage::Index(folder, nth));
        }
        self.witness.see(|| Step::Listing { on: site.listing });
        match site.listing {
            true => self.ask(id, folder.clone(), Stage::Listing(folder)),
            false => self.failed(StatusCode::FORBIDDEN),
        }
    }

    fn list(self, folder: &SitePath, names: &[Listed]) -> Turn<'a, W> {
        let wanted = listing::Wanted::understand(self.facts.query.value().unwrap_or_default());
        let mut headers = HeaderMap::new();
        headers.insert(header::VARY, HeaderValue::from_static("Accept"));
        // What is in a folder changes without notice.
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-cache"));
        let (media_type, body) = match self.prefers_json() {
            true => ("application/json", listing::json(names, wanted)),
            false => {
                let path = if folder.as_str().is_empty() { "/".to_owned() } else { format!("{folder}/") };
                ("text/html; charset=utf-8", listing::page(&path, names, wanted))
            }
        };
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(media_type));
        self.done(StatusCode::OK, headers, Body::Page(body))
    }

    fn prefers_json(&self) -> bool {
        negotiate::prefers_json(self.facts.field(&header::ACCEPT).value())
    }

    /// Asks about a file's encodings where that matters. With a status, the file is the page for it.
    fn choose_form(self, path: SitePath, file: Arc<Card>, status: Option<StatusCode>) -> Turn<'a, W> {
        let (Some(id), Some(site)) = (self.site, self.settings()) else {
            return self.built_in(StatusCode::INTERNAL_SERVER_ERROR);
        };
        match represent::codings(site, &self.facts, &file) {
            Some(liked) if !liked.is_empty() => self.ask(id, path, Stage::Encodings(file, liked, status)),
            liked => self.encoded(path, &file, liked.as_deref(), &Encodings::default(), status),
        }
    }

    /// A file in the form that suits: conditions first, then parts.
    fn encoded(
        mut self,
        path: SitePath,
        file: &Card,
        liked: Option<&[Codec]>,
        known: &Encodings,
        status: Option<StatusCode>,
    ) -> Turn<'a, W> {
        let Some(site) = self.settings() else { return self.built_in(StatusCode::INTERNAL_SERVER_ERROR) };
        let facts = self.facts;
        let is_get = facts.method.value() == Some("GET");
        let range = facts.field(&header::RANGE).value().filter(|_| is_get && status.is_none());
        let mut found = represent::represent(site, file, liked, known);
        if range.is_some() && matches!(found.form, Form::Quick(_)) {
            // What is encoded in passing has no parts; the file as it is has.
            found = represent::represent(site, file, liked.map(|_| &[][..]), known);
        }
        let Representation { form, size, mut headers, tag } = found;
        for (codec, verdict) in self.verdicts(site, file, known, form, range.is_some()) {
            self.witness.see(|| Step::Codec { codec, verdict });
        }
        self.witness.see(|| Step::Form { form, bytes: size });
        if let Some(status) = status {
            headers.remove(header::ACCEPT_RANGES);
            headers.append(header::VARY, HeaderValue::from_static("Accept"));
            mark(&mut headers, status);
            return self.done(status, headers, Body::File { path, form });
        }
        let tag = tag.to_str().unwrap_or_default();
        let outcome = conditions::evaluate(&facts, tag, &file.facts);
        self.see_conditions(outcome);
        match outcome {
            Outcome::Proceed => {}
            Outcome::Failed => return self.failed(StatusCode::PRECONDITION_FAILED),
            Outcome::NotModified => {
                headers.remove(header::CONTENT_TYPE);
                headers.remove(header::CONTENT_ENCODING);
                headers.remove(header::ACCEPT_RANGES);
                return self.done(StatusCode::NOT_MODIFIED, headers, Body::None);
            }
        }
        let Some((field, size)) = range.zip(size) else {
            return self.done(StatusCode::OK, headers, Body::File { path, form });
        };
        let ranges =
            conditions::parts_hold(&facts, tag, &file.facts).then(|| ranges::understand(field, size));
        self.witness.see(|| Step::Range { written: field.to_owned(), ranges: ranges.clone() });
        match ranges {
            Some(Ranges::Parts(parts)) => {
                let pieces = parts_of(&parts, size, &file.facts, &mut headers);
                self.done(StatusCode::PARTIAL_CONTENT, headers, Body::Parts { path, form, pieces })
            }
            Some(Ranges::Outside) => self.outside(size),
            Some(Ranges::Ignored) | None => self.done(StatusCode::OK, headers, Body::File { path, form }),
        }
    }

    /// The verdicts on all codecs, where somebody listens.
    fn verdicts(
        &mut self,
        site: &Site,
        file: &Card,
        known: &Encodings,
        form: Form,
        parts_asked: bool,
    ) -> Vec<(Codec, super::trace::Verdict)> {
        match W::LISTENS {
            true => verdicts(&site.compress, &self.facts, file, known, form, parts_asked).into(),
            false => Vec::new(),
        }
    }

    fn see_conditions(&mut self, outcome: Outcome) {
        let Fields::All(map) = self.facts.fields else { return };
        if W::LISTENS && conditions::FIELDS.iter().any(|name| map.contains_key(name)) {
            let written =
                |name: &header::HeaderName| Some(format!("{name}: {}", map.get(name)?.to_str().ok()?));
            let fields = conditions::FIELDS.iter().filter_map(written).collect();
            self.witness.see(|| Step::Condition { fields, outcome });
        }
    }

    /// None of the parts asked for is there: 416, with the length that is (RFC 9110 §15.5.17).
    fn outside(self, size: u64) -> Turn<'a, W> {
        let mut turn = self.built_in(StatusCode::RANGE_NOT_SATISFIABLE);
        if let Turn::Done(answer, _) = &mut turn {
            insert(&mut answer.headers, header::CONTENT_RANGE, &format!("bytes */{size}"));
        }
        turn
    }

    fn redirect_to_host(self, host: &str) -> Turn<'a, W> {
        let scheme = self.facts.scheme.value().unwrap_or(Scheme::Http).as_str();
        let port = self.facts.port.value().map(|port| format!(":{port}")).unwrap_or_default();
        let path = self.facts.path.value().filter(|path| path.starts_with('/')).unwrap_or("/");
        let target = format!("{scheme}://{host}{port}{path}{}", self.query());
        self.redirect(&target)
    }

    fn redirect_to_path(mut self, path: &str, why: Untidy) -> Turn<'a, W> {
        self.witness.see(|| Step::Tidied { path: path.to_owned(), why });
        let target = format!("{path}{}", self.query());
        self.redirect(&target)
    }

    fn query(&self) -> String {
        self.facts.query.value().map(|query| format!("?{query}")).unwrap_or_default()
    }

    fn redirect(self, target: &str) -> Turn<'a, W> {
        let mut headers = HeaderMap::new();
        insert(&mut headers, header::LOCATION, target);
        self.done(StatusCode::PERMANENT_REDIRECT, headers, Body::Page(String::new()))
    }

    /// The site's own page for a status where it has one; programs that prefer JSON get a problem.
    fn failed(mut self, status: StatusCode) -> Turn<'a, W> {
        let page = self.settings().and_then(|site| site.error_pages.page(status.as_u16()));
        match (self.site, page, page.map(|page| resolve(&page.value))) {
            (Some(id), Some(written), Some(Ok(page))) if !self.prefers_json() => {
                let step =
                    || Step::ErrorPage { status, page: written.value.clone(), place: written.span.clone() };
                self.witness.see(step);
                self.ask(id, page.place, Stage::ErrorPage(status))
            }
            _ => self.built_in(status),
        }
    }

    fn built_in(mut self, status: StatusCode) -> Turn<'a, W> {
        let as_json = self.prefers_json();
        self.witness.see(|| Step::BuiltIn { status, as_json });
        let mut headers = HeaderMap::new();
        let (media_type, body) = match as_json {
            true => ("application/problem+json", pages::problem(status)),
            false => ("text/html; charset=utf-8", pages::built_in(status)),
        };
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(media_type));
        headers.insert(header::VARY, HeaderValue::from_static("Accept"));
        mark(&mut headers, status);
        self.done(status, headers, Body::Page(body))
    }

    fn done(self, status: StatusCode, headers: HeaderMap, body: Body) -> Turn<'a, W> {
        Turn::Done(Answer { status, headers, body, head_only: self.head_only, site: self.site }, self.witness)
    }
}

/// What a status obliges an answer to say.
fn mark(headers: &mut HeaderMap, status: StatusCode) {
    if status == StatusCode::METHOD_NOT_ALLOWED {
        headers.insert(header::ALLOW, ALLOWED);
    }
}

/// Some parts of a file: one as it is, several with their own headers between them (RFC 9110 §14.6).
fn parts_of(parts: &[Range<u64>], size: u64, file: &FileFacts, headers: &mut HeaderMap) -> Vec<Piece> {
    let place = |part: &Range<u64>| format!("bytes {}-{}/{size}", part.start, part.end - 1);
    if let [part] = parts {
        insert(headers, header::CONTENT_RANGE, &place(part));
        return vec![Piece::File(part.clone())];
    }
    let media_type =
        headers.get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let boundary = format!("part-{:x}-{size:x}", file.modified);
    let mut pieces = Vec::with_capacity(parts.len() * 2 + 1);
    for part in parts {
        let range = place(part);
        let head =
            format!("\r\n--{boundary}\r\nContent-Type: {media_type}\r\nContent-Range: {range}\r\n\r\n");
        pieces.push(Piece::Octets(head.into_bytes()));
        pieces.push(Piece::File(part.clone()));
    }
    pieces.push(Piece::Octets(format!("\r\n--{boundary}--\r\n").into_bytes()));
    insert(headers, header::CONTENT_TYPE, &format!("multipart/byteranges; boundary={boundary}"));
    pieces
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::{Fields, Known};
    use rstest::rstest;
    use std::path::Path;

    const CONFIG: &str = r#"
[[listener]]
address = "127.0.0.1:7380"
[[site]]
name = "harbour"
hosts = ["harbour.example", "www.harbour.example", "harbour.localhost"]
main_host = "harbour.example"
folder = "h"
error_pages = { 404 = "/errors/lost.html", "5xx" = "/errors/none.html" }
[[site]]
name = "lamp"
hosts = ["lamp.example"]
folder = "l"
index = ["start.html", "index.html"]
"#;

    fn entry(question: &Question) -> Reply {
        match question.want {
            Want::Encodings => Reply::Encodings(Encodings::default()),
            _ => Reply::Entry(stands(question)),
        }
    }

    fn stands(question: &Question) -> Entry {
        let file = |size| Entry::File(FileFacts { size, modified: 1_000_000_000_000_000_000, stamp: 0 });
        match (question.site.0, question.path.as_str()) {
            (_, "") | (0, "tides" | "empty" | "errors") => Entry::Folder,
            (0, "index.html" | "tides/index.html" | "tides/today.html" | "errors/lost.html") => file(5000),
            (0, "small.txt") => file(20),
            (0, "photo.jpg") => file(90_000),
            (0, "locked.html") => Entry::Forbidden,
            (0, "broken.html") => Entry::Failed,
            (1, "index.html") => file(5000),
            _ => Entry::Missing,
        }
    }

    fn ask(method: &str, host: &str, target: &str, encodings: &'static str) -> Answer {
        let config = crate::config::understand(CONFIG, Path::new("")).unwrap();
        let mut map = HeaderMap::new();
        map.insert(header::ACCEPT_ENCODING, HeaderValue::from_static(encodings));
        let (path, query) = match target.split_once('?') {
            Some((path, query)) => (path, Some(query)),
            None => (target, None),
        };
        let (host, port) = match host.split_once(':') {
            Some((host, port)) => (host, port.parse().ok()),
            None => (host, None),
        };
        let facts = Facts {
            client: Known::Unknown,
            scheme: Known::Is(Scheme::Http),
            host: Known::Is(host),
            port: port.into(),
            method: Known::Is(method),
            path: Known::Is(path),
            query: query.into(),
            fields: Fields::All(&map),
        };
        answer(&config, facts).finish(entry).0
    }

    #[rstest]
    #[case::index("harbour.example", "/", 200, "index.html")]
    #[case::capitals("HARBOUR.example.", "/tides/today.html", 200, "tides/today.html")]
    #[case::preview("harbour.localhost", "/", 200, "index.html")]
    #[case::second_index("lamp.example", "/", 200, "index.html")]
    #[case::no_index("harbour.example", "/empty/", 403, "")]
    #[case::own_page("harbour.example", "/nowhere", 404, "errors/lost.html")]
    #[case::own_page_hidden("harbour.example", "/.git/config", 404, "errors/lost.html")]
    #[case::built_in_page("lamp.example", "/nowhere", 404, "")]
    #[case::file_as_folder("harbour.example", "/photo.jpg/", 404, "errors/lost.html")]
    #[case::locked("harbour.example", "/locked.html", 403, "")]
    #[case::own_page_missing("harbour.example", "/broken.html", 500, "")]
    #[case::stranger("other.example", "/", 421, "")]
    #[case::malformed("harbour.example", "/%zz", 400, "")]
    fn files_and_pages(#[case] host: &str, #[case] target: &str, #[case] status: u16, #[case] file: &str) {
        let answer = ask("GET", host, target, "");
        assert_eq!(answer.status, status);
        match &answer.body {
            Body::File { path, .. } => assert_eq!(path.as_str(), file),
            Body::Page(page) => assert!(file.is_empty() && page.contains(&status.to_string())),
            other => panic!("{other:?}"),
        }
    }

    #[rstest]
    #[case::main_host("www.harbour.example", "/a%20b?x=1&y=%2F", "http://harbour.example/a%20b?x=1&y=%2F")]
    #[case::main_host_port("www.harbour.example:7380", "/", "http://harbour.example:7380/")]
    #[case::folder("harbour.example", "/tides?x=1", "/tides/?x=1")]
    #[case::folder_dots("harbour.example", "/./a/../tides", "/tides/")]
    #[case::slashes("harbour.example", "//evil.example//x?y", "/evil.example/x?y")]
    #[case::slashes_folder("harbour.example", "//tides", "/tides")]
    fn redirects(#[case] host: &str, #[case] target: &str, #[case] location: &str) {
        let answer = ask("GET", host, target, "");
        assert_eq!(answer.status, 308);
        assert_eq!(answer.headers[header::LOCATION], location);
    }

    #[rstest]
    #[case::br("/tides/today.html", "gzip, br", Some("br"), true)]
    #[case::plain("/tides/today.html", "", None, true)]
    #[case::too_small("/small.txt", "br", None, false)]
    #[case::other_type("/photo.jpg", "br", None, false)]
    #[case::error_page("/nowhere", "gzip", Some("gzip"), true)]
    fn codings(
        #[case] target: &str,
        #[case] accepted: &'static str,
        #[case] coding: Option<&str>,
        #[case] varies: bool,
    ) {
        let answer = ask("GET", "harbour.example", target, accepted);
        let sent = answer.headers.get(header::CONTENT_ENCODING).map(|coding| coding.to_str().unwrap());
        assert_eq!(sent, coding);
        assert_eq!(answer.headers.contains_key(header::VARY), varies);
        if let Some(tag) = answer.headers.get(header::ETAG) {
            assert_eq!(tag.to_str().unwrap().starts_with("W/"), coding.is_some());
        }
    }

    #[test]
    fn methods() {
        let wrong = ask("DELETE", "lamp.example", "/", "");
        assert_eq!((wrong.status.as_u16(), &wrong.headers[header::ALLOW]), (405, &ALLOWED));
        let options = ask("OPTIONS", "lamp.example", "*", "");
        assert_eq!((options.status.as_u16(), &options.headers[header::ALLOW]), (204, &ALLOWED));
        let (head, get) = (ask("HEAD", "lamp.example", "/", "br"), ask("GET", "lamp.example", "/", "br"));
        assert!(head.head_only && head.headers == get.headers && head.body == get.body);
    }
}
