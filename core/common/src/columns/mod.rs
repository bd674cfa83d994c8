//! The columns that a request has once it has been written down, each declared once.
//!
//! - [`list`]: the list, and what is made from it
//! - [`projection`]: choosing some of them
//!
//! ```
//! use exedra_common::columns::{Column, Kind, NumberColumn, Unit};
//! let column = Column::named("duration").unwrap();
//! assert_eq!(column, Column::Number(NumberColumn::Duration));
//! assert_eq!((column.declaration().kind, column.declaration().unit), (Kind::Duration, Unit::Microseconds));
//! ```

#[macro_use]
mod declare;
mod list;
mod projection;

pub use list::{DerivedColumn, NumberColumn, TextColumn};
pub use projection::Projection;

use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use utoipa::ToSchema;

/// A property of a logged request.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Column {
    /// When the request came in.
    Time,
    /// A text as it was logged, or what all lines of one source share.
    Text(TextColumn),
    /// A number as it was logged.
    Number(NumberColumn),
    /// What follows from a text.
    Derived(DerivedColumn),
}

/// What is declared of a column.
#[derive(Debug, Clone, Copy)]
pub struct Declaration {
    /// The name people use for it, everywhere.
    pub name: &'static str,
    /// The name under which records keep it. It never changes, or what was kept before would be lost.
    pub stored: &'static str,
    /// What it means, in one sentence.
    pub meaning: &'static str,
    /// What kind of values it has.
    pub kind: Kind,
    /// What its values count, as batches hold them.
    pub unit: Unit,
    /// Whether a request may have none.
    pub nullable: bool,
    /// Names in logs of JSON, small and without anything but letters and digits, and the unit that each implies.
    pub json: &'static [(Unit, &'static [&'static str])],
    /// Identifiers of the W3C extended format.
    pub w3c: &'static [&'static str],
    /// The column it follows from, if it does from one.
    pub from: Option<TextColumn>,
    /// Whether all lines of one source share it, so that it stands in none of them.
    pub of_source: bool,
    /// How filters compare it.
    pub compared: Compared,
    /// The only values it has; empty where there may be any.
    pub values: &'static [&'static str],
    /// The least and the greatest number that is one.
    pub range: (u64, u64),
}

/// What kind of values a column has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// An instant.
    Time,
    /// A day or a month of a calendar.
    Date,
    /// A text.
    Text,
    /// A whole number that counts nothing, as a status.
    Integer,
    /// A number of bytes.
    Size,
    /// A length of time.
    Duration,
}

/// What a number counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Unit {
    /// Nothing.
    #[default]
    None,
    /// Bytes.
    Bytes,
    /// Billionths of a second.
    Nanoseconds,
    /// Millionths of a second.
    Microseconds,
    /// Thousandths of a second.
    Milliseconds,
    /// Seconds.
    Seconds,
}

/// How filters compare the values of a column with those they name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Compared {
    /// Letter by letter.
    Exactly,
    /// Small and capital letters are the same.
    InAnyCase,
    /// Letter by letter, and an address also with the networks it is in.
    Address,
}

/// Works out derived columns.
pub trait Derive: std::fmt::Debug + Send + Sync {
    /// What follows for a column from a text of the one it is declared to follow from, if anything does.
    fn derive<'t>(&'t self, column: DerivedColumn, text: &'t str) -> Option<Cow<'t, str>>;
}

impl Unit {
    /// All units of time.
    pub const OF_TIME: [Unit; 4] = [Unit::Nanoseconds, Unit::Microseconds, Unit::Milliseconds, Unit::Seconds];

    /// The unit of time that goes by a name, be it written out or short.
    pub fn of_time(name: &str) -> Option<Unit> {
        Some(match name {
            "nanoseconds" | "nanosecond" | "nanos" | "ns" => Unit::Nanoseconds,
            "microseconds" | "microsecond" | "micros" | "us" | "\u{b5}s" | "\u{3bc}s" | "usec" => {
                Unit::Microseconds
            }
            "milliseconds" | "millisecond" | "millis" | "ms" | "msec" => Unit::Milliseconds,
            "seconds" | "second" | "secs" | "sec" | "s" => Unit::Seconds,
            _ => return None,
        })
    }

