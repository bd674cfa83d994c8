//! What became of a published change: the requests that it touched, before and after, against what its rehearsal promised.
//!
//! [`Watch`] looks at the first minutes: do more requests fail than promised? [`EffectTally`] compares an hour, a day and a week with the
//! same time before, for exactly the paths that the rehearsal said would be answered differently.
//!
//! ```
//! use exedra_acting::effect::{Failing, Watch};
//! use exedra_acting::rehearsal::{Outcome, SiteAnswers};
//! let of = SiteAnswers { site: "harbour".to_owned(), requests: 10_000, failing: 200, would_fail: 100 };
//! let promised = Outcome { sites: vec![of], ..Outcome::default() };
//! let mut watch = Watch::default();
//! (0..100).for_each(|nth| watch.count("harbour", nth < 3));
//! assert_eq!(watch.verdict(&promised), None, "three of a hundred may be chance");
//! (0..20).for_each(|_| watch.count("harbour", true));
//! let Failing { failing, requests, expected, .. } = watch.verdict(&promised).unwrap();
//! assert_eq!((failing, requests, expected.round()), (23, 120, 1.0));
//! ```

use crate::rehearsal::{Change, Group, Outcome};
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

/// Requests since a change was published, by site.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Watch {
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

impl Watch {
    /// The columns that are looked at.
    pub fn projection() -> Projection {
        let texts: Projection = [TextColumn::Site].into_iter().collect();
        texts.with([NumberColumn::Status].into_iter().collect())
    }

    /// Counts a row of a batch.
    pub fn add(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries) {
        let site = batch.code(TextColumn::Site, row).map(|code| texts.of(TextColumn::Site).text(code));
        let status = batch.number(NumberColumn::Status, row).unwrap_or(0);
        self.count(site.unwrap_or_default(), status >= 400);
    }

    /// Counts a request of a site.
    pub fn count(&mut self, site: &str, fails: bool) {
        if !self.sites.contains_key(site) {
            self.sites.insert(site.to_owned(), (0, 0));
        }
        if let Some(counts) = self.sites.get_mut(site) {
            counts.0 += 1;
            counts.1 += u64::from(fails);
        }
    }

    /// Adds what was counted elsewhere.
    pub fn merge(&mut self, other: Watch) {
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
    pub fn verdict(&self, promised: &Outcome) -> Option<Failing> {
        let mut found: Option<(f64, Failing)> = None;
        for (site, (requests, failing)) in &self.sites {
            let Some(of) = promised.sites.iter().find(|of| of.site == *site) else { continue };
            if *requests < FEWEST || of.requests == 0 {
                continue;
            }
            // Of few requests nobody knows the share to the last one: one more may always have been.
            let size =
            |name: &str, title: &str| TableColumn { kind: Kind::Size, ..TableColumn::count(name, title) };
        let columns = [
            TableColumn::text("change", "what was promised"),
            TableColumn::text("cause", "because of"),
            TableColumn::text("after", "after"),
            TableColumn::count("requests_before", "requests before"),
            TableColumn::count("requests", "requests"),
            TableColumn::count("failing_before", "failed before"),
            TableColumn::count("failing", "failed"),
            TableColumn::count("promised", "promised to fail"),
            TableColumn::count("people", "people"),
            size("bytes_before", "sent before"),
            size("bytes", "sent"),
        ];
        let mut table = Table::new("effect", "What became of it", columns);
        for (nth, group) in promised.groups.iter().enumerate().filter(|(_, group)| !group.examples.is_empty())
        {
            for (stretch, _, name) in self.stretches() {
                let of =
                    |is_after: bool| self.counted.get(&(nth, stretch, is_after)).cloned().unwrap_or_default();
                let (before, after) = (of(false), of(true));
                table.push([
                    Cell::from(group.change.words()),
                    group.cause.what.as_str().into(),
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
fn promise(group: &Group, before: &Counted, after: &Counted) -> Option<u64> {
    match group.change {
        change if change.is_worse() => Some(after.requests),
        Change::Found | Change::LetIn | Change::Works => Some(0),
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
    use crate::rehearsal::{Cause, Example};
    use rstest::rstest;

    const PUBLISHED: i64 = 1_800_000_000_000;

    fn promised() -> Outcome {
        let example = |path: &str| Example { path: path.to_owned(), ..Example::default() };
        let group = Group {
            site: "harbour".to_owned(),
            change: Change::Found,
            cause: Cause { what: "the rule `moved`".to_owned(), is_new: true, file: None, line: None },
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
        Outcome { groups: vec![group], ..Outcome::default() }
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
