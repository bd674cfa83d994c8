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