    /// Its name, as layouts write it; empty for none.
    pub fn name(self) -> &'static str {
        match self {
            Unit::None => "",
            Unit::Bytes => "bytes",
            Unit::Nanoseconds => "nanoseconds",
            Unit::Microseconds => "microseconds",
            Unit::Milliseconds => "milliseconds",
            Unit::Seconds => "seconds",
        }
    }

    /// Whether it counts nothing.
    pub fn is_none(&self) -> bool {
        *self == Unit::None
    }

    /// How many nanoseconds one is; 1 for what is no time.
    pub const fn nanoseconds(self) -> u64 {
        match self {
            Unit::Seconds => 1_000_000_000,
            Unit::Milliseconds => 1_000_000,
            Unit::Microseconds => 1_000,
            Unit::None | Unit::Bytes | Unit::Nanoseconds => 1,
        }
    }
}

impl Kind {
    /// Its name in documentation and API.
    pub fn name(self) -> &'static str {
        match self {
            Kind::Time => "time",
            Kind::Date => "date",
            Kind::Text => "text",
            Kind::Integer => "whole number",
            Kind::Size => "size",
            Kind::Duration => "duration",
        }
    }
}

impl Column {
    /// All of them, in the order in which people are shown them.
    pub fn all() -> impl Iterator<Item = Column> + Clone {
        list::declared().iter().map(|(column, _)| *column)
    }

    /// Those that are kept; derived ones are worked out.
    pub fn kept() -> impl Iterator<Item = Column> + Clone {
        Column::all().filter(|column| !matches!(column, Column::Derived(_)))
    }

    /// The column of that name.
    pub fn named(name: &str) -> Option<Column> {
        Column::all().find(|column| column.name() == name)
    }

    /// The name people use for it.
    pub fn name(self) -> &'static str {
        self.declaration().name
    }

    /// What it means, in one sentence.
    pub fn meaning(self) -> &'static str {
        self.declaration().meaning.trim()
    }

    /// What is declared of it.
    #[inline]
    pub fn declaration(self) -> &'static Declaration {
        list::declaration(self)
    }

    /// The text column behind it, if it is one.
    pub fn as_text(self) -> Option<TextColumn> {
        match self {
            Column::Text(text) => Some(text),
            _ => None,
        }
    }

    /// The column that is read for it: the one it follows from, or itself.
    pub fn base(self) -> Column {
        self.declaration().from.map_or(self, Column::Text)
    }
}

impl From<TextColumn> for Column {
    fn from(column: TextColumn) -> Self {
        Column::Text(column)
    }
}

impl From<NumberColumn> for Column {
    fn from(column: NumberColumn) -> Self {
        Column::Number(column)
    }
}

impl From<DerivedColumn> for Column {
    fn from(column: DerivedColumn) -> Self {
        Column::Derived(column)
    }
}

impl DerivedColumn {
    /// The column it follows from.
    pub fn base(self) -> TextColumn {
        Column::Derived(self).declaration().from.unwrap_or(TextColumn::Path)
    }
}

const fn text(name: &'static str) -> Declaration {
    Declaration {
        name,
        stored: name,
        meaning: "",
        kind: Kind::Text,
        unit: Unit::None,
        nullable: true,
        json: &[],
        w3c: &[],
        from: None,
        of_source: false,
        compared: Compared::Exactly,
        values: &[],
        range: (0, u64::MAX - 1),
    }
}

const fn number(name: &'static str, kind: Kind) -> Declaration {
    Declaration { kind, ..text(name) }
}

const fn derived(name: &'static str, from: TextColumn) -> Declaration {
    Declaration { from: Some(from), ..text(name) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_column_is_declared_once_and_wholly() {
        let mut names: Vec<&str> = Column::all().map(Column::name).collect();
        names.sort_unstable();
        let count = names.len();
        names.dedup();
        assert_eq!(names.len(), count, "one name, one column");
        assert_eq!(count, 1 + TextColumn::COUNT + NumberColumn::COUNT + DerivedColumn::COUNT);
        for column in Column::all() {
            let declaration = column.declaration();
            assert!(declaration.meaning.trim().ends_with('.'), "{}: {}", column.name(), declaration.meaning);
            assert_eq!(matches!(column, Column::Derived(_)), declaration.from.is_some(), "{}", column.name());
            let is_number = matches!(declaration.kind, Kind::Integer | Kind::Size | Kind::Duration);
            assert_eq!(matches!(column, Column::Number(_)), is_number, "{}", column.name());
        }
    }

    #[test]
    fn no_name_in_other_logs_means_two_columns() {
        let mut names: Vec<&str> = Column::all()
            .flat_map(|column| column.declaration().json.iter().flat_map(|(_, names)| names.iter().copied()))
            .collect();
        assert!(
            names
                .iter()
                .all(|name| name.bytes().all(|octet| octet.is_ascii_lowercase() || octet.is_ascii_digit())),
            "{names:?}"
        );
        names.sort_unstable();
        assert!(names.windows(2).all(|pair| pair[0] != pair[1]), "{names:?}");
    }
}
