//! What must hold of a request: a column, an operator and values.
//!
//! `status=404,410` · `status=4xx` · `status>=500` · `duration>5 s` · `bytes>10 MB` · `client=198.18.0.0/15` ·
//! `path=*.css` · `agent=*Firefox*` · `!kind=asset` · `user=`
//!
//! The same grammar serves the client's options, the API, the console's address and alerts. Several values for one column, by
//! commas or by repeating, mean *any of*; a lower and an upper bound that meet mean *between*; different columns must *all*
//! hold. `!` before a filter, or `!=`, means that it must not hold. `*` stands for any letters; a backslash takes the meaning
//! from a comma or a star after it. Nothing after `=` means that there is no value.
//!
//! - [`values`]: the values of a filter, by the kind of its column
//!
//! ```
//! use exedra_common::filters::Filters;
//! let filters = Filters::understand(&["status>=500", "path=/notices/*"], &["kind=asset"])?;
//! assert_eq!(filters.to_string(), "status>=500 path=/notices/* !kind=asset");
//! let wrong = Filters::understand(&["kind=pages"], &[]).unwrap_err();
//! assert_eq!(
//!     wrong.to_string(),
//!     "`kind` is never `pages`: did you mean `page`? There is page, asset, download, feed, other"
//! );
//! # Ok::<(), exedra_common::filters::FilterError>(())
//! ```

mod values;

pub use values::{TextValue, Values};

use crate::columns::{Column, Compared, DerivedColumn, Kind, NumberColumn};
use crate::text::{Wildcard, nearest};
use ipnet::IpNet;
use std::fmt;
use thiserror::Error;

/// One condition on one column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Filter {
    /// What it looks at.
    pub column: Column,
    /// What its value must be.
    pub values: Values,
    /// Whether it must not be that.
    pub without: bool,
}

/// Conditions that must all hold; one for each column and direction.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Filters(Vec<Filter>);

/// A filter on a column, for whoever sees it for the first time.
pub fn example(column: Column) -> String {
    let declaration = column.declaration();
    match (declaration.kind, declaration.compared, declaration.values) {
        (Kind::Time, ..) => "--from, --until, --day, …".to_owned(),
        (_, _, values @ [first, ..]) if values.len() > 1 => format!("{}={first}", declaration.name),
        // Of three digits: a status, which has classes.
        (Kind::Integer, ..) if declaration.range.1 < 1000 => format!("{}=404,5xx", declaration.name),
        (Kind::Integer, ..) => format!("{}>={}", declaration.name, declaration.range.0),
        (Kind::Size, ..) => format!("{}>10 MB", declaration.name),
        (Kind::Duration, ..) => format!("{}>5 s", declaration.name),
        (_, Compared::Address, _) => format!("{}=198.18.0.0/15", declaration.name),
        _ => format!("{}=*…*", declaration.name),
    }
}

/// How a filter compares.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Operator {
    Is,
    IsNot,
    Above,
    AtLeast,
    Below,
    AtMost,
}

/// The longer ones first, so that they are found.
const OPERATORS: [(&str, Operator); 6] = [
    ("!=", Operator::IsNot),
    (">=", Operator::AtLeast),
    ("<=", Operator::AtMost),
    ("=", Operator::Is),
    (">", Operator::Above),
    ("<", Operator::Below),
];

/// Why a filter could not be understood.
#[derive(Debug, Clone, Error, PartialEq, Eq)]
pub enum FilterError {
    /// There is no operator.
    #[error(
        "`{0}` is not a filter: write column=value, for instance status=404, 'duration>5 s' or 'path=/notices/*'"
    )]
    NoOperator(String),
    /// No such column.
    #[error("there is no column `{name}` to filter by{} There is {}", did_you_mean(nearest.as_ref()), columns())]
    NoColumn {
        /// What was written.
        name: String,
        /// The nearest column there is.
        nearest: Option<&'static str>,
    },
    /// The time has a place of its own.
    #[error("the time is not filtered by column: name a period (day, week, month, from, until, last)")]
    Time,
    /// A column of texts has no order.
    #[error("`{0}` is text, which is not more or less than another: write {0}=value")]
    NoOrder(&'static str),
    /// A value that is not one of the column's kind.
    #[error("`{value}` is not {wanted} (column `{column}`): {remedy}")]
    NoValue {
        /// The column.
        column: &'static str,
        /// What was written.
        value: String,
        /// What it should be.
        wanted: &'static str,
        /// What to write instead.
        remedy: &'static str,
    },
    /// A column whose values are a closed list never has this one.
    #[error("`{column}` is never `{value}`{} There is {}", nearest.map_or(".".to_owned(), |near| format!(": did you mean `{near}`?")), values.join(", "))]
    NoSuchValue {
        /// The column.
        column: &'static str,
        /// What was written.
        value: String,
        /// The nearest value it has.
        nearest: Option<&'static str>,
        /// All values it has.
        values: &'static [&'static str],
    },
}

