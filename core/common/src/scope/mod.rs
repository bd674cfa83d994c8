//! Which requests are meant: sites × period × filters, the same everywhere.
//!
//! - [`words`]: a scope as it is written; [`period`]: its stretch of time; [`hours`]: hours of the week; [`rows`]: which rows of batches belong to it
//!
//! ```
//! use exedra_common::Origin;
//! use exedra_common::scope::Scope;
//! let scope = Scope { sites: vec!["harbour".to_owned()], from: Some(1000), ..Scope::default() };
//! assert!(scope.has_site("harbour") && !scope.overlaps(0, 999));
//! assert!(!scope.takes(&Origin::default()), "of which site it is, is not known");
//! ```

mod hours;
pub mod period;
mod rows;
pub mod words;

pub use hours::{NoHours, WeekHours};
pub use rows::RowFilter;
pub use words::{ScopeError, ScopeWords};

use crate::columns::Column;
use crate::filters::Filters;
use crate::origin::Origin;

/// The requests that a question is about.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Scope {
    /// Names of sites; empty means all.
    pub sites: Vec<String>,
    /// First instant that counts, in milliseconds since 1970 UTC.
    pub from: Option<i64>,
    /// First instant that no longer counts, in milliseconds since 1970 UTC.
    pub until: Option<i64>,
    /// The hours of the week that count, where not all do.
    pub hours: Option<WeekHours>,
    /// What must hold of each request.
    pub filters: Filters,
}

impl Scope {
    /// Whether all requests of its sites and its period count, so that what was counted of whole days is of use.
    pub fn has_all_requests(&self) -> bool {
        self.hours.is_none() && self.filters.is_empty()
    }

    /// Whether it matters when requests came in.
    pub fn looks_at_times(&self) -> bool {
        self.from.is_some() || self.until.is_some() || self.hours.is_some()
    }

    /// Whether a stretch of time (both ends included, in milliseconds) can hold anything of this scope.
    pub fn overlaps(&self, first: i64, last: i64) -> bool {
        self.from.is_none_or(|from| last >= from) && self.until.is_none_or(|until| first < until)
    }

    /// Whether requests of this site belong.
    pub fn has_site(&self, site: &str) -> bool {
        self.sites.is_empty() || self.sites.iter().any(|one| one == site)
    }

    /// Whether requests of a source belong, as far as that can be told before any is read.
    pub fn takes(&self, origin: &Origin) -> bool {
        let is_of_site =
            self.sites.is_empty() || origin.site.as_ref().is_some_and(|site| self.sites.contains(site));
        is_of_site
            && self.filters.iter().all(|filter| match filter.column {
                Column::Text(column) if filter.column.declaration().of_source => {
                    let holds = match origin.value(column) {
                        Some(value) => filter.values.has_text(value),
                        None => filter.values.has_nothing(),
                    };
                    holds != filter.without
                }
                _ => true,
            })
    }

    /// The columns that the filters look at.
    pub fn columns(&self) -> impl Iterator<Item = Column> + '_ {
        self.filters.iter().map(|filter| filter.column)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sources_are_chosen_before_they_are_read() {
        let pier = Origin { site: Some("harbour".into()), server: Some("pier".into()), source: None };
        let takes = |only: &str| {
            let filters = Filters::understand(&[only], &[]).unwrap();
            Scope { filters, ..Scope::default() }.takes(&pier)
        };
        assert!(takes("server=p*") && takes("source=") && takes("status=404"));
        assert!(!takes("server=quay") && !takes("!site=harbour") && !takes("source=*"));
    }
}
