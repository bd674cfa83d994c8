//! Where redirects lead, found by following them through the whole decision: rules, main host, HTTPS, folders.

use super::probe::{Probe, ways};
use super::sample::{Pool, paths};
use super::{Looking, Spoken, moved, rules};
use crate::answer::absolute::leads_to;
use crate::answer::{Answer, Step, Trace, answer, answer_traced};
use crate::config::{Config, Diagnostic, SiteId};
use crate::rules::{Answering, Rule, RuleSet};
use http::{StatusCode, header};
use std::collections::HashSet;
use std::ops::Range;

/// How many redirects a visitor's browser would follow, at most: one that leads further leads nowhere.
const MOST_HOPS: usize = 20;
/// How many requests are tried in all.
const MOST_TRIED: usize = 120_000;
/// How many other rules' conditions are tried together with a rule's own.
const MOST_OTHERS: usize = 24;

/// What became of a visitor.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Journey {
    /// Sent so many times, and then answered with this. The addresses on the way, the first included.
    Arrived(Vec<String>, StatusCode),
    /// Sent in a circle, or further and further.
    Endless(Vec<String>),
}

/// Follows a visitor to the end.
pub fn follow(config: &Config, mut probe: Probe, looking: Looking<'_>) -> Journey {
    let mut way = vec![probe.address()];
    loop {
        let reached = decide(config, &probe, looking);
        if reached.status == StatusCode::INTERNAL_SERVER_ERROR && sends_to_itself(config, &probe, looking) {
            way.push(probe.address());
            return Journey::Endless(way);
        }
        let location = reached.headers.get(header::LOCATION).and_then(|value| value.to_str().ok());
        let Some(location) = location else { return Journey::Arrived(way, reached.status) };
        let address = match location.starts_with('/') {
            false => location.to_owned(),
            true => {
                let port = probe.port.map(|port| format!(":{port}")).unwrap_or_default();
                format!("{}://{}{port}{location}", probe.scheme.as_str(), probe.host)
            }
        };
        let Some(target) = leads_to(config, &address) else {
            way.push(address);
            return Journey::Arrived(way, StatusCode::OK);
        };
        (probe.scheme, probe.port) = (target.scheme, target.port);
        probe.host = target.host.to_owned();
        probe.path = target.path().to_owned();
        probe.query = target.query().map(str::to_owned);
        let address = probe.address();
        let been_there = way.contains(&address);
        way.push(address);
        if been_there || way.len() > MOST_HOPS {
            return Journey::Endless(way);
        }
    }
}

fn decide(config: &Config, probe: &Probe, looking: Looking<'_>) -> Answer {
    answer(config, probe.facts()).finish_with(looking, |_| true).0
}

fn sends_to_itself(config: &Config, probe: &Probe, looking: Looking<'_>) -> bool {
    let (_, trace) = answer_traced(config, probe.facts(), Trace::default()).finish_with(looking, |_| true);
    trace.steps.iter().any(|step| matches!(step, Step::ToItself { .. }))
}

/// Where the rules of a site begin: its own, or a folder's.
struct Beginning<'r> {
    site: SiteId,
    /// The folder's path, with a slash before and none behind.
    prefix: String,
    rules: &'r RuleSet,
    /// Where to say it, where the rule stands in a file of its own.
    place: Option<Range<usize>>,
}

/// What trying a rule takes.
pub struct Trying<'t> {
    config: &'t Config,
    looking: Looking<'t>,
    beginning: &'t Beginning<'t>,
    pool: Pool,
    /// Rules whose conditions are tried together with its own.
    others: Vec<&'t Rule>,
    /// How many requests.
    most: usize,
}

/// Finds redirects that never end, lead on to further ones, or lead to nothing.
pub fn check(config: &Config, looking: Looking<'_>, folders: &[Spoken]) -> Vec<Diagnostic> {
    let own = config.sites.iter().enumerate().map(|(number, site)| Beginning {
        site: SiteId(number),
        prefix: String::new(),
        rules: &site.rules,
        place: None,
    });
    let spoken = folders.iter().map(|spoken| Beginning {
        site: spoken.site,
        prefix: spoken.folder.to_string().trim_end_matches('/').to_owned(),
        rules: &spoken.settings.rules,
        place: Some(config.site(spoken.site).folder_place().clone()),
    });
    let beginnings: Vec<Beginning<'_>> = own.chain(spoken).collect();
    let sends = |rule: &&Rule| matches!(rule.effects.answer, Some(Answering::Redirect { .. }));
    let count = |rules: &RuleSet| {
        rules.written().iter().filter(sends).count() + rules.moved().len().min(moved::MOST_TRIED)
    };
    let count: usize = beginnings.iter().map(|beginning| count(beginning.rules)).sum();
    let most = (MOST_TRIED / count.max(1)).max(4);
    let mut found = Vec::new();
    for beginning in &beginnings {
        let same_site = || beginnings.iter().filter(|other| other.site == beginning.site);
        let written = || same_site().flat_map(|other| other.rules.written());
        let from_files = same_site().flat_map(|other| {
            moved::tried(other.rules.moved()).filter_map(|nth| other.rules.moved().rule(nth))
        });
        let some: Vec<Rule> = written().cloned().chain(from_files).take(400).collect();
        // Only rules that ask for something can make a difference by it.
        let others = written().filter(|rule| !rule.when.is_empty()).take(MOST_OTHERS).collect();
        let trying = Trying { config, looking, beginning, pool: Pool::of(some.iter()), others, most };
        // One that never fires is not a redirect status.
        let idle: HashSet<usize> = match beginning.place {
            None => rules::shadowed_rules(config.site(beginning.site)).map(|(nth, _)| nth).collect(),
            Some(_) => HashSet::new(),
        };
        let active = beginning.rules.written().iter().enumerate().filter(|(nth, _)| !idle.contains(nth));
        for (_, rule) in active.filter(|(_, rule)| sends(rule)) {
            let wrong = try_rule(&trying, rule);
            found
                .extend(wrong.map(|wrong| if beginning.place.is_some() { wrong.of_folder() } else { wrong }));
        }
        moved::check(config, beginning.site, beginning.rules, &trying, &mut found);
    }
    found
}

