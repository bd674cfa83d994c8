//! A scope as it is written: in the client's options, in the parameters of the API, in the console's address.
//!
//! ```
//! use exedra_common::scope::ScopeWords;
//! use jiff::tz::TimeZone;
//! let words = ScopeWords { day: Some("2026-09-14".to_owned()), only: vec!["status>=500".to_owned()], ..ScopeWords::default() };
//! let scope = words.understand(0, &TimeZone::UTC).unwrap();
//! assert_eq!(scope.until.unwrap() - scope.from.unwrap(), 24 * 3_600_000);
//! let wrong = ScopeWords { only: vec!["kind=pages".to_owned()], ..ScopeWords::default() };
//! assert!(wrong.understand(0, &TimeZone::UTC).unwrap_err().to_string().contains("page"));
//! ```

use super::{NoHours, Scope, WeekHours, period};
use crate::columns::{Column, DerivedColumn};
use crate::filters::{Filter, FilterError, Filters};
use jiff::tz::TimeZone;
use thiserror::Error;

/// The words of a scope, each where something was written.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ScopeWords {
    /// One day: `2026-09-14`, `today`, `yesterday`.
    pub day: Option<String>,
    /// The week of a day, or `2026-W38`.
    pub week: Option<String>,
    /// One month: `2026-09`.
    pub month: Option<String>,
    /// A stretch up to now: `7 days`, `1h`.
    pub last: Option<String>,
    /// The first instant or day that counts.
    pub from: Option<String>,
    /// The first instant or day that no longer counts.
    pub until: Option<String>,
    /// Hours of the week: `Mon 8`, `Mon-Fri 8-17`; any of them.
    pub hours: Vec<String>,
    /// Filters of what is kept.
    pub only: Vec<String>,
    /// Filters of what is left out.
    pub without: Vec<String>,
    /// Whether only people are meant.
    pub people: bool,
    /// Whether only bots and crawlers are meant.
    pub crawlers: bool,
}

const CRAWLER: Column = Column::Derived(DerivedColumn::Crawler);

/// Why words of a scope could not be understood.
#[derive(Debug, Clone, Error, PartialEq, Eq)]
pub enum ScopeError {
    /// A time.
    #[error(transparent)]
    Period(#[from] period::PeriodError),
    /// Hours of the week.
    #[error(transparent)]
    Hours(#[from] NoHours),
    /// A filter.
    #[error(transparent)]
    Filter(#[from] FilterError),
    /// Two words for one thing.
    #[error("`{0}` and `{1}` exclude one another: name one of them")]
    Both(&'static str, &'static str),
}

impl ScopeWords {
    /// The scope that is meant `now` (milliseconds since 1970 UTC), with days of a zone.
    pub fn understand(&self, now: i64, zone: &TimeZone) -> Result<Scope, ScopeError> {
        let (from, until) = self.period(now, zone)?;
        let mut filters = Filters::understand(&self.only, &self.without)?;
        match (self.people, self.crawlers) {
            (true, true) => return Err(ScopeError::Both("people", "crawlers")),
            (false, false) => {}
            // Whoever names crawlers means no people already.
            (_, true) if filters.iter().any(|filter| filter.column == CRAWLER && !filter.without) => {}
            (_, crawlers) => filters.add(Filter::crawlers(crawlers)),
        }
        let hours = (!self.hours.is_empty()).then(|| WeekHours::understand(&self.hours, zone)).transpose()?;
        Ok(Scope { sites: Vec::new(), from, until, hours, filters })
    }

    fn period(&self, now: i64, zone: &TimeZone) -> Result<(Option<i64>, Option<i64>), ScopeError> {
        let named = [("day", &self.day), ("week", &self.week), ("month", &self.month), ("last", &self.last)];
        let bounds = [("from", &self.from), ("until", &self.until)];
        let mut whole = named.iter().filter(|(_, word)| word.is_some()).map(|(name, _)| *name);
        // A stretch up to now may end earlier.
        let mut end = bounds.iter().filter(|(_, word)| word.is_some()).map(|(name, _)| *name);
        if let Some(first) = whole.next() {
            let second = whole.next().or_else(|| end.find(|name| first != "last" || *name == "from"));
            if let Some(second) = second {
                return Err(ScopeError::Both(first, second));
            }
        }
        let both = |(from, until)| (Some(from), Some(until));
        if let Some(day) = &self.day {
            return Ok(both(period::day(day, now, zone)?));
        }
        if let Some(week) = &self.week {
            return Ok(both(period::week(week, zone)?));
        }
        if let Some(month) = &self.month {
            return Ok(both(period::month(month, zone)?));
        }
        let instant =
            |word: &Option<String>| word.as_deref().map(|word| period::instant(word, zone)).transpose();
        let from = match &self.last {
            Some(length) => Some(period::last(length, now, zone)?),
            None => instant(&self.from)?,
        };
        Ok((from, instant(&self.until)?))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// 2026-11-14 at noon.
    const NOW: i64 = 1_794_657_600_000;

    fn words(text: &str) -> ScopeWords {
        let mut words = ScopeWords::default();
        for (name, value) in text.split('&').filter_map(|word| word.split_once('=')) {
            let value = Some(value.to_owned());
            match name {
                "day" => words.day = value,
                "week" => words.week = value,
                "last" => words.last = value,
                "from" => words.from = value,
                "until" => words.until = value,
                "only" => words.only.extend(value),
                "people" => words.people = true,
                _ => words.crawlers = true,
            }
        }
        words
    }

    #[rstest]
    #[case("day=today", Some(1_794_614_400_000), Some(1_794_700_800_000), "")]
    #[case("day=yesterday&only=path=/a", Some(1_794_528_000_000), Some(1_794_614_400_000), "path=/a")]
    #[case("last=1h", Some(1_794_654_000_000), None, "")]
    #[case("last=2 days&until=2026-11-14", Some(1_794_528_000_000), Some(1_794_614_400_000), "")]
    #[case("people=", None, None, "!crawler=*")]
    #[case("crawlers=&only=crawler=Bell", None, None, "crawler=Bell")]
    fn scopes(
        #[case] text: &str,
        #[case] from: Option<i64>,
        #[case] until: Option<i64>,
        #[case] filters: &str,
    ) {
        let scope = words(text).understand(NOW, &TimeZone::UTC).unwrap();
        assert_eq!((scope.from, scope.until, &*scope.filters.to_string()), (from, until, filters));
    }

    #[rstest]
    #[case("day=today&week=2026-W38", "`day` and `week` exclude one another")]
    #[case("last=1h&from=2026-01-01", "`last` and `from` exclude one another")]
    #[case("day=today&until=2026-01-01", "`day` and `until` exclude one another")]
    #[case("people=&crawlers=", "`people` and `crawlers` exclude one another")]
    #[case("day=tomorrow", "`tomorrow` is not a day")]
    #[case("only=kind=pages", "did you mean `page`?")]
    fn mistakes(#[case] text: &str, #[case] message: &str) {
        let wrong = words(text).understand(NOW, &TimeZone::UTC).unwrap_err().to_string();
        assert!(wrong.contains(message), "{wrong}");
    }
}
