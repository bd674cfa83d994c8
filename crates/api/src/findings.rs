//! What deserves attention, and what to do about it.

use exedra_acting::findings::Finding;
use exedra_acting::remedy::DifferenceLine;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What deserves attention.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Findings {
    /// The first instant that was looked at (RFC 3339).
    pub from: Option<String>,
    /// The first one that no longer was.
    pub until: Option<String>,
    /// The zone in which people are told times.
    pub time_zone: String,
    /// Requests that were looked at.
    pub requests: u64,
    /// How long it took, in milliseconds.
    pub took_ms: f64,
    /// What was found, the weightiest first.
    pub findings: Vec<Finding>,
    /// How many further ones weigh too little to be told.
    pub below: u64,
    /// What is set aside, and was found.
    pub set_aside: Vec<SetAsideFinding>,
    /// What the figures cannot say, in sentences.
    pub caveats: Vec<String>,
}

/// A finding that somebody has set aside.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SetAsideFinding {
    /// What it is known by.
    pub id: String,
    /// Its site.
    pub site: String,
    /// What was found, as it was then.
    pub title: String,
    /// Why it is set aside.
    pub reason: String,
    /// When (RFC 3339).
    pub made: String,
    /// By whom.
    pub made_by: String,
    /// Until when, in words.
    pub until: String,
    /// Whether it is still found.
    pub is_found: bool,
}

/// A finding that is to be set aside.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NewSetAside {
    /// Why.
    pub reason: String,
    /// For how long, as in `30 days`; without it, for good.
    #[serde(default)]
    pub time: Option<String>,
    /// Whether it comes back when it weighs twice as much.
    #[serde(default)]
    pub until_doubled: bool,
    /// What was found, as it is told.
    #[serde(default)]
    pub title: String,
    /// Its site.
    #[serde(default)]
    pub site: String,
    /// What it weighs now.
    #[serde(default)]
    pub weight: f64,
}

/// Findings whose remedies are wanted.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WantedRemedies {
    /// What the findings are known by.
    pub findings: Vec<String>,
}

/// Remedies written into the configuration's files. Nothing is saved.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Remedies {
    /// What they do, in words.
    pub words: Vec<String>,
    /// The files that differ.
    pub files: Vec<RemediedFile>,
}

/// A file with remedies written into it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RemediedFile {
    /// Its name.
    pub name: String,
    /// Its whole text.
    pub text: String,
    /// The version that this was made from: sent back with a change, so that nobody's change is lost.
    pub version: String,
    /// Whether it is the configuration's main file.
    pub is_main: bool,
    /// What differs.
    pub difference: Vec<DifferenceLine>,
}
