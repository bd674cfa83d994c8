//! What came of a rehearsal: groups of requests for which the same differs by the same cause, the gravest first; and as tables.

use super::ChangeCause;
use super::change::AnswerChange;
use super::example::Example;
use super::groups::Groups;
use super::timed::Count;
use exedra_common::figures::grouped;
use exedra_common::tables::{Cell, Detail, Table, TableColumn};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use utoipa::ToSchema;

/// How many examples are told of a group.
const EXAMPLES: usize = 3;
/// How many paths of a group are told, for whoever wants to know later what came of it.
const MOST_TOLD: usize = 200;

/// What came of a rehearsal.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = RehearsalOutcome)]
pub struct RehearsalOutcome {
    /// Requests that were run through both configurations.
    pub requests: u64,
    /// How many of them neither could have told apart from others.
    pub distinct: u64,
    /// Requests for which nothing differs.
    pub unchanged: u64,
    /// Requests for which something differs.
    pub changed: u64,
    /// Requests of which nobody can tell, because the log does not hold what had a say.
    pub unsure_requests: u64,
    /// Requests that the configuration in force answers as they were answered, on the folders as they are now.
    pub alike: u64,
    /// How many requests of each site fail by both configurations.
    pub sites: Vec<SiteAnswers>,
    /// What differs, the gravest first.
    pub groups: Vec<RehearsalGroup>,
    /// Of what nobody can tell.
    pub unsure: Vec<CannotTell>,
    /// What the figures cannot say, in sentences.
    pub caveats: Vec<String>,
}

/// How many requests of a site fail.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = RehearsedSite)]
pub struct SiteAnswers {
    /// The site.
    pub site: String,
    /// Requests.
    pub requests: u64,
    /// Those that the configuration in force answers 4xx or 5xx.
    pub failing: u64,
    /// Those that the changed one would.
    pub would_fail: u64,
}

/// Requests of a site for which the same differs by the same cause.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = RehearsalGroup)]
pub struct RehearsalGroup {
    /// The site.
    pub site: String,
    /// What differs.
    pub change: AnswerChange,
    /// Because of what.
    pub cause: ChangeCause,
    /// Requests.
    pub requests: u64,
    /// How many people made them: clients with their agents, but for bots and crawlers.
    pub people: u64,
    /// Requests of bots and crawlers among them.
    pub of_programs: u64,
    /// Body bytes that were sent.
    pub bytes_before: u64,
    /// Body bytes that would have been sent, as far as is known.
    pub bytes_after: u64,
    /// Requests that would not have been made: the answer may be kept longer.
    pub spared: u64,
    /// Answers from what clients had already that would have been sent again.
    pub revalidated: u64,
    /// Paths, those with the most requests first.
    pub examples: Vec<Example>,
    /// How many further paths there are.
    pub more_paths: u64,
}

/// Requests of which nobody can tell.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = CannotTell)]
pub struct CannotTell {
    /// The facts that are lacking.
    pub lacking: String,
    /// Requests.
    pub requests: u64,
    /// Those of people.
    pub of_people: u64,
    /// A path among them.
    pub example: String,
}

impl RehearsalOutcome {
    /// Whether somebody would be worse off: a person, as far as agents tell.
    pub fn is_worse_for_somebody(&self) -> bool {
        self.groups.iter().any(|group| group.change.is_worse() && group.people > 0)
    }

    /// Requests answered 4xx or 5xx, or redirected without end, that are so only by the changed configuration.
    pub fn new_failures(&self) -> u64 {
        self.groups.iter().filter(|group| group.change.is_worse()).map(|group| group.requests).sum()
    }

