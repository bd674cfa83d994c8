//! Stretches of time as people write them.

use jiff::civil::{Date, DateTime, ISOWeekDate, Weekday};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use thiserror::Error;

/// Why a time could not be understood.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum PeriodError {
    /// No instant.
    #[error("`{0}` is no time: write 2026-09-14, 2026-09-14T08:30 or 2026-09-14T08:30:00Z")]
    NoInstant(String),
    /// No day.
    #[error("`{0}` is no day: write it like 2026-09-14")]
    NoDay(String),
    /// No week.
    #[error("`{0}` is no week: write it like 2026-W38, or a day in it like 2026-09-14")]
    NoWeek(String),
    /// No month.
    #[error("`{0}` is no month: write it like 2026-09")]
    NoMonth(String),
    /// No length.
    #[error("`{0}` is no stretch of time: write it like \"24 hours\" or \"7 days\"")]
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
    let (count, unit) = text.trim().split_once(' ').ok_or_else(wrong)?;
    let count: i64 = count.parse().ok().filter(|count| (1..100_000).contains(count)).ok_or_else(wrong)?;
    let days = match unit.trim_end_matches('s') {
        "minute" => return Ok(now - count * 60_000),
        "hour" => return Ok(now - count * 3_600_000),
        "day" => count,
        "week" => count * 7,
        _ => return Err(wrong()),
    };
    let today = Timestamp::from_millisecond(now).map_err(|_| wrong())?.to_zoned(zone.clone()).date();
    let first = today.checked_sub((days - 1).days()).map_err(|_| wrong())?;
    Ok(zone.to_timestamp(DateTime::from(first)).map_err(|_| wrong())?.as_millisecond())
}

/// The first instant of a day, and of the one after it.
pub fn day(text: &str, zone: &TimeZone) -> Result<(i64, i64), PeriodError> {
    let day = text.parse::<Date>().ok();
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
    #[case("7", None)]
    #[case("0 days", None)]
    #[case("seven days", None)]
    fn lengths(#[case] text: &str, #[case] expected: Option<&str>) {
        let zone = TimeZone::get("Atlantic/Faroe").unwrap();
        assert_eq!(last(text, at("2026-07-14T12:00:00Z"), &zone).ok(), expected.map(at));
    }

    #[test]
    fn days_weeks_and_months_are_those_of_the_zone() {
        let zone = TimeZone::get("Atlantic/Faroe").unwrap();
        let stretch = |first, after| Ok((at(first), at(after)));
        assert_eq!(day("2026-07-14", &zone), stretch("2026-07-13T23:00:00Z", "2026-07-14T23:00:00Z"));
        // The clocks go back within this week, and within this month.
        let week_of_the_change = stretch("2026-10-18T23:00:00Z", "2026-10-26T00:00:00Z");
        assert_eq!(week("2026-10-25", &zone), week_of_the_change);
        assert_eq!(week("2026-W43", &zone), week_of_the_change);
        assert_eq!(month("2026-10", &zone), stretch("2026-09-30T23:00:00Z", "2026-11-01T00:00:00Z"));
        assert!(day("2026-02-30", &zone).is_err() && week("2026-W60", &zone).is_err());
        assert!(month("2026-13", &zone).is_err() && month("2026-1", &zone).is_err());
    }
}
