//! What was different before: for a burst of errors or slowness, what was over-represented in it and in the minutes before,
//! against the same hours on other days.
//!
//! A log is read twice. The first time, [`Minutes`] finds the bursts; the second time, [`Tallies`] counts who and what was
//! there in each, before it, and usually; [`preludes`] turns that into a few ranked sentences.
//!
//! - [`minutes`]: requests by minute, and the bursts among them
//! - [`tallies`]: what was there in the windows around bursts
//! - [`sentences`]: what is surprising about that
//!
//! ```
//! use exedra_common::{Dictionaries, RequestBatch};
//! use exedra_reading::logs::{Layout, LineReader};
//! use exedra_reading::prelude::{Minutes, Tallies, Trouble, preludes};
//! use jiff::tz::TimeZone;
//! let line = |minute: u32, status: u32| {
//!     format!("192.0.2.{minute} - - [14/Nov/2026:05:{minute:02}:00 +0000] \"GET /tides HTTP/1.1\" {status} 5\n")
//! };
//! let calm = (0..50).map(|minute| line(minute, 200));
//! let storm = (0..40).map(|_| line(55, 500));
//! let log: String = calm.chain(storm).collect();
//! let mut reader = LineReader::new(&Layout::all_named(), exedra_common::Projection::everything());
//! let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
//! reader.read_block(log.as_bytes(), 0, &mut 0, &mut batch, &mut texts);
//! let trouble = Trouble::understand("5xx", 0).unwrap();
//! let mut minutes = Minutes::default();
//! (0..batch.rows()).for_each(|row| minutes.add(&batch, row, trouble));
//! let bursts = minutes.bursts(3, &TimeZone::UTC);
//! assert_eq!((bursts.len(), bursts[0].troubled), (1, 40));
//! let mut tallies = Tallies::new(&bursts, trouble, minutes.span().unwrap(), &TimeZone::UTC, &[]);
//! (0..batch.rows()).for_each(|row| tallies.add(&batch, row, &texts));
//! let told = preludes(bursts, &tallies, trouble, false);
//! assert!(told[0].evidence.iter().any(|one| one.value == "192.0.2.55"));
//! ```

pub mod minutes;
pub mod sentences;
pub mod tallies;

pub use minutes::{Burst, Minutes};
pub use sentences::{Evidence, Prelude, preludes};
pub use tallies::Tallies;

use exedra_common::scope::period;
use exedra_common::{NumberColumn, RequestBatch};
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};
use thiserror::Error;
use utoipa::ToSchema;

/// Milliseconds in a minute.
pub const MINUTE: i64 = 60_000;
/// How many minutes before a burst are looked at.
pub const BEFORE: i64 = 10;

/// How many bursts are told, where nobody asked for a number.
pub const USUAL_BURSTS: usize = 3;

/// The preludes of some bursts, as programs are given them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Preludes {
    /// What makes a burst, in words.
    pub trouble: String,
    /// Name of the zone whose days and hours these are.
    pub time_zone: String,
    /// The bursts, the most surprising first.
    pub bursts: Vec<Prelude>,
}

/// What no prelude can be of.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct WrongBurst(String);

/// Which requests make a burst.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trouble {
    /// Those with a status of this class: 4 or 5.
    Class(u16),
    /// Those with this status.
    Status(u16),
    /// Those that took longer than so many microseconds.
    Slow(u64),
    /// All of them.
    Any,
}

impl Trouble {
    /// Understands `5xx`, `404` or `slow` (longer than so many microseconds).
    pub fn understand(text: &str, slow: u64) -> Option<Trouble> {
        match text {
            "slow" => Some(Trouble::Slow(slow)),
            "all" => Some(Trouble::Any),
            "1xx" | "2xx" | "3xx" | "4xx" | "5xx" => text[..1].parse().ok().map(Trouble::Class),
            status => status.parse().ok().filter(|status| (100..1000).contains(status)).map(Trouble::Status),
        }
    }

    /// Understands the same, or a stretch of time as in `2026-09-14T10:00..2026-09-14T10:20`, which is then given in minutes since
    /// 1970 UTC.
    pub fn with_stretch(
        text: &str,
        slow: u64,
        zone: &TimeZone,
    ) -> Result<(Trouble, Option<(i64, i64)>), WrongBurst> {
        if let Some(trouble) = Trouble::understand(text, slow) {
            return Ok((trouble, None));
        }
        let Some((from, until)) = text.split_once("..") else {
            return Err(WrongBurst(format!(
                "`{text}` is nothing that a prelude can be of: write 5xx, 4xx, a status as 404, slow, all, or a stretch of time as in \
                 2026-09-14T10:00..2026-09-14T10:20"
            )));
        };
        let minute = |text: &str| {
            let instant = period::instant(text.trim(), zone);
            instant.map(|instant| instant.div_euclid(MINUTE)).map_err(|error| WrongBurst(error.to_string()))
        };
        let (from, until) = (minute(from)?, minute(until)?);
        match from < until {
            true => Ok((Trouble::Any, Some((from, until)))),
            false => Err(WrongBurst(format!("`{text}` is no stretch of time: it ends before it begins"))),
        }
    }

    /// Whether a request is one of them.
    pub fn is(self, batch: &RequestBatch, row: usize) -> bool {
        match self {
            Trouble::Class(class) => {
                batch.number(NumberColumn::Status, row).is_some_and(|status| status / 100 == u64::from(class))
            }
            Trouble::Status(status) => batch.number(NumberColumn::Status, row) == Some(status.into()),
            Trouble::Slow(limit) => {
                batch.number(NumberColumn::Duration, row).is_some_and(|taken| taken > limit)
            }
            Trouble::Any => true,
        }
    }

    /// What such requests are called.
    pub fn words(self) -> String {
        match self {
            Trouble::Class(class) => format!("requests answered {class}xx"),
            Trouble::Status(status) => format!("requests answered {status}"),
            Trouble::Slow(limit) => format!("requests that took over {} ms", limit as f64 / 1000.0),
            Trouble::Any => "requests".to_owned(),
        }
    }
}
