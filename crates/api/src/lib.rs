//! The wire types of the console's API, shared by the service that answers and the clients that ask.
//!
//! Surveys travel in the form of [`exedra_reading::survey::Report`], which the client also prints.

pub mod accounts;
pub mod alerts;
pub mod allowances;
pub mod configuration;
pub mod events;
pub mod explaining;
pub mod findings;
pub mod imports;
pub mod messages;
pub mod publications;
pub mod queries;
pub mod rehearsals;
pub mod schedules;
pub mod sites;

use exedra_common::tables::{Table, TableWire};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How the service is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// Version of the program.
    pub version: String,
    /// When it started (RFC 3339).
    pub started: String,
    /// Name of the zone whose days and hours the console shows.
    pub time_zone: String,
    /// Addresses on which sites answer.
    pub listeners: Vec<String>,
    /// Requests answered since the start.
    pub answered: u64,
    /// Body bytes sent since the start.
    pub sent: u64,
    /// Connections that are open.
    pub connections: u64,
    /// How many may be.
    pub most_connections: u64,
    /// Files that are open to be sent.
    pub files: u64,
    /// How many may be.
    pub most_files: u64,
    /// What is wrong with what the service keeps, with what to do about it.
    pub troubles: Vec<String>,
    /// The sites, in the order of the configuration.
    pub sites: Vec<SiteStatus>,
    /// The log of what no site answers: unknown hosts, and what was no request.
    pub no_site: Option<LogStatus>,
    /// The log of errors.
    pub errors: LogStatus,
    /// What is recorded of the sites that may be seen.
    pub records: RecordsStatus,
}

/// What is recorded.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RecordsStatus {
    /// Requests that are kept one by one.
    pub requests: u64,
    /// The first of them (RFC 3339), where there is one.
    pub first: Option<String>,
    /// Segments that they are in; those of the last seconds are in none yet.
    pub segments: u64,
    /// Surveys of closed days and months that are kept.
    pub kept_surveys: u64,
}

/// How a site is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SiteStatus {
    /// Its name.
    pub name: String,
    /// Host names it answers to.
    pub hosts: Vec<String>,
    /// The one host name it is known by.
    pub main_host: Option<String>,
    /// Its folder, where it has one.
    pub folder: Option<String>,
    /// Its access log, where it has one.
    pub log: Option<LogStatus>,
}

/// How a log is, all its files together.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LogStatus {
    /// The file that is being written.
    pub file: String,
    /// Requests that are in the records.
    pub recorded: u64,
    /// Lines that could not be read.
    pub unread: u64,
    /// Octets that are not in the records yet.
    pub lag: u64,
    /// Lines that were lost since the start because they could not be written.
    pub lost: u64,
    /// Why lines cannot be written at the moment, if they cannot.
    pub trouble: Option<String>,
}

/// Whether the service is well.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Health {
    /// Whether it is.
    pub state: HealthState,
    /// How many things are wrong.
    pub troubles: u64,
}

/// Whether the service is well.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum HealthState {
    /// Nothing is known to be wrong.
    Well,
    /// Sites are answered; something else needs somebody to look.
    Attention,
}

/// Something that goes on in the background.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Job {
    /// What it is called.
    pub name: String,
    /// When it began (RFC 3339).
    pub since: String,
    /// What it is at, where it says so.
    pub doing: Option<String>,
    /// How often it failed and was begun again.
    pub failures: u64,
    /// What was said when it failed last.
    pub last_failure: Option<String>,
}

/// What is going on.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Now {
    /// The present, in milliseconds since 1970 UTC.
    pub time: i64,
    /// Requests answered since the start, by all sites.
    pub answered: u64,
    /// Body bytes sent since the start, by all sites.
    pub sent: u64,
    /// The last hour by minutes; empty minutes are left out.
    #[schema(value_type = TableWire)]
    pub minutes: Table,
    /// The last hour together.
    #[schema(value_type = TableWire)]
    pub totals: Table,
    /// The last hour by class of status.
    #[schema(value_type = TableWire)]
    pub classes: Table,
    /// Who made most requests in the last hour.
    #[schema(value_type = TableWire)]
    pub clients: Table,
    /// The last requests, newest first.
    #[schema(value_type = TableWire)]
    pub latest: Table,
}

/// Requests over time.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Series {
    /// Name of the zone whose days and hours these are.
    pub time_zone: String,
    /// A row for each minute, hour or day with requests, in order.
    #[schema(value_type = TableWire)]
    pub table: Table,
    /// What is not exact, and what cannot be known.
    pub caveats: Vec<String>,
}

/// Single requests.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Requests {
    /// Name of the zone in which people are told times.
    pub time_zone: String,
    /// They.
    #[schema(value_type = TableWire)]
    pub table: Table,
    /// How many fit, given or not.
    pub fitting: u64,
    /// How many were looked at, and those that need not be.
    pub tried: u64,
    /// How many of the first were left out.
    pub skipped: u64,
    /// The identity of the last event about requests by then: with it as `Last-Event-ID`, `events` goes on exactly behind these.
    pub last_event: String,
}

/// What went wrong, and why: from the log of errors.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Errors {
    /// Name of the zone in which people are told times.
    pub time_zone: String,
    /// Those that are the same but for when and for whom are one row; the most frequent first.
    #[schema(value_type = TableWire)]
    pub table: Table,
    /// How many errors were looked at: no more than the last so many of the scope are.
    pub looked_at: u64,
}

/// A column of logs, as filters know it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LogColumn {
    /// Its name.
    pub name: String,
    /// What kind of values it has.
    pub kind: exedra_common::columns::Kind,
    /// What it means.
    pub meaning: String,
    /// The only values it has; empty where there may be any.
    pub values: Vec<String>,
    /// A filter on it, as an example.
    pub example: String,
}

/// Somewhere that requests are read from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Source {
    /// The site that its requests went to; `no_site` for those that no site answers.
    pub site: String,
    /// Its name.
    pub name: String,
    /// The machine that wrote it, where it was imported under one's name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server: Option<String>,
    /// What it is.
    pub kind: SourceKind,
    /// Whether more is written to it.
    pub is_written: bool,
    /// Octets of it that were read, before compression.
    pub octets: u64,
    /// Requests that were read from it.
    pub requests: u64,
    /// Lines of it that could not be read.
    pub unread: u64,
    /// Octets of it that were not read yet.
    pub lag: u64,
    /// Whether some of what was read of it has been damaged since.
    pub incomplete: bool,
}

/// What a source is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum SourceKind {
    /// A file of a site's own log.
    Log,
    /// A log of elsewhere, which was imported.
    Import,
}

/// What went wrong with a call (RFC 9457).
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// Status of the answer.
    pub status: u16,
    /// What went wrong.
    pub title: String,
    /// Where, and what instead.
    pub detail: String,
    /// The same of a statement, with its place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mistake: Option<queries::Mistake>,
}
