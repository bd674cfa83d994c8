//! Redirects from files, of which there may be millions. Those that lead to each other are found in their table, all of
//! them; where the others lead is tried, and where there are very many, of some that are spread evenly over the file.

use super::trying::{Trying, try_rule};
use crate::answer::absolute::leads_within;
use crate::config::{Config, Diagnostic, SiteId};
use crate::rules::{Moved, Rule, RuleSet, Seen};
use std::collections::HashMap;

/// How many redirects of a site are tried.
pub const MOST_TRIED: usize = 20_000;
/// How many findings of a kind are told one by one.
const MOST_TOLD: usize = 100;

/// Numbers of the lines that are tried: all of them, or as many as that, spread evenly.
pub fn tried(moved: &Moved) -> impl Iterator<Item = usize> {
    let step = moved.len().div_ceil(MOST_TRIED).max(1);
    (0..moved.len()).step_by(step)
}

/// Finds what is wrong with where they lead.
pub fn check(
    config: &Config,
    site: SiteId,
    rules: &RuleSet,
    trying: &Trying<'_>,
    found: &mut Vec<Diagnostic>,
) {
    let moved = rules.moved();
    let mut told = Told::default();
    let try_one = |number: usize, told: &mut Told| {
        if let Some(diagnostic) = moved.rule(number).and_then(|rule| try_rule(trying, &rule)) {
            told.add(diagnostic);
        }
    };
    let to_others = lead_to_others(config, site, moved);
    for number in &to_others {
        try_one(*number, &mut told);
    }
    let mut count = to_others.len();
    for number in tried(moved).filter(|number| to_others.binary_search(number).is_err()) {
        try_one(number, &mut told);
        count += 1;
    }
    found.extend(told.into_all());
    if count < moved.len()
        && let Some(first) = moved.line(0)
    {
        let message = format!("of {} redirects from this file, {count} were tried", moved.len());
        let reason = "spread evenly over the file; those that lead to each other were all looked at";
        found.push(Diagnostic::remark(first.place, message, reason));
    }
}

/// Lines that end in a circle within the table, or lead on to another line, in order; at most a share of them where there
/// are very many, circles first.
fn lead_to_others(config: &Config, site: SiteId, moved: &Moved) -> Vec<usize> {
    /// A line that has not been looked at, one that is on the way that is followed, and one that has been.
    const NEW: u8 = 0;
    const ON_THE_WAY: u8 = 1;
    const DONE: u8 = 2;
    let mut states = vec![NEW; moved.len()];
    let (mut circles, mut further) = (Vec::new(), Vec::new());
    let mut way = Vec::new();
    for begin in 0..moved.len() {
        let mut at = begin;
        loop {
            states[at] = ON_THE_WAY;
            way.push(at);
            let Some(next) = next(config, site, moved, at) else { break };
            if further.len() < MOST_TRIED {
                further.push(at);
            }
            match states[next] {
                NEW => at = next,
                ON_THE_WAY => {
                    if circles.len() < MOST_TRIED {
                        circles.push(next);
                    }
                    break;
                }
                _ => break,
            }
        }
        way.drain(..).for_each(|line| states[line] = DONE);
    }
    circles.extend(further);
    circles.truncate(MOST_TRIED);
    circles.sort_unstable();
    circles.dedup();
    circles
}

/// The line that a line sends on to.
fn next(config: &Config, site: SiteId, moved: &Moved, number: usize) -> Option<usize> {
    let line = moved.line(number)?;
    let path = match line.new.starts_with('/') {
        true => line.new.split(['?', '#']).next().unwrap_or_default().to_owned(),
        false => leads_within(config, site, &line.new)?.to_owned(),
    };
    moved.first_of(Seen::new(path).text())
}

/// Findings, of which there may be very many of a kind.
#[derive(Default)]
struct Told {
    all: Vec<Diagnostic>,
    /// How many there are of each kind, and the last that was told.
    kinds: HashMap<String, (usize, usize)>,
}

impl Told {
    fn add(&mut self, diagnostic: Diagnostic) {
        let (count, last) = self.kinds.entry(diagnostic.kind()).or_default();
        *count += 1;
        match *count <= MOST_TOLD {
            true => {
                *last = self.all.len();
                self.all.push(diagnostic);
            }
            false => self.all[*last].also += 1,
        }
    }

    fn into_all(self) -> Vec<Diagnostic> {
        self.all
    }
}

/// Lines that another rule answers before them, among those that are tried: which, and by which rule.
pub fn covered<'r>(
    moved: &'r Moved,
    wide: &'r [&Rule],
    covers: impl Fn(&Rule, &Rule) -> bool + 'r,
) -> impl Iterator<Item = (Rule, &'r Rule)> + 'r {
    let lines = if wide.is_empty() { None } else { Some(tried(moved)) };
    lines.into_iter().flatten().filter_map(move |number| {
        let rule = moved.rule(number)?;
        let first = wide.iter().find(|other| covers(other, &rule))?;
        Some((rule, *first))
    })
}
