//! Changes that were published: who and why, how they went, and what became of them.

use exedra_acting::rehearsal::RehearsalOutcome;
use exedra_common::tables::{Table, TableWire};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A change that was published.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Publication {
    /// The revision that came into force.
    pub revision: i32,
    /// When (RFC 3339).
    pub made: String,
    /// By whom.
    pub made_by: String,
    /// Why.
    pub reason: String,
    /// The revision that was in force before.
    pub before: i32,
    /// How it went in its first minutes: `watched`, `well`, `failing`, `taken back`, or `not watched` where it was not rehearsed.
    pub state: String,
    /// The same in words.
    pub said: String,
    /// Whether it is what is in force now.
    pub in_force: bool,
    /// What its rehearsal promised, in words; absent where it was not rehearsed.
    pub promised: Option<String>,
}

/// What became of a published change.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PublicationEffect {
    /// The change.
    pub publication: Publication,
    /// What its rehearsal promised; absent where it was not rehearsed.
    pub promised: Option<RehearsalOutcome>,
    /// Before and after, for what it touched.
    #[schema(value_type = TableWire)]
    pub table: Table,
}
