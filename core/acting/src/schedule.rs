//! When something comes that comes again, by the clock of a zone, and which days it is about.
//!
//! On each of its days it comes once, also where a clock is set: a time that is left out comes as much later as the clock is set forward, and
//! of one that comes twice the first counts.
//!
//! ```
//! use exedra_acting::schedule::{after, latest};
//! use exedra_answering::config::reports::Every;
//! use jiff::tz::TimeZone;
//! let zone = TimeZone::get("Europe/Lisbon").unwrap();
//! let every = Every::understand("monday 07:00").unwrap();
//! let now: jiff::Timestamp = "2026-09-16T12:00:00Z".parse().unwrap();
//! // Seven by the clock of summer.
//! assert_eq!(latest(every, &zone, now).unwrap().to_string(), "2026-09-14T06:00:00Z");
//! assert_eq!(after(every, &zone, now).unwrap().to_string(), "2026-09-21T06:00:00Z");
//! ```

use exedra_answering::config::reports::{Days, Every, On};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

/// More days than lie between any two.
const FAR: i64 = 40;

/// The last time up to an instant.
pub fn latest(every: Every, zone: &TimeZone, now: Timestamp) -> Option<Timestamp> {
    let today = now.to_zoned(zone.clone()).date();
    let days = (-1..FAR).map(|ago| today.saturating_sub(ago.days()));
    days.filter(|day| is_on(every, *day)).find_map(|day| at(every, zone, day).filter(|time| *time <= now))
}

/// The first time after an instant.
pub fn after(every: Every, zone: &TimeZone, now: Timestamp) -> Option<Timestamp> {
    let today = now.to_zoned(zone.clone()).date();
    let days = (-1..FAR).map(|ahead| today.saturating_add(ahead.days()));
    days.filter(|day| is_on(every, *day)).find_map(|day| at(every, zone, day).filter(|time| *time > now))
}

fn is_on(every: Every, day: Date) -> bool {
    match every.on {
        On::Day => true,
        On::Weekday(weekday) => day.weekday() == weekday,
        On::Month => day.day() == 1,
    }
}

fn at(every: Every, zone: &TimeZone, day: Date) -> Option<Timestamp> {
    day.to_datetime(every.at).to_zoned(zone.clone()).ok().map(|time| time.timestamp())
}

/// The days that a report is about which is made on one: the first of them, and the first that is not. Then the same of the ones before,
/// for comparison.
pub fn days(of: Days, made: Date) -> ((Date, Date), (Date, Date)) {
    let back = |day: Date, days: i64| day.saturating_sub(days.days());
    match of {
        Days::Last(count) => {
            let count = i64::from(count);
            let from = back(made, count);
            ((from, made), (back(from, count), from))
        }
        Days::LastWeek => {
            let until = back(made, i64::from(made.weekday().to_monday_zero_offset()));
            let from = back(until, 7);
            ((from, until), (back(from, 7), from))
        }
        Days::LastMonth => {
            let until = made.first_of_month();
            let from = until.saturating_sub(1.month());
            ((from, until), (from.saturating_sub(1.month()), from))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use proptest::prelude::*;

    proptest! {
        /// Also in zones that set their clocks by half an hour, or leave a whole day out.
        #[test]
        fn it_comes_once_on_each_of_its_days_whatever_clocks_are_set(
            zone in prop_oneof![Just("Europe/Lisbon"), Just("Australia/Lord_Howe"), Just("Pacific/Apia"), Just("America/St_Johns")],
            on in prop_oneof![Just("day"), Just("tuesday"), Just("month")],
            hour in 0i8..24, minute in 0i8..60,
            begin in 1_280_000_000i64..1_340_000_000,
        ) {
            let zone = TimeZone::get(zone).unwrap();
            let every = Every::understand(&format!("{on} {hour:02}:{minute:02}")).unwrap();
            let mut now = Timestamp::from_second(begin).unwrap();
            let mut seen: Vec<Date> = Vec::new();
            for _ in 0..40 {
                let next = after(every, &zone, now).unwrap();
                prop_assert!(next > now);
                prop_assert_eq!(latest(every, &zone, next), Some(next));
                prop_assert_eq!(latest(every, &zone, next - 1.second()), latest(every, &zone, now));
                seen.push(next.to_zoned(zone.clone()).date());
                now = next;
            }
            let mut once = seen.clone();
            once.dedup();
            prop_assert_eq!(&once, &seen, "no day twice");
            if every.on == On::Day {
                for pair in seen.windows(2) {
                    let missed = pair[0].until(pair[1]).unwrap().get_days();
                    // Samoa had no 30 December in 2011.
                    prop_assert!(missed == 1 || (missed == 2 && pair[0] == date(2011, 12, 29)), "{:?}", pair);
                }
            }
        }
    }

    #[test]
    fn days_are_whole_weeks_and_months_where_they_are_called_so() {
        let made = date(2026, 3, 5);
        assert_eq!(days(Days::Last(1), made).0, (date(2026, 3, 4), made));
        assert_eq!(
            days(Days::LastWeek, made),
            ((date(2026, 2, 23), date(2026, 3, 2)), (date(2026, 2, 16), date(2026, 2, 23)))
        );
        assert_eq!(
            days(Days::LastMonth, made),
            ((date(2026, 2, 1), date(2026, 3, 1)), (date(2026, 1, 1), date(2026, 2, 1)))
        );
        assert_eq!(days(Days::Last(7), made).1, (date(2026, 2, 19), date(2026, 2, 26)));
    }
}
