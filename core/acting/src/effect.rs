//! What became of a published change: the requests that it touched, before and after, against what its rehearsal promised.
//!
//! [`FirstMinutes`] looks at the first minutes: do more requests fail than promised? [`EffectTally`] compares an hour, a day and a week with the
//! same time before, for exactly the paths that the rehearsal said would be answered differently.
//!
//! ```
//! use exedra_acting::effect::{Failing, FirstMinutes, Usual};
//! use exedra_acting::rehearsal::{RehearsalOutcome, SiteAnswers};
//! let of = SiteAnswers { site: "harbour".to_owned(), requests: 10_000, failing: 200, would_fail: 100 };
//! let promised = RehearsalOutcome { sites: vec![of], ..RehearsalOutcome::default() };
//! let mut usual = Usual::default();
//! (0..200).for_each(|_| usual.count("harbour", "/tides", false));
//! (0..50).for_each(|_| usual.count("harbour", "/lost", true));
//! let mut watch = FirstMinutes::default();
//! (0..100).for_each(|nth| watch.count("harbour", "/tides", nth < 3, &usual));
//! (0..90).for_each(|_| watch.count("harbour", "/lost", true, &usual));
//! assert_eq!(watch.verdict(&promised, &usual), None, "three of a hundred may be chance, and what was missing before is nobody's fault");
//! (0..20).for_each(|_| watch.count("harbour", "/tides", true, &usual));
//! let Failing { failing, requests, .. } = watch.verdict(&promised, &usual).unwrap();
//! assert_eq!((failing, requests), (23, 120));
//! ```

use crate::rehearsal::{AnswerChange, RehearsalGroup, RehearsalOutcome};
use exedra_common::columns::Kind;
use exedra_common::figures::grouped;
use exedra_common::tables::{Cell, Table, TableColumn};
use exedra_common::{Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use exedra_reading::classify::agents;
use std::collections::{BTreeMap, HashMap, HashSet};

/// With fewer requests than this nothing is said.
const FEWEST: u64 = 20;
/// How far above what is expected, in standard deviations, and how many failures more at least.
const FAR: f64 = 3.0;
const MORE: f64 = 3.0;

/// How paths were answered before a change: what failed then already is not its doing, and what nobody asked for says nothing.
#[derive(Debug, Clone, Default)]
pub struct Usual {
    sites: BTreeMap<String, HashMap<String, (u64, u64)>>,
    paths: usize,
}

/// How many paths are known, of all sites.
const MOST_PATHS: usize = 200_000;

impl Usual {
    /// Counts a row of a batch, which has the columns of [`FirstMinutes::projection`].
    pub fn add(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries) {
        let (site, path, fails) = answered(batch, row, texts);
        self.count(site, path, fails);
    }

    /// Counts a request for a path of a site.
    pub fn count(&mut self, site: &str, path: &str, fails: bool) {
        if !self.sites.contains_key(site) {
            self.sites.insert(site.to_owned(), HashMap::new());
        }
        let Some(paths) = self.sites.get_mut(site) else { return };
        match paths.get_mut(path) {
            Some(counts) => *counts = (counts.0 + 1, counts.1 + u64::from(fails)),
            None if self.paths >= MOST_PATHS => {}
            None => {
                paths.insert(path.to_owned(), (1, u64::from(fails)));
                self.paths += 1;
            }
        }
    }

    /// Adds what was counted elsewhere.
    pub fn merge(&mut self, other: Usual) {
        for (site, paths) in other.sites {
            let ours = self.sites.entry(site).or_default();
            for (path, (requests, failing)) in paths {
                let counts = ours.entry(path).or_default();
                *counts = (counts.0 + requests, counts.1 + failing);
            }
        }
        self.paths = self.sites.values().map(HashMap::len).sum();
    }

    /// Whether a path was asked for, and mostly answered well.
    fn is_well(&self, site: &str, path: &str) -> bool {
        let counts = self.sites.get(site).and_then(|paths| paths.get(path));
        counts.is_some_and(|(requests, failing)| failing * 2 < *requests)
    }

    /// Requests for paths of a site that were mostly answered well, and those of them that failed all the same.
    fn of_well(&self, site: &str) -> (u64, u64) {
        let paths = self.sites.get(site).into_iter().flat_map(HashMap::values);
        let well = paths.filter(|(requests, failing)| failing * 2 < *requests);
        well.fold((0, 0), |all, counts| (all.0 + counts.0, all.1 + counts.1))
    }
}

/// Site, path and whether it failed, of a row.
fn answered<'t>(batch: &RequestBatch, row: usize, texts: &'t Dictionaries) -> (&'t str, &'t str, bool) {
    let text = |column: TextColumn| batch.code(column, row).map_or("", |code| texts.of(column).text(code));
    let status = batch.number(NumberColumn::Status, row).unwrap_or(0);
    (text(TextColumn::Site), text(TextColumn::Path), status >= 400)
}

