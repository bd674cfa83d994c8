//! A scope made ready for one set of dictionaries: each distinct text is looked at once.
//!
//! ```
//! use exedra_common::columns::Derive;
//! use exedra_common::filters::Filters;
//! use exedra_common::scope::{RowFilter, Scope};
//! use exedra_common::{DerivedColumn, Dictionaries, NumberColumn, RequestBatch};
//! #[derive(Debug)]
//! struct Nothing;
//! impl Derive for Nothing {
//!     fn derive<'t>(&'t self, _: DerivedColumn, _: &'t str) -> Option<std::borrow::Cow<'t, str>> {
//!         None
//!     }
//! }
//! let (mut batch, texts): (RequestBatch, Dictionaries) = Default::default();
//! batch.time = vec![0, 1];
//! *batch.numbers_mut(NumberColumn::Status) = vec![200, 503];
//! let filters = Filters::understand(&["status>=500"], &[]).unwrap();
//! let mut rows = RowFilter::new(Scope { filters, ..Scope::default() }, std::sync::Arc::new(Nothing));
//! assert!(!rows.keeps(&batch, 0, &texts) && rows.keeps(&batch, 1, &texts));
//! ```

use super::{Scope, WeekHours};
use crate::batch::{NO_NUMBER, NO_TIME, RequestBatch};
use crate::columns::{Column, Derive, NumberColumn, Projection, TextColumn};
use crate::dictionary::Dictionaries;
use crate::filters::{Filter, Filters};
use std::borrow::Cow;
use std::sync::Arc;

/// Says which rows of batches belong to a scope.
#[derive(Debug, Clone)]
pub struct RowFilter {
    scope: Scope,
    derive: Arc<dyn Derive>,
    /// For each filter what is known of the texts it has been asked about.
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
    pub fn new(scope: Scope, derive: Arc<dyn Derive>) -> Self {
        let verdicts = vec![Vec::new(); scope.filters.iter().count()];
        RowFilter { scope, derive, verdicts }
    }

    /// The scope whose rows it keeps.
    pub fn scope(&self) -> &Scope {
        &self.scope
    }

    /// Whether there is nothing to leave out, so that rows need not be asked about.
    pub fn lets_all_through(&self) -> bool {
        self.scope.from.is_none() && self.scope.until.is_none() && self.scope.has_all_requests()
    }

    /// The same in two: what can be told by time and numbers alone, and what texts must be looked at for. Whoever has both in this
    /// order looks at the texts of those rows only that the first keeps.
    pub fn halves(&self) -> (RowFilter, RowFilter) {
        let is_of_texts = |filter: &&Filter| matches!(filter.column, Column::Text(_) | Column::Derived(_));
        let (texts, numbers): (Vec<&Filter>, Vec<&Filter>) = self.scope.filters.iter().partition(is_of_texts);
        let filters = |some: Vec<&Filter>| {
            let mut filters = Filters::default();
            some.into_iter().for_each(|filter| filters.narrow(filter.clone()));
            filters
        };
        let first = Scope { filters: filters(numbers), ..self.scope.clone() };
        let second = Scope { filters: filters(texts), ..Scope::default() };
        let derive = || Arc::clone(&self.derive);
        (RowFilter::new(first, derive()), RowFilter::new(second, derive()))
    }

    /// The columns that it looks at.
    pub fn projection(&self) -> Projection {
        self.scope.columns().collect::<Projection>().with(Projection::time())
    }

    /// Forgets what was learnt of texts: new dictionaries are coming.
    pub fn forget(&mut self) {
        self.verdicts.iter_mut().for_each(Vec::clear);
    }

