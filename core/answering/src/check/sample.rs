//! Paths that a pattern fits.
//!
//! Whether rules lead in circles depends on segments only by whether they are ones that some rule names. So captures are
//! tried with all segments that the site's rules name, with one that none of them names, and rests also with whole paths
//! of other rules.
//!
//! ```
//! use exedra_answering::check::sample::{Pool, paths};
//! use exedra_answering::rules::Pattern;
//! let pattern = Pattern::understand("/notices/{year}/{rest*}").unwrap();
//! let some = paths(Some(&pattern), &Pool::of([].iter()), 3);
//! assert!(some.len() <= 3 && some.iter().all(|path| path.starts_with("/notices/")));
//! ```

use crate::rules::pattern::{Bit, Segment};
use crate::rules::{Answering, Pattern, Rule};
use regex_syntax::hir::{Class, Hir, HirKind};
use std::collections::BTreeSet;

/// A segment that no rule names.
const OTHER: &str = "x";

/// How many texts that a regular expression fits are tried.
const MOST_OF_REGEX: usize = 32;

/// What captures are tried with.
#[derive(Debug, Clone, Default)]
pub struct Pool {
    segments: Vec<String>,
    rests: Vec<String>,
}

impl Pool {
    /// What the rules of a site name.
    pub fn of<'r>(rules: impl Iterator<Item = &'r Rule> + Clone) -> Self {
        let mut segments = BTreeSet::new();
        let mut rests = BTreeSet::new();
        for rule in rules {
            let pattern = rule.path.as_ref();
            // What a regex wants may be what another rule captures.
            let wanted = pattern
                .filter(|pattern| pattern.is_regex())
                .and_then(|pattern| Some(strings(&regex_syntax::parse(pattern.text()).ok()?, MOST_OF_REGEX)));
            for path in wanted.into_iter().flatten() {
                segments.extend(path.split('/').map(str::to_owned));
                rests.insert(path.trim_start_matches('/').to_owned());
            }
            if let Some(path) = pattern.and_then(Pattern::exact) {
                segments.extend(path.split('/').map(str::to_owned));
                rests.insert(path.trim_start_matches('/').to_owned());
            }
            if let Some((parts, rest)) = pattern.and_then(Pattern::segments) {
                segments.extend(parts.iter().filter_map(Segment::literal).map(str::to_owned));
                let mut path: String = parts
                    .iter()
                    .map(|part| format!("/{}", fill(part, &mut [OTHER].iter().cycle())))
                    .collect();
                path.push_str(&rest.map_or(String::new(), |rest| format!("/{}{OTHER}", rest.begins)));
                rests.insert(path.trim_start_matches('/').to_owned());
            }
            let target = match &rule.effects.answer {
                Some(Answering::Redirect { target, .. }) => Some(target),
                _ => rule.effects.serve.as_ref(),
            };
            let bare = target.map(|target| target.text().split(['?', '#']).next().unwrap_or_default());
            for segment in
                bare.into_iter().flat_map(|text| text.split('/')).filter(|text| !text.contains(['{', ':']))
            {
                segments.insert(segment.to_owned());
            }
        }
        segments.remove("");
        segments.remove(OTHER);
        rests.remove("");
        let first = [OTHER.to_owned()];
        let segments: Vec<String> = first.into_iter().chain(segments).collect();
        let rests = [OTHER.to_owned(), String::new(), "x/y".to_owned()].into_iter().chain(rests);
        let mut known = BTreeSet::new();
        let rests = rests.chain(segments.iter().skip(1).cloned()).filter(|rest| known.insert(rest.clone()));
        let rests = rests.collect();
        Pool { segments, rests }
    }
}

/// Some paths that a pattern fits, at most so many, the plainest first.
pub fn paths(pattern: Option<&Pattern>, pool: &Pool, most: usize) -> Vec<String> {
    let Some(pattern) = pattern else {
        return pool.rests.iter().take(most).map(|rest| format!("/{rest}")).collect();
    };
    if let Some(path) = pattern.exact() {
        return vec![path.to_owned()];
    }
    let Some((parts, rest)) = pattern.segments() else {
        return of_regex(pattern.text(), pool, most);
    };
    let captures = parts.iter().flat_map(|part| &part.0).filter(|bit| **bit == Bit::Capture).count();
    let mut made = Vec::new();
    let rests: &[String] = if rest.is_some() { &pool.rests } else { &[] };
    let columns = captures + usize::from(rest.is_some());
    // Counts through all combinations, the first column fastest, until there are enough.
    let size = |column: usize| if column < captures { pool.segments.len() } else { rests.len() };
    let mut wheel = vec![0; columns];
    loop {
        let chosen = |column: usize| match column < captures {
            true => pool.segments[wheel[column]].as_str(),
            false => rests[wheel[column]].as_str(),
        };
        let values: Vec<&str> = (0..captures).map(chosen).collect();
        let mut values = values.iter();
        let mut path: String = parts.iter().map(|part| format!("/{}", fill(part, &mut values))).collect();
        if let Some(rest) = rest {
            path.push_str(&format!("/{}{}", rest.begins, chosen(captures)));
        }
        made.push(path);
        let turning = (0..columns).find(|column| {
            wheel[*column] += 1;
            let turned = wheel[*column] == size(*column);
            if turned {
                wheel[*column] = 0;
            }
            !turned
        });
        if made.len() >= most || turning.is_none() {
            return made;
        }
    }
}