/// Requests since a change was published, by site: of paths that were mostly answered well before.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FirstMinutes {
    sites: BTreeMap<String, (u64, u64)>,
}

/// A site of which more requests fail than was promised.
#[derive(Debug, Clone, PartialEq)]
pub struct Failing {
    /// The site.
    pub site: String,
    /// Requests since the change.
    pub requests: u64,
    /// Those that failed.
    pub failing: u64,
    /// How many should have.
    pub expected: f64,
}

impl Failing {
    /// It in words.
    pub fn words(&self) -> String {
        format!(
            "{}: {} of {} requests failed since it was published; by its rehearsal about {} should have",
            self.site,
            grouped(self.failing),
            grouped(self.requests),
            grouped(self.expected.round() as u64)
        )
    }
}

impl FirstMinutes {
    /// The columns that are looked at.
    pub fn projection() -> Projection {
        let texts: Projection = [TextColumn::Site, TextColumn::Path].into_iter().collect();
        texts.with([NumberColumn::Status].into_iter().collect())
    }

    /// Counts a row of a batch.
    pub fn add(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, usual: &Usual) {
        let (site, path, fails) = answered(batch, row, texts);
        self.count(site, path, fails, usual);
    }

    /// Counts a request for a path of a site.
    pub fn count(&mut self, site: &str, path: &str, fails: bool, usual: &Usual) {
        if !usual.is_well(site, path) {
            return;
        }
        let counts = self.sites.entry(site.to_owned()).or_default();
        *counts = (counts.0 + 1, counts.1 + u64::from(fails));
    }

    /// Adds what was counted elsewhere.
    pub fn merge(&mut self, other: FirstMinutes) {
        for (site, (requests, failing)) in other.sites {
            let counts = self.sites.entry(site).or_default();
            counts.0 += requests;
            counts.1 += failing;
        }
    }

    /// Requests of all sites.
    pub fn requests(&self) -> u64 {
        self.sites.values().map(|(requests, _)| requests).sum()
    }

    /// The site that fails most above what was promised, if any does by more than chance.
    pub fn verdict(&self, promised: &RehearsalOutcome, usual: &Usual) -> Option<Failing> {
        let mut found: Option<(f64, Failing)> = None;
        for (site, (requests, failing)) in &self.sites {
            let Some(of) = promised.sites.iter().find(|of| of.site == *site) else { continue };
            if *requests < FEWEST || of.requests == 0 {
                continue;
            }
            let worse = promised.groups.iter().filter(|group| group.site == *site && group.change.is_worse());
            let worse: u64 = worse.map(|group| group.requests).sum();
            let (before, failed) = usual.of_well(site);
            // Of few requests nobody knows the share to the last one: one more may always have been.
            let share = (failed as f64 + 1.0) / (before as f64 + 2.0) + worse as f64 / of.requests as f64;
            let share = share.min(1.0);
            let expected = share * *requests as f64;
            let deviation = (expected * (1.0 - share)).sqrt();
            let above = *failing as f64 - expected - FAR * deviation - MORE;
            let failing = Failing { site: site.clone(), requests: *requests, failing: *failing, expected };
            if above > 0.0 && found.as_ref().is_none_or(|(most, _)| above > *most) {
                found = Some((above, failing));
            }
        }
        found.map(|(_, failing)| failing)
    }
}

/// After how long it is looked what became of a change, in milliseconds.
const STRETCHES: [(i64, &str); 3] =
    [(3_600_000, "an hour"), (86_400_000, "a day"), (7 * 86_400_000, "a week")];

/// Requests to what a change touched, in one stretch.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct Counted {
    requests: u64,
    failing: u64,
    bytes: u64,
    people: HashSet<u64>,
}

/// How many people are told apart: 8 octets each.
const MOST_PEOPLE: usize = 100_000;

/// Requests to what a change touched, before and after it was published.
#[derive(Debug, Clone, Default)]
pub struct EffectTally {
    published: i64,
    until: i64,
    /// Which groups of the rehearsal a path is in.
    groups: HashMap<(String, String), Vec<usize>>,
    /// By group, stretch, and whether after.
    counted: HashMap<(usize, usize, bool), Counted>,
}

