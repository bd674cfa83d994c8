//! What figures mean for what is to be done.
//!
//! - [`alerts`]: conditions over the last minutes, now and in the past
//! - [`digest`]: a report in some lines
//! - [`schedule`]: when something comes that comes again
//! - [`forecast`]: a month's transfer, from the days before
//! - [`rehearsal`]: recorded requests run through another configuration, and the answers compared
//! - [`effect`]: what became of a published change, against what its rehearsal promised
//! - [`findings`]: what deserves attention, and what to do about it; [`remedy`]: that as a change of the configuration
//! - [`edit`]: a configuration changed in its text, with comments, order and style as they were
//!
//! ```
//! use exedra_acting::forecast::{Day, Forecast, Present};
//! use jiff::ToSpan;
//! use jiff::civil::date;
//! let today = date(2026, 9, 14);
//! let days: Vec<Day> = (1..=28).rev().map(|ago| Day { date: today.saturating_sub(ago.days()), bytes: 1000 }).collect();
//! let forecast = Forecast::of_month(&days, Present { date: today, bytes: 500, part: 0.5 }).unwrap();
//! assert_eq!((forecast.sent, forecast.expected), (13_500, 30_000));
//! ```

pub mod alerts;
pub mod digest;
pub mod edit;
pub mod effect;
pub mod findings;
pub mod forecast;
pub mod rehearsal;
pub mod remedy;
pub mod schedule;