/// Tries one rule that redirects.
pub fn try_rule(trying: &Trying<'_>, rule: &Rule) -> Option<Diagnostic> {
    let Trying { config, looking, beginning, pool, others, most } = trying;
    let ways = ways(config, beginning.site);
    let each = (most / (ways.len() * (1 + 2 * others.len())).max(1)).clamp(2, 400);
    let paths = paths(rule.path.as_ref(), pool, each);
    let place = beginning.place.clone().unwrap_or_else(|| rule.target_place.clone());
    let named = |message: String| match beginning.prefix.is_empty() {
        true => message,
        false => format!("{message} (in {}/.exedra.toml)", beginning.prefix),
    };
    let is_plain = rule.path.as_ref().is_some_and(|path| path.exact().is_some()) && rule.when.is_empty();
    let mut lesser: Option<Diagnostic> = None;
    for probe in &ways {
        let alone = std::iter::once(probe.clone().asked_by(rule));
        // Another rule's conditions may have to hold, or not to, before this one's are asked.
        let together = others.iter().flat_map(|other| {
            let with = probe.clone().asked_by(other).asked_by(rule);
            [with, probe.clone().not_asked_by(other).asked_by(rule)]
        });
        for probe in alone.chain(together) {
            for (nth, path) in paths.iter().enumerate() {
                // What is left of a path when its beginning is taken off may be any address, also one that somebody made
                // up of another rule's: only the plainest says something of all.
                let counts = nth == 0 || !takes_off(rule);
                let mut probe = probe.clone();
                probe.path = format!("{}{path}", beginning.prefix);
                match follow(config, probe, looking) {
                    Journey::Endless(way) => {
                        let message = named(format!("`{}` is part of a redirect loop", rule.name));
                        let diagnostic = Diagnostic::error(place, message, shown(&way));
                        return Some(diagnostic.remedy(remedy(rule, &way)));
                    }
                    Journey::Arrived(way, status) if lesser.is_none() && counts => {
                        lesser = lesser_evil(rule, &place, &way, status, is_plain).map(|mut diagnostic| {
                            diagnostic.message = named(diagnostic.message);
                            diagnostic
                        });
                    }
                    Journey::Arrived(..) => {}
                }
            }
        }
    }
    lesser
}

/// Whether a rule sends visitors to what is left of their address: its target begins with a capture.
fn takes_off(rule: &Rule) -> bool {
    matches!(&rule.effects.answer, Some(Answering::Redirect { target, .. }) if target.text().starts_with("/{"))
}

/// A redirect that leads on to another one, or to nothing.
fn lesser_evil(
    rule: &Rule,
    place: &Range<usize>,
    way: &[String],
    status: StatusCode,
    is_plain: bool,
) -> Option<Diagnostic> {
    if way.len() > 2 {
        let message = format!("`{}` begins a redirect chain", rule.name);
        let last = way.last().map_or("", String::as_str);
        return Some(
            Diagnostic::remark(place.clone(), message, shown(way))
                .remedy(format!("redirect to {last} at once")),
        );
    }
    if way.len() == 2 && is_plain && status == StatusCode::NOT_FOUND {
        let message = format!("`{}` redirects to a missing page", rule.name);
        let reason = format!("{} answers 404", way[1]);
        return Some(
            Diagnostic::remark(place.clone(), message, reason)
                .remedy("correct the target, or answer gone = true"),
        );
    }
    None
}

/// The way, as far as it is worth showing: to where it comes round again.
fn shown(way: &[String]) -> String {
    let end = way.last().and_then(|last| way.iter().position(|address| address == last));
    let until = end.filter(|end| *end + 1 < way.len()).map_or(way.len().min(4), |_| way.len());
    let mut shown = way[..until.min(6)].join(" → ");
    if until > 6 || until < way.len() {
        shown.push_str(" → …");
    }
    shown
}

fn remedy(rule: &Rule, way: &[String]) -> String {
    let scheme = |address: &String| address.split(':').next().unwrap_or_default().to_owned();
    let to_https = matches!(&rule.effects.answer, Some(Answering::Redirect { target, .. }) if target.text().starts_with("https://{host}"));
    if to_https && way.last().map(scheme).as_deref() == Some("https") {
        return "send only those who come without it: when = { scheme = \"http\" }; or write https = \"required\"".to_owned();
    }
    match way.len() {
        0..=2 => "let the rule's path exclude its own target".to_owned(),
        _ => "let one of these rules exclude the target of the other".to_owned(),
    }
}
