//! What is watched: conditions over requests of the last minutes, as they are configured. They are evaluated elsewhere.

use super::Located;
use exedra_common::figures::{bytes, grouped, milliseconds, several};
use exedra_common::filters::Filters;
use std::fmt;
use std::path::PathBuf;

/// A condition that is watched.
#[derive(Debug, Clone)]
pub struct Alert {
    /// Its name.
    pub name: Located<String>,
    /// Which requests it is about.
    pub scope: Filters,
    /// What must hold.
    pub when: When,
    /// How many minutes it must have held until it is raised.
    pub holds: i64,
    /// How many minutes it must not have held until it is over.
    pub ends_after: i64,
    /// The recipients that are told when it is raised and when it is over.
    pub tell: Vec<Located<String>>,
}

/// What an alert is about.
#[derive(Debug, Clone, PartialEq)]
pub enum When {
    /// Requests of the last minutes.
    Requests(Condition),
    /// Something that is known of the present only.
    Present(Present),
}

impl When {
    /// The condition over requests, where it is one.
    pub fn requests(&self) -> Option<&Condition> {
        match self {
            When::Requests(condition) => Some(condition),
            When::Present(_) => None,
        }
    }

    /// A figure of this kind with what it counts, for people.
    pub fn with_unit(&self, value: f64) -> String {
        match self {
            When::Requests(condition) => condition.figure.with_unit(value),
            When::Present(present) => present.what.in_words(value),
        }
    }
}

impl fmt::Display for When {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            When::Requests(condition) => condition.fmt(out),
            When::Present(present) => present.fmt(out),
        }
    }
}

/// A figure that is known of the present only, and its bound.
#[derive(Debug, Clone, PartialEq)]
pub struct Present {
    /// Which figure.
    pub what: What,
    /// Beyond what it holds.
    pub bound: Bound,
}

/// Figures that are known of the present only.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum What {
    /// The part of a month's allowance that was sent: of a site, or of all together.
    Allowance(Option<String>),
    /// The part of it that is expected to be sent by the end of the month.
    Forecast(Option<String>),
    /// Days until a certificate ends: the one of a host, or the first that does.
    Certificate(Option<String>),
    /// Octets that are free on the disk of a folder.
    FreeSpace(PathBuf),
    /// Lines of the logs of a site, or of all, that could not be read within the last hour.
    Unread(Option<String>),
    /// Rows that a kept query has of the requests of the last minutes.
    Query {
        /// Its name.
        name: String,
        /// How many minutes.
        minutes: i64,
    },
}

impl What {
    /// A figure of this kind, for people.
    pub fn in_words(&self, value: f64) -> String {
        match self {
            What::Allowance(_) | What::Forecast(_) => format!("{:.0} % of the allowance", value * 100.0),
            What::Certificate(_) => several(value.max(0.0) as u64, "day", "days"),
            What::FreeSpace(_) => format!("{} free", bytes(value as u64)),
            What::Unread(_) => several(value as u64, "unread line", "unread lines"),
            What::Query { .. } => several(value as u64, "row", "rows"),
        }
    }
}

impl fmt::Display for Present {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (words, value) = match self.bound {
            Bound::Over(value) | Bound::OverUsual(value) => ("more than", value),
            Bound::Under(value) | Bound::UnderUsual(value) => ("less than", value),
        };
        let of = |name: &Option<String>| name.clone().unwrap_or_else(|| "all sites".to_owned());
        let figure = self.what.in_words(value);
        match &self.what {
            What::Allowance(site) => write!(out, "{words} {figure} of {} sent this month", of(site)),
            What::Forecast(site) => {
                write!(out, "{words} {figure} of {} expected by the end of the month", of(site))
            }
            What::Certificate(Some(host)) => {
                write!(out, "{words} {figure} until the certificate of {host} ends")
            }
            What::Certificate(None) => write!(out, "{words} {figure} until a certificate ends"),
            What::FreeSpace(folder) => write!(out, "{words} {figure} on the disk of {}", folder.display()),
            What::Unread(site) => write!(out, "{words} {figure} of {} within an hour", of(site)),
            What::Query { name, minutes } => {
                write!(out, "{words} {figure} of the query {name} within {minutes} minutes")
            }
        }
    }
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
    /// The time in microseconds within which so many per cent of those that fit were answered.
    Duration(u8),
}

/// The percentile of durations where nobody says one.
pub const USUAL_PERCENTILE: u8 = 95;

