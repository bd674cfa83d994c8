//! Alerts evaluated: when a condition held, minute by minute, and the stretches of time for which the alert was raised.
//!
//! An alert is a function of the requests and nothing else: what it would have said of last month is what it says now of the same
//! requests. So there is no state to be kept or lost, and whoever writes one can try it on the past.
//!
//! - [`counts`]: what a condition looks at, by the minute
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

pub mod counts;

pub use counts::Counts;

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
    /// Whether the condition holds.
    pub holds: bool,
}

/// The stretches of time within some minutes for which an alert was raised: from when its condition has held so many minutes, until it has
/// not held so many.
pub fn episodes(
    when: &Condition,
    (holds, ends_after): (i64, i64),
    counts: &Counts,
    minutes: Range<i64>,
) -> Vec<Episode> {
    let mut window = Window::new(when, counts, minutes.start);
    let mut all: Vec<Episode> = Vec::new();
    let (mut held_since, mut quiet_since) = (None, None);
    for minute in minutes {
        let reading = window.reading(minute);
        if !reading.holds {
            held_since = None;
            let since = *quiet_since.get_or_insert(minute);
            if let Some(last) = all.last_mut().filter(|last| last.ended.is_none())
                && minute - since + 1 > ends_after
            {
                last.ended = Some(minute);
            }
            continue;
        }
        quiet_since = None;
        let since = *held_since.get_or_insert(minute);
        match all.last_mut().filter(|last| last.ended.is_none()) {
            Some(last) if when.bound.worse(last.worst, reading.value) != last.worst => {
                (last.worst, last.client) = (reading.value, reading.client);
            }
            None if minute - since >= holds => {
                let Reading { value: worst, client, .. } = reading;
                all.push(Episode { began: minute, ended: None, worst, client });
            }
            _ => {}
        }
    }
    all
}

/// What a condition is at the end of a minute.
pub fn reading(when: &Condition, counts: &Counts, minute: i64) -> Reading {
    Window::new(when, counts, minute).reading(minute)
}

#[cfg(test)]
mod tests;
