//! Pages that people do not find: missing ones with their likely new address, links of our own that lead to nothing, redirects that lead
//! to further redirects.

use super::askers::PathNumber;
use super::counts::{Answered, PathCounts};
use super::inventory::Linked;
use super::likely::{Likely, Places, moved};
use super::{Asker, Finding, FindingKind, OfSite, Sureness, several_people};
use crate::remedy::{Edit, Remedy, text};
use exedra_answering::answer::Answer;
use exedra_common::TextColumn;
use exedra_common::figures::{grouped, several};
use exedra_common::tables::{Detail, Table, TableColumn};
use exedra_reading::classify::paths::{Kind, is_probe, kind};
use http::header;
use std::collections::{BTreeMap, HashSet};

/// How many missing paths of a site are looked at, those that most people missed.
const MOST_MISSING: usize = 200;
/// How many rows evidence has.
const ROWS: usize = 12;
/// Fewer people than this may have mistyped it.
const FEWEST: u64 = 3;

/// A path that people missed.
struct Missed<'s> {
    number: PathNumber,
    path: &'s str,
    people: u64,
    requests: u64,
    likely: Option<Likely>,
}

/// Pages that people asked for in vain and that are still not there: folders that have moved as one finding, others each for itself.
pub fn missing(of: OfSite<'_>) -> Vec<Finding> {
    let counts = of.counts();
    let mut paths: Vec<(PathNumber, &str, &PathCounts)> = of.paths.to_vec();
    paths.retain(|(_, path, counts)| {
        let is_page = matches!(kind(path), Kind::Page | Kind::Download | Kind::Feed | Kind::Asset);
        counts.of_people(Answered::Missing) > 0 && is_page && !is_probe(path) && path.starts_with('/')
    });
    paths.sort_by(|a, b| {
        b.2.of_people(Answered::Missing).cmp(&a.2.of_people(Answered::Missing)).then_with(|| a.1.cmp(b.1))
    });
    // What every browser asks for by itself misses nobody.
    paths.retain(|(_, path, _)| !matches!(*path, "/favicon.ico" | "/robots.txt" | "/apple-touch-icon.png"));
    let is_still = |path: &str| matches!(of.answer(path, Asker::default()).status.as_u16(), 404);
    let paths = paths.into_iter().take(MOST_MISSING).filter(|(_, path, _)| is_still(path));
    let places = places(of);
    let missed: Vec<Missed<'_>> = paths
        .map(|(number, path, path_counts)| {
            let people = of.people(&[number], Answered::Missing);
            let requests = path_counts.of_people(Answered::Missing);
            let words: Vec<&str> = of.links.get(path).into_iter().flatten().map(|link| link.words).collect();
            let likely = places.likely(path, &counts.next_after(number), requests, &words);
            // Nobody is sent from one missing page to another.
            let likely =
                likely.filter(|likely| of.answer(&likely.address, Asker::default()).status.is_success());
            Missed { number, path, people, requests, likely }
        })
        .collect();
    let pairs: Vec<(usize, (&str, &str))> = missed
        .iter()
        .enumerate()
        .filter_map(|(nth, missed)| Some((nth, (missed.path, &*missed.likely.as_ref()?.address))))
        .collect();
    let addresses: Vec<(&str, &str)> = pairs.iter().map(|(_, pair)| *pair).collect();
    let mut found = Vec::new();
    let mut explained: HashSet<usize> = HashSet::new();
    for folder in moved(&addresses) {
        // A folder that still has something is not one that has moved.
        let is_empty = !of.inventory.files.iter().any(|file| file.address.starts_with(&folder.from));
        let whole: Vec<usize> = missed
            .iter()
            .enumerate()
            .filter(|(nth, missed)| missed.path.starts_with(&folder.from) && !explained.contains(nth))
            .map(|(nth, _)| nth)
            .collect();
        // What lies in it directly may not have come along where folders in it have.
        let depth = |nth: usize| missed[nth].path[folder.from.len()..].matches('/').count();
        let deep = folder.pairs.iter().all(|pair| depth(pairs[*pair].0) > 0);
        let whole: Vec<usize> = whole.into_iter().filter(|nth| !deep || depth(*nth) > 0).collect();
        if is_empty && folder.pairs.len() * 5 >= whole.len() * 4 {
            explained.extend(&whole);
            let of_folder: Vec<&Missed<'_>> = whole.iter().map(|nth| &missed[*nth]).collect();
            found.push(moved_folder(of, (&folder.from, &folder.to), deep, &of_folder));
        }
    }
    let others = missed.iter().enumerate().filter(|(nth, _)| !explained.contains(nth));
    found.extend(
        others.filter(|(_, missed)| missed.people >= FEWEST).map(|(_, missed)| one_missing(of, missed)),
    );
    found
}

