//! The pieces of a report, as programs are given them.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A figure beside that of another period.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// The figure of the other period.
    pub before: f64,
    /// How much more it is now.
    pub difference: f64,
    /// The difference as a part of what it was before; absent where that was nothing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ratio: Option<f64>,
}

/// Figures of the other period, by the names that they have here; empty where there is none to compare with.
pub type Changes = BTreeMap<String, Change>;

/// The other period.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OtherPeriod {
    /// Its first instant (RFC 3339), where it has one.
    pub from: Option<String>,
    /// The first instant after it (RFC 3339), where there is one.
    pub until: Option<String>,
    /// First request (RFC 3339), where there is one.
    pub first: Option<String>,
    /// Last request (RFC 3339), where there is one.
    pub last: Option<String>,
    /// By day, in order.
    pub by_day: Vec<DayCount>,
    /// By hour of the day, all twenty-four.
    pub by_hour: Vec<HourCount>,
    /// Paths that have changed most between the two, whether they came, went or stayed.
    pub movers: Vec<Mover>,
}

/// A path whose requests have changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Mover {
    /// Path without query, never decoded.
    pub path: String,
    /// Requests in the other period.
    pub before: u64,
    /// Requests now.
    pub now: u64,
}

/// Measures that are counted for entries of lists only when lists are ranked by them.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Measured {
    /// Visitors.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub visitors: Option<u64>,
    /// How long the answers took together: milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time_ms: Option<f64>,
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
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Totals {
    /// Requests.
    pub requests: u64,
    /// Client addresses and agents within a day, summed over days.
    pub visitors: u64,
    /// Body bytes sent.
    pub bytes: u64,
    /// How long the answers took together, in milliseconds, where lists are ranked by that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time_ms: Option<f64>,
    /// Beside the other period.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub changes: Changes,
}

/// Requests of one class of status.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ClassCount {
    /// `1xx` … `5xx`, or `none`.
    pub class: String,
    /// Requests.
    pub requests: u64,
    /// Beside the other period.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub changes: Changes,
}

/// Requests of one status.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StatusCount {
    /// The status; 0 where the source had none.
    pub status: u16,
    /// Requests.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
    /// Beside the other period.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub changes: Changes,
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
    /// Visits of people that began.
    #[serde(default)]
    pub visits: u64,
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
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PathCount {
    /// Path without query, never decoded.
    pub path: String,
    /// Requests.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
    /// By the other measures, where they are asked for.
    #[serde(flatten)]
    pub measured: Measured,
    /// Beside the other period.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub changes: Changes,
}

/// A page that was asked for and is not there.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MissingPage {
    /// Path without query, never decoded.
    pub path: String,
    /// Requests answered 404.
    pub requests: u64,
    /// Those that named no page they came from.
    pub without_referrer: u64,
    /// Pages that link there, most requests first.
    pub referrers: Vec<ReferrerCount>,
    /// Body bytes sent.
    #[serde(default)]
    pub bytes: u64,
    /// By the other measures, where they are asked for.
    #[serde(flatten)]
    pub measured: Measured,
    /// Beside the other period.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub changes: Changes,
    /// Where the requests came from.
    #[serde(default)]
    pub origins: Origins,
}

/// Requests that came from one page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReferrerCount {
    /// The page.
    pub referrer: String,
    /// Requests.
    pub requests: u64,
    /// Whether it is a page of one's own.
    #[serde(default)]
    pub own: bool,
}

/// Requests of one client.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ClientCount {
    /// Address.
    pub client: String,
    /// Requests.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
    /// By the other measures, where they are asked for.
    #[serde(flatten)]
    pub measured: Measured,
    /// Beside the other period.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub changes: Changes,
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

/// Where requests for a missing page came from.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Origins {
    /// A link on a page of one's own.
    pub own: u64,
    /// A link on somebody else's page.
    pub others: u64,
    /// Nowhere: typed, bookmarked, or from a mail.
    pub typed: u64,
    /// Nowhere, by a program or for something that only programs try that look for a way in.
    pub probing: u64,
}

/// Requests of one month.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MonthCount {
    /// The month, as in `2026-09`.
    pub month: String,
    /// Requests.
    pub requests: u64,
    /// Client addresses and agents within a day, summed over days.
    pub visitors: u64,
    /// Body bytes sent.
    pub bytes: u64,
    /// Requests answered 4xx or 5xx.
    pub errors: u64,
}

/// Requests of one day of the week.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct WeekdayCount {
    /// Its name, as in `Monday`.
    pub weekday: String,
    /// Requests.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
    /// Requests of each hour, all twenty-four.
    pub hours: Vec<u64>,
    /// Those of people, where agents were looked at.
    #[serde(default)]
    pub people: Vec<u64>,
    /// Beside the other period.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub changes: Changes,
}

/// Answers in one content coding.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EncodingCount {
    /// Its name (RFC 9110 §8.4.1).
    pub encoding: String,
    /// Requests.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
    /// Body bytes that it saved, of those answers whose size before is known.
    pub saved: u64,
    /// Beside the other period.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub changes: Changes,
}

/// How long answers took. All zero where no source says so.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SlowReport {
    /// What takes longer is slow: milliseconds.
    pub threshold_ms: f64,
    /// Requests whose duration is known.
    pub measured: u64,
    /// Those of them that were slow.
    pub slow: u64,
    /// Half of all took no longer: milliseconds.
    pub p50_ms: f64,
    /// Nine in ten took no longer: milliseconds.
    pub p90_ms: f64,
    /// Ninety-nine in a hundred took no longer: milliseconds.
    pub p99_ms: f64,
    /// Paths with slow requests, most of those first; where there are none, those with the longest ninth tenth.
    pub paths: Vec<SlowPath>,
    /// The minutes with most slow requests.
    pub minutes: Vec<SlowMinute>,
    /// Beside the other period.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub changes: Changes,
}

/// How long answers for one path took.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SlowPath {
    /// Path without query, never decoded.
    pub path: String,
    /// Requests whose duration is known.
    pub requests: u64,
    /// Those of them that were slow.
    pub slow: u64,
    /// Half of all took no longer: milliseconds.
    pub p50_ms: f64,
    /// Nine in ten took no longer: milliseconds.
    pub p90_ms: f64,
    /// Ninety-nine in a hundred took no longer: milliseconds.
    pub p99_ms: f64,
    /// All of them together: milliseconds.
    pub total_ms: f64,
    /// Beside the other period.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub changes: Changes,
}

/// Slow requests of one minute.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SlowMinute {
    /// Its beginning (RFC 3339).
    pub minute: String,
    /// Slow requests.
    pub slow: u64,
}
