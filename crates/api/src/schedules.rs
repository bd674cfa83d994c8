//! Reports that are made by themselves.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A report that is made by itself, as it is configured.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ScheduledReport {
    /// Its name.
    pub name: String,
    /// When it is made, in the words of the configuration.
    pub every: String,
    /// Which days it is about, in the words of the configuration.
    pub of: String,
    /// Which requests of them, as filters.
    pub scope: Vec<String>,
    /// Whether addresses are cut to their networks.
    pub masked: bool,
    /// The recipients that are sent it.
    pub tell: Vec<String>,
    /// The folder that a copy is put into.
    pub folder: Option<String>,
    /// When it is made next (RFC 3339).
    pub next: Option<String>,
}

/// A report that was made, or was to be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReportRun {
    /// Its number; later ones have greater ones.
    pub number: i32,
    /// The report.
    pub report: String,
    /// When it was to be made (RFC 3339).
    pub due: String,
    /// When it was (RFC 3339).
    pub made: String,
    /// What it is about, as in 2026-09-14..2026-09-21.
    pub days: String,
    /// It, in some lines.
    pub summary: String,
    /// Whether its file is kept.
    pub is_kept: bool,
    /// How large that is, in octets.
    pub octets: u64,
    /// Why it could not be made.
    pub failure: Option<String>,
    /// Who wanted it at once; absent where it was its time.
    pub made_by: Option<String>,
}