/// A bound.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Bound {
    /// It holds with more than this.
    Over(f64),
    /// It holds with less than this.
    Under(f64),
    /// It holds with more than this times what the same minutes usually had.
    OverUsual(f64),
    /// It holds with less than this times what the same minutes usually had.
    UnderUsual(f64),
}

impl Figure {
    /// Every one, by its key in the configuration.
    pub const ALL: [(&'static str, Figure); 5] = [
        ("share", Figure::Share),
        ("number", Figure::Number),
        ("transfer", Figure::Transfer),
        ("one_client", Figure::OneClient),
        ("duration", Figure::Duration(USUAL_PERCENTILE)),
    ];

    /// A figure of this kind with what it counts, for people.
    pub fn with_unit(self, value: f64) -> String {
        match self {
            Figure::Share => format!("{} of requests", self.in_words(value)),
            Figure::Transfer | Figure::Duration(_) => self.in_words(value),
            Figure::Number | Figure::OneClient => several(value as u64, "request", "requests"),
        }
    }

    /// A figure of this kind, for people.
    pub fn in_words(self, value: f64) -> String {
        match self {
            Figure::Share => format!("{:.1} %", value * 100.0),
            Figure::Transfer => bytes(value as u64),
            Figure::Duration(_) => milliseconds(value / 1000.0),
            Figure::Number | Figure::OneClient => grouped(value as u64),
        }
    }
}

impl Bound {
    /// Whether a figure is beyond it, where the same minutes usually have another; without that, nothing is beyond what is usual.
    pub fn is_passed(self, value: f64, usual: Option<f64>) -> bool {
        match self {
            Bound::Over(bound) => value > bound,
            Bound::Under(bound) => value < bound,
            Bound::OverUsual(times) => usual.is_some_and(|usual| value > usual * times),
            Bound::UnderUsual(times) => usual.is_some_and(|usual| value < usual * times),
        }
    }

    /// Whether what is usual has to be known.
    pub fn is_of_usual(self) -> bool {
        matches!(self, Bound::OverUsual(_) | Bound::UnderUsual(_))
    }

    /// Whether too little is what it is about.
    pub fn is_of_little(self) -> bool {
        matches!(self, Bound::Under(_) | Bound::UnderUsual(_))
    }

    /// Of two figures the one that is further beyond it.
    pub fn worse(self, one: f64, other: f64) -> f64 {
        match self {
            Bound::Over(_) | Bound::OverUsual(_) => one.max(other),
            Bound::Under(_) | Bound::UnderUsual(_) => one.min(other),
        }
    }
}

/// The condition as a sentence would have it: `more than 2 % status=5xx within 5 minutes, of 50 requests or more`.
impl fmt::Display for Condition {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (words, value) = match self.bound {
            Bound::Over(value) => ("more than", self.figure.in_words(value)),
            Bound::Under(value) => ("less than", self.figure.in_words(value)),
            Bound::OverUsual(times) => ("more than", format!("{:.0} % of the usual", times * 100.0)),
            Bound::UnderUsual(times) => ("less than", format!("{:.0} % of the usual", times * 100.0)),
        };
        let of: Vec<String> = self.of.iter().map(ToString::to_string).collect();
        let of = if of.is_empty() { String::new() } else { format!(" with {}", of.join(" ")) };
        let is_nothing = matches!(self.bound, Bound::Under(bound) if bound <= 1.0);
        match self.figure {
            Figure::Number | Figure::OneClient if is_nothing => write!(out, "no request{of}")?,
            Figure::Share => write!(out, "{words} {value} of requests{of}")?,
            Figure::Number => write!(out, "{words} {value} requests{of}")?,
            Figure::Transfer if self.bound.is_of_usual() => write!(out, "{words} {value} bytes sent{of}")?,
            Figure::Transfer => write!(out, "{words} {value} sent{of}")?,
            Figure::OneClient => write!(out, "{words} {value} requests{of} by one client")?,
            Figure::Duration(percentile) => {
                write!(out, "{words} {value} for the slowest {} % of requests{of}", 100 - percentile)?;
            }
        }
        match self.minutes {
            1 => write!(out, " within a minute")?,
            minutes => write!(out, " within {minutes} minutes")?,
        }
        match self.at_least {
            0 => Ok(()),
            least => write!(out, ", of {} or more", several(least, "request", "requests")),
        }
    }
}
