//! A survey in the form that people and programs are given: ranked, cut to length, with shares.
//!
//! The client's JSON, the API and the text report are all this one form, so their figures cannot differ.
//!
//! - [`schema`]: its pieces
//! - [`lists`]: what follows from agents, paths and referrers
//! - [`missing`]: missing pages and who led there
//! - [`slow`]: how long answers took
//! - `weights`: what entries weigh, by the measure they are ranked by
//! - [`comparison`]: another period beside it

pub mod comparison;
pub mod lists;
mod missing;
pub mod schema;
mod slow;
mod weights;

use super::calendar::{Calendar, date_of, weekday};
use super::counted::{Bucket, Survey};
use super::measure::Measure;
use super::plan::{Part, SurveyPlan};
use super::ranking::{Counts, Ranking};
use super::visitors_of_entries::Listed;
use crate::logs::Origin;
use lists::{Apart, Lists, RankedList, VisitFigures};
pub use schema::*;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;
use weights::Weights;

/// Version of the form. It grows whenever something is taken away or means something else.
pub const VERSION: u32 = 3;

/// How a survey is to be shown.
#[derive(Debug, Clone)]
pub struct ReportOptions {
    /// Length of every ranked list.
    pub top: usize,
    /// Referrers beside each missing page.
    pub referrers: usize,
    /// Hosts of the sites themselves, where they are known.
    pub own_hosts: Vec<String>,
    /// What is known of the sources, in their order.
    pub origins: Vec<Origin>,
}

impl Default for ReportOptions {
    fn default() -> Self {
        ReportOptions { top: 1000, referrers: 20, own_hosts: Vec::new(), origins: Vec::new() }
    }
}

/// Everything counted over one scope.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SurveyReport {
    /// Version of this form.
    pub version: u32,
    /// Name of the zone whose days and hours these are.
    pub time_zone: String,
    /// First request (RFC 3339), where there is one.
    pub first: Option<String>,
    /// Last request (RFC 3339), where there is one.
    pub last: Option<String>,
    /// Whether addresses are cut to their networks and names left out.
    #[serde(default)]
    pub masked: bool,
    /// Lines that were read for it; absent where it was made from records.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lines: Option<Lines>,
    /// What the lists are ranked by.
    #[serde(default)]
    pub by: Measure,
    /// Everything together.
    pub totals: Totals,
    /// By class of status.
    pub by_class: Vec<ClassCount>,
    /// By status, in order.
    pub by_status: Vec<StatusCount>,
    /// By month, in order; months without a request are left out.
    #[serde(default)]
    pub by_month: Vec<MonthCount>,
    /// By day, in order; days without a request are left out.
    pub by_day: Vec<DayCount>,
    /// By day of the week, from Monday on.
    #[serde(default)]
    pub by_weekday: Vec<WeekdayCount>,
    /// By hour of the day, all twenty-four.
    pub by_hour: Vec<HourCount>,
    /// By bucket, in order, where a timeline was asked for; empty buckets are left out.
    pub timeline: Vec<TimeCount>,
    /// Paths by requests.
    pub paths: Vec<PathCount>,
    /// Missing pages by requests.
    pub missing: Vec<MissingPage>,
    /// Where requests for all missing pages came from.
    #[serde(default)]
    pub missing_origins: Origins,
    /// Clients by requests.
    pub clients: Vec<ClientCount>,
    /// People and programs apart.
    #[serde(default)]
    pub apart: Apart,
    /// Visits of people.
    #[serde(default)]
    pub visits: VisitFigures,
    /// What follows from agents, paths and referrers, each list by its name.
    #[serde(default)]
    pub lists: BTreeMap<String, RankedList>,
    /// Hosts whose links and pages count as the sites' own; where nobody said so, those whose pages load style sheets and
    /// scripts.
    #[serde(default)]
    pub own_hosts: Vec<String>,
    /// Answers by content coding, most requests first.
    #[serde(default)]
    pub encodings: Vec<EncodingCount>,
    /// How long answers took.
    #[serde(default)]
    pub slow: SlowReport,
    /// The other period, where there is one to compare with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub against: Option<OtherPeriod>,
    /// What the lists leave out.
    pub rest: BTreeMap<String, Rest>,
    /// What is not exact, and by how much; and what cannot be known.
    pub caveats: Vec<String>,
}

const WEEKDAYS: [&str; 7] = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

