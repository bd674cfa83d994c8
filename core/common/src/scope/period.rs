//! Stretches of time as people write them.
//!
//! ```
//! use exedra_common::scope::period::{PeriodError, day, instant, last};
//! use jiff::tz::TimeZone;
//! let zone = TimeZone::UTC;
//! let noon = instant("2026-09-14T12:00:00Z", &zone).unwrap();
//! assert_eq!(last("1h", noon, &zone), Ok(noon - 3_600_000));
//! assert_eq!(day("today", noon, &zone).unwrap().0, noon - 12 * 3_600_000);
//! assert_eq!(instant("soon", &zone), Err(PeriodError::NoInstant("soon".to_owned())));
//! ```

use crate::units;
use jiff::civil::{Date, DateTime, ISOWeekDate, Weekday};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan, Zoned};
use thiserror::Error;

/// Why a time could not be understood.
#[derive(Debug, Clone, Error, PartialEq, Eq)]
pub enum PeriodError {
    /// No instant.
    #[error("`{0}` is not a time: write 2026-09-14, 2026-09-14T08:30 or 2026-09-14T08:30:00Z")]
    NoInstant(String),
    /// No day.
    #[error("`{0}` is not a day: write it like 2026-09-14, today or yesterday")]
    NoDay(String),
    /// No week.
    #[error("`{0}` is not a week: write it like 2026-W38, or a day in it like 2026-09-14")]
    NoWeek(String),
    /// No month.
    #[error("`{0}` is not a month: write it like 2026-09")]
    NoMonth(String),
    /// No period to compare with.
    #[error(
        "`{0}` is not a period to compare with: write previous, yesterday, 2026-09-14, 2026-W38, 2026-09, or 2026-09-01..2026-09-08"
    )]
    NoOther(String),
    /// Nothing that another could be previous to.
    #[error(
        "`previous` needs a period that it comes before: name one with --day, --week, --month, --last or --from"
    )]
    NoPeriod,
    /// No length.
    #[error("`{0}` is not a stretch of time: write it like 1h, \"24 hours\" or \"7 days\"")]
    NoLength(String),
}

/// An instant, in milliseconds since 1970 UTC. A date is its first instant in the zone.
pub fn instant(text: &str, zone: &TimeZone) -> Result<i64, PeriodError> {
    if let Ok(stamp) = text.parse::<Timestamp>() {
        return Ok(stamp.as_millisecond());
    }
    let civil = text.parse::<DateTime>().or_else(|_| text.parse::<Date>().map(DateTime::from));
    civil
        .ok()
        .and_then(|civil| zone.to_timestamp(civil).ok())
        .map(|stamp| stamp.as_millisecond())
        .ok_or_else(|| PeriodError::NoInstant(text.to_owned()))
}

/// Where "the last so much" begins, in milliseconds since 1970 UTC. Days and weeks are whole days of the
/// zone, today among them; minutes and hours count back from now.
pub fn last(text: &str, now: i64, zone: &TimeZone) -> Result<i64, PeriodError> {
    let wrong = || PeriodError::NoLength(text.to_owned());
    let (length, counts_days) =
        units::length(text).filter(|(length, _)| !length.is_zero()).ok_or_else(wrong)?;
    if !counts_days {
        let back = i64::try_from(length.as_millis()).map_err(|_| wrong())?;
        return now
            .checked_sub(back)
            .filter(|from| Timestamp::from_millisecond(*from).is_ok())
            .ok_or_else(wrong);
    }
    let days = i64::try_from(length.as_secs() / units::DAY)
        .ok()
        .filter(|days| *days < 1_000_000)
        .ok_or_else(wrong)?;
    let today = Timestamp::from_millisecond(now).map_err(|_| wrong())?.to_zoned(zone.clone()).date();
    let first = today.checked_sub((days - 1).days()).map_err(|_| wrong())?;
    Ok(zone.to_timestamp(DateTime::from(first)).map_err(|_| wrong())?.as_millisecond())
}

/// The first instant of a day, and of the one after it. The day may be `today` or `yesterday`.
pub fn day(text: &str, now: i64, zone: &TimeZone) -> Result<(i64, i64), PeriodError> {
    let today = || Timestamp::from_millisecond(now).ok().map(|now| now.to_zoned(zone.clone()).date());
    let day = match text {
        "today" => today(),
        "yesterday" => today().and_then(|today| today.yesterday().ok()),
        date => date.parse::<Date>().ok(),
    };
    day.and_then(|day| between(day, day.tomorrow().ok()?, zone))
        .ok_or_else(|| PeriodError::NoDay(text.to_owned()))
}

