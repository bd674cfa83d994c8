//! What lists are ranked by.
//!
//! ```
//! use exedra_reading::survey::Measure;
//! assert_eq!(serde_json::from_str::<Measure>("\"bytes\"").unwrap(), Measure::Bytes);
//! assert_eq!(Measure::Time.figure(), "time_ms");
//! ```

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What lists are ranked by. Visitors and time are counted for entries of lists only when they are asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Measure {
    /// How often.
    #[default]
    Requests,
    /// By how many: one client and agent within one day.
    Visitors,
    /// How much was sent.
    Bytes,
    /// How long it took to answer, all together.
    Time,
}

impl Measure {
    /// The name that reports give the figure of an entry, and its change.
    pub fn figure(self) -> &'static str {
        match self {
            Measure::Requests => "requests",
            Measure::Visitors => "visitors",
            Measure::Bytes => "bytes",
            Measure::Time => "time_ms",
        }
    }
}
