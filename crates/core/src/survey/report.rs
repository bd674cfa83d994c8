//! A survey in the form that people and programs are given: ranked, cut to length, with shares.
//!
//! The client's JSON, the API and the text report are all this one form, so their figures cannot differ.

use super::calendar::date_of;
use super::lists::{Apart, Lists, RankedList, VisitFigures};
use super::ranking::{Counts, Ranking};
use super::surveyor::{Bucket, Survey, SurveyPlan};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// How a survey is to be shown.
#[derive(Debug, Clone)]
pub struct ReportOptions {
    /// Length of every ranked list.
    pub top: usize,
    /// Referrers beside each missing page.
    pub referrers: usize,
    /// Hosts of the sites themselves, where they are known.
    pub own_hosts: Vec<String>,
}

impl Default for ReportOptions {
    fn default() -> Self {
        ReportOptions { top: 1000, referrers: 20, own_hosts: Vec::new() }
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
    /// Lines that were read for it; absent where it was made from records.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lines: Option<Lines>,
    /// Everything together.
    pub totals: Totals,
    /// By class of status.
    pub by_class: Vec<ClassCount>,
    /// By status, in order.
    pub by_status: Vec<StatusCount>,
    /// By day, in order; days without a request are left out.
    pub by_day: Vec<DayCount>,
    /// By hour of the day, all twenty-four.
    pub by_hour: Vec<HourCount>,
    /// By bucket, in order, where a timeline was asked for; empty buckets are left out.
    pub timeline: Vec<TimeCount>,
    /// Paths by requests.
    pub paths: Vec<PathCount>,
    /// Missing pages by requests.
    pub missing: Vec<MissingPage>,
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
    /// What the lists leave out.
    pub rest: BTreeMap<String, Rest>,
    /// What is not exact, and by how much.
    pub caveats: Vec<String>,
}

/// Lines of a source.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Lines {
    /// Lines that became requests.
    pub read: u64,
    /// Lines that did not.
    pub unread: u64,
    /// Why not, most frequent first.
    pub reasons: Vec<UnreadReason>,
}

/// Lines unread for one reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct UnreadReason {
    /// What was wrong.
    pub reason: String,
    /// How many lines.
    pub lines: u64,
    /// The first of them.
    pub examples: Vec<UnreadLine>,
}

/// One unread line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct UnreadLine {
    /// Name of the source.
    pub source: String,
    /// Its number there, from 1.
    pub line: u64,
    /// The column where reading stopped, from 1.
    pub column: u64,
    /// The line or its beginning.
    pub text: String,
}

/// Everything together.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Totals {
    /// Requests.
    pub requests: u64,
    /// Client addresses and agents within a day, summed over days.
    pub visitors: u64,
    /// Body bytes sent.
    pub bytes: u64,
}

/// Requests of one class of status.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ClassCount {
    /// `1xx` … `5xx`, or `none`.
    pub class: String,
    /// Requests.
    pub requests: u64,
}

/// Requests of one status.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StatusCount {
    /// The status; 0 where the source had none.
    pub status: u16,
    /// Requests.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
}

/// Requests of one day.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DayCount {
    /// The date, as in `2026-09-14`.
    pub day: String,
    /// Requests.
    pub requests: u64,
    /// Client addresses and agents.
    pub visitors: u64,
    /// Body bytes sent.
    pub bytes: u64,
    /// Requests answered 4xx or 5xx.
    pub errors: u64,
}

/// Requests of one hour of the day.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HourCount {
    /// 0–23.
    pub hour: u8,
    /// Requests.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
}

/// Requests of one stretch of time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TimeCount {
    /// Its first millisecond since 1970 UTC.
    pub time: i64,
    /// Requests.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
    /// Requests by the first digit of their status, 1–5; the first place holds those without one.
    pub classes: Vec<u64>,
}

/// Requests of one path.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PathCount {
    /// Path without query, never decoded.
    pub path: String,
    /// Requests.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
}

/// A page that was asked for and is not there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MissingPage {
    /// Path without query, never decoded.
    pub path: String,
    /// Requests answered 404.
    pub requests: u64,
    /// Those that named no page they came from.
    pub without_referrer: u64,
    /// Pages that link there, most requests first.
    pub referrers: Vec<ReferrerCount>,
}

/// Requests that came from one page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReferrerCount {
    /// The page.
    pub referrer: String,
    /// Requests.
    pub requests: u64,
}

/// Requests of one client.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ClientCount {
    /// Address.
    pub client: String,
    /// Requests.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
}

/// What a list leaves out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Rest {
    /// How many entries.
    pub entries: u64,
    /// Their requests.
    pub requests: u64,
    /// Their body bytes.
    pub bytes: u64,
}

