//! What is watched: conditions over requests of the last minutes, as they are configured. They are evaluated elsewhere.

use super::Located;
use exedra_common::figures::{bytes, grouped, several};
use exedra_common::filters::Filters;
use std::fmt;

/// A condition that is watched.
#[derive(Debug, Clone)]
pub struct Alert {
    /// Its name.
    pub name: Located<String>,
    /// Which requests it is about.
    pub scope: Filters,
    /// What must hold of them.
    pub when: Condition,
    /// How many minutes it must have held until it is raised.
    pub holds: i64,
    /// How many minutes it must not have held until it is over.
    pub ends_after: i64,
    /// The recipients that are told when it is raised and when it is over.
    pub tell: Vec<Located<String>>,
}

/// A figure of the requests of some minutes, and its bound.
#[derive(Debug, Clone, PartialEq)]
pub struct Condition {
    /// Which figure.
    pub figure: Figure,
    /// Of which requests among those of the scope: all of them where there is no filter.
    pub of: Filters,
    /// Beyond what it holds.
    pub bound: Bound,
    /// How many minutes the requests are of.
    pub minutes: i64,
    /// With fewer requests than this nothing is said.
    pub at_least: u64,
}

/// What is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Figure {
    /// The part of the requests that fit, from 0 to 1.
    Share,
    /// How many fit.
    Number,
    /// Body bytes of those that fit.
    Transfer,
    /// How many fit of the client that has most of them.
    OneClient,
}

/// A bound.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Bound {
    /// It holds with more than this.
    Over(f64),
    /// It holds with less than this.
    Under(f64),
}

impl Figure {
    /// Every one, by its key in the configuration.
    pub const ALL: [(&'static str, Figure); 4] = [
        ("share", Figure::Share),
        ("number", Figure::Number),
        ("transfer", Figure::Transfer),
        ("one_client", Figure::OneClient),
    ];

    /// A figure of this kind with what it counts, for people.
    pub fn with_unit(self, value: f64) -> String {
        match self {
            Figure::Share => format!("{} of requests", self.in_words(value)),
            Figure::Transfer => self.in_words(value),
            Figure::Number | Figure::OneClient => several(value as u64, "request", "requests"),
        }
    }

    /// A figure of this kind, for people.
    pub fn in_words(self, value: f64) -> String {
        match self {
            Figure::Share => format!("{:.1} %", value * 100.0),
            Figure::Transfer => bytes(value as u64),
            Figure::Number | Figure::OneClient => grouped(value as u64),
        }
    }
}

impl Bound {
    /// Whether a figure is beyond it.
    pub fn is_passed(self, value: f64) -> bool {
        match self {
            Bound::Over(bound) => value > bound,
            Bound::Under(bound) => value < bound,
        }
    }

    /// Of two figures the one that is further beyond it.
    pub fn worse(self, one: f64, other: f64) -> f64 {
        match self {
            Bound::Over(_) => one.max(other),
            Bound::Under(_) => one.min(other),
        }
    }
}

/// The condition as a sentence would have it: `more than 2 % status=5xx within 5 minutes, of 50 requests or more`.
impl fmt::Display for Condition {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (words, value) = match self.bound {
            Bound::Over(value) => ("more than", value),
            Bound::Under(value) => ("less than", value),
        };
        let of: Vec<String> = self.of.iter().map(ToString::to_string).collect();
        let of = if of.is_empty() { String::new() } else { format!(" with {}", of.join(" ")) };
        let is_nothing = matches!(self.bound, Bound::Under(bound) if bound <= 1.0);
        let value = self.figure.in_words(value);
        match self.figure {
            Figure::Number | Figure::OneClient if is_nothing => write!(out, "no request{of}")?,
            Figure::Share => write!(out, "{words} {value} of requests{of}")?,
            Figure::Number => write!(out, "{words} {value} requests{of}")?,
            Figure::Transfer => write!(out, "{words} {value} sent{of}")?,
            Figure::OneClient => write!(out, "{words} {value} requests{of} by one client")?,
        }
        match self.minutes {
            1 => write!(out, " within a minute")?,
            minutes => write!(out, " within {minutes} minutes")?,
        }
        match self.at_least {
            0 => Ok(()),
            least => write!(out, ", of {} requests or more", grouped(least)),
        }
    }
}