impl SurveyReport {
    /// Ranks and cuts a survey that was made by a plan.
    pub fn new(survey: &Survey, plan: &SurveyPlan, options: &ReportOptions) -> SurveyReport {
        let weights = Weights::new(survey, plan, plan.by);
        let mut beyond = Beyond::new(options, &weights);
        beyond.caveats.extend(weights.caveat());
        let error = survey.visitors.error();
        if error > 0.0 {
            let words =
                format!("visitors are estimated from a sample; standard error {:.2} %", error * 100.0);
            beyond.caveats.push(words);
        }
        let weight = survey.visits.weight();
        if weight > 1 {
            let error = survey.visits.error() * 100.0;
            let words = format!(
                "visits are estimated from one visitor in {weight}; standard error about {error:.1} %"
            );
            beyond.caveats.push(words);
        }
        beyond.caveats.extend(untold(survey, plan));
        let own_hosts = lists::own_hosts(survey, &options.own_hosts);
        // Large surveys have many missing pages and long lists: both are gone through at the same time.
        let mut beyond_missing = Beyond::new(options, &weights);
        let (Lists { lists, apart, visits }, (missing, missing_origins)) = std::thread::scope(|scope| {
            let missing = scope.spawn(|| missing::missing(survey, &own_hosts, &mut beyond_missing));
            let lists = Lists::of(survey, plan, options, &own_hosts, &weights);
            (lists, missing.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
        });
        beyond.rest.extend(beyond_missing.rest);
        beyond.caveats.extend(beyond_missing.caveats);
        let by_day = days(survey, plan);
        SurveyReport {
            version: VERSION,
            time_zone: plan.zone.iana_name().unwrap_or("UTC").to_owned(),
            first: survey.span.map(|(first, _)| stamp(first)),
            last: survey.span.map(|(_, last)| stamp(last)),
            masked: false,
            lines: None,
            by: plan.by,
            totals: Totals {
                requests: survey.total.counts.requests,
                visitors: survey.visitors.total(),
                bytes: survey.total.counts.bytes,
                time_ms: survey.times.as_ref().map(|times| times.total.counts.bytes as f64 / 1e3),
                changes: Changes::new(),
            },
            by_class: classes(&survey.total),
            by_status: statuses(survey),
            by_month: months(&by_day),
            by_day,
            by_weekday: weekdays(survey),
            by_hour: (0u8..)
                .zip(&survey.hours())
                .map(|(hour, counts)| HourCount { hour, requests: counts.requests, bytes: counts.bytes })
                .collect(),
            timeline: survey
                .timeline
                .iter()
                .map(|(&time, bucket)| TimeCount {
                    time,
                    requests: bucket.counts.requests,
                    bytes: bucket.counts.bytes,
                    classes: bucket.classes.to_vec(),
                })
                .collect(),
            paths: beyond.cut("paths", Listed::Paths, &survey.paths, |path, counts, measured| PathCount {
                path,
                requests: counts.requests,
                bytes: counts.bytes,
                measured,
                changes: Changes::new(),
            }),
            missing,
            missing_origins,
            clients: beyond.cut("clients", Listed::Clients, &survey.clients, |client, counts, measured| {
                ClientCount {
                    client,
                    requests: counts.requests,
                    bytes: counts.bytes,
                    measured,
                    changes: Changes::new(),
                }
            }),
            apart,
            visits,
            lists,
            own_hosts,
            encodings: encodings(survey),
            slow: slow::slow(survey, plan, &mut beyond),
            against: None,
            rest: beyond.rest,
            caveats: beyond.caveats,
        }
    }
}

/// What is not known, because no line says it.
fn untold(survey: &Survey, plan: &SurveyPlan) -> Option<String> {
    let looked_for = [
        (Part::Clients, survey.clients.is_empty(), "clients"),
        (Part::Agents, survey.agents.is_empty(), "agents"),
        (Part::Referrers, survey.referrers.is_empty(), "referrers"),
        (Part::Durations, survey.durations.is_empty(), "durations"),
        (Part::Encodings, survey.encodings.is_empty(), "content codings"),
    ];
    let untold = looked_for.iter().filter(|(part, is_empty, _)| plan.parts.has(*part) && *is_empty);
    let untold: Vec<&str> = untold.map(|(.., name)| *name).collect();
    let any = survey.total.counts.requests > 0 && !untold.is_empty();
    any.then(|| format!("not known, because no line says it: {}", untold.join(", ")))
}

/// What does not come into the lists, gathered while they are made.
struct Beyond<'o> {
    options: &'o ReportOptions,
    weights: &'o Weights<'o>,
    rest: BTreeMap<String, Rest>,
    caveats: Vec<String>,
}

impl<'o> Beyond<'o> {
    fn new(options: &'o ReportOptions, weights: &'o Weights<'o>) -> Self {
        Beyond { options, weights, rest: BTreeMap::new(), caveats: Vec::new() }
    }

