//! Which day and hour an instant belongs to, in one time zone.
//!
//! Zones differ from UTC by whole quarters of an hour, so the answer is the same for a whole quarter, and
//! neighbours in a log nearly always share theirs.
//!
//! ```
//! use exedra_reading::survey::{Calendar, Step};
//! use exedra_reading::survey::calendar::date_of;
//! let mut calendar = Calendar::new(jiff::tz::TimeZone::get("Atlantic/Faroe").unwrap());
//! let summer = calendar.quarter(1_794_633_160_000 - 120 * 86_400_000);
//! assert_eq!((date_of(summer.day).to_string(), summer.hour, summer.weekday()), ("2026-07-17".to_owned(), 6, 4));
//! assert_eq!(calendar.bucket(1_794_633_160_000, Step::Hour) % 3_600_000, 0);
//! ```

use hashbrown::HashMap;
use jiff::{Timestamp, civil, tz::TimeZone};

/// Milliseconds in a quarter of an hour.
const QUARTER: i64 = 15 * 60 * 1000;

/// The length of the buckets of a timeline.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Step {
    /// Sixty seconds.
    Minute,
    /// Sixty minutes.
    Hour,
}

impl Step {
    /// Its length in milliseconds.
    pub fn milliseconds(self) -> i64 {
        match self {
            Step::Minute => 60_000,
            Step::Hour => 3_600_000,
        }
    }
}

/// A quarter of an hour, as the zone sees it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Quarter {
    /// Days since 1970-01-01 in the zone.
    pub day: i32,
    /// Hour of the day in the zone, 0–23.
    pub hour: u8,
    /// How far the zone's clock is ahead of UTC, in milliseconds.
    pub ahead: i64,
}

impl Quarter {
    /// The weekday, from 0 for Monday.
    pub fn weekday(self) -> usize {
        weekday(self.day)
    }
}

/// The weekday of a day counted from 1970-01-01, which was a Thursday; from 0 for Monday.
pub fn weekday(day: i32) -> usize {
    (i64::from(day) + 3).rem_euclid(7) as usize
}

/// Days and hours of one zone, remembering what it worked out.
#[derive(Debug, Clone)]
pub struct Calendar {
    zone: TimeZone,
    last: (i64, Quarter),
    known: HashMap<i64, Quarter>,
}

impl Calendar {
    /// A calendar for a zone.
    pub fn new(zone: TimeZone) -> Self {
        let nowhere = Quarter { day: 0, hour: 0, ahead: 0 };
        Calendar { zone, last: (i64::MIN, nowhere), known: HashMap::new() }
    }

    /// The zone whose days these are.
    pub fn zone(&self) -> &TimeZone {
        &self.zone
    }

    /// The quarter of an hour that an instant (milliseconds since 1970 UTC) lies in.
    pub fn quarter(&mut self, time: i64) -> Quarter {
        let index = time.div_euclid(QUARTER);
        if self.last.0 != index {
            let zone = &self.zone;
            let quarter = *self.known.entry(index).or_insert_with(|| work_out(zone, index * QUARTER));
            self.last = (index, quarter);
        }
        self.last.1
    }

    /// The beginning of the bucket that an instant lies in, in milliseconds since 1970 UTC.
    pub fn bucket(&mut self, time: i64, step: Step) -> i64 {
        let ahead = self.quarter(time).ahead;
        time - (time + ahead).rem_euclid(step.milliseconds())
    }
}

fn work_out(zone: &TimeZone, time: i64) -> Quarter {
    let stamp = Timestamp::from_millisecond(time).unwrap_or_default();
    let offset = zone.to_offset(stamp);
    let local = offset.to_datetime(stamp);
    Quarter {
        day: day_number(local.date()),
        hour: local.hour() as u8,
        ahead: i64::from(offset.seconds()) * 1000,
    }
}

/// Days from 1970-01-01 to a date.
pub fn day_number(date: civil::Date) -> i32 {
    (date - civil::date(1970, 1, 1)).get_days()
}

/// The date a number of days after 1970-01-01.
pub fn date_of(day: i32) -> civil::Date {
    civil::date(1970, 1, 1).saturating_add(jiff::Span::new().days(day))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::utc("UTC", "2026-11-22T23:59:59Z", "2026-11-22", 23)]
    #[case::west("America/St_Johns", "2026-11-23T03:29:59Z", "2026-11-22", 23)]
    #[case::midnight_there("America/St_Johns", "2026-11-23T03:30:00Z", "2026-11-23", 0)]
    #[case::before_summer_time("Atlantic/Faroe", "2026-03-29T00:59:59Z", "2026-03-29", 0)]
    #[case::in_summer_time("Atlantic/Faroe", "2026-03-29T01:00:00Z", "2026-03-29", 2)]
    fn days_and_hours(#[case] zone: &str, #[case] time: &str, #[case] date: &str, #[case] hour: u8) {
        let mut calendar = Calendar::new(TimeZone::get(zone).unwrap());
        let time = time.parse::<Timestamp>().unwrap().as_millisecond();
        let quarter = calendar.quarter(time);
        assert_eq!((date_of(quarter.day).to_string().as_str(), quarter.hour), (date, hour));
        assert_eq!(day_number(date_of(quarter.day)), quarter.day);
    }
}
