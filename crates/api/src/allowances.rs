//! What was sent this month, what is expected, and what may be.

use exedra_common::tables::{Table, TableWire};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Transfer of the month that goes on.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Allowances {
    /// Name of the zone whose days these are.
    pub time_zone: String,
    /// The month, as in `2026-09`.
    pub month: String,
    /// All sites that were asked for together, and then each of them that has an allowance of its own.
    pub of: Vec<MonthTransfer>,
}

/// Transfer of some sites in a month.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MonthTransfer {
    /// The site; absent where it is all that were asked for.
    pub site: Option<String>,
    /// Octets that may be sent, where that is configured.
    pub allowance: Option<u64>,
    /// Octets sent since the month began.
    pub sent: u64,
    /// What is expected; absent where too few days are known.
    pub forecast: Option<TransferForecast>,
    /// By day, from the first of the month: what was sent by its end, and what is expected to have been.
    #[schema(value_type = TableWire)]
    pub days: Table,
}

/// What is expected to have been sent when a month ends.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TransferForecast {
    /// Octets.
    pub expected: u64,
    /// Nine out of ten times it is between this and `most`.
    pub least: u64,
    /// See `least`.
    pub most: u64,
    /// The day on which the allowance runs out, as expected; absent where it lasts, or there is none.
    pub runs_out: Option<String>,
    /// The earliest such day that nine out of ten times hold.
    pub earliest: Option<String>,
    /// The latest.
    pub latest: Option<String>,
    /// How many days it is guessed from.
    pub from_days: u64,
}
