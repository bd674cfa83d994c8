//! Alerts evaluated: when a condition held, minute by minute, and the stretches of time for which the alert was raised.
//!
//! An alert is a function of the requests and nothing else: what it would have said of last month is what it says now of the same
//! requests. So there is no state to be lost but what has been told of it, and whoever writes one can try it on the past.
//!
//! - [`counts`]: what a condition looks at, by the minute
//! - [`evaluation`]: an alert followed from minute to minute
//! - [`changes`]: what there is to be told of it
//!
//! ```
//! use exedra_acting::alerts::{Counts, episodes};
//! use exedra_answering::config::alerts::{Bound, Condition, Figure};
//! let when = Condition { figure: Figure::Number, of: Default::default(), bound: Bound::Under(1.0), minutes: 5, at_least: 0 };
//! let mut counts = Counts::new(&when);
//! (0..60).filter(|minute| !(20..40).contains(minute)).for_each(|minute| counts.count(minute, 1, 0));
//! let found = episodes(&when, (0, 5), &counts, 5..60);
//! assert_eq!((found.len(), found[0].began, found[0].ended), (1, 24, Some(40 + 5)));
//! ```

pub mod changes;
pub mod counts;
pub mod evaluation;

pub use changes::{Change, Told, changes};
pub use counts::Counts;
pub use evaluation::Evaluation;

use counts::Window;
use exedra_answering::config::alerts::Condition;
use std::ops::Range;

/// A stretch of time for which an alert was raised. Minutes are counted since 1970 UTC.
#[derive(Debug, Clone, PartialEq)]
pub struct Episode {
    /// The minute with which it began.
    pub began: i64,
    /// The minute with which it was over; absent while it goes on.
    pub ended: Option<i64>,
    /// The figure that was furthest beyond the bound.
    pub worst: f64,
    /// The client that had it, where it is about one.
    pub client: Option<String>,
}

/// The figure of a condition at the end of a minute.
#[derive(Debug, Clone, PartialEq)]
pub struct Reading {
    /// The figure.
    pub value: f64,
    /// The client that has it, where it is about one.
    pub client: Option<String>,
    /// What the same minutes usually have, where that matters and is known.
    pub usual: Option<f64>,
    /// Whether the condition holds.
    pub holds: bool,
}

/// The stretches of time within some minutes for which an alert was raised: from when its condition has held so many minutes, until it has
/// not held so many.
pub fn episodes(when: &Condition, spans: (i64, i64), counts: &Counts, minutes: Range<i64>) -> Vec<Episode> {
    let mut evaluation = Evaluation::default();
    evaluation.advance(when, spans, counts, minutes);
    evaluation.episodes
}

/// What a condition is at the end of a minute.
pub fn reading(when: &Condition, counts: &Counts, minute: i64) -> Reading {
    Window::new(when, counts, minute).reading(minute)
}

#[cfg(test)]
mod tests;