impl SurveyReport {
    /// Ranks and cuts a survey that was made by a plan.
    pub fn new(survey: &Survey, plan: &SurveyPlan, options: &ReportOptions) -> SurveyReport {
        let mut rest = BTreeMap::new();
        let mut caveats = Vec::new();
        let stamp = |time: i64| jiff::Timestamp::from_millisecond(time).unwrap_or_default().to_string();
        let paths = cut("paths", &survey.paths, options.top, &mut rest, &mut caveats);
        let clients = cut("clients", &survey.clients, options.top, &mut rest, &mut caveats);
        let error = survey.visitors.error();
        if error > 0.0 {
            caveats
                .push(format!("visitors are estimated from a sample; standard error {:.2} %", error * 100.0));
        }
        let weight = survey.visits.weight();
        if weight > 1 {
            caveats.push(format!("visits are estimated from one visitor in {weight}"));
        }
        let Lists { lists, apart, visits, own_hosts } = Lists::of(survey, &options.own_hosts, options.top);
        SurveyReport {
            version: 2,
            apart,
            visits,
            lists,
            own_hosts,
            time_zone: plan.zone.iana_name().unwrap_or("UTC").to_owned(),
            first: survey.span.map(|(first, _)| stamp(first)),
            last: survey.span.map(|(_, last)| stamp(last)),
            lines: None,
            totals: Totals {
                requests: survey.total.counts.requests,
                visitors: survey.visitors.total(),
                bytes: survey.total.counts.bytes,
            },
            by_class: classes(&survey.total),
            by_status: survey
                .statuses
                .iter()
                .map(|(&status, counts)| StatusCount {
                    status,
                    requests: counts.requests,
                    bytes: counts.bytes,
                })
                .collect(),
            by_day: survey
                .days
                .iter()
                .map(|(&day, bucket)| DayCount {
                    day: date_of(day).to_string(),
                    requests: bucket.counts.requests,
                    visitors: survey.visitors.on(day),
                    bytes: bucket.counts.bytes,
                    errors: bucket.classes[4] + bucket.classes[5],
                })
                .collect(),
            by_hour: (0u8..)
                .zip(&survey.hours)
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
            paths: paths
                .into_iter()
                .map(|(path, counts)| PathCount { path, requests: counts.requests, bytes: counts.bytes })
                .collect(),
            missing: missing(survey, options, &mut rest, &mut caveats),
            clients: clients
                .into_iter()
                .map(|(client, counts)| ClientCount {
                    client,
                    requests: counts.requests,
                    bytes: counts.bytes,
                })
                .collect(),
            rest,
            caveats,
        }
    }
}

fn classes(bucket: &Bucket) -> Vec<ClassCount> {
    let names = ["none", "1xx", "2xx", "3xx", "4xx", "5xx"];
    let class = |(name, &requests): (&&str, &u64)| ClassCount { class: (*name).to_owned(), requests };
    names.iter().zip(&bucket.classes).map(class).filter(|class| class.requests > 0).collect()
}

fn cut(
    name: &str,
    ranking: &Ranking<Box<str>>,
    top: usize,
    rest: &mut BTreeMap<String, Rest>,
    caveats: &mut Vec<String>,
) -> Vec<(String, Counts)> {
    let entries = ranking.by_requests();
    leave_out(name, entries.iter().skip(top).map(|entry| entry.1), ranking.let_go(), rest, caveats);
    entries.into_iter().take(top).map(|(text, counts)| (text.to_string(), counts)).collect()
}

fn leave_out(
    name: &str,
    beyond: impl Iterator<Item = Counts>,
    let_go: Counts,
    rest: &mut BTreeMap<String, Rest>,
    caveats: &mut Vec<String>,
) {
    let mut left = Rest { entries: 0, requests: let_go.requests, bytes: let_go.bytes };
    for counts in beyond {
        left.entries += 1;
        left.requests += counts.requests;
        left.bytes += counts.bytes;
    }
    if left.requests > 0 {
        rest.insert(name.to_owned(), left);
    }
    if let_go.requests > 0 {
        caveats.push(format!(
            "{name}: too many different ones to keep; {} requests of rare ones are counted only in the rest",
            let_go.requests
        ));
    }
}

fn missing(
    survey: &Survey,
    options: &ReportOptions,
    rest: &mut BTreeMap<String, Rest>,
    caveats: &mut Vec<String>,
) -> Vec<MissingPage> {
    let mut pages: BTreeMap<&str, (Counts, MissingPage)> = BTreeMap::new();
    for (key, counts) in survey.missing.by_requests() {
        let (path, referrer) = (&*key.0, &*key.1);
        let (total, page) = pages.entry(path).or_insert_with(|| {
            let page = MissingPage {
                path: path.to_owned(),
                requests: 0,
                without_referrer: 0,
                referrers: Vec::new(),
            };
            (Counts::default(), page)
        });
        total.merge(counts);
        page.requests += counts.requests;
        if referrer.is_empty() {
            page.without_referrer += counts.requests;
        } else if page.referrers.len() < options.referrers {
            page.referrers.push(ReferrerCount { referrer: referrer.to_owned(), requests: counts.requests });
        }
    }
    let mut pages: Vec<(Counts, MissingPage)> = pages.into_values().collect();
    pages.sort_by(|a, b| b.1.requests.cmp(&a.1.requests).then_with(|| a.1.path.cmp(&b.1.path)));
    leave_out(
        "missing",
        pages.iter().skip(options.top).map(|page| page.0),
        survey.missing.let_go(),
        rest,
        caveats,
    );
    pages.into_iter().take(options.top).map(|(_, page)| page).collect()
}
