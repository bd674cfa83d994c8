//! Running rules: those of the site, and then what the folders on the way say of themselves.
//!
//! Rules run in order. One that answers ends the run; one that serves another path goes on after itself with that
//! path; guards are asked as soon as they are met, so that a later rule knows who has signed in.

use super::absolute::Absolute;
use super::added::Added;
use super::decide::Deciding;
use super::home::{home, site_of};
use super::listing::Listed;
use super::path::{Tidy, tidy};
use super::represent;
use super::stage::Next;
use super::trace::{Cause, Observer, Place, Step, Why};
use super::{Decision, FolderChain, FolderLevel, UnsureRule};
use crate::config::Site;
use crate::facts::{Known, RecordedFacts, Scheme};
use crate::rules::{Answering, Captures, Misfit, Rule, RuleSet, Seen, SoFar, Template, Values};
use http::{HeaderValue, StatusCode};
use std::borrow::Cow;
use std::sync::Arc;

/// What a rule that fits leads to.
enum Outcome {
    /// The next rule.
    On,
    /// The rule after this one, with another path.
    Serve(Tidy<'static>),
    /// A login first.
    Login(usize),
    /// An answer.
    Answer(Sent),
}

/// What a rule that fits goes by: who has signed in, the path it saw, and what it captured of it.
type Captured<'c> = (Option<&'c str>, &'c Seen<'c>, &'c Captures);

/// An answer of a rule.
enum Sent {
    Elsewhere(String, StatusCode),
    Refused(StatusCode),
}

impl<'a, W: Observer> Deciding<'a, W> {
    /// Runs the site's rules from one of them on.
    pub(super) fn run_site_rules(mut self: Box<Self>, mut first: usize) -> Decision<'a, W> {
        let Some(site) = self.settings() else { return self.after_rules() };
        loop {
            let path = self.seen();
            let next = Next { rule: first, ..Next::default() };
            match self.run(&site.rules, &path, next, None) {
                (Outcome::On, _) => return self.after_rules(),
                (Outcome::Serve(path), rule) => {
                    (self.path, self.is_served) = (path, true);
                    first = rule + 1;
                }
                (Outcome::Login(realm), rule) => {
                    return self.login(realm, Next { rule, ..Next::default() });
                }
                (Outcome::Answer(sent), _) => return self.send(sent, site),
            }
        }
    }