/// Addresses of pages and downloads there are, with their titles.
fn places<'s>(of: OfSite<'s>) -> Places<'s> {
    let titles: BTreeMap<&str, &str> = of
        .inventory
        .pages
        .iter()
        .filter_map(|page| {
            let titles = [&page.text.title, &page.text.heading];
            Some((&*page.address, titles.into_iter().find(|title| !title.is_empty())?.as_str()))
        })
        .collect();
    let is_error_page = |address: &str| of.site.error_pages.all().any(|page| page.value == address);
    let files =
        of.inventory.files.iter().map(|file| &*file.address).filter(|address| !is_error_page(address));
    Places::new(files.map(|address| (address, titles.get(address).copied())))
}

fn evidence(of: OfSite<'_>, missed: &[&Missed<'_>]) -> Table {
    let columns = [
        TableColumn::of(TextColumn::Path),
        TableColumn::text("likely", "likely new address"),
        TableColumn::sum("requests", "requests of people"),
        TableColumn::count("people", "people"),
    ];
    let mut table = Table::new("missing", "Asked for in vain", columns);
    for one in missed {
        let likely = one.likely.as_ref().map_or("", |likely| &*likely.address);
        table.push([one.path.into(), likely.into(), one.requests.into(), one.people.into()]);
        let referrers = of.counts().referrers_of(&[one.number]);
        let details = referrers.into_iter().take(3).map(|(text, count)| {
            let label = if of.is_own(&text) { "from our own" } else { "from" };
            Detail { count, label: label.to_owned(), text }
        });
        table.details.push(details.collect());
    }
    table.cut(ROWS);
    table.details.truncate(ROWS);
    table
}

impl OfSite<'_> {
    /// Whether an address is on one of our own sites.
    pub(super) fn is_own(&self, address: &str) -> bool {
        exedra_answering::answer::absolute::leads_to(self.seen.config, address).is_some()
    }

    fn report_of_missing(&self, path: &str) -> String {
        format!("exedra report --site {} --show missing --people --only 'path={path}'", self.name())
    }
}

fn redirect(of: OfSite<'_>, name: &str, path: &str, to: &str) -> Edit {
    let settings = [("name", text(name)), ("path", text(path)), ("redirect", text(to))];
    Edit::rule(of.name(), settings, false)
}

/// A folder that has moved to another; `deep` where only the folders in it have.
fn moved_folder(of: OfSite<'_>, (from, to): (&str, &str), deep: bool, missed: &[&Missed<'_>]) -> Finding {
    let numbers: Vec<PathNumber> = missed.iter().map(|missed| missed.number).collect();
    let people = of.people(&numbers, Answered::Missing);
    let requests = missed.iter().map(|missed| missed.requests).sum();
    let known = missed.iter().filter(|missed| missed.likely.is_some()).count();
    let mut reasons = vec![format!(
        "{known} of {} missing pages below {from} are found under the same name below {to}",
        missed.len()
    )];
    reasons.push(format!("nothing is left in {from}"));
    reasons.extend(who_leads(of, &numbers));
    let words = format!("redirect everything below {from} to the same place below {to}");
    let rest = if deep { "{folder}/{rest*}" } else { "{rest*}" };
    let target = if deep { "{folder}/{rest}" } else { "{rest}" };
    let name = format!("{} moved", from.trim_matches('/'));
    Finding {
        title: format!("{from} has moved to {to}, and links still lead to the old address"),
        cost: format!("{} did not find what they asked for", of.people_in_words(people)),
        sureness: if known == missed.len() { Sureness::Certain } else { Sureness::Likely },
        reasons,
        evidence: evidence(of, missed),
        command: of.report_of_missing(&format!("{from}*")),
        remedy: Some(Remedy {
            words,
            edits: vec![redirect(
                of,
                &name,
                &format!("{}{rest}", plain(from)),
                &format!("{}{target}", plain(to)),
            )],
        }),
        ..of.finding(FindingKind::MissingPage, from)
    }
    .weighed(people, requests, 0)
}

