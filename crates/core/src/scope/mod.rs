//! Which requests are meant: sites × period × filters, the same everywhere.
//!
//! The console's address, the client's options and the API carry the same filters, written
//! `column=value` (a `*` at the end stands for any rest). They are parsed and evaluated only here.
//! Filters on the same column mean *any of*; different columns must *all* hold.

pub mod period;

use crate::classify::{Countries, Derived};
use crate::logs::{Column, Dictionaries, Origin, OriginColumn, RequestBatch};
use std::borrow::Cow;
use std::sync::Arc;
use thiserror::Error;

/// The requests that a question is about.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Scope {
    /// Names of sites; empty means all.
    pub sites: Vec<String>,
    /// First instant that counts, in milliseconds since 1970 UTC.
    pub from: Option<i64>,
    /// First instant that no longer counts, in milliseconds since 1970 UTC.
    pub until: Option<i64>,
    /// What must hold, and what must not.
    pub filters: Vec<Filter>,
}

impl Scope {
    /// Whether a stretch of time (both ends included, in milliseconds) can hold anything of this scope.
    pub fn overlaps(&self, first: i64, last: i64) -> bool {
        self.from.is_none_or(|from| last >= from) && self.until.is_none_or(|until| first < until)
    }

    /// Whether requests of this site belong.
    pub fn has_site(&self, site: &str) -> bool {
        self.takes(&Origin { site: Some(site.to_owned()), ..Origin::default() })
    }

    /// Whether requests of a source belong, as far as that can be told before any is read.
    pub fn takes(&self, origin: &Origin) -> bool {
        let is_of_site =
            self.sites.is_empty() || origin.site.as_ref().is_some_and(|site| self.sites.contains(site));
        is_of_site
            && self.filters.iter().all(|filter| match filter.column {
                Property::Shared(column) => {
                    let value = column.of(origin);
                    let holds = value
                        .is_some_and(|value| filter.patterns.iter().any(|pattern| pattern.matches(value)));
                    holds != filter.without
                }
                Property::Logged(_) | Property::Derived(_) => true,
            })
    }

    /// The columns that the filters look at.
    pub fn columns(&self) -> impl Iterator<Item = Column> + '_ {
        self.filters.iter().filter_map(|filter| filter.column.base())
    }
}

/// What a filter looks at: a column, or what follows from one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Property {
    /// A column as it was logged.
    Logged(Column),
    /// What follows from one.
    Derived(Derived),
    /// What all lines of a source share.
    Shared(OriginColumn),
}

impl Property {
    /// The property of that name. The time is none: it has its own place in a scope.
    pub fn named(name: &str) -> Option<Property> {
        let derived = Derived::ALL.into_iter().find(|derived| derived.name() == name).map(Property::Derived);
        let logged = || Column::named(name).filter(|column| *column != Column::Time).map(Property::Logged);
        let shared =
            || OriginColumn::ALL.into_iter().find(|column| column.name() == name).map(Property::Shared);
        derived.or_else(logged).or_else(shared)
    }

    /// Every name there is.
    pub fn names() -> impl Iterator<Item = &'static str> {
        let logged = Column::ALL.into_iter().filter(|column| *column != Column::Time).map(Column::name);
        let derived = Derived::ALL.into_iter().map(Derived::name);
        logged.chain(derived).chain(OriginColumn::ALL.into_iter().map(OriginColumn::name))
    }

    /// The name people use for it.
    pub fn name(self) -> &'static str {
        match self {
            Property::Logged(column) => column.name(),
            Property::Derived(derived) => derived.name(),
            Property::Shared(column) => column.name(),
        }
    }

    /// The column of lines that it is read from, if it is from one.
    pub fn base(self) -> Option<Column> {
        match self {
            Property::Logged(column) => Some(column),
            Property::Derived(derived) => Some(Column::Text(derived.base())),
            Property::Shared(_) => None,
        }
    }
}

/// One condition on one column: any of the patterns, or none of them.
#[derive(Debug, Clone, PartialEq)]
pub struct Filter {
    /// What it looks at.
    pub column: Property,
    /// The values meant.
    pub patterns: Vec<Pattern>,
    /// Whether the values are left out instead of kept.
    pub without: bool,
}

/// A value, or the beginning of one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Pattern {
    /// The whole value.
    Exactly(String),
    /// Any value that begins so.
    Beginning(String),
}

impl Pattern {
    fn matches(&self, text: &str) -> bool {
        match self {
            Pattern::Exactly(value) => value == text,
            Pattern::Beginning(value) => text.starts_with(value.as_str()),
        }
    }
}

/// Why a filter could not be understood.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum FilterError {
    /// There is no `=`.
    #[error("`{0}` is no filter: write column=value, for instance status=404 or 'path=/notices/*'")]
    NoEqualSign(String),
    /// No such column.
    #[error("there is no column `{name}` to filter by{}", nearest.map(|near| format!(": did you mean `{near}`?")).unwrap_or_default())]
    NoColumn {
        /// What was written.
        name: String,
        /// The nearest column there is.
        nearest: Option<&'static str>,
    },
    /// A number column got something else.
    #[error("`{column}` is a number, and `{value}` is none")]
    NoNumber {
        /// The column.
        column: &'static str,
        /// What was written.
        value: String,
    },
}

