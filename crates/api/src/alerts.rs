//! What is watched, and what it would have said of the past.

use exedra_common::tables::{Table, TableWire};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An alert, and how it is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AlertState {
    /// Its name.
    pub name: String,
    /// Its condition in words.
    pub condition: String,
    /// Which requests it is about, as filters.
    pub scope: Vec<String>,
    /// Which of them its condition is about, as filters.
    pub of: Vec<String>,
    /// Since when it is raised (RFC 3339); absent where it is not.
    pub raised_since: Option<String>,
    /// The figure of the last whole minute, in words.
    pub figure: String,
    /// The client that the figure is of, where it is of one.
    pub client: Option<String>,
    /// How often it was raised within the last 24 hours.
    pub times: u64,
    /// The recipients that are told of it.
    pub tell: Vec<String>,
    /// Who has seen that it is raised.
    pub seen_by: Option<String>,
    /// Who has silenced it, where somebody has.
    pub silence: Option<AlertSilence>,
}

/// An alert of which nobody is told for a while.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AlertSilence {
    /// When that ends (RFC 3339).
    pub until: String,
    /// Who said so.
    pub by: String,
    /// Why.
    pub reason: String,
}

/// That an alert is to be silenced.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSilence {
    /// For how long, as in `2 hours`: 90 days at most.
    pub time: String,
    /// Why.
    #[serde(default)]
    pub reason: String,
}

/// A stretch of time for which an alert was raised.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PastAlert {
    /// Its number; later ones have greater ones.
    pub number: i32,
    /// The alert.
    pub alert: String,
    /// When it was raised (RFC 3339).
    pub began: String,
    /// When it was over (RFC 3339); absent while it goes on.
    pub ended: Option<String>,
    /// The figure that was furthest beyond the bound, in words.
    pub figure: String,
    /// The client that had it, where it is about one.
    pub client: Option<String>,
}

/// An alert that is to be written, or tried before: texts as they stand in a configuration.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAlert {
    /// What it is called.
    pub name: String,
    /// Filters: which requests it is about.
    #[serde(default)]
    pub scope: Vec<String>,
    /// The figure: `share`, `number`, `transfer`, `one_client` or `duration`.
    pub figure: String,
    /// The filter that requests fit which the figure is of, or `all`.
    pub of: String,
    /// `over` or `under`.
    pub bound: String,
    /// The bound itself, as in `2 %` or `5`.
    pub value: String,
    /// Of which stretch the requests are, as in `5 minutes`.
    pub of_last: String,
    /// With fewer requests it does not hold.
    #[serde(default)]
    pub requests: u64,
    /// How long it must hold; at once where that is empty.
    #[serde(default)]
    pub holds: String,
    /// Who is told.
    #[serde(default)]
    pub tell: Vec<String>,
}

/// When an alert would have been raised.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AlertTrial {
    /// Name of the zone in which people are told times.
    pub time_zone: String,
    /// Its name.
    pub name: String,
    /// Its condition in words.
    pub condition: String,
    /// First instant that was looked at, and the first that was not, in milliseconds since 1970 UTC.
    pub stretch: (i64, i64),
    /// Requests of its scope that there were.
    pub requests: u64,
    /// When, for how long, and how far beyond its bound.
    #[schema(value_type = TableWire)]
    pub table: Table,
}