    /// What differs, as a table.
    pub fn table(&self) -> Table {
        let columns = [
            TableColumn::text("site", "site").minor(),
            TableColumn::text("change", "what differs"),
            TableColumn::text("cause", "because of"),
            TableColumn::text("place", "written at").minor(),
            TableColumn::sum("requests", "requests"),
            TableColumn::count("people", "people"),
            TableColumn::size("bytes_before", "sent"),
            TableColumn::size("bytes_after", "would be"),
            TableColumn::sum("spared", "spared").minor(),
            TableColumn::sum("revalidated", "sent again").minor(),
        ];
        let mut table = Table::new("rehearsal", "What would be different", columns);
        for group in &self.groups {
            let place = match (&group.cause.file, group.cause.line) {
                (Some(file), Some(line)) => format!("{file}:{line}"),
                (Some(file), None) => file.clone(),
                (None, _) => String::new(),
            };
            let cause = match group.cause.is_new {
                true => group.cause.what.clone(),
                false => format!("{}, which is no longer there", group.cause.what),
            };
            table.push([
                group.site.as_str().into(),
                group.change.words().into(),
                cause.into(),
                place.into(),
                group.requests.into(),
                group.people.into(),
                group.bytes_before.into(),
                group.bytes_after.into(),
                group.spared.into(),
                group.revalidated.into(),
            ]);
            let detail = |example: &Example| Detail {
                count: example.requests,
                label: String::new(),
                text: format!("{}: {} → {}", example.path, example.before, example.after),
            };
            let mut details: Vec<Detail> = group.examples.iter().take(EXAMPLES).map(detail).collect();
            let told: u64 = details.iter().map(|detail| detail.count).sum();
            if group.requests > told && !details.is_empty() {
                let paths = group.examples.len() as u64 + group.more_paths;
                let others = paths.saturating_sub(EXAMPLES as u64);
                let label = match others {
                    1 => "one other path".to_owned(),
                    others => format!("{} other paths", grouped(others)),
                };
                details.push(Detail { count: group.requests - told, label, text: String::new() });
            }
            table.details.push(details);
        }
        if !table.rows.is_empty() {
            table.total_of_rows();
        }
        table.about = self.about();
        table.unknown = self.caveats.clone();
        table
    }

    /// Of what nobody can tell, as a table.
    pub fn unsure_table(&self) -> Table {
        let columns = [
            TableColumn::text("lacking", "what the log does not hold"),
            TableColumn::sum("requests", "requests"),
            TableColumn::sum("of_people", "of people"),
            TableColumn::text("example", "for example").minor(),
        ];
        let mut table = Table::new("cannot_tell", "Cannot tell", columns);
        for unsure in &self.unsure {
            table.push([
                unsure.lacking.as_str().into(),
                unsure.requests.into(),
                unsure.of_people.into(),
                Cell::from(unsure.example.as_str()),
            ]);
        }
        if !table.rows.is_empty() {
            table.total_of_rows();
        }
        table
    }

    /// All of it in a sentence.
    pub fn about(&self) -> String {
        let of = grouped(self.requests);
        let unsure = match self.unsure_requests {
            0 => String::new(),
            requests => format!(", of {} nobody can tell", grouped(requests)),
        };
        match self.changed {
            0 if self.requests == 0 => "there are no requests to rehearse".to_owned(),
            0 => format!("nothing would be different for {of} requests{unsure}"),
            changed => {
                format!("something would be different for {} of {of} requests{unsure}", grouped(changed))
            }
        }
    }
}