    fn cut<T>(
        &mut self,
        name: &str,
        list: Listed,
        ranking: &Ranking,
        entry: impl Fn(String, Counts, Measured) -> T,
    ) -> Vec<T> {
        let weights = self.weights;
        let weight = |text: &str, counts| weights.of(list, text, counts);
        let (first, others) = ranking.top(weight, self.options.top);
        self.leave_out(name, others.into_iter().map(|entry| entry.1), ranking.let_go());
        let entry = |(text, counts): (&str, Counts)| {
            entry(text.to_owned(), counts, weights.measured(weight(text, counts)))
        };
        first.into_iter().map(entry).collect()
    }

    fn leave_out(&mut self, name: &str, beyond: impl Iterator<Item = Counts>, let_go: Counts) {
        let mut left = Rest { entries: 0, requests: let_go.requests, bytes: let_go.bytes };
        for counts in beyond {
            left.entries += 1;
            left.requests += counts.requests;
            left.bytes += counts.bytes;
        }
        if left.requests > 0 {
            self.rest.insert(name.to_owned(), left);
        }
        if let_go.requests > 0 {
            self.caveats.push(format!(
                "{name}: too many different ones to keep; {} requests of rare ones are counted only in the rest",
                let_go.requests
            ));
        }
    }
}

fn stamp(time: i64) -> String {
    jiff::Timestamp::from_millisecond(time).unwrap_or_default().to_string()
}

fn classes(bucket: &Bucket) -> Vec<ClassCount> {
    let names = ["none", "1xx", "2xx", "3xx", "4xx", "5xx"];
    let class = |(name, &requests): (&&str, &u64)| ClassCount {
        class: (*name).to_owned(),
        requests,
        changes: Changes::new(),
    };
    names.iter().zip(&bucket.classes).map(class).filter(|class| class.requests > 0).collect()
}

fn statuses(survey: &Survey) -> Vec<StatusCount> {
    let status = |(&status, counts): (&u16, &Counts)| StatusCount {
        status,
        requests: counts.requests,
        bytes: counts.bytes,
        changes: Changes::new(),
    };
    survey.statuses.iter().map(status).collect()
}

fn days(survey: &Survey, plan: &SurveyPlan) -> Vec<DayCount> {
    let mut calendar = Calendar::new(plan.zone.clone());
    let mut visits: BTreeMap<i32, u64> = BTreeMap::new();
    if plan.parts.has(Part::Visits) {
        for visit in survey.visits.all().filter(|visit| !visit.is_crawler) {
            *visits.entry(calendar.quarter(visit.first).day).or_default() += survey.visits.weight();
        }
    }
    let day = |(&day, bucket): (&i32, &Bucket)| DayCount {
        day: date_of(day).to_string(),
        requests: bucket.counts.requests,
        visitors: survey.visitors.on(day),
        bytes: bucket.counts.bytes,
        errors: bucket.classes[4] + bucket.classes[5],
        visits: visits.get(&day).copied().unwrap_or(0),
    };
    survey.days.iter().map(day).collect()
}

fn months(days: &[DayCount]) -> Vec<MonthCount> {
    let mut months: Vec<MonthCount> = Vec::new();
    for day in days {
        let name = day.day.rsplit_once('-').map_or(&*day.day, |(month, _)| month);
        if months.last().is_none_or(|last| last.month != name) {
            let month = name.to_owned();
            months.push(MonthCount { month, requests: 0, visitors: 0, bytes: 0, errors: 0 });
        }
        if let Some(month) = months.last_mut() {
            month.requests += day.requests;
            month.visitors += day.visitors;
            month.bytes += day.bytes;
            month.errors += day.errors;
        }
    }
    months
}

fn weekdays(survey: &Survey) -> Vec<WeekdayCount> {
    let count = |((name, hours), people): ((&&str, &[Counts; 24]), &[u64; 24])| WeekdayCount {
        weekday: (*name).to_owned(),
        people: people.to_vec(),
        requests: hours.iter().map(|hour| hour.requests).sum(),
        bytes: hours.iter().map(|hour| hour.bytes).sum(),
        hours: hours.iter().map(|hour| hour.requests).collect(),
        changes: Changes::new(),
    };
    WEEKDAYS.iter().zip(&survey.week).zip(&survey.people).map(count).collect()
}

/// The name of the weekday of a day counted from 1970-01-01.
pub fn weekday_name(day: i32) -> &'static str {
    WEEKDAYS[weekday(day)]
}

fn encodings(survey: &Survey) -> Vec<EncodingCount> {
    let mut all: Vec<EncodingCount> = survey
        .encodings
        .iter()
        .map(|(name, encoded)| EncodingCount {
            encoding: name.to_string(),
            requests: encoded.counts.requests,
            bytes: encoded.counts.bytes,
            saved: encoded.before.saturating_sub(encoded.after),
            changes: Changes::new(),
        })
        .collect();
    all.sort_by(|a, b| b.requests.cmp(&a.requests).then_with(|| a.encoding.cmp(&b.encoding)));
    all
}