    /// The path as rules see it, borrowed from the request where it still is the request's.
    fn seen(&self) -> Seen<'a> {
        match &self.path.written {
            Cow::Borrowed(written) => Seen::new(*written),
            Cow::Owned(written) => Seen::new(written.clone()),
        }
    }

    /// Goes through the folders on the way that say something of themselves.
    pub(super) fn run_folders(
        mut self: Box<Self>,
        chain: Option<Arc<FolderChain>>,
        mut next: Next,
    ) -> Decision<'a, W> {
        let (Some(id), Some(site)) = (self.site, self.settings()) else { return self.look_at_place() };
        self.chain = chain;
        let Some(chain) = self.chain.clone() else { return self.look_at_place() };
        next.in_folders = true;
        while let Some(level) = chain.levels.get(next.level) {
            let settings = match &level.settings {
                Ok(settings) => settings,
                Err(broken) => {
                    let (folder, broken) = (level.folder.clone(), broken.clone());
                    self.see_cause(Step::FolderBroken { folder, broken }, None);
                    return self.failed(StatusCode::INTERNAL_SERVER_ERROR);
                }
            };
            if !next.inside {
                next = Next { inside: true, rule: 0, ..next };
                if let Some(login) = self.enter(level) {
                    return match login {
                        Outcome::Login(realm) => self.login(realm, next),
                        Outcome::Answer(sent) => self.send(sent, site),
                        Outcome::On | Outcome::Serve(_) => self.failed(StatusCode::INTERNAL_SERVER_ERROR),
                    };
                }
            }
            let whole = self.seen();
            let path = whole.below(level.depth);
            match self.run(&settings.rules, &path, next, Some((level, &whole))) {
                (Outcome::On, _) => next = Next { level: next.level + 1, inside: false, ..next },
                (Outcome::Serve(path), rule) => {
                    // Another path may lead through other folders below this one.
                    (self.path, self.is_served) = (path, true);
                    return self.look_up(id, site, Next { rule: rule + 1, ..next });
                }
                (Outcome::Login(realm), rule) => return self.login(realm, Next { rule, ..next }),
                (Outcome::Answer(sent), _) => return self.send(sent, site),
            }
        }
        self.look_at_place()
    }

    /// Takes in what a folder says of itself besides its rules. Gives what stands in the way.
    fn enter(&mut self, level: &FolderLevel) -> Option<Outcome> {
        let Ok(settings) = &level.settings else { return None };
        let folder = level.folder.clone();
        self.observer.see(|| Step::Folder { folder });
        let place = |key| Place {
            folder: Some(level.folder.clone()),
            span: settings.places.get(key).cloned().unwrap_or_default(),
        };
        let effects = &settings.effects;
        let added = self.added.get_or_insert_default();
        added.change(&effects.changes, || place("listing"));
        if let Some(index) = &settings.index {
            added.index = Some(index.clone());
        }
        let path = Seen::new(self.path.written.as_ref());
        add_headers(added, &effects.headers, &self.facts, &path, &Captures::default());
        if let Some(Answering::Refuse(status)) = effects.answer {
            self.see_cause(Step::Refused { status, place: place("refuse") }, None);
            return Some(Outcome::Answer(Sent::Refused(status)));
        }
        effects.login.map(Outcome::Login)
    }

    /// Runs rules until one of them leads somewhere: what to, and which rule it was. `folder` is the one they stand in, and
    /// the whole path.
    fn run(
        &mut self,
        rules: &RuleSet,
        path: &Seen<'_>,
        next: Next,
        folder: Option<(&FolderLevel, &Seen<'_>)>,
    ) -> (Outcome, usize) {
        let candidates = match self.observer.hears_misfits() {
            true => rules.to_explain(path, next.rule),
            false => rules.candidates(path, next.rule),
        };
        if candidates.is_empty() {
            return (Outcome::On, rules.len());
        }
        let whole = folder.map_or(path, |(_, whole)| whole);
        for number in candidates {
            let Some(rule) = rules.get(number as usize) else { continue };
            let rule = &*rule;
            let user = self.added.as_ref().and_then(|added| added.user.clone());
            let so_far = SoFar { user: user.as_deref(), path: whole.text() };
            let in_vain = self.facts.asked_in_vain();
            let captures = match rule.fits(&self.facts, so_far, path) {
                Ok(captures) => captures,
                Err(misfit) => {
                    self.see_misfit(rule, &misfit, folder);
                    self.see_lack(in_vain, number, folder);
                    continue;
                }
            };
            // One that asked for a login comes by again.
            if folder.is_some() || self.added().fired.last() != Some(&number) {
                self.see_fit(rule, folder);
            }
            if folder.is_none() && self.added().fired.last() != Some(&number) {
                self.added().fired.push(number);
            }
            let outcome = self.follow(rule, (user.as_deref(), path, &captures), folder);
            self.see_lack(in_vain, number, folder);
            if let Outcome::Answer(Sent::Refused(_)) = outcome {
                self.cause = Cause::of(step_of(rule, folder), None);
            }
            if !matches!(outcome, Outcome::On) {
                return (outcome, number as usize);
            }
        }
        (Outcome::On, rules.len())
    }

    /// Whether the rules refuse this client what stands in the folder that is about to be listed: nobody is shown a link to it.
    pub(super) fn is_refused_below(&self, site: &Site, entry: &Listed) -> bool {
        let user = self.added.as_ref().and_then(|added| added.user.as_deref());
        let path = Seen::new(format!("{}{}", self.path.written, entry.link()));
        let refuses = |rules: &RuleSet, path: &Seen<'_>, whole: &Seen<'_>| {
            for number in rules.candidates(path, 0) {
                let Some(rule) = rules.get(number as usize) else { continue };
                let so_far = SoFar { user, path: whole.text() };
                let is_answering = rule.effects.answer.is_some() || rule.effects.serve.is_some();
                if is_answering && rule.fits(&self.facts, so_far, path).is_ok() {
                    return Some(matches!(rule.effects.answer, Some(Answering::Refuse(_) | Answering::Gone)));
                }
            }
            None
        };
        let by_site = (!site.rules.is_empty()).then(|| refuses(&site.rules, &path, &path)).flatten();
        let by_folders = || {
            self.chain.iter().flat_map(|chain| &chain.levels).find_map(|level| {
                let settings = level.settings.as_ref().ok().filter(|settings| !settings.rules.is_empty())?;
                refuses(&settings.rules, &path.below(level.depth), &path)
            })
        };
        by_site.or_else(by_folders).unwrap_or(false)
    }

    /// Does what a rule says.
    fn follow(
        &mut self,
        rule: &Rule,
        captured: Captured<'_>,
        folder: Option<(&FolderLevel, &Seen<'_>)>,
    ) -> Outcome {
        let effects = &rule.effects;
        let (_, path, captures) = captured;
        let added = self.added.get_or_insert_default();
        add_headers(added, &effects.headers, &self.facts, path, captures);
        added.change(&effects.changes, || place_of(rule, folder));
        let does_more =
            effects.serve.is_some() || effects.login.is_some() || !effects.changes.limits.is_empty();
        if effects.answer.is_some() || does_more {
            added.rule = Some((*rule.name).into());
        }
        // What is guarded answers nothing before its guard has been passed.
        if let Some(realm) = effects.login
            && !self.is_preflight()
            && !self.has_passed(realm)
        {
            return Outcome::Login(realm);
        }
        self.answer_by(rule, captured, folder)
    }

    /// What a rule answers, or serves, once nothing stands in the way.
    fn answer_by(
        &mut self,
        rule: &Rule,
        captured: Captured<'_>,
        folder: Option<(&FolderLevel, &Seen<'_>)>,
    ) -> Outcome {
        let (user, path, captures) = captured;
        let values = &Values { facts: &self.facts, user, path, captures };
        if let Some(template) = &rule.effects.serve {
            let path = below(template.address(values), folder.map(|(level, whole)| (level.depth, whole)));
            return match tidy(&path) {
                Ok(path) if stays_below(&path, folder.map(|(level, whole)| (level.depth, whole))) => {
                    let path = path.into_owned();
                    let shown = path.written.clone().into_owned();
                    self.observer.see(|| Step::Served { path: shown });
                    Outcome::Serve(path)
                }
                _ => Outcome::Answer(Sent::Refused(StatusCode::NOT_FOUND)),
            };
        }
        match &rule.effects.answer {
            None => Outcome::On,
            Some(Answering::Gone) => Outcome::Answer(Sent::Refused(StatusCode::GONE)),
            Some(Answering::Refuse(status)) => Outcome::Answer(Sent::Refused(*status)),
            Some(Answering::Redirect { target, status, drops_query }) => {
                let mut address = target.address(values);
                if address.starts_with('/') {
                    address = below(address, folder.map(|(level, whole)| (level.depth, whole)));
                }
                let (bare, fragment) = match address.find('#') {
                    Some(at) => address.split_at(at),
                    None => (address.as_str(), ""),
                };
                let query = if *drops_query || bare.contains('?') { String::new() } else { self.query() };
                let address = format!("{bare}{query}{fragment}");
                let address = self.at_home(&address).into_owned();
                Outcome::Answer(Sent::Elsewhere(address, *status))
            }
        }
    }

    /// An address with the final scheme and host of the site it leads into, so that nobody is sent twice.
    fn at_home<'t>(&self, address: &'t str) -> Cow<'t, str> {
        if address.starts_with('/') {
            // Two slashes, or what browsers take for such, would lead to another host.
            let path = address.trim_start_matches(['/', '\\']);
            let path = &address[address.len() - path.len() - 1..];
            let path =
                if path.starts_with('/') { Cow::Borrowed(path) } else { format!("/{}", &path[1..]).into() };
            let home = self.settings().and_then(|site| {
                let (host, scheme) =
                    (self.facts.host().value()?, self.facts.scheme().value().unwrap_or(Scheme::Http));
                home(self.config, site, scheme, host, self.facts.port().value(), &path)
            });
            return match home {
                Some(home) => format!("{}{path}", home.origin()).into(),
                None => path,
            };
        }
        let Some(target) = Absolute::understand(address) else { return Cow::Borrowed(address) };
        let site = site_of(self.config, &target.host.to_ascii_lowercase()).map(|id| self.config.site(id));
        let home = site
            .and_then(|site| home(self.config, site, target.scheme, target.host, target.port, target.path()));
        match home {
            Some(home) => format!("{}{}", home.origin(), target.rest).into(),
            None => Cow::Borrowed(address),
        }
    }

    fn send(mut self: Box<Self>, sent: Sent, site: &'a Site) -> Decision<'a, W> {
        match sent {
            Sent::Refused(status) => self.failed(status),
            Sent::Elsewhere(target, _) if self.is_here(&target) => {
                self.see_cause(Step::ToItself { target }, None);
                self.failed(StatusCode::INTERNAL_SERVER_ERROR)
            }
            Sent::Elsewhere(target, status) => {
                if let Some(home) = self.home(site) {
                    self.see_home(&home);
                }
                let shown = target.clone();
                self.observer.see(|| Step::Sent { target: shown, status });
                self.redirect(&target, status)
            }
        }
    }

    /// Whether an address is the very one that was asked for.
    fn is_here(&self, target: &str) -> bool {
        let path = self.facts.path().value().unwrap_or_default();
        // Only a target with a query of its own can be the same by what the query says.
        let query = match target.contains('?') {
            true => self.facts.query().value().map(|query| format!("?{query}")).unwrap_or_default(),
            false => self.query(),
        };
        let here = format!("{path}{query}");
        let target = target.split('#').next().unwrap_or_default();
        if target.starts_with('/') {
            return target == here;
        }
        let Some(absolute) = Absolute::understand(target) else { return false };
        let same_host = self
            .facts
            .host()
            .value()
            .is_some_and(|host| host.trim_end_matches('.').eq_ignore_ascii_case(absolute.host));
        let scheme = self.facts.scheme().value().unwrap_or(Scheme::Http);
        // Something in front may map the port, so that an address without one is the same.
        let same_port = absolute.port.is_none() || absolute.port == self.facts.port().value();
        same_host && same_port && scheme == absolute.scheme && absolute.rest == here
    }

    /// Remembers a rule that has asked for a fact nobody knows since then.
    fn see_lack(&mut self, in_vain: u32, number: u32, folder: Option<(&FolderLevel, &Seen<'_>)>) {
        if self.facts.asked_in_vain() > in_vain {
            let folder = folder.map(|(level, _)| level.folder.clone());
            self.unsure.push(UnsureRule { number: number as usize, folder });
        }
    }

    fn see_fit(&mut self, rule: &Rule, folder: Option<(&FolderLevel, &Seen<'_>)>) {
        self.observer.see(|| step_of(rule, folder));
    }

    fn see_misfit(&mut self, rule: &Rule, misfit: &Misfit, folder: Option<(&FolderLevel, &Seen<'_>)>) {
        if !self.observer.hears_misfits() {
            return;
        }
        let condition = match misfit {
            Misfit::Path => None,
            Misfit::Condition(nth) => rule.when.get(*nth),
        };
        let facts = *self.facts.unrecorded();
        let step = || {
            let is = condition.map(|condition| (condition.text.to_string(), facts.text(&condition.fact)));
            let path = rule.path.as_ref().map(|path| path.text().to_owned()).unwrap_or_default();
            let why = match is {
                None => Why::Path(path),
                Some((asked, Known::Is(value))) => Why::Other { asked, value: value.into_owned() },
                Some((asked, Known::Absent)) => Why::Absent { asked },
                Some((asked, Known::Unknown)) => Why::Unknown { asked },
            };
            let mut place = place_of(rule, folder);
            if let Some(condition) = condition {
                place.span = condition.place.clone();
            }
            Step::RuleNot { name: rule.name.to_string(), why, place }
        };
        self.observer.see(step);
    }
}

fn step_of(rule: &Rule, folder: Option<(&FolderLevel, &Seen<'_>)>) -> Step {
    Step::Rule { name: rule.name.to_string(), effects: rule.effects.names(), place: place_of(rule, folder) }
}

fn place_of(rule: &Rule, folder: Option<(&FolderLevel, &Seen<'_>)>) -> Place {
    Place { folder: folder.map(|(level, _)| level.folder.clone()), span: rule.place.clone() }
}

fn add_headers(
    added: &mut Added,
    headers: &[(http::HeaderName, Option<Template>)],
    facts: &RecordedFacts<'_>,
    path: &Seen<'_>,
    captures: &Captures,
) {
    for (name, template) in headers {
        let user = added.user.clone();
        let values = Values { facts, user: user.as_deref(), path, captures };
        let value: Option<HeaderValue> =
            template.as_ref().map(|template| represent::value(&template.plain(&values)));
        added.headers.retain(|(known, _)| known != name);
        added.headers.push((name.clone(), value));
    }
}

/// A path that begins at a folder so many segments deep, as one that begins at the site's.
fn below(path: String, folder: Option<(usize, &Seen<'_>)>) -> String {
    match folder {
        None => path,
        Some((depth, whole)) => {
            let written = whole.written();
            let end = written.match_indices('/').nth(depth).map_or(written.len(), |(at, _)| at);
            format!("{}{path}", &written[..end])
        }
    }
}

/// Whether a path has not climbed out of the folder whose rule made it.
fn stays_below(path: &Tidy<'_>, folder: Option<(usize, &Seen<'_>)>) -> bool {
    let Some((depth, whole)) = folder else { return true };
    let prefix = |text: &str| {
        let end = text.match_indices('/').nth(depth).map(|(at, _)| at + 1);
        end.map(|end| Seen::new(text[..end].to_owned()).text().to_owned())
    };
    prefix(&path.written).is_some_and(|begins| prefix(whole.written()) == Some(begins))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::answer::Tree;
    use crate::answer::listing::Kind;
    use crate::config::understand;
    use crate::facts::{Facts, Fields, Known};
    use http::{HeaderMap, header};
    use rstest::rstest;
    use std::path::Path;

    #[rstest]
    #[case::of_the_site("/a/b", 0, "/x", "/x")]
    #[case::of_a_folder("/a/b/c", 1, "/x", "/a/x")]
    #[case::deeper("/a/b/c", 2, "/x", "/a/b/x")]
    #[case::as_it_was_written("/s%c3%a6l/b", 1, "/x", "/s%c3%a6l/x")]
    fn paths_of_a_folders_rules_begin_at_the_folder(
        #[case] whole: &str,
        #[case] depth: usize,
        #[case] path: &str,
        #[case] expected: &str,
    ) {
        let seen = Seen::new(whole);
        let folder = (depth > 0).then_some((depth, &seen));
        assert_eq!(below(path.to_owned(), folder), expected);
    }

    #[rstest]
    #[case("/a/b", "/a/x", true)]
    #[case("/a/b", "/a/", true)]
    #[case("/a/b", "/b/x", false)]
    #[case("/a/b", "/a", false)]
    #[case::another_way_to_write_it("/s%c3%a6l/b", "/s%C3%A6l/x", true)]
    #[case::a_name_that_begins_so("/a/b", "/ab/x", false)]
    fn no_rule_of_a_folder_leads_out_of_it(#[case] whole: &str, #[case] path: &str, #[case] stays: bool) {
        let seen = Seen::new(whole);
        assert_eq!(stays_below(&tidy(path).unwrap(), Some((1, &seen))), stays);
        assert!(stays_below(&tidy(path).unwrap(), None), "the site's own may lead anywhere in it");
    }

    const SITE: &str = "[[listener]]\naddress = \"127.0.0.1:7380\"\n[[listener]]\naddress = \"127.0.0.1:7343\"\nhttps = true\n\
                        public_port = 443\n[[site]]\nname = \"harbour\"\nhosts = [\"harbour.example\", \"www.harbour.example\"]\n\
                        main_host = \"harbour.example\"\nhttps = \"required\"\nfolder = \"h\"\n";

    /// Where a redirect by a rule leads, asked by HTTPS on the main host.
    fn sent_to(target: &str) -> Option<String> {
        let text = format!("{SITE}[[site.rules]]\npath = \"/old\"\nredirect = \"{target}\"\n");
        let config = understand(&text, Path::new("")).unwrap();
        let headers = HeaderMap::new();
        let facts = Facts {
            scheme: Known::Is(Scheme::Https),
            host: Known::Is("harbour.example"),
            port: Known::Absent,
            method: Known::Is("GET"),
            path: Known::Is("/old"),
            query: Known::Is("day=14"),
            fields: Fields::All(&headers),
            ..Facts::UNKNOWN
        };
        let Ok((answer, ())) = crate::answer::answer(&config, facts).by(&Tree::default());
        answer.headers.get(header::LOCATION).map(|value| value.to_str().unwrap().to_owned())
    }

    #[rstest]
    #[case::a_path("/new", "https://harbour.example/new?day=14")]
    #[case::with_a_query_of_its_own("/new?x=1", "https://harbour.example/new?x=1")]
    #[case::before_its_fragment("/new#noon", "https://harbour.example/new?day=14#noon")]
    #[case::another_host_of_the_site("http://www.harbour.example/new", "https://harbour.example/new?day=14")]
    #[case::elsewhere("http://elsewhere.example/new", "http://elsewhere.example/new?day=14")]
    fn redirects_lead_where_nobody_is_sent_on(#[case] target: &str, #[case] expected: &str) {
        assert_eq!(sent_to(target).as_deref(), Some(expected));
    }

    #[test]
    fn what_is_refused_is_not_listed() {
        let rules = "listing = true\n[[site.rules]]\npath = \"/secret/{*}\"\nrefuse = 403\n\
                     [[site.rules]]\npath = \"/gone.txt\"\ngone = true\n[[site.rules]]\npath = \"/moved.txt\"\nredirect = \"/new\"\n";
        let text = SITE.replace("https = \"required\"\n", "") + rules;
        let config = understand(&text, Path::new("")).unwrap();
        let facts = Facts { host: Known::Is("harbour.example"), ..Facts::UNKNOWN };
        let mut deciding = Deciding::new(&config, facts, ());
        deciding.path = tidy("/").unwrap();
        let listed = |name: &str, kind| Listed { name: name.to_owned(), kind, bytes: 1, changed: 0 };
        for (name, kind, is_refused) in [
            ("secret", Kind::Folder, true),
            ("secret", Kind::File, false),
            ("gone.txt", Kind::File, true),
            ("moved.txt", Kind::File, false),
            ("plain.txt", Kind::File, false),
        ] {
            let found = deciding.is_refused_below(&config.sites[0], &listed(name, kind));
            assert_eq!(found, is_refused, "{name} {kind:?}");
        }
    }
}
