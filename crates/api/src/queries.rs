//! Statements asked of the records, and statements that are kept.

use exedra_common::tables::chart::Chart;
use exedra_common::tables::{Table, TableWire};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A statement that is asked.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct QueryQuestion {
    /// One select over the table `requests`.
    pub statement: String,
    /// Values for its `:name`s.
    #[serde(default)]
    pub parameters: BTreeMap<String, String>,
    /// How many rows at most; 1,000 unless said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most: Option<u64>,
    /// Whether addresses are cut to their networks, and names of users left out.
    #[serde(default)]
    pub mask: bool,
    /// A name for this question, by which it can be asked how far it has come.
    #[serde(default)]
    pub id: String,
}

/// What a statement is answered.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct QueryAnswer {
    /// The rows.
    #[schema(value_type = TableWire)]
    pub table: Table,
    /// Whether there are more rows than were asked for.
    pub has_more: bool,
    /// The charts that the table makes, the one that fits best first.
    pub charts: Vec<Chart>,
    /// Requests that were read for it.
    pub read: u64,
    /// How long that took, in milliseconds.
    pub took: u64,
    /// Name of the zone whose days and hours its times are told in.
    pub time_zone: String,
}

/// How far a question has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct QueryProgress {
    /// Requests that were read for it.
    pub read: u64,
    /// How many there are to read, at most.
    pub of: u64,
}

/// What is wrong with a statement.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Mistake {
    /// What is wrong, in one sentence.
    pub what: String,
    /// What to write instead.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub instead: Option<String>,
    /// Where, where that is one place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<TextRange>,
}

/// A place in a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TextRange {
    /// Its first letter, counted from 0 in UTF-16 as browsers do.
    pub from: u64,
    /// The letter behind its last.
    pub until: u64,
}

/// A function of statements.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct QueryFunction {
    /// Its name.
    pub name: String,
    /// How it is written.
    pub usage: String,
    /// What it gives.
    pub meaning: String,
    /// A statement with it.
    pub example: String,
}

/// A statement with a name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NamedQuery {
    /// Its name.
    pub name: String,
    /// The question that it answers.
    #[serde(default)]
    pub question: String,
    /// The statement.
    pub statement: String,
    /// Usual values of its `:name`s.
    #[serde(default)]
    pub parameters: BTreeMap<String, String>,
    /// Who kept it; nobody where it came with the program.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
}
