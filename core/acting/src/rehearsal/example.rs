//! A path that is answered otherwise by another configuration, and how.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A path, and how it is answered by both.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[schema(as = RehearsalExample)]
pub struct Example {
    /// Path and query, as it was asked for.
    pub path: String,
    /// How it is answered now.
    pub before: String,
    /// How it would be answered.
    pub after: String,
    /// Requests.
    pub requests: u64,
}
