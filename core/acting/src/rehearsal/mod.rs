//! Recorded requests run through another configuration, and the answers compared: what would be different, for whom, and because of
//! what?
//!
//! Both configurations decide by the same core that serves, on the folders as they are now. Requests that neither can tell apart are
//! decided once: an answer says what it depended on ([`exedra_answering::facts::Dependence`]), and by the law that nothing else made a
//! difference, every further request with the same is only counted. What the log does not tell is unknown: where that had a say,
//! nobody can tell how the answer would differ, and such requests are counted apart.
//!
//! - [`recorded`]: a request as its row tells it, and what is known of requests beside
//! - [`distinct`]: requests that neither configuration can tell apart
//! - [`change`]: how two answers differ for whoever asked; [`following`]: where redirects lead in the end
//! - [`cause`]: the rule or setting that makes the difference
//! - [`timed`]: limits and lifetimes, which depend on when requests came
//! - [`outcome`]: what came of it, as tables
//!
//! ```
//! use exedra_acting::rehearsal::{AnswerChange, RecordedRequest, Rehearsal, Surroundings};
//! use exedra_answering::answer::Tree;
//! use exedra_answering::config::understand;
//! let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n";
//! let with = format!("{text}[[site.rules]]\nname = \"moved\"\npath = \"/old/{{rest*}}\"\nredirect = \"/new/{{rest}}\"\n");
//! let (now, changed) = (understand(text, "".as_ref()).unwrap(), understand(&with, "".as_ref()).unwrap());
//! let folder = Tree::default().file("new/fog.html", 500);
//! let around = Surroundings::new(jiff::tz::TimeZone::UTC);
//! let mut rehearsal = Rehearsal::new((&now, &folder), (&changed, &folder), &around);
//! let agent = Some("Mozilla/5.0 (X11; Linux x86_64; rv:150.0) Gecko/20100101 Firefox/150.0");
//! let request = RecordedRequest { host: Some("a.example"), scheme: Some("http"), path: Some("/old/fog.html"), agent, ..RecordedRequest::default() };
//! rehearsal.take(&request);
//! let outcome = rehearsal.finish();
//! assert_eq!((outcome.groups[0].change, outcome.groups[0].people), (AnswerChange::Found, 1));
//! assert_eq!(outcome.groups[0].cause.what, "the rule `moved`");
//! ```

pub mod cause;
pub mod change;
pub mod distinct;
mod example;
pub mod following;
mod groups;
pub mod outcome;
pub mod recorded;
pub mod timed;

pub use cause::ChangeCause;
pub use change::AnswerChange;
pub use example::Example;
pub use outcome::{CannotTell, RehearsalGroup, RehearsalOutcome, SiteAnswers};
pub use recorded::{Accepted, RecordedRequest, Surroundings};

use cause::{AskingRule, Side, asking, rule_in_words};
use change::{End, change, is_same};
use distinct::{Distinct, Needs};
use exedra_answering::answer::{
    Answer, Folder, Form, LettingIn, Question, Trace, Tree, UnsureRule, Want, answer, answer_traced,
};
use exedra_answering::config::{Config, SiteId};
use exedra_answering::facts::{FactName, Facts, Fields, Known, LoggedFields};
use exedra_answering::rules::Limit;
use exedra_common::{Dictionaries, RequestBatch};
use following::{bytes, follow};
use groups::{Groups, Limits, Verdict};
use http::header::{self, HeaderName};
use recorded::{Owned, facts, fields};
use std::convert::Infallible;

/// The folders of a configuration's sites, which need not be waited for.
pub trait SiteFolders: Folder<Missing = Infallible> + Sync {
    /// Body bytes of the file at a place in some form, where they are known or easily had.
    fn size(&self, question: &Question, form: Form) -> Option<u64>;
}

impl SiteFolders for Tree {
    fn size(&self, question: &Question, _: Form) -> Option<u64> {
        let question = Question { want: Want::Entry, ..question.clone() };
        let Ok(found) = self.entry(&question);
        match found.entry() {
            exedra_answering::answer::Entry::File(facts) => Some(facts.size),
            _ => None,
        }
    }
}

/// What a client takes that takes everything.
const TAKEN: &str = "br, zstd, gzip, deflate";

/// A configuration with the folders of its sites.
type Served<'c> = (&'c Config, &'c dyn SiteFolders);