/// Understands filters written `column=value`, keeping what `only` names and leaving out what `without` names.
pub fn filters<S: AsRef<str>>(only: &[S], without: &[S]) -> Result<Vec<Filter>, FilterError> {
    let mut filters: Vec<Filter> = Vec::new();
    for (texts, without) in [(only, false), (without, true)] {
        for text in texts {
            let (column, pattern) = understand(text.as_ref())?;
            match filters.iter_mut().find(|filter| filter.column == column && filter.without == without) {
                Some(filter) => filter.patterns.push(pattern),
                None => filters.push(Filter { column, patterns: vec![pattern], without }),
            }
        }
    }
    Ok(filters)
}

fn understand(text: &str) -> Result<(Property, Pattern), FilterError> {
    let (name, value) = text.split_once('=').ok_or_else(|| FilterError::NoEqualSign(text.to_owned()))?;
    let column = Property::named(name.trim()).ok_or_else(|| {
        let nearest = crate::config::nearest(name, Property::names());
        FilterError::NoColumn { name: name.to_owned(), nearest }
    })?;
    let pattern = match value.strip_suffix('*') {
        Some(beginning) => Pattern::Beginning(beginning.to_owned()),
        None => Pattern::Exactly(value.to_owned()),
    };
    let number = match &pattern {
        Pattern::Exactly(value) | Pattern::Beginning(value) => value,
    };
    let is_number = column.base().is_some_and(|base| base.as_text().is_none());
    if is_number && !number.bytes().all(|byte| byte.is_ascii_digit()) {
        return Err(FilterError::NoNumber { column: column.name(), value: value.to_owned() });
    }
    Ok((column, pattern))
}

/// Filters that keep people only, or programs only.
pub fn people_or_crawlers(crawlers: bool) -> Filter {
    let anything = vec![Pattern::Beginning(String::new())];
    Filter { column: Property::Derived(Derived::Crawler), patterns: anything, without: !crawlers }
}

/// A scope made ready for one set of dictionaries: each distinct text is looked at once.
#[derive(Debug, Default)]
pub struct RowFilter {
    scope: Scope,
    countries: Option<Arc<Countries>>,
    verdicts: Vec<Vec<Verdict>>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Verdict {
    Open,
    Keep,
    Drop,
}

impl RowFilter {
    /// A filter for requests whose texts all come from one set of dictionaries.
    pub fn new(scope: Scope, countries: Option<Arc<Countries>>) -> Self {
        let verdicts = vec![Vec::new(); scope.filters.len()];
        RowFilter { scope, countries, verdicts }
    }

    /// Whether there is nothing to leave out, so that rows need not be asked about.
    pub fn lets_all_through(&self) -> bool {
        let looks = self.scope.filters.iter().any(|filter| filter.column.base().is_some());
        self.scope.from.is_none() && self.scope.until.is_none() && !looks
    }

    /// Forgets what was learnt of texts: new dictionaries are coming.
    pub fn forget(&mut self) {
        self.verdicts.iter_mut().for_each(Vec::clear);
    }

    /// Whether a row belongs to the scope. Sites are chosen before, source by source.
    pub fn keeps(&mut self, batch: &RequestBatch, row: usize, dictionaries: &Dictionaries) -> bool {
        let time = batch.time[row];
        if self.scope.from.is_some_and(|from| time < from)
            || self.scope.until.is_some_and(|until| time >= until)
        {
            return false;
        }
        self.scope.filters.iter().zip(&mut self.verdicts).all(|(filter, verdicts)| {
            // Sources were chosen before.
            let Some(base) = filter.column.base() else { return true };
            let holds = match base.as_text() {
                Some(column) => match batch.code(column, row) {
                    Some(code) => {
                        let text = || dictionaries.of(column).text(code);
                        text_holds(filter, code, text, self.countries.as_deref(), verdicts)
                    }
                    None => false,
                },
                None => batch.number(base, row).is_some_and(|number| number_holds(&filter.patterns, number)),
            };
            holds != filter.without
        })
    }
}

fn text_holds<'t>(
    filter: &Filter,
    code: u32,
    text: impl FnOnce() -> &'t str,
    countries: Option<&'t Countries>,
    verdicts: &mut Vec<Verdict>,
) -> bool {
    let index = code as usize;
    if verdicts.len() <= index {
        verdicts.resize(index + 1, Verdict::Open);
    }
    if verdicts[index] == Verdict::Open {
        let text = match filter.column {
            Property::Logged(_) | Property::Shared(_) => Some(Cow::Borrowed(text())),
            Property::Derived(derived) => derived.of(text(), countries),
        };
        let holds = text.is_some_and(|text| filter.patterns.iter().any(|pattern| pattern.matches(&text)));
        verdicts[index] = if holds { Verdict::Keep } else { Verdict::Drop };
    }
    verdicts[index] == Verdict::Keep
}

fn number_holds(patterns: &[Pattern], number: u64) -> bool {
    let mut digits = itoa::Buffer::new();
    let text = digits.format(number);
    patterns.iter().any(|pattern| pattern.matches(text))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn same_column_joins_and_others_stand_beside() {
        let found = filters(&["status=404", "status=5*", "path=/a/*"], &["client=192.0.2.1"]).unwrap();
        assert_eq!(found.len(), 3);
        assert_eq!(found[0].patterns, [Pattern::Exactly("404".into()), Pattern::Beginning("5".into())]);
        assert!(found[2].without);
    }

    #[test]
    fn mistakes_say_what_instead() {
        let wrong = filters(&["paht=/"], &[]).unwrap_err().to_string();
        assert_eq!(wrong, "there is no column `paht` to filter by: did you mean `path`?");
        assert!(filters(&["status=many"], &[]).unwrap_err().to_string().contains("is a number"));
        assert!(matches!(filters(&["404"], &[]), Err(FilterError::NoEqualSign(_))));
    }
}