fn did_you_mean(near: Option<&&'static str>) -> String {
    near.map_or(".".to_owned(), |near| format!(": did you mean `{near}`?"))
}

fn columns() -> String {
    filterable().map(Column::name).collect::<Vec<_>>().join(", ")
}

/// The columns that filters can look at: all but the time, which has a place of its own in a scope.
pub fn filterable() -> impl Iterator<Item = Column> {
    Column::all().filter(|column| *column != Column::Time)
}

impl Filters {
    /// Understands filters, keeping what `only` names and leaving out what `without` names.
    pub fn understand<S: AsRef<str>>(only: &[S], without: &[S]) -> Result<Self, FilterError> {
        let mut filters = Filters::default();
        for (texts, without) in [(only, false), (without, true)] {
            for text in texts {
                let mut filter = Filter::understand(text.as_ref())?;
                filter.without ^= without;
                filters.add(filter);
            }
        }
        Ok(filters)
    }

    /// Adds one: to that on the same column, where there is one.
    pub fn add(&mut self, filter: Filter) {
        let same = |one: &&mut Filter| one.column == filter.column && one.without == filter.without;
        match self.0.iter_mut().find(same) {
            Some(known) => known.values.or(filter.values),
            None => self.0.push(filter),
        }
    }

    /// Adds one that must hold beside all others, also those on the same column.
    pub fn narrow(&mut self, filter: Filter) {
        self.0.push(filter);
    }

    /// Each of them.
    pub fn iter(&self) -> impl Iterator<Item = &Filter> {
        self.0.iter()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl Filter {
    /// Understands one.
    pub fn understand(text: &str) -> Result<Self, FilterError> {
        let (negated, rest) = match text.trim_start().strip_prefix('!') {
            Some(rest) => (true, rest),
            None => (false, text),
        };
        let no_operator = || FilterError::NoOperator(text.to_owned());
        let name_end = rest.find(['=', '!', '<', '>']).ok_or_else(no_operator)?;
        let (name, rest) = (rest[..name_end].trim(), &rest[name_end..]);
        let found = OPERATORS.iter().find_map(|(sign, operator)| Some((*operator, rest.strip_prefix(sign)?)));
        let (operator, value) = found.ok_or_else(no_operator)?;
        let column = match Column::named(name) {
            Some(Column::Time) => return Err(FilterError::Time),
            Some(column) => column,
            None => {
                let nearest = nearest(name, filterable().map(Column::name));
                return Err(FilterError::NoColumn { name: name.to_owned(), nearest });
            }
        };
        let values = Values::understand(column, operator, value)?;
        Ok(Filter { column, values, without: negated ^ (operator == Operator::IsNot) })
    }

    /// One that keeps bots and crawlers only, or people only.
    pub fn crawlers(crawlers: bool) -> Self {
        Filter { column: DerivedColumn::Crawler.into(), values: Values::any_text(), without: !crawlers }
    }

    /// One that keeps requests with a number from one to another, both included.
    pub fn between(column: NumberColumn, from: u64, to: u64) -> Self {
        Filter { column: column.into(), values: Values::between(from, to), without: false }
    }

    /// One that keeps requests with a text that fits one of these patterns, letter by letter.
    pub fn fitting(column: Column, patterns: impl IntoIterator<Item = Wildcard>) -> Self {
        Filter { column, values: Values::fitting(patterns), without: false }
    }

    /// One that keeps requests whose address is in a network.
    pub fn within(column: Column, network: IpNet) -> Self {
        Filter { column, values: Values::Texts(vec![TextValue::Network(network.trunc())]), without: false }
    }

    /// One that keeps requests with any text in this column.
    pub fn any(column: Column) -> Self {
        Filter { column, values: Values::any_text(), without: false }
    }

    /// One that keeps what this one does and what another does; none where they look at different columns, or leave out.
    pub fn or(mut self, other: Filter) -> Option<Self> {
        let is_like = self.column == other.column && !self.without && !other.without;
        is_like.then(|| {
            self.values.join(other.values);
            self
        })
    }

    /// One that keeps requests with exactly this value, whatever letters are in it.
    pub fn exactly(column: Column, value: &str) -> Result<Self, FilterError> {
        let escaped = value.replace('\\', "\\\\").replace(',', "\\,").replace('*', "\\*");
        Ok(Filter { column, values: Values::understand(column, Operator::Is, &escaped)?, without: false })
    }
}

/// As it is written.
impl fmt::Display for Filter {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let not = if self.without { "!" } else { "" };
        for (nth, part) in self.values.written(self.column.declaration().kind).iter().enumerate() {
            let space = if nth > 0 { " " } else { "" };
            write!(out, "{space}{not}{}{part}", self.column.name())?;
        }
        Ok(())
    }
}

/// As they are written, with spaces between.
impl fmt::Display for Filters {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (nth, filter) in self.0.iter().enumerate() {
            let space = if nth > 0 { " " } else { "" };
            write!(out, "{space}{filter}")?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::values("status=404,410", "status=404,410")]
    #[case::classes("status=4xx", "status=4xx")]
    #[case::bounds("status>=500", "status>=500")]
    #[case::above("status>499", "status>=500")]
    #[case::spaces(" duration > 5s ", "duration>5 s")]
    #[case::sizes("bytes>=10 MB", "bytes>=10 MB")]
    #[case::networks("client=198.18.0.0/15", "client=198.18.0.0/15")]
    #[case::nothing("user=", "user=")]
    #[case::not("!path=*.css", "!path=*.css")]
    #[case::is_not("path!=*.css", "!path=*.css")]
    #[case::not_not("!path!=*.css", "path=*.css")]
    #[case::commas(r"path=/a\,b,/c\*", r"path=/a\,b,/c\*")]
    #[case::equal_signs("query=a=b", "query=a=b")]
    fn filters_are_understood(#[case] text: &str, #[case] written: &str) {
        let filter = Filter::understand(text).unwrap();
        assert_eq!(filter.to_string(), written);
        assert_eq!(Filter::understand(written).unwrap(), filter, "what is written is understood again");
    }