fn one_missing(of: OfSite<'_>, missed: &Missed<'_>) -> Finding {
    let mut reasons = missed.likely.as_ref().map_or(Vec::new(), |likely| likely.reasons.clone());
    reasons.extend(who_leads(of, &[missed.number]));
    reasons.extend(own_links(of, missed.path));
    let remedy = missed.likely.as_ref().filter(|_| can_be_written(missed.path)).map(|likely| {
        let words = format!("redirect {} to {}", missed.path, likely.address);
        let edit =
            redirect(of, &format!("{} moved", missed.path), &plain(missed.path), &plain(&likely.address));
        Remedy { words, edits: vec![edit] }
    });
    let sureness = match &missed.likely {
        Some(likely) if likely.sureness >= 0.8 => Sureness::Certain,
        Some(_) => Sureness::Likely,
        None => Sureness::Certain,
    };
    let title = match &missed.likely {
        Some(likely) => format!("{} is missing; it is likely {} now", missed.path, likely.address),
        None => format!("{} is missing", missed.path),
    };
    let advice = missed.likely.is_none().then(|| {
        let next = of.counts().next_after(missed.number);
        match next.first().filter(|(_, times)| *times >= FEWEST && *times * 10 >= missed.requests) {
            Some((next, times)) => format!(
                "Nothing like it is there. Of those who missed it, {} went to {next} next: redirect it there, or to the page that takes its place; where there is none, `gone = true` tells crawlers not to come again.",
                grouped(*times)
            ),
            None => "Nothing like it is there: redirect it to the page that takes its place, or let a rule say `gone = true`.".to_owned(),
        }
    });
    Finding {
        title,
        cost: format!("{} did not find it", of.people_in_words(missed.people)),
        sureness,
        reasons,
        evidence: evidence(of, &[missed]),
        command: of.report_of_missing(missed.path),
        remedy,
        advice,
        ..of.finding(FindingKind::MissingPage, missed.path)
    }
    .weighed(missed.people, missed.requests, 0)
}

/// Where our own pages link to an address, in a sentence.
fn own_links(of: OfSite<'_>, address: &str) -> Option<String> {
    let linked = of.links.get(address)?;
    let places: Vec<String> =
        linked.iter().take(3).map(|link| format!("{}:{}", link.file, link.line)).collect();
    let more = if linked.len() > 3 { format!(" and {} more", linked.len() - 3) } else { String::new() };
    Some(format!("our own pages name it: {}{more}", places.join(", ")))
}

/// An address as a pattern or a target has it: braces are letters.
fn plain(address: &str) -> String {
    address.replace('{', "{{").replace('}', "}}")
}

/// Whether an address can be written as a path of a rule: one with a star or a segment that begins with a colon is taken for a mistake.
fn can_be_written(address: &str) -> bool {
    !address.contains('*') && !address.contains("/:")
}

/// Who leads to missing pages, in a sentence.
fn who_leads(of: OfSite<'_>, numbers: &[PathNumber]) -> Option<String> {
    let referrers = of.counts().referrers_of(numbers);
    let (own, others): (Vec<_>, Vec<_>) = referrers.iter().partition(|(referrer, _)| of.is_own(referrer));
    let sum = |some: &[&(String, u64)]| some.iter().map(|(_, times)| times).sum::<u64>();
    let (own, others) = (sum(&own), sum(&others));
    match (own, others) {
        (0, 0) => None,
        (own, 0) => Some(format!("our own pages led there {}", several(own, "time", "times"))),
        (0, others) => Some(format!("other sites' pages led there {}", several(others, "time", "times"))),
        (own, others) => Some(format!(
            "our own pages led there {}, other sites' {}",
            several(own, "time", "times"),
            several(others, "time", "times")
        )),
    }
}