    /// The rows of a batch that belong to the scope, in order: as [`RowFilter::keeps`], but one condition after the other, so that each
    /// goes through one array.
    pub fn rows(&mut self, batch: &RequestBatch, dictionaries: &Dictionaries) -> Vec<u32> {
        let (from, until) = (self.scope.from, self.scope.until);
        let all = 0..batch.rows() as u32;
        let mut rows: Vec<u32> = match (from, until) {
            (None, None) => all.collect(),
            (from, until) => {
                let (from, until) = (from.unwrap_or(NO_TIME + 1), until.unwrap_or(i64::MAX));
                all.filter(|row| (from..until).contains(&batch.time[*row as usize])).collect()
            }
        };
        if let Some(hours) = &mut self.scope.hours {
            rows.retain(|row| is_within(hours, batch.time[*row as usize]));
        }
        for (filter, verdicts) in self.scope.filters.iter().zip(&mut self.verdicts) {
            let column = match filter.column {
                Column::Text(column) => Some(column),
                Column::Derived(column) => Some(column.base()),
                Column::Number(_) | Column::Time => None,
            };
            // Where texts are few beside the rows, all are judged first.
            let texts = column.filter(|column| {
                dictionaries.of(*column).len() <= batch.rows() && batch.codes(*column).len() == batch.rows()
            });
            let numbers = match filter.column {
                Column::Number(column) => Some(batch.numbers(column)).filter(|all| all.len() == batch.rows()),
                _ => None,
            };
            match (texts, numbers) {
                (_, Some(numbers)) => rows.retain(|row| number_holds(filter, numbers[*row as usize])),
                (Some(column), None) => {
                    let dictionary = dictionaries.of(column);
                    for code in 0..dictionary.len() as u32 {
                        text_holds(filter, code, || dictionary.text(code), &*self.derive, verdicts);
                    }
                    let (codes, nothing) = (batch.codes(column), filter.values.has_nothing());
                    let verdict =
                        |code: u32| verdicts.get(code as usize).map_or(nothing, |it| *it == Verdict::Keep);
                    rows.retain(|row| verdict(codes[*row as usize]) != filter.without);
                }
                (None, None) => rows
                    .retain(|row| holds(filter, verdicts, batch, *row as usize, dictionaries, &*self.derive)),
            }
        }
        rows
    }

    /// Whether a row belongs to the scope. Its sites are chosen before, source by source.
    pub fn keeps(&mut self, batch: &RequestBatch, row: usize, dictionaries: &Dictionaries) -> bool {
        if !self.is_in_time(batch.time[row]) {
            return false;
        }
        let (filters, derive) = (self.scope.filters.iter(), &*self.derive);
        let mut each = filters.zip(&mut self.verdicts);
        each.all(|(filter, verdicts)| holds(filter, verdicts, batch, row, dictionaries, derive))
    }

    /// Whether a request belongs to the scope as far as its time and its numbers say, which are given by their columns.
    #[inline]
    pub fn keeps_numbers(&mut self, time: i64, numbers: &[u64; NumberColumn::COUNT]) -> bool {
        let holds = |filter: &Filter| match filter.column {
            Column::Number(column) => number_holds(filter, numbers[column.index()]),
            Column::Text(_) | Column::Derived(_) | Column::Time => true,
        };
        self.is_in_time(time) && self.scope.filters.iter().all(holds)
    }

    #[inline]
    fn is_in_time(&mut self, time: i64) -> bool {
        // What came in nobody knows when is in no period.
        let has_period = self.scope.from.is_some() || self.scope.until.is_some();
        if has_period && time == NO_TIME
            || self.scope.from.is_some_and(|from| time < from)
            || self.scope.until.is_some_and(|until| time >= until)
        {
            return false;
        }
        self.scope.hours.as_mut().is_none_or(|hours| is_within(hours, time))
    }
}

/// Whether a filter lets a number through.
#[inline]
fn number_holds(filter: &Filter, number: u64) -> bool {
    (number != NO_NUMBER && filter.values.has_number(number)) != filter.without
}

/// Whether an instant is within some hours: what came in nobody knows when is in none.
fn is_within(hours: &mut WeekHours, time: i64) -> bool {
    time != NO_TIME && hours.has(time)
}

/// Whether a filter lets a row through.
fn holds(
    filter: &Filter,
    verdicts: &mut Vec<Verdict>,
    batch: &RequestBatch,
    row: usize,
    dictionaries: &Dictionaries,
    derive: &dyn Derive,
) -> bool {
    let of_text = |column: TextColumn, verdicts: &mut Vec<Verdict>| match batch.code(column, row) {
        Some(code) => text_holds(filter, code, || dictionaries.of(column).text(code), derive, verdicts),
        None => filter.values.has_nothing(),
    };
    let holds = match filter.column {
        Column::Number(column) => {
            batch.number(column, row).is_some_and(|number| filter.values.has_number(number))
        }
        Column::Text(column) => of_text(column, verdicts),
        Column::Derived(column) => of_text(column.base(), verdicts),
        // No filter is understood that looks at the time.
        Column::Time => true,
    };
    holds != filter.without
}

