//! What goes wrong at certain times: pages that a job takes away each night, and bursts of failures.

use super::counts::Answered;
use super::{Asker, BurstSeen, Finding, FindingKind, OfSite, Sureness};
use exedra_common::figures::{grouped, several};
use exedra_common::tables::{Table, TableColumn};
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet};

const MINUTE: i64 = 60_000;
/// A stretch of the day in which everything must lie, in minutes.
const STRETCH: i64 = 30;
/// On how many days it must have been so.
const DAYS: usize = 3;
/// Fewer people than this met it, on fewer days than this.
const FEWEST: u64 = 3;
const NIGHTS: usize = 7;
/// How many days evidence has.
const ROWS: usize = 12;

/// Pages that are there now, and were missing at the same time of several days.
pub fn at_certain_times(of: OfSite<'_>) -> Vec<Finding> {
    let mut found = Vec::new();
    for (number, path, counts) in of.paths.iter().copied() {
        let missing = counts.requests(Answered::Missing);
        let sent = counts.requests(Answered::Sent) + counts.requests(Answered::Same);
        // One that is missing more often than not is a missing page.
        if counts.missing_minutes.len() < DAYS || sent < missing * 4 {
            continue;
        }
        if !of.answer(path, Asker::default()).status.is_success() {
            continue;
        }
        // By day: the minutes of the day in which it was missing.
        let mut days: BTreeMap<jiff::civil::Date, BTreeSet<i64>> = BTreeMap::new();
        let mut of_day: Vec<i64> = Vec::new();
        for minute in &counts.missing_minutes {
            let Ok(stamp) = Timestamp::from_millisecond(minute * MINUTE) else { continue };
            let local = stamp.to_zoned(of.seen.zone.clone());
            let minute = i64::from(local.hour()) * 60 + i64::from(local.minute());
            days.entry(local.date()).or_default().insert(minute);
            of_day.push(minute);
        }
        let Some((begins, within)) = busiest(&of_day) else { continue };
        let is_within = |minute: &i64| (begins..begins + STRETCH).contains(minute);
        let times = days.values().filter(|minutes| minutes.iter().any(is_within)).count();
        if times < DAYS || within * 10 < of_day.len() * 8 {
            continue;
        }
        let people = of.people(&[number], Answered::Missing);
        // A program that looks each night is as good a witness as people.
        if people < FEWEST && times < NIGHTS {
            continue;
        }
        let ends = of_day.iter().filter(|minute| is_within(minute)).max().copied().unwrap_or(begins) + 1;
        let columns = [
            TableColumn::text("day", "day"),
            TableColumn::text("from", "from"),
            TableColumn::count("minutes", "minutes with misses"),
        ];
        let mut table = Table::new("missing_at_times", "When it was missing", columns);
        for (day, minutes) in days.iter().rev().filter(|(_, minutes)| minutes.iter().any(is_within)) {
            let first = minutes.iter().find(|minute| is_within(minute)).copied().unwrap_or(begins);
            table.push([day.to_string().into(), clock(first).into(), (minutes.len() as u64).into()]);
        }
        table.cut(ROWS);
        let finding = Finding {
                title: format!("{path} is missing for some minutes at about {}", clock(begins)),
                cost: format!("{} asked for it just then", of.people_in_words(people)),
                sureness: Sureness::Likely,
                reasons: vec![
                    format!("on {} between {} and {}", several(times as u64, "day", "days"), clock(begins), clock(ends)),
                    "at all other times it is there".to_owned(),
                ],
                evidence: table,
                command: format!(
                    "exedra requests --site {} --only 'path={path}' --only status=404",
                    of.name()
                ),
                advice: Some(
                    "A job that writes it anew should write another file and rename it at the end: then it is never missing.".to_owned(),
                ),
                ..of.finding(FindingKind::MissingAtTimes, path)
            }
            .weighed(people, missing, 0);
        // Nobody may have asked just then: that it comes again and again counts for itself.
        found.push(Finding { weight: finding.weight + times as f64, ..finding });
    }
    found
}

/// How many failures a burst has at least that is told.
const FAILURES: u64 = 10;
/// How many sentences of a prelude are told.
const SENTENCES: usize = 4;

/// Bursts of failures, each with what was different in it and in the minutes before.
pub fn bursts(of: OfSite<'_>) -> Vec<Finding> {
    let mut found = Vec::new();
    let ours = of.seen.present.bursts.iter().filter(|burst| burst.site == of.name());
    for BurstSeen { prelude, .. } in ours.filter(|burst| burst.prelude.burst.troubled >= FAILURES) {
        let burst = &prelude.burst;
        let local = |minute: i64| {
            let stamp = Timestamp::from_millisecond(minute * MINUTE).unwrap_or_default();
            stamp.to_zoned(of.seen.zone.clone())
        };
        let (from, until) = (local(burst.from), local(burst.until));
        let stretch = format!("{}..{}", from.strftime("%Y-%m-%dT%H:%M"), until.strftime("%Y-%m-%dT%H:%M"));
        let columns = [
            TableColumn::text("what", "what was different"),
            TableColumn::count("before", "in the minutes before"),
            TableColumn::count("during", "in it"),
            TableColumn::count("usually", "usually"),
        ];
        let mut table = Table::new("burst", "What was different", columns);
        for evidence in &prelude.evidence {
            let usually = evidence.usually.round().max(0.0) as u64;
            table.push([
                evidence.words.as_str().into(),
                evidence.before.into(),
                evidence.during.into(),
                usually.into(),
            ]);
        }
        let mut reasons: Vec<String> =
            prelude.evidence.iter().take(SENTENCES).map(|evidence| evidence.words.clone()).collect();
        if !burst.also_on.is_empty() {
            let days = burst.also_on.len() as u64;
            reasons
                .insert(0, format!("the same at that time on {}", several(days, "other day", "other days")));
        }
        let times = burst.also_on.len() as f64;
        let finding = Finding {
            title: format!(
                "{} of {} requests failed on {} from {} to {}",
                grouped(burst.troubled),
                grouped(burst.requests),
                from.strftime("%-d %B"),
                from.strftime("%H:%M"),
                until.strftime("%H:%M")
            ),
            cost: format!(
                "{} were answered with a server error",
                several(burst.troubled, "request", "requests")
            ),
            sureness: Sureness::Certain,
            reasons,
            evidence: table,
            command: format!("exedra report --site {} --prelude {stretch}", of.name()),
            advice: Some(
                "What was different before it is where to look first: a job, a client, a page.".to_owned(),
            ),
            ..of.finding(FindingKind::Burst, &stretch)
        }
        .weighed(burst.troubled, burst.troubled, 0);
        found.push(Finding { weight: finding.weight + times, ..finding });
    }
    found
}

/// Where the stretch of the day begins in which most of some minutes lie, and how many do.
fn busiest(minutes: &[i64]) -> Option<(i64, usize)> {
    let mut sorted = minutes.to_vec();
    sorted.sort_unstable();
    let within =
        |begin: i64| sorted.iter().filter(|minute| (begin..begin + STRETCH).contains(*minute)).count();
    let mut begins = sorted.clone();
    begins.dedup();
    begins
        .into_iter()
        .map(|begin| (begin, within(begin)))
        .max_by_key(|(begin, count)| (*count, std::cmp::Reverse(*begin)))
}

fn clock(minute: i64) -> String {
    format!("{:02}:{:02}", minute / 60 % 24, minute % 60)
}