/// Requests run through two configurations, on one thread.
pub struct Rehearsal<'c> {
    old: Served<'c>,
    new: Served<'c>,
    around: &'c Surroundings,
    distinct: Distinct,
    groups: Groups,
    /// Rules that only one of both has, and that ask for something.
    asking: Vec<AskingRule>,
}

/// What one configuration makes of a request.
struct Played {
    answer: Answer,
    needs: Needs,
}

impl<'c> Rehearsal<'c> {
    /// Of requests that the first configuration answers, through the second.
    pub fn new(old: Served<'c>, new: Served<'c>, around: &'c Surroundings) -> Self {
        Rehearsal {
            old,
            new,
            around,
            distinct: Distinct::default(),
            groups: Groups::new(limits(old.0), limits(new.0)),
            asking: asking(new.0, old.0, true).into_iter().chain(asking(old.0, new.0, false)).collect(),
        }
    }

    /// Takes a row of a batch.
    pub fn add(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries) {
        self.take(&RecordedRequest::of(batch, row, texts));
    }

    /// Takes a request.
    pub fn take(&mut self, request: &RecordedRequest<'_>) {
        // What never was a request has no path, and is answered 400 whatever the configuration.
        let Some(base) = self.distinct.base(request) else {
            self.groups.count_malformed();
            return;
        };
        let known = self.distinct.find(base, request, self.around);
        let verdict = match known {
            Some(verdict) => verdict,
            None if self.distinct.is_full() => {
                self.groups.count_let_go();
                return;
            }
            None => {
                let (verdict, needs) = self.compare(request);
                let verdict = self.groups.keep(verdict);
                self.distinct.remember(base, needs, request, self.around, verdict);
                verdict
            }
        };
        self.groups.count(verdict, request, &self.distinct);
    }

    /// Adds what another thread has taken.
    #[must_use]
    pub fn merge(mut self, other: Rehearsal<'c>) -> Self {
        let distinct = self.distinct.merge(other.distinct);
        self.distinct = distinct;
        self.groups.merge(other.groups);
        self
    }

    /// What came of it.
    pub fn finish(self) -> RehearsalOutcome {
        let distinct = self.distinct.count();
        let mut outcome = outcome::outcome(self.groups, distinct);
        let held_back = |config: &Config| -> Vec<String> {
            let sites = config.sites.iter().enumerate().filter(|(nth, _)| config.may_hold_back(SiteId(*nth)));
            sites.map(|(_, site)| site.name.value.clone()).collect()
        };
        if held_back(self.old.0) != held_back(self.new.0) {
            let words = "what happens once a month's allowance is used up differs, and is not rehearsed: downloads are held back then, and pages never";
            outcome.caveats.push(words.to_owned());
        }
        outcome
    }

    fn play(&self, (config, sites): Served<'c>, facts: Facts<'_>) -> Played {
        let Ok((answer, ())) = answer(config, facts).by(&LettingIn(sites));
        Played { needs: Needs::of(&answer), answer }
    }