fn text_holds<'t>(
    filter: &Filter,
    code: u32,
    text: impl FnOnce() -> &'t str,
    derive: &'t dyn Derive,
    verdicts: &mut Vec<Verdict>,
) -> bool {
    let index = code as usize;
    if verdicts.len() <= index {
        verdicts.resize(index + 1, Verdict::Open);
    }
    if verdicts[index] == Verdict::Open {
        let text = match filter.column {
            Column::Derived(column) => derive.derive(column, text()),
            _ => Some(Cow::Borrowed(text())),
        };
        let holds = match text {
            Some(text) => filter.values.has_text(&text),
            None => filter.values.has_nothing(),
        };
        verdicts[index] = if holds { Verdict::Keep } else { Verdict::Drop };
    }
    verdicts[index] == Verdict::Keep
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::columns::{DerivedColumn, NumberColumn};
    use crate::filters::Filters;
    use rstest::rstest;

    #[test]
    fn hours_of_the_week_are_kept_within_the_period() {
        let (mut batch, texts): (RequestBatch, Dictionaries) = Default::default();
        let hour = 3_600_000;
        // The first Thursday of 1970, hour by hour, and a row that nobody knows the time of.
        batch.time = (0..24).map(|at| at * hour).chain([NO_TIME]).collect();
        let hours = WeekHours::understand(&["Thu 22-2"], &jiff::tz::TimeZone::UTC).unwrap();
        for (from, wanted) in [(None, vec![0, 1, 2, 22, 23]), (Some(2 * hour), vec![2, 22, 23])] {
            let scope = Scope { from, hours: Some(hours.clone()), ..Scope::default() };
            assert!(!scope.has_all_requests());
            let mut rows = RowFilter::new(scope, Arc::new(FirstLetter));
            assert!(!rows.lets_all_through());
            assert_eq!(rows.rows(&batch, &texts), wanted);
            let one_by_one: Vec<u32> =
                (0..25).filter(|row| rows.keeps(&batch, *row as usize, &texts)).collect();
            assert_eq!(one_by_one, wanted);
        }
    }

    /// What follows from a text is its first letter.
    #[derive(Debug)]
    struct FirstLetter;

    impl Derive for FirstLetter {
        fn derive<'t>(&'t self, _: DerivedColumn, text: &'t str) -> Option<Cow<'t, str>> {
            text.get(..1).map(Cow::Borrowed)
        }
    }

    /// Paths, statuses and lengths of time in microseconds, each perhaps missing.
    const ROWS: [(Option<&str>, Option<u64>, Option<u64>); 4] = [
        (Some("/a,b"), Some(200), Some(5_000_000)),
        (Some("/c"), Some(404), Some(250)),
        (None, Some(503), None),
        (Some("/C"), None, Some(6_000_000)),
    ];

    #[rstest]
    #[case("status=2xx,503", &[0, 2])]
    #[case("status!=404", &[0, 2, 3])]
    #[case("status>=404", &[1, 2])]
    #[case("duration>5 s", &[3])]
    #[case("duration<=250us", &[1])]
    #[case(r"path=/a\,b", &[0])]
    #[case("path=/a,b", &[])]
    #[case("path=/c", &[1])]
    #[case("path=", &[2])]
    #[case("!path=", &[0, 1, 3])]
    #[case("extension=/", &[0, 1, 3])]
    #[case("extension=", &[2])]
    fn rows_are_kept_by_their_values(#[case] filter: &str, #[case] kept: &[usize]) {
        let (mut batch, mut texts) = (RequestBatch::default(), Dictionaries::default());
        for (path, status, duration) in ROWS {
            batch.time.push(0);
            let code = path.map(|path| texts.of_mut(TextColumn::Path).code(path));
            batch.codes_mut(TextColumn::Path).push(code.unwrap_or(crate::batch::NO_TEXT));
            batch.numbers_mut(NumberColumn::Status).push(status.unwrap_or(crate::batch::NO_NUMBER));
            batch.numbers_mut(NumberColumn::Duration).push(duration.unwrap_or(crate::batch::NO_NUMBER));
        }
        let scope = Scope { filters: Filters::understand(&[filter], &[]).unwrap(), ..Scope::default() };
        let mut rows = RowFilter::new(scope, Arc::new(FirstLetter));
        for _ in 0..2 {
            let found: Vec<usize> = (0..ROWS.len()).filter(|row| rows.keeps(&batch, *row, &texts)).collect();
            let together: Vec<usize> = rows.rows(&batch, &texts).iter().map(|row| *row as usize).collect();
            assert_eq!(together, found);
            assert_eq!(found, kept, "also when the texts are known already");
            if !filter.contains("path") && !filter.contains("extension") {
                let number = |column: NumberColumn, row: usize| {
                    batch.number(column, row).unwrap_or(crate::batch::NO_NUMBER)
                };
                let numbers = |row: usize| {
                    std::array::from_fn(|nth| match NumberColumn::ALL[nth] {
                        column @ (NumberColumn::Status | NumberColumn::Duration) => number(column, row),
                        _ => crate::batch::NO_NUMBER,
                    })
                };
                let by_numbers: Vec<usize> =
                    (0..ROWS.len()).filter(|row| rows.keeps_numbers(0, &numbers(*row))).collect();
                assert_eq!(by_numbers, kept);
            }
        }
    }
}
