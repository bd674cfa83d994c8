//! One rule that redirects, tried: where do requests come to that it fits?

use super::Disk;
use super::journey::{Journey, follow};
use super::probe::ways;
use super::sample::{Pool, paths};
use crate::config::{Config, Diagnostic, SiteId};
use crate::rules::{Answering, Rule, RuleSet};
use http::StatusCode;
use std::ops::Range;

/// Where the rules of a site begin: its own, or a folder's.
pub(super) struct Beginning<'r> {
    pub(super) site: SiteId,
    /// The folder's path, with a slash before and none behind.
    pub(super) prefix: String,
    pub(super) rules: &'r RuleSet,
    /// Where to say it, where the rule stands in a file of its own.
    pub(super) place: Option<Range<usize>>,
}

/// What trying a rule takes.
pub struct Trying<'t> {
    pub(super) config: &'t Config,
    pub(super) disk: &'t Disk<'t>,
    pub(super) beginning: &'t Beginning<'t>,
    pub(super) pool: Pool,
    /// Rules whose conditions are tried together with its own.
    pub(super) others: Vec<&'t Rule>,
    /// How many requests.
    pub(super) most: usize,
}

/// Tries one rule that redirects.
pub fn try_rule(trying: &Trying<'_>, rule: &Rule) -> Option<Diagnostic> {
    let Trying { config, disk, beginning, pool, others, most } = trying;
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
                match follow(config, probe, *disk) {
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