    /// Decides a request by both, and says how the answers differ and what that depended on.
    fn compare(&self, request: &RecordedRequest<'_>) -> (Verdict, Needs) {
        let (owned, also) = (Owned::of(request, self.old.0), Owned::of(request, self.new.0));
        let (fields, also_fields) =
            (fields(request, &owned, self.around), fields(request, &also, self.around));
        let old_facts = facts(request, &owned, &fields, self.around);
        let new_facts = facts(request, &also, &also_fields, self.around);
        let (old, new) = (self.play(self.old, old_facts), self.play(self.new, new_facts));
        let mut needs = old.needs.and(new.needs);
        let limits = |played: &Played| -> Vec<u32> {
            let obligations = played.answer.obligations.as_deref();
            let limits = obligations.map_or(&[][..], |obligations| &obligations.limits);
            limits.iter().filter(|limit| limit.requests.is_some()).map(|limit| limit.id as u32).collect()
        };
        let mut verdict = Verdict {
            answered: old.answer.status.as_u16(),
            would_answer: new.answer.status.as_u16(),
            limits: (limits(&old), limits(&new)),
            lacking: self.lacking(&old.answer, &new.answer),
            ..Verdict::default()
        };
        if is_same(&old.answer, &new.answer) {
            let is_on_codings = old.answer.depends.is_on_field(&header::ACCEPT_ENCODING);
            if fields.accept_encoding == Known::Unknown && is_on_codings && verdict.lacking.is_none() {
                verdict.lacking = self.differs_by_codings((&fields, old_facts), (&also_fields, new_facts));
            }
            return (verdict, needs);
        }
        let mut see = |answer: &Answer| needs = needs.and(Needs::of(answer));
        let old_end = follow(self.old.0, self.old.1, &old_facts, &old.answer, &mut see);
        let new_end = follow(self.new.0, self.new.1, &new_facts, &new.answer, &mut see);
        let is_unsure = old.answer.unsure.is_some() || new.answer.unsure.is_some();
        if is_unsure && verdict.lacking.is_none() {
            verdict.lacking = lacking(&old.answer, &new.answer);
        }
        let change = change((&old.answer, &old_end), (&new.answer, &new_end));
        let setting = match change {
            AnswerChange::Compression => "compress",
            AnswerChange::Caching => "cache",
            AnswerChange::LoginAsked | AnswerChange::LetIn => "login",
            _ => "folder",
        };
        let traced = |(config, sites): Served<'c>, facts: Facts<'_>| -> Trace {
            let Ok((_, trace)) = answer_traced(config, facts, Trace::default()).by(&LettingIn(sites));
            trace
        };
        let (old_trace, new_trace) = (traced(self.old, old_facts), traced(self.new, new_facts));
        let before = Side {
            config: self.old.0,
            site: old.answer.site,
            trace: &old_trace,
            depends: &old.answer.depends,
        };
        let after = Side {
            config: self.new.0,
            site: new.answer.site,
            trace: &new_trace,
            depends: &new.answer.depends,
        };
        verdict.difference = Some(groups::Difference {
            site: request.site.map_or_else(|| site_name(&self.old, &old.answer), str::to_owned),
            change,
            cause: cause::cause(before, after, &self.asking, setting),
            example: example(
                request,
                (change, needs.is_on_query()),
                (&old.answer, &old_end),
                (&new.answer, &new_end),
            ),
            bytes: sizes((self.old.1, &old.answer, &old_end), (self.new.1, &new.answer, &new_end)),
            is_kept_body: old.answer.body == new.answer.body && old.answer.status == new.answer.status,
            lifetimes: lifetimes(change, &old.answer, &new.answer),
        });
        (verdict, needs)
    }

    /// What is lacking where nobody knows which codings a client takes, and the answers would differ if it took them.
    fn differs_by_codings<'f>(
        &self,
        (fields, old): (&LoggedFields<'f>, Facts<'f>),
        (also, new): (&LoggedFields<'f>, Facts<'f>),
    ) -> Option<String> {
        let takes = |fields: &LoggedFields<'f>| LoggedFields { accept_encoding: Known::Is(TAKEN), ..*fields };
        let (fields, also) = (takes(fields), takes(also));
        let old = self.play(self.old, Facts { fields: Fields::Logged(&fields), ..old });
        let new = self.play(self.new, Facts { fields: Fields::Logged(&also), ..new });
        (!is_same(&old.answer, &new.answer)).then(|| "the codings that the client takes".to_owned())
    }

    /// Facts that had a say which are not known, where the rules that asked for them are not the same in both: then whatever
    /// they are they would have had the same say.
    fn lacking(&self, old: &Answer, new: &Answer) -> Option<String> {
        let rules = |config: &Config, answer: &Answer| -> Vec<String> {
            let unsure = answer.unsure.as_deref().map_or(&[][..], |unsure| &unsure.rules);
            let name = |rule: &UnsureRule| match (&rule.folder, answer.site) {
                (None, Some(site)) => {
                    config.site(site).rules.get(rule.number).map(|rule| rule_in_words(config, &rule))
                }
                (Some(folder), _) => Some(format!("{folder} {}", rule.number)),
                (None, None) => None,
            };
            unsure.iter().filter_map(name).collect()
        };
        if old.unsure.is_none() && new.unsure.is_none() {
            return None;
        }
        let is_same = rules(self.old.0, old) == rules(self.new.0, new);
        if is_same { None } else { lacking(old, new) }
    }
}

/// The facts that are lacking for two answers, in words.
fn lacking(old: &Answer, new: &Answer) -> Option<String> {
    let mut names: Vec<String> = Vec::new();
    for fact in
        [old, new].into_iter().filter_map(|answer| answer.unsure.as_deref()).flat_map(|unsure| &unsure.facts)
    {
        let name = in_words(fact);
        if !names.contains(&name) {
            names.push(name);
        }
    }
    names.sort_unstable();
    (!names.is_empty()).then(|| names.join(", "))
}