/// The first instant of a week, and of the one after it. Weeks are those of ISO 8601: Monday to Sunday.
pub fn week(text: &str, zone: &TimeZone) -> Result<(i64, i64), PeriodError> {
    let numbered = || {
        let (year, week) = text.split_once("-W")?;
        ISOWeekDate::new(year.parse().ok()?, week.parse().ok()?, Weekday::Monday).ok().map(|week| week.date())
    };
    let holding = || Some(text.parse::<Date>().ok()?.iso_week_date().first_of_week().ok()?.date());
    let monday = numbered().or_else(holding);
    let week = monday.and_then(|monday| between(monday, monday.checked_add(7.days()).ok()?, zone));
    week.ok_or_else(|| PeriodError::NoWeek(text.to_owned()))
}

/// The first instant of a month, and of the one after it.
pub fn month(text: &str, zone: &TimeZone) -> Result<(i64, i64), PeriodError> {
    let first = format!("{text}-01").parse::<Date>().ok().filter(|_| text.len() == 7);
    let month = first.and_then(|first| between(first, first.checked_add(1.month()).ok()?, zone));
    month.ok_or_else(|| PeriodError::NoMonth(text.to_owned()))
}

/// Another period, to compare the one at hand with: its first instant and the first after it.
///
/// `previous` is what comes before: the month before a whole month; otherwise the stretch of the same length as many whole
/// days earlier as it takes days. A period at hand that is still open ends `now`.
pub fn other(
    text: &str,
    (from, until): (Option<i64>, Option<i64>),
    now: i64,
    zone: &TimeZone,
) -> Result<(i64, i64), PeriodError> {
    if text == "previous" {
        let from = from.ok_or(PeriodError::NoPeriod)?;
        return previous(from, until.unwrap_or(now), zone).ok_or(PeriodError::NoPeriod);
    }
    if let Some((first, after)) = text.split_once("..") {
        let (first, after) = (instant(first.trim(), zone)?, instant(after.trim(), zone)?);
        return if first < after { Ok((first, after)) } else { Err(PeriodError::NoOther(text.to_owned())) };
    }
    let is_week = text.contains("-W");
    let found = if is_week { week(text, zone) } else { day(text, now, zone).or_else(|_| month(text, zone)) };
    found.map_err(|_| PeriodError::NoOther(text.to_owned()))
}

fn previous(from: i64, until: i64, zone: &TimeZone) -> Option<(i64, i64)> {
    let at = |time: i64| Some(Timestamp::from_millisecond(time).ok()?.to_zoned(zone.clone()));
    let (first, after) = (at(from)?, at(until)?);
    let begins_month = |time: &Zoned| time.day() == 1 && time.time() == jiff::civil::Time::midnight();
    let earlier = if begins_month(&first) && begins_month(&after) && first < after {
        let months = (i64::from(after.year()) - i64::from(first.year())) * 12 + i64::from(after.month())
            - i64::from(first.month());
        months.months()
    } else {
        // The days that it touches: a whole week goes back by seven, a few hours by one.
        let last = Timestamp::from_millisecond(until.max(from + 1) - 1).ok()?.to_zoned(zone.clone());
        (i64::from((last.date() - first.date()).get_days()) + 1).days()
    };
    let begins = |date: Date| zone.to_timestamp(DateTime::from(date)).ok();
    let back = |time: &Zoned| {
        // Where clocks change at midnight, a day may begin at one o'clock; the day earlier does not.
        let earlier = match begins(time.date()) == Some(time.timestamp()) {
            true => begins(time.date().checked_sub(earlier).ok()?)?,
            false => time.checked_sub(earlier).ok()?.timestamp(),
        };
        Some(earlier.as_millisecond())
    };
    Some((back(&first)?, back(&after)?))
}

