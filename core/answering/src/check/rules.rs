//! Rules that can never fire, and rules that do something else than they seem to.

use super::moved;
use crate::config::{Config, Diagnostic, Site};
use crate::rules::cover::covers;
use crate::rules::moved::Line;
use crate::rules::{Answering, Moved, Rule, Seen};
use http::StatusCode;
use std::collections::HashSet;

/// How many redirects from a file are told of that another rule answers.
const MOST_SHADOWED: usize = 100;

/// Finds them in all sites.
pub fn check(config: &Config, before: Option<&Config>) -> Vec<Diagnostic> {
    let mut found = Vec::new();
    for site in &config.sites {
        let known =
            before.and_then(|before| before.sites.iter().find(|known| known.name.value == site.name.value));
        never_fires(config, site, &mut found);
        for_good(site, known, &mut found);
        loose_dots(site, &mut found);
        round_the_guard(site, &mut found);
        nobody_signs_in(config, site, &mut found);
    }
    found
}

/// Whether nothing comes after a rule that fits.
fn ends(rule: &Rule) -> bool {
    rule.effects.answer.is_some() || leads_away(rule)
}

fn answers_for(other: &Rule, rule: &Rule) -> bool {
    covers(other, rule) && !comes_back(other, rule)
}

/// Rules that end and are about more than one path. An exact path covers no pattern: only these have to be asked about each
/// rule.
fn wide(rules: &[Rule]) -> Vec<usize> {
    let is_wide = |rule: &Rule| ends(rule) && rule.path.as_ref().is_none_or(|path| path.exact().is_none());
    (0..rules.len()).filter(|nth| is_wide(&rules[*nth])).collect()
}

/// Rules of a site whose every request an earlier rule answers, by their numbers; with the number of that one.
pub fn shadowed_rules(site: &Site) -> impl Iterator<Item = (usize, usize)> + '_ {
    let rules = site.rules.written();
    let wide = wide(rules);
    rules.iter().enumerate().filter_map(move |(nth, rule)| {
        let exact = rule.path.as_ref().and_then(|path| path.exact());
        let same_path = exact.map(|path| site.rules.candidates(&Seen::new(path), 0)).unwrap_or_default();
        let earlier = wide.iter().copied().chain(same_path.iter().map(|other| *other as usize));
        let mut first = earlier.filter(|other| *other < nth && ends(&rules[*other]));
        Some((nth, first.find(|other| answers_for(&rules[*other], rule))?))
    })
}

/// Rules whose every request an earlier rule answers.
fn never_fires(config: &Config, site: &Site, found: &mut Vec<Diagnostic>) {
    let rules = site.rules.written();
    let line = |rule: &Rule| config.sources.line(&rule.place).map_or(0, |(_, line)| line);
    for (nth, first) in shadowed_rules(site) {
        let (rule, first) = (&rules[nth], &rules[first]);
        let (message, reason, remedy) = shadowed(&rule.name, &first.name, line(first));
        found.push(Diagnostic::error(rule.path_place.clone(), message, reason).remedy(remedy));
    }
    let moved = site.rules.moved();
    let wide: Vec<&Rule> = wide(rules).into_iter().map(|nth| &rules[nth]).collect();
    let told = moved::covered(moved, &wide, answers_for).take(MOST_SHADOWED);
    let same_path = rules.iter().filter(|rule| ends(rule) && rule.when.is_empty()).filter_map(|rule| {
        let path = rule.path.as_ref()?.exact()?;
        Some((moved.rule(moved.first_of(path)?)?, rule))
    });
    for (rule, first) in told.chain(same_path.take(MOST_SHADOWED)) {
        let (message, reason, remedy) = shadowed(&rule.name, &first.name, line(first));
        found.push(Diagnostic::remark(rule.path_place, message, reason).remedy(remedy));
    }
    let (count, some) = moved.again();
    let some = some
        .iter()
        .filter_map(|(line, before)| Some((moved.rule(*line as usize)?, moved.rule(*before as usize)?)));
    for (nth, (rule, first)) in some.enumerate() {
        let (message, reason, remedy) = shadowed(&rule.name, &first.name, line(&first));
        let diagnostic = Diagnostic::remark(rule.path_place, message, reason).remedy(remedy);
        let also = if nth == 0 { count - moved.again().1.len() } else { 0 };
        found.push(Diagnostic { also, ..diagnostic });
    }
}

/// That a rule can never fire because of another.
fn shadowed(rule: &str, first: &str, line: usize) -> (String, String, &'static str) {
    let message = format!("`{rule}` can never fire");
    let reason = format!("`{first}` (line {line}) answers all that it could");
    (message, reason, "put it before that one, or take it out")
}

/// Whether a rule always puts the same other path in place.
fn leads_away(rule: &Rule) -> bool {
    rule.effects.serve.as_ref().is_some_and(|serve| !serve.text().contains('{'))
}

/// Whether the path that a rule puts in place is one that another is about.
fn comes_back(rule: &Rule, other: &Rule) -> bool {
    let Some(serve) = &rule.effects.serve else { return false };
    other.path.as_ref().is_none_or(|path| path.capture(&Seen::new(serve.text().to_owned())).is_some())
}