    #[rstest]
    #[case::no_operator("404", "`404` is not a filter")]
    #[case::column(
        "paht=/",
        "there is no column `paht` to filter by: did you mean `path`? There is site, server"
    )]
    #[case::time("time>5", "name a period")]
    #[case::order("path>5", "`path` is text")]
    #[case::number(
        "status=many",
        "`many` is not a whole number (column `status`): write 404, or 4xx for all from 400 to 499"
    )]
    #[case::old_class("status=5*", "or 4xx for all")]
    #[case::range("status=1000", "`1000` is not a status from 100 to 999")]
    #[case::size("bytes>many", "`many` is not a size (column `bytes`): write it like 10 MB or 256 bytes")]
    #[case::duration(
        "duration>5",
        "`5` is not a length of time (column `duration`): write its unit, as in 5 s or 250 ms"
    )]
    #[case::closed("kind=pages", "`kind` is never `pages`: did you mean `page`?")]
    #[case::closed_pattern("device=*watch", "`device` is never `*watch`. There is computer, phone, tablet")]
    #[case::unit("duration_us=5", "did you mean `duration`?")]
    fn mistakes_say_what_instead(#[case] text: &str, #[case] message: &str) {
        let wrong = Filter::understand(text).unwrap_err().to_string();
        assert!(wrong.contains(message), "{wrong}");
    }

    #[test]
    fn same_column_joins_and_others_stand_beside() {
        let found =
            Filters::understand(&["status=404", "path=/a/*", "status=5xx"], &["client=192.0.2.1"]).unwrap();
        assert_eq!(found.to_string(), "status=404,5xx path=/a/* !client=192.0.2.1");
        let between = Filters::understand(&["bytes>=10 kB", "bytes<20 kB"], &[]).unwrap();
        assert_eq!(between.to_string(), "bytes>=10 kB bytes<20 kB");
        let apart = Filters::understand(&["status<200", "status>=500"], &[]).unwrap();
        assert!(apart.0[0].values.has_number(150) && apart.0[0].values.has_number(503));
        assert!(!apart.0[0].values.has_number(204));
    }

    proptest! {
        #[test]
        fn a_value_that_is_clicked_means_itself(value in r"[a-c,*\\! =<>]{1,8}", other in r"[a-c,*\\! =<>]{1,8}") {
            let filter = Filter::exactly(crate::TextColumn::Path.into(), &value).unwrap();
            prop_assert!(filter.values.has_text(&value));
            prop_assert_eq!(filter.values.has_text(&other), value == other);
            prop_assert_eq!(Filter::understand(&filter.to_string()).unwrap(), filter);
        }

        #[test]
        fn nothing_that_is_typed_does_harm(text in r"\PC{0,20}") {
            if let Ok(filter) = Filter::understand(&text) {
                prop_assert_eq!(Filter::understand(&filter.to_string()).unwrap(), filter);
            }
        }
    }
}
