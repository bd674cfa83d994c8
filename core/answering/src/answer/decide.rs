//! The order in which an answer is decided: host; rules; main host and HTTPS; method; path; the folders' own
//! settings; file or listing; coding, conditions, ranges; and what happens when something fails on the way.
//!
//! - [`super::steering`]: rules and what they do
//! - [`super::sending`]: what is sent once the place is known
//! - [`super::stage`]: what it waits for; [`super::suspended`]: going on with the reply
//!
//! ```
//! use exedra_answering::config::understand;
//! let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n";
//! let config = understand(text, std::path::Path::new("")).unwrap();
//! use exedra_answering::answer::{Decision, answer};
//! use exedra_answering::facts::{Facts, Known};
//! let facts = Facts { host: Known::Is("a.example"), method: Known::Is("GET"), path: Known::Is("/"), ..Facts::UNKNOWN };
//! // A decision that wants to know something of the folder waits for a reply: `Decision::by` gives it.
//! assert!(matches!(answer(&config, facts), Decision::Ask(..)));
//! ```

use super::added::Added;
use super::home::{Home, home, site_for};
use super::negotiate;
use super::path::{NoPath, Tidy, resolve, tidy};
use super::represent::insert;
use super::stage::{Next, Stage};
use super::trace::{Cause, Observer, Place, Step, Trace, Untidy};
use super::{Answer, Body, Decision, FolderChain, Malformed, SitePath, Unsure, UnsureRule, pages};
use crate::config::{Config, Https, Site, SiteId};
use crate::facts::{Dependence, FactName, Facts, Known, RecordedFacts, Scheme};
use exedra_reading::classify::paths::{Kind, kind};
use http::header;
use http::{HeaderMap, HeaderValue, StatusCode};
use std::sync::Arc;

/// What sites answer to.
const ALLOWED: HeaderValue = HeaderValue::from_static("GET, HEAD, OPTIONS");

/// Decides a request, or asks the first question.
pub fn answer<'a>(config: &'a Config, facts: Facts<'a>) -> Decision<'a> {
    answer_before(config, facts, ())
}

/// The same, every step written down.
pub fn answer_traced<'a>(config: &'a Config, facts: Facts<'a>, trace: Trace) -> Decision<'a, Trace> {
    answer_before(config, facts, trace)
}

fn answer_before<'a, W: Observer>(config: &'a Config, facts: Facts<'a>, observer: W) -> Decision<'a, W> {
    let mut deciding = Deciding::new(config, facts, observer);
    let Some(host) = facts.host.value() else {
        deciding.see_cause(Step::NoHost, None);
        return deciding.failed_because(StatusCode::BAD_REQUEST, Malformed::NoHost.words());
    };
    let Some((id, as_default)) = site_for(config, host) else {
        deciding.see_cause(Step::NoSite { host: host.to_owned() }, None);
        return deciding.built_in(StatusCode::MISDIRECTED_REQUEST);
    };
    deciding.site = Some(id);
    let site = config.site(id);
    deciding.observer.see(|| site_step(site, host, as_default));
    let written = facts.path.value().unwrap_or_default();
    // Asked of the server as a whole (RFC 9110 §9.3.7).
    if written == "*" && facts.method.value() == Some("OPTIONS") {
        return deciding.options();
    }
    match tidy(written) {
        Ok(path) => {
            deciding.path = path;
            match site.rules.is_empty() {
                true => deciding.after_rules(),
                false => deciding.run_site_rules(0),
            }
        }
        Err(why) => {
            deciding.see_cause(Step::NoPath { written: written.to_owned(), why }, None);
            deciding.failed(StatusCode::BAD_REQUEST)
        }
    }
}

/// The answer to a client that has used up what a rule allows it: 429 (RFC 6585 §4), in so many seconds it may come again.
pub fn too_many<'a>(config: &'a Config, facts: Facts<'a>, answer: &Answer, seconds: u64) -> Decision<'a> {
    let mut deciding = Deciding::new(config, facts, ());
    deciding.site = answer.site;
    deciding.come_again("Too many requests from your address", seconds)
}

