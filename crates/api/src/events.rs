//! What happens: the data of server-sent events. New requests are a table.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Figures of the service, every second.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NowEvent {
    /// The present, in milliseconds since 1970 UTC.
    pub time: i64,
    /// Requests answered since the start, by all sites.
    pub answered: u64,
    /// Body bytes sent since the start, by all sites.
    pub sent: u64,
    /// Connections that are open.
    pub connections: u64,
}

/// Another configuration has come into force.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConfigurationEvent {
    /// When it was noticed, in milliseconds since 1970 UTC.
    pub time: i64,
    /// Names of its sites.
    pub sites: Vec<String>,
}
