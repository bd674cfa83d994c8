//! Redirects that never end, lead on to further ones, or lead to nothing: every rule that redirects is tried.

use super::sample::Pool;
use super::trying::{Beginning, Trying, try_rule};
use super::{Disk, Spoken, moved, rules};
use crate::config::{Config, Diagnostic, SiteId};
use crate::rules::{Answering, Rule, RuleSet};
use std::collections::HashSet;

/// How many requests are tried in all.
const MOST_TRIED: usize = 120_000;
/// How many other rules' conditions are tried together with a rule's own.
const MOST_OTHERS: usize = 24;

/// Finds redirects that never end, lead on to further ones, or lead to nothing.
pub fn check(config: &Config, disk: &Disk<'_>, folders: &[Spoken]) -> Vec<Diagnostic> {
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
        let trying = Trying { config, disk, beginning, pool: Pool::of(some.iter()), others, most };
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