/// The answer to whoever asks for a download when the allowance of the month is used up: 503 (RFC 9110 §15.6.4), in so many seconds the
/// next month begins.
pub fn over_allowance<'a>(
    config: &'a Config,
    facts: Facts<'a>,
    answer: &Answer,
    seconds: u64,
) -> Decision<'a> {
    let mut deciding = Deciding::new(config, facts, ());
    deciding.site = answer.site;
    deciding.added().retry_after = Some(seconds);
    let days = match seconds.div_ceil(86_400) {
        0 | 1 => "tomorrow".to_owned(),
        days => format!("in {days} days"),
    };
    let why = format!(
        "This site has sent as much as it may this month. Its pages are still here; downloads are back {days}."
    );
    deciding.failed_because(StatusCode::SERVICE_UNAVAILABLE, why)
}

fn site_step(site: &Site, host: &str, as_default: bool) -> Step {
    let named = host.trim_end_matches('.').to_ascii_lowercase();
    let listed = |listed: &str| match listed.strip_prefix('*') {
        Some(ending) => named.len() > ending.len() && named.ends_with(ending),
        None => listed == named,
    };
    let place = site.hosts.iter().find(|host| listed(&host.value)).map_or(&site.name.span, |host| &host.span);
    Step::Site { host: host.to_owned(), site: site.name.value.clone(), as_default, place: place.into() }
}

/// A decision under way.
#[derive(Debug)]
pub(super) struct Deciding<'a, W> {
    pub config: &'a Config,
    pub facts: RecordedFacts<'a>,
    pub site: Option<SiteId>,
    /// The path, as rules have left it.
    pub path: Tidy<'a>,
    /// The place that it means, once that has been found.
    pub place: Option<SitePath>,
    /// Whether a rule has put another path in place of the one that was asked for.
    pub is_served: bool,
    pub head_only: bool,
    /// What rules and folders have added up to, once there is anything.
    pub added: Option<Box<Added>>,
    /// What the folders on the way say of themselves.
    pub chain: Option<Arc<FolderChain>>,
    /// Rules that something had a say in which is not known.
    pub unsure: Vec<UnsureRule>,
    /// What the built-in page says, where there is more to say than the status does.
    pub why: Option<Box<str>>,
    /// Why the request fails, once it does.
    pub cause: Option<Box<Cause>>,
    pub observer: W,
}

impl<'a, W: Observer> Deciding<'a, W> {
    /// Tells a step that is why the request fails. It is kept now, so that nobody has to decide again to know.
    pub(super) fn see_cause(&mut self, step: Step, at: Option<&SitePath>) {
        self.observer.see(|| step.clone());
        self.cause = Cause::of(step, at);
    }

    /// On the heap: it is handed from step to step, and is large.
    pub(super) fn new(config: &'a Config, facts: Facts<'a>, observer: W) -> Box<Self> {
        Box::new(Deciding {
            config,
            head_only: facts.method.value() == Some("HEAD"),
            facts: RecordedFacts::new(facts),
            site: None,
            path: Tidy { written: "/".into(), as_folder: true, untidy: false },
            place: None,
            is_served: false,
            added: None,
            chain: None,
            unsure: Vec::new(),
            why: None,
            cause: None,
            observer,
        })
    }