/// Redirects for good that were not in force before: browsers remember them.
fn for_good(site: &Site, before: Option<&Site>, found: &mut Vec<Diagnostic>) {
    let key = |rule: &Rule| match &rule.effects.answer {
        Some(Answering::Redirect { target, status, .. }) if lasts(*status) => {
            Some((rule.path.as_ref().map(|path| path.text().to_owned()), target.text().to_owned()))
        }
        _ => None,
    };
    let known: HashSet<_> = before.iter().flat_map(|site| site.rules.written()).filter_map(key).collect();
    // Of those from a file the first is enough.
    let moved = first_new(site.rules.moved(), before.map(|site| site.rules.moved()));
    for rule in site.rules.written().iter().chain(&moved) {
        let Some(key) = key(rule).filter(|key| !known.contains(key)) else { continue };
        let message = format!("`{}` is a new permanent redirect", rule.name);
        let reason = format!(
            "browsers cache it and will not ask for {} again",
            key.0.as_deref().unwrap_or("everything")
        );
        found.push(
            Diagnostic::remark(rule.target_place.clone(), message, reason)
                .remedy("try it with status = 307 first, and change to 308 once it has proved right"),
        );
    }
}

/// The first redirect of a file that is for good and was not there before.
fn first_new(moved: &Moved, before: Option<&Moved>) -> Option<Rule> {
    let was_there = |line: &Line<'_>, path: &str| {
        let known = before.and_then(|before| before.line(before.first_of(path)?));
        known.is_some_and(|known| known.new == line.new && lasts(known.status))
    };
    let is_new = |number: &usize| {
        let (line, path) = (moved.line(*number), moved.path(*number));
        line.zip(path).is_some_and(|(line, path)| lasts(line.status) && !was_there(&line, &path))
    };
    (0..moved.len()).find(is_new).and_then(|number| moved.rule(number))
}

fn lasts(status: StatusCode) -> bool {
    matches!(status.as_u16(), 301 | 308)
}

/// Dots in regular expressions that fit anything, where a dot seems to be meant.
fn loose_dots(site: &Site, found: &mut Vec<Diagnostic>) {
    for rule in site.rules.written() {
        let Some(pattern) = rule.path.as_ref().filter(|path| path.is_regex()) else { continue };
        let text = pattern.text().as_bytes();
        let is_loose = |at: &usize| {
            let escaped = text[..*at].iter().rev().take_while(|octet| **octet == b'\\').count() % 2 == 1;
            let repeated = matches!(text.get(at + 1), Some(b'*' | b'+' | b'?' | b'{'));
            let in_class = text[..*at].iter().rposition(|octet| *octet == b'[')
                > text[..*at].iter().rposition(|octet| *octet == b']');
            // A letter on either side: a dot as in a file's name.
            let in_name = at
                .checked_sub(1)
                .is_some_and(|before| text[before].is_ascii_alphanumeric() || text[before] == b')')
                && text.get(at + 1).is_some_and(u8::is_ascii_alphanumeric);
            !escaped && !repeated && !in_class && in_name
        };
        if let Some(at) = memchr::memchr_iter(b'.', text).find(is_loose) {
            let message = format!("a dot in the regex of `{}` fits any character", rule.name);
            let reason = format!("`{}` fits more than it says", pattern.text());
            let (before, after) = pattern.text().split_at(at);
            found.push(
                Diagnostic::remark(rule.path_place.clone(), message, reason).remedy(format!(
                    "write '{before}\\{after}', or a path without regex: there dots are dots"
                )),
            );
        }
    }
}

/// Paths that are served although an earlier rule guards them: rules see the new path only from there on.
fn round_the_guard(site: &Site, found: &mut Vec<Diagnostic>) {
    let rules = site.rules.written();
    for (nth, rule) in rules.iter().enumerate() {
        let Some(serve) = rule.effects.serve.as_ref().filter(|serve| !serve.text().contains('{')) else {
            continue;
        };
        let path = Seen::new(serve.text().to_owned());
        let guards = |guard: &&Rule| {
            let is_guard =
                guard.effects.login.is_some() || matches!(guard.effects.answer, Some(Answering::Refuse(_)));
            is_guard && guard.path.as_ref().is_some_and(|pattern| pattern.capture(&path).is_some())
        };
        let own = rule.path.as_ref().and_then(|path| path.exact()).map(|path| Seen::new(path.to_owned()));
        let guarded_itself = |guard: &&Rule| {
            let pattern = guard.path.as_ref();
            own.as_ref().is_some_and(|own| pattern.is_some_and(|pattern| pattern.capture(own).is_some()))
        };
        if let Some(guard) = rules[..nth].iter().filter(guards).find(|guard| !guarded_itself(guard)) {
            let message = format!("`{}` serves what `{}` protects, without its login", rule.name, guard.name);
            let reason = format!("{} is served after the protecting rule has been checked", serve.text());
            found.push(
                Diagnostic::remark(rule.target_place.clone(), message, reason)
                    .remedy("put the protecting rule after it, or protect this path as well"),
            );
        }
    }
}

/// Logins that nobody could ever pass, because passwords come in over HTTPS only and there is none.
fn nobody_signs_in(config: &Config, site: &Site, found: &mut Vec<Diagnostic>) {
    if config.listeners.iter().any(|listener| listener.https) || !config.service.forwarders.is_empty() {
        return;
    }
    for rule in site.rules.written() {
        let realm = rule.effects.login.and_then(|realm| config.realms.get(realm));
        if let Some(realm) = realm.filter(|realm| !realm.without_https) {
            let message = format!("`{}` can never be signed in to", rule.name);
            let reason =
                format!("`{}` takes passwords over HTTPS only, and no listener has it", realm.name.value);
            found.push(Diagnostic::error(rule.place.clone(), message, reason).remedy(
                "give a [[listener]] https = true; or, on a trusted network, the realm without_https = true",
            ));
        }
    }
}
