//! The lines that were read for a report, and those that could not be.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

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