fn between(first: Date, after: Date, zone: &TimeZone) -> Option<(i64, i64)> {
    let instant = |date| Some(zone.to_timestamp(DateTime::from(date)).ok()?.as_millisecond());
    Some((instant(first)?, instant(after)?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn at(text: &str) -> i64 {
        text.parse::<Timestamp>().unwrap().as_millisecond()
    }

    #[rstest]
    #[case("2026-07-14", Some("2026-07-13T23:00:00Z"))]
    #[case("2026-07-14T08:30", Some("2026-07-14T07:30:00Z"))]
    #[case("2026-07-14T08:30:00Z", Some("2026-07-14T08:30:00Z"))]
    #[case("tomorrow", None)]
    fn instants(#[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(instant(text, &TimeZone::get("Atlantic/Faroe").unwrap()).ok(), expected.map(at));
    }

    #[rstest]
    #[case("1 day", Some("2026-07-13T23:00:00Z"))]
    #[case("7 days", Some("2026-07-07T23:00:00Z"))]
    #[case("2 hours", Some("2026-07-14T10:00:00Z"))]
    #[case("2h", Some("2026-07-14T10:00:00Z"))]
    #[case("90 min", Some("2026-07-14T10:30:00Z"))]
    #[case("24h", Some("2026-07-13T12:00:00Z"))]
    #[case("7", None)]
    #[case("0 days", None)]
    #[case("seven days", None)]
    fn lengths(#[case] text: &str, #[case] expected: Option<&str>) {
        let zone = TimeZone::get("Atlantic/Faroe").unwrap();
        assert_eq!(last(text, at("2026-07-14T12:00:00Z"), &zone).ok(), expected.map(at));
    }

    #[rstest]
    #[case::week("previous", "2026-10-19", "2026-10-26", "2026-10-12", "2026-10-19")]
    #[case::month("previous", "2026-03-01", "2026-04-01", "2026-02-01", "2026-03-01")]
    #[case::months("previous", "2026-01-01", "2026-04-01", "2025-10-01", "2026-01-01")]
    #[case::hours("previous", "2026-10-19T08:00", "2026-10-19T10:00", "2026-10-18T08:00", "2026-10-18T10:00")]
    #[case::day("2026-09-14", "2026-10-19", "2026-10-20", "2026-09-14", "2026-09-15")]
    #[case::named_month("2025-10", "2026-10-01", "2026-11-01", "2025-10-01", "2025-11-01")]
    #[case::stretch(
        "2026-09-01 .. 2026-09-03T12:00",
        "2026-10-01",
        "2026-11-01",
        "2026-09-01",
        "2026-09-03T12:00"
    )]
    fn other_periods(
        #[case] text: &str,
        #[case] from: &str,
        #[case] until: &str,
        #[case] first: &str,
        #[case] after: &str,
    ) {
        let zone = TimeZone::get("Atlantic/Faroe").unwrap();
        let at = |text| instant(text, &zone).unwrap();
        let found = other(text, (Some(at(from)), Some(at(until))), 0, &zone);
        assert_eq!(found, Ok((at(first), at(after))));
        let open = other("previous", (Some(at("2026-10-13")), None), at("2026-10-19T12:00"), &zone);
        assert_eq!(open, Ok((at("2026-10-06"), at("2026-10-12T12:00"))));
        assert_eq!(other("previous", (None, None), 0, &zone), Err(PeriodError::NoPeriod));
        assert_eq!(
            other("yesterday", (None, None), at("2026-10-19T12:00"), &zone),
            Ok((at("2026-10-18"), at("2026-10-19")))
        );
        assert!(other("the day before", (None, None), 0, &zone).is_err());
    }

    #[test]
    fn days_weeks_and_months_are_those_of_the_zone() {
        let zone = TimeZone::get("Atlantic/Faroe").unwrap();
        let stretch = |first, after| Ok((at(first), at(after)));
        assert_eq!(day("yesterday", at("2026-07-15T00:30:00+01:00"), &zone), day("2026-07-14", 0, &zone));
        assert_eq!(day("2026-07-14", 0, &zone), stretch("2026-07-13T23:00:00Z", "2026-07-14T23:00:00Z"));
        // The clocks go back within this week, and within this month.
        let week_of_the_change = stretch("2026-10-18T23:00:00Z", "2026-10-26T00:00:00Z");
        assert_eq!(week("2026-10-25", &zone), week_of_the_change);
        assert_eq!(week("2026-W43", &zone), week_of_the_change);
        assert_eq!(month("2026-10", &zone), stretch("2026-09-30T23:00:00Z", "2026-11-01T00:00:00Z"));
        assert!(day("2026-02-30", 0, &zone).is_err() && week("2026-W60", &zone).is_err());
        assert!(month("2026-13", &zone).is_err() && month("2026-1", &zone).is_err());
    }
}
