//! A changed configuration rehearsed: recorded requests run through it and through the one in force.

use crate::configuration::DraftFile;
use crate::sites::ConfigDiagnostic;
use exedra_acting::rehearsal::RehearsalOutcome;
use exedra_common::tables::{Table, TableWire};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is to be rehearsed.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct NewRehearsal {
    /// The files that are to differ; none, and the configuration's files are taken as they are on the disk.
    #[serde(default)]
    pub files: Vec<DraftFile>,
    /// The text that stands for the configuration's main file, whatever that is called; goes before `files`.
    #[serde(default)]
    pub main: Option<String>,
    /// What the file is called whose text that is, for whoever is told of places in it.
    #[serde(default)]
    pub called: Option<String>,
}

/// What came of it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Rehearsed {
    /// What it is known by to whoever publishes the same change.
    pub id: String,
    /// Whether the changed configuration could come into force; where not, nothing was run.
    pub is_sound: bool,
    /// What is wrong with it, or worth knowing.
    pub found: Vec<ConfigDiagnostic>,
    /// The first instant that was looked at (RFC 3339).
    pub from: Option<String>,
    /// The first one that no longer was.
    pub until: Option<String>,
    /// The zone in which people are told times.
    pub time_zone: String,
    /// How long it took, in milliseconds.
    pub took_ms: f64,
    /// Whether somebody would be worse off.
    pub is_worse: bool,
    /// What came of it.
    pub outcome: RehearsalOutcome,
    /// What would be different.
    #[schema(value_type = TableWire)]
    pub table: Table,
    /// Of what nobody can tell.
    #[schema(value_type = TableWire)]
    pub unsure: Table,
}