fn fill<'v>(segment: &Segment, values: &mut impl Iterator<Item = &'v &'v str>) -> String {
    let bit = |bit: &Bit| match bit {
        Bit::Literal(literal) => literal.to_string(),
        Bit::Capture => values.next().map_or(OTHER, |value| value).to_owned(),
    };
    segment.0.iter().map(bit).collect()
}

fn of_regex(text: &str, pool: &Pool, most: usize) -> Vec<String> {
    let Ok(parsed) = regex_syntax::parse(text) else { return Vec::new() };
    let mut made: Vec<String> =
        strings(&parsed, MOST_OF_REGEX).into_iter().filter(|path| path.starts_with('/')).collect();
    if let Ok(pattern) = Pattern::regex(text) {
        let others = pool.rests.iter().map(|rest| format!("/{rest}"));
        made.extend(others.filter(|path| pattern.capture(&crate::rules::Seen::new(path.as_str())).is_some()));
    }
    let mut known = BTreeSet::new();
    made.retain(|path| known.insert(path.clone()));
    made.truncate(most);
    made
}

/// Some texts that a regular expression fits.
pub fn texts(regex: &str) -> Vec<String> {
    regex_syntax::parse(regex).map(|parsed| strings(&parsed, MOST_OF_REGEX)).unwrap_or_default()
}

/// Some texts that a regular expression fits, at most so many.
fn strings(part: &Hir, most: usize) -> Vec<String> {
    let mut made = match part.kind() {
        HirKind::Empty | HirKind::Look(_) => vec![String::new()],
        HirKind::Literal(literal) => vec![String::from_utf8_lossy(&literal.0).into_owned()],
        HirKind::Class(class) => letter(class).into_iter().map(String::from).collect(),
        HirKind::Capture(capture) => strings(&capture.sub, most),
        HirKind::Repetition(times) => {
            let one = strings(&times.sub, most);
            let least = times.min as usize;
            let more = if times.max.is_none_or(|max| max > times.min) { least + 1 } else { least };
            let longer = one.iter().map(|text| text.repeat(more.min(64)));
            let shortest = one.iter().take(1).map(|text| text.repeat(least.min(64)));
            longer.chain(shortest).collect()
        }
        HirKind::Concat(parts) => parts.iter().fold(vec![String::new()], |before, part| {
            let next = strings(part, most);
            let joined = before.iter().flat_map(|begin| next.iter().map(move |end| format!("{begin}{end}")));
            joined.take(most).collect()
        }),
        HirKind::Alternation(parts) => parts.iter().flat_map(|part| strings(part, most)).collect(),
    };
    made.truncate(most);
    made
}

fn letter(class: &Class) -> Option<char> {
    let plain =
        |is: &dyn Fn(char) -> bool| ['x', '1', 'X', '-', '.', '/'].into_iter().find(|letter| is(*letter));
    match class {
        Class::Unicode(class) => {
            let has = |letter: char| {
                class.ranges().iter().any(|range| (range.start()..=range.end()).contains(&letter))
            };
            plain(&has).or_else(|| class.ranges().first().map(|range| range.start()))
        }
        Class::Bytes(class) => class.ranges().first().map(|range| char::from(range.start())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::Seen;
    use rstest::rstest;

    #[rstest]
    #[case("/a/{b}/{c*}")]
    #[case("/{a}-{b}.html")]
    #[case("/exact")]
    #[case("~/n/[0-9]{4}(/[a-z]+)?\\.html")]
    #[case("~/(old|gone)/.*")]
    fn what_is_made_fits(#[case] text: &str) {
        let pattern = match text.strip_prefix('~') {
            Some(regex) => Pattern::regex(regex).unwrap(),
            None => Pattern::understand(text).unwrap(),
        };
        let pool = Pool { segments: vec!["x".into(), "a".into()], rests: vec!["x".into(), String::new()] };
        let made = paths(Some(&pattern), &pool, 50);
        assert!(!made.is_empty());
        for path in made {
            assert!(pattern.capture(&Seen::new(path.as_str())).is_some(), "{path}");
        }
    }
}