/// Puts together what was counted.
pub fn outcome(mut counted: Groups, distinct: u64) -> RehearsalOutcome {
    let (lifetimes, of_group) = counted.lifetimes();
    let mut spared: HashMap<u32, u64> = HashMap::new();
    let before: Vec<(u64, u64)> = lifetimes.iter().map(|(old, _)| (0, *old)).collect();
    let (kept, kept_before) = (counted.fetched.kept(&lifetimes), counted.fetched.kept(&before));
    for (number, group) in of_group.iter().enumerate() {
        let of = |kept: &HashMap<u32, Count>| kept.get(&(number as u32)).map_or(0, |count| count.requests);
        *spared.entry(*group).or_default() += of(&kept).saturating_sub(of(&kept_before));
    }
    let keys = counted.keys();
    let mut groups: Vec<RehearsalGroup> = keys
        .into_iter()
        .zip(&counted.groups)
        .enumerate()
        .filter(|(_, (_, counted))| counted.requests > 0)
        .map(|(number, ((site, change, cause), counted))| {
            let mut examples: Vec<Example> = counted.paths.values().cloned().collect();
            examples.sort_by(|a, b| b.requests.cmp(&a.requests).then_with(|| a.path.cmp(&b.path)));
            let more = examples.len().saturating_sub(MOST_TOLD) as u64 + u64::from(counted.more_paths > 0);
            examples.truncate(MOST_TOLD);
            let spared = spared.get(&(number as u32)).copied().unwrap_or(0);
            // A request that is not made sends nothing.
            let mean = counted.bytes_after / counted.requests.max(1);
            RehearsalGroup {
                site,
                change,
                cause,
                requests: counted.requests,
                people: counted.people.len() as u64,
                of_programs: counted.requests - counted.of_people,
                bytes_before: counted.bytes_before,
                bytes_after: counted.bytes_after.saturating_sub(mean * spared),
                spared,
                revalidated: counted.revalidated,
                examples,
                more_paths: more,
            }
        })
        .collect();
    let of_groups: u64 = groups.iter().map(|group| group.requests).sum();
    let (limited, alone) = limited(&mut counted);
    groups.extend(limited);
    let weight = |group: &RehearsalGroup| (group.people, group.requests, group.bytes_before);
    groups.sort_by(|a, b| {
        b.change
            .is_worse()
            .cmp(&a.change.is_worse())
            .then_with(|| weight(b).cmp(&weight(a)))
            .then_with(|| (a.change, &a.cause, &a.site).cmp(&(b.change, &b.cause, &b.site)))
    });
    let unsure: Vec<CannotTell> = counted
        .uncertain_by_facts()
        .into_iter()
        .map(|(lacking, of)| CannotTell {
            lacking,
            requests: of.requests,
            of_people: of.of_people,
            example: of.example,
        })
        .collect();
    let mut sites: Vec<SiteAnswers> = counted
        .answers
        .iter()
        .map(|(site, [requests, failing, would_fail])| SiteAnswers {
            site: site.clone(),
            requests: *requests,
            failing: *failing,
            would_fail: *would_fail,
        })
        .collect();
    sites.sort_by(|a, b| a.site.cmp(&b.site));
    let unsure_requests: u64 = unsure.iter().map(|unsure| unsure.requests).sum();
    let changed = of_groups + alone;
    let mut caveats = Vec::new();
    if counted.malformed > 0 {
        caveats.push(format!("{} lines were no requests, and were not run", grouped(counted.malformed)));
    }
    if counted.let_go > 0 {
        caveats.push(format!(
            "there were too many different requests to tell apart: {} were not run",
            grouped(counted.let_go)
        ));
    }
    let not_noted = counted.limited.0.let_go() + counted.limited.1.let_go() + counted.fetched.let_go();
    if not_noted > 0 {
        caveats.push(format!("limits and lifetimes leave out {} requests: too many", grouped(not_noted)));
    }
    RehearsalOutcome {
        requests: counted.requests,
        distinct,
        unchanged: counted
            .requests
            .saturating_sub(changed + unsure_requests + counted.malformed + counted.let_go),
        changed,
        unsure_requests,
        alike: counted.alike,
        sites,
        groups,
        unsure,
        caveats,
    }
}

/// Requests that are over a limit by one configuration and not by the other; and for how many of them nothing else differs.
fn limited(counted: &mut Groups) -> (Vec<RehearsalGroup>, u64) {
    let of = |limits: &[(exedra_answering::rules::Limit, Option<String>)]| -> Vec<_> {
        limits.iter().map(|(limit, _)| *limit).collect()
    };
    let over_old = counted.limited.0.over(&of(&counted.limits.0));
    let over_new = counted.limited.1.over(&of(&counted.limits.1));
    // Rules are the same by their names.
    let by_name = |limits: &[(_, Option<String>)], over: &HashMap<u32, Count>| -> HashMap<String, Count> {
        let name = |number: &u32| {
            limits.get(*number as usize).and_then(|(_, name): &(_, Option<String>)| name.clone())
        };
        over.iter().filter_map(|(number, count)| Some((name(number)?, *count))).collect()
    };
    let (old, new) = (by_name(&counted.limits.0, &over_old), by_name(&counted.limits.1, &over_new));
    let mut names: Vec<&String> = old.keys().chain(new.keys()).collect();
    names.sort_unstable();
    names.dedup();
    let group = |name: &&String| {
        let get = |counts: &HashMap<String, Count>| counts.get(*name).copied().unwrap_or_default();
        let (old, new) = (get(&old), get(&new));
        let (change, more, less) = match new.requests.cmp(&old.requests) {
            std::cmp::Ordering::Greater => (AnswerChange::Limited, new, old),
            std::cmp::Ordering::Less => (AnswerChange::Unlimited, old, new),
            std::cmp::Ordering::Equal => return None,
        };
        let requests = more.requests - less.requests;
        Some(RehearsalGroup {
            site: String::new(),
            change,
            cause: ChangeCause {
                what: format!("the limit of the rule `{name}`"),
                is_new: change == AnswerChange::Limited,
                file: None,
                line: None,
            },
            requests,
            people: more.people.saturating_sub(less.people),
            of_programs: requests.saturating_sub(more.of_people.saturating_sub(less.of_people)),
            bytes_before: 0,
            bytes_after: 0,
            spared: 0,
            revalidated: 0,
            examples: Vec::new(),
            more_paths: 0,
        })
    };
    let alone = |counts: &HashMap<String, Count>| counts.values().map(|count| count.alone).sum::<u64>();
    let alone = alone(&old).abs_diff(alone(&new));
    (names.iter().filter_map(group).collect(), alone)
}