/// Links of our own pages that lead to nothing, or to a redirect: one finding for each address.
pub fn broken_links(of: OfSite<'_>) -> Vec<Finding> {
    let mut all: Vec<(&String, &Vec<Linked<'_>>)> = of.links.iter().collect();
    all.sort_by(|a, b| b.1.len().cmp(&a.1.len()).then_with(|| a.0.cmp(b.0)));
    let mut found = Vec::new();
    for (address, linked) in all {
        let answer = of.answer(address, Asker::default());
        let status = answer.status.as_u16();
        let (title, advice) = match (status, location(of, &answer)) {
            (404 | 410, _) => (
                format!("{address} is linked by our own pages, and is not there"),
                "Correct the links where they stand, or put the page back.".to_owned(),
            ),
            (300..=399, Some(to)) if is_slash_only(address, &to) => (
                format!("{address} is linked by our own pages without the slash at its end"),
                format!("Write {to} in the links: each click takes one request more."),
            ),
            (300..=399, Some(to)) => (
                format!("{address} is linked by our own pages, and is redirected to {to}"),
                format!("Write {to} in the links: each click takes one request more."),
            ),
            _ => continue,
        };
        let number = of.counts().known(of.name(), address);
        let of_number = |answered: Answered| number.map_or(0, |number| of.people(&[number], answered));
        let is_missing = matches!(status, 404 | 410);
        // Whoever is redirected gets there all the same.
        let people = match is_missing {
            true => of_number(Answered::Missing),
            false => of_number(Answered::Redirected) / 10,
        };
        let requests = number.map_or(0, |number| {
            let counts = of.counts().of(number);
            counts.of_people(Answered::Missing) + counts.of_people(Answered::Redirected)
        });
        let mut table = Table::new(
            "links",
            "Where it is linked",
            [
                TableColumn::text("file", "file"),
                TableColumn::count("line", "line"),
                TableColumn::text("words", "words of the link"),
            ],
        );
        for link in linked {
            table.push([link.file.into(), (link.line as u64).into(), link.words.into()]);
        }
        table.cut(ROWS);
        let first = linked.first().map_or(String::new(), |link| format!("{}:{}", link.file, link.line));
        found.push(
            Finding {
                title,
                cost: match is_missing {
                    true => format!("{} followed it in vain", several_people(of_number(Answered::Missing))),
                    false => {
                        format!("{} were redirected", several_people(of_number(Answered::Redirected)))
                    }
                },
                reasons: vec![format!(
                    "{} it, the first at {first}",
                    several(linked.len() as u64, "link names", "links name")
                )],
                evidence: table,
                command: format!("exedra explain 'http://{}{address}'", of.host()),
                advice: Some(advice),
                ..of.finding(FindingKind::BrokenLink, address)
            }
            .weighed(people, requests, 0),
        );
    }
    found
}

/// Where an answer redirects to: an address within the site, or a whole one.
fn location(of: OfSite<'_>, answer: &Answer) -> Option<String> {
    let written = answer.headers.get(header::LOCATION)?.to_str().ok()?;
    let within = exedra_answering::answer::absolute::leads_within(of.seen.config, of.id, written);
    Some(within.unwrap_or(written).to_owned())
}

fn is_slash_only(address: &str, to: &str) -> bool {
    to.strip_suffix('/') == Some(address)
}

/// Redirects that lead to further redirects, as people were redirected: one finding for each first address.
pub fn redirect_chains(of: OfSite<'_>) -> Vec<Finding> {
    let mut found = Vec::new();
    for ((first, second), times) in of.counts().hops() {
        let (site, path) = of.counts().name(first);
        let (_, next) = of.counts().name(second);
        if site != of.name() || times < FEWEST || path == next {
            continue;
        }
        // As it is now: what was mended is no finding.
        let answer = of.answer(path, Asker::default());
        let Some(to) = location(of, &answer).filter(|_| answer.status.is_redirection()) else { continue };
        let way = way(of, &to);
        if way.len() < 2 {
            continue;
        }
        let last = way.last().cloned().unwrap_or_default();
        let people = of.people(&[first], Answered::Redirected);
        let mut table = Table::new(
            "chain",
            "The way",
            [TableColumn::count("hop", "redirect"), TableColumn::text("to", "leads to")],
        );
        for (nth, to) in way.iter().enumerate() {
            table.push([(nth as u64 + 1).into(), to.as_str().into()]);
        }
        found.push(
            Finding {
                title: format!("{path} takes {} redirects to {last}", way.len()),
                cost: format!(
                    "{} waited for {} more than needed",
                    several_people(people),
                    several(way.len() as u64 - 1, "redirect", "redirects")
                ),
                reasons: vec![format!(
                    "{} redirected twice within three seconds",
                    several(times, "visitor was", "visits were")
                )],
                evidence: table,
                command: format!("exedra explain 'http://{}{path}'", of.host()),
                remedy: shortened(of, path, &last),
                advice: Some(format!("Let the rule lead to {last} at once.")),
                ..of.finding(FindingKind::RedirectChain, path)
            }
            .weighed(people / 4, times, 0),
        );
    }
    found
}

/// The addresses that a redirect leads to, one after the other.
fn way(of: OfSite<'_>, first: &str) -> Vec<String> {
    let mut way = vec![first.to_owned()];
    while let Some(here) = way.last().filter(|here| here.starts_with('/') && way.len() < 10) {
        let path = here.split(['?', '#']).next().unwrap_or(here).to_owned();
        let answer = of.answer(&path, Asker::default());
        let Some(to) = location(of, &answer).filter(|_| answer.status.is_redirection()) else { break };
        if way.contains(&to) {
            break;
        }
        way.push(to);
    }
    way
}

/// A rule before all others that leads to the end at once.
fn shortened(of: OfSite<'_>, path: &str, last: &str) -> Option<Remedy> {
    let is_plain = |address: &str| !address.contains(['{', '}', '?']);
    if !is_plain(path) || !is_plain(last) {
        return None;
    }
    let edit = match redirect(of, &format!("{path} at once"), path, last) {
        Edit::Rule { site, settings, .. } => Edit::Rule { site, settings, is_first: true },
        other => other,
    };
    Some(Remedy { words: format!("redirect {path} to {last} at once"), edits: vec![edit] })
}