/// A fact as people name it.
fn in_words(fact: &FactName) -> String {
    match fact {
        FactName::Cookie(name) => format!("the cookie `{name}`"),
        FactName::Field(name) => format!("the header field `{name}`"),
        FactName::Parameter(name) => format!("the query's `{name}`"),
        FactName::Tls => "the TLS version".to_owned(),
        FactName::TlsName => "the name asked for by TLS".to_owned(),
        FactName::Certificate => "the certificate".to_owned(),
        FactName::ServerAddress => "the address that was asked".to_owned(),
        FactName::ServerPort | FactName::Port => "the port".to_owned(),
        FactName::Client => "the client's address".to_owned(),
        FactName::User => "who has signed in".to_owned(),
        other => format!("the {other}"),
    }
}

fn site_name((config, _): &Served<'_>, answer: &Answer) -> String {
    answer.site.map_or_else(String::new, |site| config.site(site).name.value.clone())
}

/// All limits of a configuration, by their numbers.
fn limits(config: &Config) -> Limits {
    let mut all = Limits::new();
    for site in &config.sites {
        for rule in site.rules.written() {
            for limit in &rule.effects.changes.limits {
                if all.len() <= limit.id {
                    all.resize(limit.id + 1, (Limit::default(), None));
                }
                all[limit.id] = (*limit, Some(rule.name.to_string()));
            }
        }
    }
    all
}

/// How a request is answered by both, in words; with its query where what that says had a say.
fn example(
    request: &RecordedRequest<'_>,
    (change, has_query): (AnswerChange, bool),
    old: (&Answer, &End),
    new: (&Answer, &End),
) -> Example {
    let query = request.query.filter(|_| has_query).map(|query| format!("?{query}")).unwrap_or_default();
    let differs = old.0.status == new.0.status;
    let told = |(answer, end): (&Answer, &End)| {
        let status = answer.status.as_u16();
        let field = |name: HeaderName| answer.headers.get(name).and_then(|value| value.to_str().ok());
        match (change, &end.address) {
            (_, Some(address)) if answer.status.is_redirection() => {
                let address = within(address, request.host);
                match end.is_endless {
                    true => format!("{status} to {address}, without end"),
                    false => format!("{status} to {address} ({})", end.status),
                }
            }
            (AnswerChange::Caching, _) if differs => {
                field(header::CACHE_CONTROL).unwrap_or("no lifetime").to_owned()
            }
            (AnswerChange::Compression, _) if differs => {
                field(header::CONTENT_ENCODING).unwrap_or("uncompressed").to_owned()
            }
            (AnswerChange::OtherContent, _) if differs => match &end.file {
                Some((_, file)) => format!("{status} /{file}"),
                None => format!("{status} a page made here"),
            },
            _ => status.to_string(),
        }
    };
    let path = format!("{}{query}", request.path.unwrap_or_default());
    Example { path, before: told(old), after: told(new), requests: 0 }
}

/// An address without the host that was asked for anyway.
fn within<'a>(address: &'a str, host: Option<&str>) -> &'a str {
    let rest = address.split_once("://").map(|(_, rest)| rest);
    let path = rest.zip(host).and_then(|(rest, host)| rest.strip_prefix(host));
    path.filter(|path| path.starts_with('/')).unwrap_or(address)
}

/// Body bytes that a request takes by both, with what a redirect leads to.
fn sizes(
    (old_sites, old, old_end): (&dyn SiteFolders, &Answer, &End),
    (new_sites, new, new_end): (&dyn SiteFolders, &Answer, &End),
) -> (Option<u64>, Option<u64>) {
    let whole = |sites: &dyn SiteFolders, answer: &Answer, end: &End| match answer.status.is_redirection() {
        true => end.bytes,
        false => bytes(sites, answer),
    };
    (whole(old_sites, old, old_end), whole(new_sites, new, new_end))
}

/// How long each answer may be kept without asking, in seconds, where that is what differs.
fn lifetimes(change: AnswerChange, old: &Answer, new: &Answer) -> Option<(u64, u64)> {
    if change != AnswerChange::Caching {
        return None;
    }
    let lifetime = |answer: &Answer| {
        let field = answer.headers.get(header::CACHE_CONTROL)?.to_str().ok()?;
        let parts = field.split(',').map(str::trim);
        parts.filter_map(|part| part.strip_prefix("max-age=")?.parse().ok()).next()
    };
    Some((lifetime(old).unwrap_or(0), lifetime(new).unwrap_or(0)))
}