impl EffectTally {
    /// Of a change that was published at an instant (milliseconds since 1970 UTC), as far as another instant.
    pub fn new(promised: &RehearsalOutcome, published: i64, until: i64) -> Self {
        let mut groups: HashMap<(String, String), Vec<usize>> = HashMap::new();
        for (nth, group) in promised.groups.iter().enumerate() {
            for example in &group.examples {
                let path = example.path.split('?').next().unwrap_or_default().to_owned();
                let known = groups.entry((group.site.clone(), path)).or_default();
                if !known.contains(&nth) {
                    known.push(nth);
                }
            }
        }
        EffectTally { published, until, groups, counted: HashMap::new() }
    }

    /// The stretches that have begun, as far as they have come: their length in milliseconds and what they are called.
    fn stretches(&self) -> impl Iterator<Item = (usize, i64, &'static str)> + use<> {
        let since = (self.until - self.published).max(0);
        let whole: Vec<(usize, i64, &str)> = STRETCHES
            .iter()
            .enumerate()
            .filter(|(_, (length, _))| *length <= since)
            .map(|(nth, (length, name))| (nth, *length, *name))
            .collect();
        let so_far = whole.len() < STRETCHES.len();
        whole.into_iter().chain(so_far.then_some((STRETCHES.len(), since, "so far")))
    }

    /// The instants between which requests matter, in milliseconds since 1970 UTC.
    pub fn span(&self) -> (i64, i64) {
        let longest = self.stretches().map(|(_, length, _)| length).max().unwrap_or(0);
        (self.published - longest, self.published + longest)
    }

    /// The columns that are looked at.
    pub fn projection() -> Projection {
        let texts: Projection =
            [TextColumn::Site, TextColumn::Path, TextColumn::Client, TextColumn::Agent].into_iter().collect();
        texts.with([NumberColumn::Status, NumberColumn::Bytes].into_iter().collect())
    }

    /// Counts a row of a batch.
    pub fn add(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries) {
        let text = |column: TextColumn| batch.code(column, row).map(|code| texts.of(column).text(code));
        let (Some(site), Some(path)) = (text(TextColumn::Site), text(TextColumn::Path)) else { return };
        let Some(groups) = self.groups.get(&(site.to_owned(), path.to_owned())) else { return };
        let from = batch.time[row] - self.published;
        let agent = text(TextColumn::Agent).unwrap_or_default();
        let is_person = !agent.is_empty() && agents::read(agent).crawler.is_none();
        let person = is_person.then(|| person(text(TextColumn::Client).unwrap_or_default(), agent));
        let failing = batch.number(NumberColumn::Status, row).unwrap_or(0) >= 400;
        let bytes = batch.number(NumberColumn::Bytes, row).unwrap_or(0);
        for (stretch, length, _) in self.stretches() {
            let is_after = from >= 0;
            if (is_after && from >= length) || (!is_after && from < -length) {
                continue;
            }
            for group in groups {
                let counted = self.counted.entry((*group, stretch, is_after)).or_default();
                counted.requests += 1;
                counted.failing += u64::from(failing);
                counted.bytes += bytes;
                if let Some(person) = person.filter(|_| counted.people.len() < MOST_PEOPLE) {
                    counted.people.insert(person);
                }
            }
        }
    }

    /// Adds what was counted elsewhere.
    #[must_use]
    pub fn merge(mut self, other: EffectTally) -> Self {
        for (key, theirs) in other.counted {
            let ours = self.counted.entry(key).or_default();
            ours.requests += theirs.requests;
            ours.failing += theirs.failing;
            ours.bytes += theirs.bytes;
            ours.people.extend(theirs.people);
        }
        self
    }

    /// Before and after, for each thing that was promised and each stretch that has passed or has begun.
    pub fn table(&self, promised: &RehearsalOutcome) -> Table {
        let size =
            |name: &str, title: &str| TableColumn { kind: Kind::Size, ..TableColumn::count(name, title) };
        let columns = [
            TableColumn::text("change", "what was promised"),
            TableColumn::text("after", "after"),
            TableColumn::count("requests_before", "requests before"),
            TableColumn::count("requests", "requests"),
            TableColumn::count("failing_before", "failed before"),
            TableColumn::count("failing", "failed"),
            TableColumn::count("promised", "promised to fail"),
            TableColumn::count("people", "people").minor(),
            size("bytes_before", "sent before").minor(),
            size("bytes", "sent").minor(),
        ];
        let mut table = Table::new("effect", "What became of it", columns);
        for (nth, group) in promised.groups.iter().enumerate().filter(|(_, group)| !group.examples.is_empty())
        {
            for (stretch, _, name) in self.stretches() {
                let of =
                    |is_after: bool| self.counted.get(&(nth, stretch, is_after)).cloned().unwrap_or_default();
                let (before, after) = (of(false), of(true));
                table.push([
                    Cell::from(format!("{}: {}", group.change.words(), group.cause.what)),
                    name.into(),
                    before.requests.into(),
                    after.requests.into(),
                    before.failing.into(),
                    after.failing.into(),
                    promise(group, &before, &after).into(),
                    (after.people.len() as u64).into(),
                    before.bytes.into(),
                    after.bytes.into(),
                ]);
            }
        }
        let without = promised.groups.iter().filter(|group| group.examples.is_empty()).count();
        if without > 0 {
            table.unknown.push(
                "limits are about clients and not about paths: see how many answers are 429".to_owned(),
            );
        }
        table
    }
}