    pub(super) fn settings(&self) -> Option<&'a Site> {
        self.site.map(|id| self.config.site(id))
    }

    /// What has been added up, made where there is nothing yet.
    pub(super) fn added(&mut self) -> &mut Added {
        self.added.get_or_insert_default()
    }

    /// No rule has answered: the request goes where it belongs, or to its place in the folder.
    pub(super) fn after_rules(mut self: Box<Self>) -> Decision<'a, W> {
        let Some((id, site)) = self.site.map(|id| (id, self.config.site(id))) else {
            return self.built_in(StatusCode::INTERNAL_SERVER_ERROR);
        };
        if let Some(home) = self.home(site) {
            self.see_home(&home);
            // As the client wrote it, unless that is untidy: then both at once.
            let path = match self.path.untidy {
                true => self.path.written.as_ref(),
                false => self.facts.path().value().unwrap_or("/"),
            };
            let target = format!("{}{path}{}", home.origin(), self.query());
            return self.redirect(&target, StatusCode::PERMANENT_REDIRECT);
        }
        if self.path.untidy && !self.is_served {
            let path = self.path.written.clone().into_owned();
            return self.redirect_to_path(&path, Untidy::Slashes);
        }
        match self.facts.method().value() {
            Some("GET" | "HEAD" | "OPTIONS") => {}
            other => {
                let method = other.unwrap_or_default().to_owned();
                self.see_cause(Step::Method { method }, None);
                return self.failed(StatusCode::METHOD_NOT_ALLOWED);
            }
        }
        self.look_up(id, site, Next::default())
    }

    /// Finds the place that the path means, and asks its folders what they say of themselves.
    pub(super) fn look_up(mut self: Box<Self>, id: SiteId, site: &'a Site, next: Next) -> Decision<'a, W> {
        if site.folder.is_none() {
            self.see_cause(Step::NoFolder, None);
            return self.failed(StatusCode::NOT_FOUND);
        }
        let place = match self.path.place() {
            Ok(place) => place,
            Err(why) => {
                let written = self.path.written.clone().into_owned();
                self.see_cause(Step::NoPath { written, why }, None);
                return match why {
                    NoPath::Malformed => self.failed(StatusCode::BAD_REQUEST),
                    NoPath::Nowhere => self.failed(StatusCode::NOT_FOUND),
                };
            }
        };
        let folder = match (site.folder_settings, self.path.as_folder) {
            (false, _) => None,
            (true, true) => Some(place.clone()),
            (true, false) => Some(place.parent()),
        };
        self.place = Some(place);
        match folder {
            Some(folder) => self.ask(id, folder, Stage::Settings(next)),
            None => self.look_at_place(),
        }
    }

    /// Everything that steers has been asked: what stands at the place?
    pub(super) fn look_at_place(mut self: Box<Self>) -> Decision<'a, W> {
        let (Some(id), Some(place)) = (self.site, self.place.take()) else {
            return self.failed(StatusCode::NOT_FOUND);
        };
        if self.facts.method().value() == Some("OPTIONS") {
            self.observer.see(|| Step::Method { method: "OPTIONS".to_owned() });
            return self.options();
        }
        let written = &self.path.written;
        self.observer.see(|| Step::Path { written: written.clone().into_owned(), place: place.clone() });
        self.ask(id, place, Stage::Path)
    }

    /// What may be asked, also by other people's pages (Fetch standard, "CORS-preflight request").
    fn options(&mut self) -> Decision<'a, W> {
        let mut headers = HeaderMap::new();
        headers.insert(header::ALLOW, ALLOWED);
        self.done(StatusCode::NO_CONTENT, headers, Body::None)
    }

    pub(super) fn look_for_index(mut self: Box<Self>, folder: SitePath, nth: usize) -> Decision<'a, W> {
        let (Some(id), Some(site)) = (self.site, self.settings()) else {
            return self.built_in(StatusCode::INTERNAL_SERVER_ERROR);
        };
        let added = self.added.as_deref();
        let index = added.and_then(|added| added.index.as_ref()).unwrap_or(&site.index);
        if let Some(name) = index.get(nth) {
            let place = folder.join(name);
            return self.ask(id, place, Stage::Index(folder, nth));
        }
        let (on, place) = match added.and_then(|added| Some((added.changes.listing?, added))) {
            Some((on, added)) => (on, added.listing_place.clone()),
            None => (site.listing, site.origins.get("listing").map(Place::from)),
        };
        match on {
            true => {
                self.observer.see(|| Step::Listing { on, place });
                self.ask(id, folder.clone(), Stage::Listing(folder))
            }
            false => {
                let last = index.last().map_or_else(|| folder.clone(), |name| folder.join(name));
                self.see_cause(Step::Listing { on, place }, Some(&last));
                self.failed(StatusCode::FORBIDDEN)
            }
        }
    }

    pub(super) fn prefers_json(&self) -> bool {
        negotiate::prefers_json(self.facts.field(&header::ACCEPT).value())
    }

    /// What would have had a say that is not known.
    fn unsure(&mut self) -> Option<Box<Unsure>> {
        let facts = self.facts.lacking();
        (!facts.is_empty()).then(|| Box::new(Unsure { facts, rules: std::mem::take(&mut self.unsure) }))
    }

    /// Where a request belongs that came by another host of its site, or without the HTTPS that it requires.
    pub(super) fn home(&self, site: &'a Site) -> Option<Home<'a>> {
        let (host, scheme) = (self.facts.host().value()?, self.facts.scheme());
        if scheme == Known::Unknown && site.https.value == Https::Required {
            self.facts.record_lack(&FactName::Scheme);
        }
        let scheme = scheme.value().unwrap_or(Scheme::Http);
        home(self.config, site, scheme, host, self.facts.port().value(), &self.path.written)
    }

    /// Tells why a request belongs elsewhere.
    pub(super) fn see_home(&mut self, home: &Home<'_>) {
        if let Some(place) = home.host_place.clone() {
            self.observer.see(|| Step::MainHost { host: home.host.to_owned(), place });
        }
        if let Some(place) = home.https_place.clone() {
            self.observer.see(|| Step::ToHttps { place });
        }
    }

    /// Scheme, host and port, as the client asked for them.
    fn origin(&self) -> Option<String> {
        let host = self.facts.host().value().filter(|host| !host.is_empty())?;
        let scheme = self.facts.scheme().value()?;
        let here =
            Home { scheme, host, port: self.facts.port().value(), host_place: None, https_place: None };
        Some(here.origin())
    }

    pub(super) fn redirect_to_path(&mut self, path: &str, why: Untidy) -> Decision<'a, W> {
        self.observer.see(|| Step::Tidied { path: path.to_owned(), why });
        let target = format!("{path}{}", self.query());
        self.redirect(&target, StatusCode::PERMANENT_REDIRECT)
    }

    pub(super) fn query(&self) -> String {
        self.facts.kept_query().value().map(|query| format!("?{query}")).unwrap_or_default()
    }

    /// Sends the client elsewhere: to a whole address, also where it is another path of the same host.
    pub(super) fn redirect(&mut self, target: &str, status: StatusCode) -> Decision<'a, W> {
        let mut headers = HeaderMap::new();
        let origin = match target.starts_with('/') {
            true => self.origin(),
            false => None,
        };
        insert(&mut headers, header::LOCATION, &format!("{}{target}", origin.unwrap_or_default()));
        self.done(status, headers, Body::Page(String::new()))
    }

    /// The own page for a status where there is one; programs that prefer JSON get a problem. Nothing that guards a
    /// place keeps the page from being shown.
    pub(super) fn failed(mut self: Box<Self>, status: StatusCode) -> Decision<'a, W> {
        let has_folder = self.settings().is_some_and(|site| site.folder.is_some());
        let page = match self.prefers_json() || !has_folder {
            true => None,
            false => self.error_page(status),
        };
        match (self.site, page) {
            (Some(id), Some((written, path, place))) => {
                self.observer.see(|| Step::ErrorPage { status, page: written, place });
                self.ask(id, path, Stage::ErrorPage(status))
            }
            _ => self.built_in(status),
        }
    }

    /// Too much at once, of something: 429, and when the client may come again.
    pub(super) fn come_again(mut self: Box<Self>, why: &str, seconds: u64) -> Decision<'a, W> {
        self.added().retry_after = Some(seconds);
        let time = match seconds {
            0 | 1 => "a second".to_owned(),
            2..120 => format!("{seconds} seconds"),
            _ => format!("{} minutes", seconds.div_ceil(60)),
        };
        self.failed_because(StatusCode::TOO_MANY_REQUESTS, format!("{why}. Try again in {time}."))
    }

    /// The page for a status: of the deepest folder that has one, else of the site.
    fn error_page(&self, status: StatusCode) -> Option<(String, SitePath, Place)> {
        for level in self.chain.iter().flat_map(|chain| chain.levels.iter().rev()) {
            if let Some(page) =
                level.settings.as_ref().ok().and_then(|known| known.error_pages.page(status.as_u16()))
            {
                let place = Place { folder: Some(level.folder.clone()), span: page.span.clone() };
                let below = resolve(&page.value).ok()?.place;
                let path = level.folder.join_path(&below);
                return Some((path.to_string(), path, place));
            }
        }
        let page = self.settings()?.error_pages.page(status.as_u16())?;
        Some((page.value.clone(), resolve(&page.value).ok()?.place, Place::from(&page.span)))
    }

    pub(super) fn built_in(&mut self, status: StatusCode) -> Decision<'a, W> {
        let as_json = self.prefers_json();
        self.observer.see(|| Step::BuiltIn { status, as_json });
        let mut headers = HeaderMap::new();
        let (media_type, body) = match as_json {
            true => ("application/problem+json", pages::problem(status, self.why.as_deref())),
            false => ("text/html; charset=utf-8", pages::built_in(status, self.why.as_deref())),
        };
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(media_type));
        self.done(status, headers, Body::Page(body))
    }

    /// Ends the decision. What it has come to is taken out of it.
    pub(super) fn done(&mut self, status: StatusCode, mut headers: HeaderMap, body: Body) -> Decision<'a, W> {
        if status == StatusCode::METHOD_NOT_ALLOWED {
            headers.insert(header::ALLOW, ALLOWED);
        }
        let is_held_back =
            status.is_success() && self.site.is_some_and(|site| self.config.may_hold_back(site));
        if is_held_back && kind(&self.path.written) == Kind::Download {
            self.added().within_allowance = true;
        }
        let site = self.settings();
        if let Some(time) = site.and_then(|site| site.https_only)
            && self.facts.scheme().value() == Some(Scheme::Https)
        {
            insert(&mut headers, header::STRICT_TRANSPORT_SECURITY, &format!("max-age={}", time.as_secs()));
        }
        let mut answer = Answer {
            status,
            headers,
            body,
            head_only: self.head_only,
            site: self.site,
            depends: Dependence::default(),
            unsure: self.unsure(),
            obligations: None,
            cause: self.cause.take(),
        };
        if let Some(added) = self.added.take() {
            added.apply(self.config, &self.facts, &mut answer);
        }
        // Last of all: from here on nothing more is read.
        answer.depends = self.facts.dependence();
        answer.tell_caches();
        Decision::Done(answer, std::mem::take(&mut self.observer))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::answer::{Entry, Tree};
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

    /// The folder of the site that a host leads to.
    fn folder(host: &str) -> Tree {
        if host.starts_with("lamp") {
            return Tree::default().file("index.html", 5000);
        }
        Tree::default()
            .file("index.html", 5000)
            .file("tides/index.html", 5000)
            .file("tides/today.html", 5000)
            .file("errors/lost.html", 5000)
            .file("small.txt", 20)
            .file("photo.jpg", 90_000)
            .entry_at("empty", Entry::Folder)
            .entry_at("locked.html", Entry::Forbidden)
            .entry_at("broken.html", Entry::Failed)
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
            ..Facts::UNKNOWN
        };
        let Ok((answer, ())) = answer(&config, facts).by(&folder(host));
        answer
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
        assert_eq!(answer.cause.is_some(), status >= 400, "a failure says why: {:?}", answer.cause);
        match &answer.body {
            Body::File { path, .. } => assert_eq!(path.as_str(), file),
            Body::Page(page) => assert!(file.is_empty() && page.contains(&status.to_string())),
            other => panic!("{other:?}"),
        }
    }

    #[rstest]
    #[case::main_host("www.harbour.example", "/a%20b?x=1&y=%2F", "http://harbour.example/a%20b?x=1&y=%2F")]
    #[case::main_host_port("www.harbour.example:7380", "/", "http://harbour.example:7380/")]
    #[case::folder("harbour.example", "/tides?x=1", "http://harbour.example/tides/?x=1")]
    #[case::folder_dots("harbour.example", "/./a/../tides", "http://harbour.example/tides/")]
    #[case::slashes("harbour.example", "//evil.example//x?y", "http://harbour.example/evil.example/x?y")]
    #[case::folder_by_port("harbour.localhost:7380", "/tides", "http://harbour.localhost:7380/tides/")]
    #[case::slashes_folder("harbour.example", "//tides", "http://harbour.example/tides")]
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
