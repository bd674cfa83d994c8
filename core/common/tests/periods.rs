//! Days, weeks and months in zones whose clocks change: they are without gaps, and everything falls into exactly one.

use exedra_common::scope::period::{day, last, month, other, week};
use jiff::civil::{Date, date};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use proptest::prelude::*;

const ZONES: [&str; 5] =
    ["UTC", "Atlantic/Faroe", "America/Sao_Paulo", "Australia/Lord_Howe", "Africa/Cairo"];

fn zone() -> impl Strategy<Value = TimeZone> {
    prop::sample::select(ZONES.to_vec()).prop_map(|name| TimeZone::get(name).unwrap())
}

fn dates() -> impl Strategy<Value = Date> {
    (0i32..20_000).prop_map(|days| date(1990, 1, 1).checked_add(days.days()).unwrap())
}

proptest! {
    #[test]
    fn days_weeks_and_months_follow_each_other_without_a_gap(date in dates(), zone in zone()) {
        let (first, after) = day(&date.to_string(), 0, &zone).unwrap();
        let next = date.tomorrow().unwrap();
        prop_assert_eq!(day(&next.to_string(), 0, &zone).unwrap().0, after);
        // Clocks change by two hours at most, and some zones have skipped whole days.
        prop_assert!((0..=26 * 3_600_000).contains(&(after - first)), "{} {}", date, after - first);
        let at_noon = zone.to_timestamp(date.at(12, 0, 0, 0)).unwrap().as_millisecond();
        prop_assert!((first..after).contains(&at_noon));

        let (monday, next_monday) = week(&date.to_string(), &zone).unwrap();
        prop_assert!(monday <= first && after <= next_monday);
        let iso = date.iso_week_date();
        let named = format!("{:04}-W{:02}", iso.year(), iso.week());
        prop_assert_eq!(week(&named, &zone).unwrap(), (monday, next_monday));
        let begins = Timestamp::from_millisecond(monday).unwrap().to_zoned(zone.clone());
        prop_assert_eq!(begins.weekday(), jiff::civil::Weekday::Monday);

        let (begin, end) = month(&format!("{:04}-{:02}", date.year(), date.month()), &zone).unwrap();
        prop_assert!(begin <= first && after <= end);
        let days = (end - begin) as f64 / 86_400_000.0;
        prop_assert_eq!(days.round() as i8, date.days_in_month());
    }

    #[test]
    fn the_last_days_end_with_today_and_hours_with_now(date in dates(), days in 1i64..400, second in 0i64..86_400, zone in zone()) {
        let midnight = day(&date.to_string(), 0, &zone).unwrap();
        let now = (midnight.0 + second * 1000).min(midnight.1 - 1);
        let from = last(&format!("{days} days"), now, &zone).unwrap();
        let first = Timestamp::from_millisecond(from).unwrap().to_zoned(zone.clone()).date();
        prop_assert_eq!(first, date.checked_sub((days - 1).days()).unwrap());
        prop_assert_eq!(last("1 day", now, &zone).unwrap(), day("today", now, &zone).unwrap().0);
        prop_assert_eq!(last(&format!("{days} h"), now, &zone).unwrap(), now - days * 3_600_000);
        let (_, yesterday_ends) = day("yesterday", now, &zone).unwrap();
        prop_assert_eq!(yesterday_ends, day("today", now, &zone).unwrap().0);
    }

    #[test]
    fn what_comes_before_ends_where_a_period_begins(date in dates(), length in 1i64..60, zone in zone()) {
        let from = day(&date.to_string(), 0, &zone).unwrap().0;
        let until = day(&date.checked_add((length - 1).days()).unwrap().to_string(), 0, &zone).unwrap().1;
        let (before, end) = other("previous", (Some(from), Some(until)), until, &zone).unwrap();
        prop_assert_eq!(end, from);
        prop_assert!(before < end);
        let begins = Timestamp::from_millisecond(before).unwrap().to_zoned(zone.clone());
        prop_assert_eq!(begins.time(), Timestamp::from_millisecond(day(&begins.date().to_string(), 0, &zone).unwrap().0).unwrap().to_zoned(zone.clone()).time(), "it begins with a day");
    }

    #[test]
    fn no_rubbish_is_a_period(text in "[0-9a-zA-Z :.-]{0,12}") {
        let zone = TimeZone::UTC;
        if let Ok((first, after)) = day(&text, 0, &zone) {
            prop_assert!(first < after && (text.contains('-') || text.len() >= 5), "{}", text);
        }
        if let Ok((first, after)) = month(&text, &zone) {
            prop_assert!(first < after && text.len() == 7);
        }
    }
}