/// How many requests should fail after the change; nothing where none came before by which it could be known.
fn promise(group: &RehearsalGroup, before: &Counted, after: &Counted) -> Option<u64> {
    match group.change {
        change if change.is_worse() => Some(after.requests),
        AnswerChange::Found | AnswerChange::LetIn | AnswerChange::Works => Some(0),
        _ if before.requests == 0 => None,
        _ => Some((before.failing as f64 / before.requests as f64 * after.requests as f64).round() as u64),
    }
}

/// A number for whoever asked, the same for all threads of a process.
fn person(client: &str, agent: &str) -> u64 {
    use std::hash::BuildHasher;
    use std::sync::OnceLock;
    static HASHES: OnceLock<foldhash::quality::RandomState> = OnceLock::new();
    HASHES.get_or_init(Default::default).hash_one((client, agent))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rehearsal::{ChangeCause, Example};
    use rstest::rstest;

    const PUBLISHED: i64 = 1_800_000_000_000;

    fn promised() -> RehearsalOutcome {
        let example = |path: &str| Example { path: path.to_owned(), ..Example::default() };
        let group = RehearsalGroup {
            site: "harbour".to_owned(),
            change: AnswerChange::Found,
            cause: ChangeCause { what: "the rule `moved`".to_owned(), is_new: true, file: None, line: None },
            requests: 10,
            people: 5,
            of_programs: 0,
            bytes_before: 0,
            bytes_after: 0,
            spared: 0,
            revalidated: 0,
            examples: vec![example("/old/a?x=1"), example("/old/b")],
            more_paths: 0,
        };
        RehearsalOutcome { groups: vec![group], ..RehearsalOutcome::default() }
    }

    fn count(tally: &mut EffectTally, minute: i64, path: &str, status: u64) {
        let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
        batch.time.push(PUBLISHED + minute * 60_000);
        batch.numbers_mut(NumberColumn::Status).push(status);
        batch.numbers_mut(NumberColumn::Bytes).push(100);
        for (column, text) in [(TextColumn::Site, "harbour"), (TextColumn::Path, path)] {
            let code = texts.of_mut(column).code(text);
            batch.codes_mut(column).push(code);
        }
        tally.add(&batch, 0, &texts);
    }

    #[rstest]
    #[case::minutes(30, &["so far"])]
    #[case::some_hours(180, &["an hour", "so far"])]
    #[case::weeks(20_000, &["an hour", "a day", "a week"])]
    fn before_and_after_are_of_the_same_length(#[case] minutes: i64, #[case] stretches: &[&str]) {
        let promised = promised();
        let mut tally = EffectTally::new(&promised, PUBLISHED, PUBLISHED + minutes * 60_000);
        for (minute, path, status) in [
            (-1, "/old/a", 404),
            (-29, "/old/b", 404),
            (-90, "/old/b", 404),
            (-9_000, "/old/b", 404),
            (0, "/old/a", 308),
            (5, "/new/a", 200),
            (100, "/old/a", 308),
        ] {
            count(&mut tally, minute, path, status);
        }
        let table = tally.merge(EffectTally::default()).table(&promised);
        let names: Vec<&str> =
            (0..table.rows.len()).map(|row| table.cell(row, "after").unwrap().as_text().unwrap()).collect();
        assert_eq!(names, stretches);
        let of = |row: usize| (table.number(row, "requests_before"), table.number(row, "requests"));
        assert_eq!(of(0), (2, 1), "the first half hour and the one before it");
        assert_eq!(
            of(names.len() - 1),
            match minutes {
                30 => (2, 1),
                180 => (3, 2),
                _ => (4, 2),
            }
        );
        let figures = ["failing_before", "failing", "promised"].map(|name| table.number(0, name));
        assert_eq!(figures, [2, 0, 0]);
    }
}
