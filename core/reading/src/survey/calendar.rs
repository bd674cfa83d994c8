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
    last_begin: (i64, Quarter),
    last_stretch: Stretch,
    known: HashMap<i64, Quarter>,
}

/// Instants that a stretch of some length holds, all within one quarter.
#[derive(Debug, Clone, Copy, Default)]
struct Stretch {
    length: i64,
    begin: i64,
    from: i64,
    until: i64,
}

/// The most quarters that are remembered: those of a lifetime of logs, and a bound for lines that tell any time.
const MOST_KNOWN: usize = 1 << 20;

impl Calendar {
    /// A calendar for a zone.
    pub fn new(zone: TimeZone) -> Self {
        let nowhere = Quarter { day: 0, hour: 0, ahead: 0 };
        let none = (i64::MIN, nowhere);
        Calendar {
            zone,
            last: none,
            last_begin: none,
            last_stretch: Stretch::default(),
            known: HashMap::new(),
        }
    }

    /// The zone whose days these are.
    pub fn zone(&self) -> &TimeZone {
        &self.zone
    }

    /// The quarter of an hour that an instant (milliseconds since 1970 UTC) lies in.
    pub fn quarter(&mut self, time: i64) -> Quarter {
        let index = time.div_euclid(QUARTER);
        if self.last.0 != index {
            self.last = (index, self.looked_up(index));
        }
        self.last.1
    }

    fn looked_up(&mut self, index: i64) -> Quarter {
        if self.known.len() >= MOST_KNOWN {
            self.known.clear();
        }
        let zone = &self.zone;
        *self.known.entry(index).or_insert_with(|| work_out(zone, index.saturating_mul(QUARTER)))
    }

    /// The beginning of the bucket that an instant lies in, in milliseconds since 1970 UTC.
    pub fn bucket(&mut self, time: i64, step: Step) -> i64 {
        self.begin(time, step.milliseconds())
    }

    /// The beginning of the stretch of so many milliseconds, counted by the clock of the zone, that an instant lies in. Where the clock
    /// was put forward or back within it, the stretch is shorter or longer.
    pub fn begin(&mut self, time: i64, length: i64) -> i64 {
        let Stretch { length: of, begin, from, until } = self.last_stretch;
        if of == length && from <= time && time < until {
            return begin;
        }
        let begin = self.work_out_begin(time, length);
        // Within the quarter the clock is not changed: what it shows says which instants the stretch holds there.
        let first = time.div_euclid(QUARTER).saturating_mul(QUARTER);
        let since = time.saturating_add(self.quarter(time).ahead).rem_euclid(length);
        let from = first.max(time.saturating_sub(since));
        let until = first.saturating_add(QUARTER).min(time.saturating_add(length - since));
        self.last_stretch = Stretch { length, begin, from, until };
        begin
    }

    fn work_out_begin(&mut self, time: i64, length: i64) -> i64 {
        let quarter = self.quarter(time);
        let begin = time.saturating_sub(time.saturating_add(quarter.ahead).rem_euclid(length));
        let index = begin.div_euclid(QUARTER);
        if index == self.last.0 {
            return begin;
        }
        if self.last_begin.0 != index {
            self.last_begin = (index, self.looked_up(index));
        }
        let before = self.last_begin.1.ahead;
        if before == quarter.ahead {
            return begin;
        }
        let begin = begin.saturating_add(quarter.ahead - before);
        let mut first = begin.div_euclid(QUARTER);
        if self.looked_up(first).ahead == before {
            return begin;
        }
        // The clock never showed when it should have begun: it began with the change.
        while first > index && self.looked_up(first - 1).ahead == quarter.ahead {
            first -= 1;
        }
        first.saturating_mul(QUARTER)
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
    use proptest::prelude::*;
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

    proptest! {
        /// A law: a stretch begins when the clock of the zone shows a multiple of its length, be that before the clock was changed; and
        /// it holds the instant.
        #[test]
        fn stretches_begin_by_the_clock(
            // The years 2020 to 2027, so that a fifth of all days are near a change.
            times in proptest::collection::vec(1_577_836_800_000..1_800_000_000_000_i64, 1..40),
            day_of_change in prop::option::of(0..8_i64),
            length in prop::sample::select(vec![60_000, 420_000, 900_000, 1_800_000, 3_600_000, 7_200_000, 10_800_000, 21_600_000, 43_200_000, 86_400_000_i64]),
            zone in prop::sample::select(vec![
                "UTC", "Atlantic/Faroe", "America/St_Johns", "Asia/Kolkata", "Australia/Lord_Howe", "Africa/Cairo", "America/Santiago",
            ]),
        ) {
            let zone = TimeZone::get(zone).unwrap();
            let mut calendar = Calendar::new(zone.clone());
            let near = times.iter().flat_map(|time| [0, 1, 200_000, 500_000, 899_999].map(|more| time + more));
            for time in near {
                // Half of all cases are within a day of the last Sunday of March, when many clocks are put forward.
                let time = day_of_change.map_or(time, |year| 1_585_353_600_000 + year * 31_449_600_000 + time % 172_800_000);
                let begin = calendar.begin(time, length);
                prop_assert!(begin <= time && time < begin + length + 7_200_000, "{} {}", begin, time);
                let clock = |time: i64| {
                    let stamp = Timestamp::from_millisecond(time).unwrap();
                    zone.to_offset(stamp).to_datetime(stamp).to_zoned(TimeZone::UTC).unwrap().timestamp().as_millisecond()
                };
                let wanted = clock(time).div_euclid(length) * length;
                // What the clock left out when it was put forward was shown by nobody's.
                let left_out = clock(begin - 1) < wanted && wanted < clock(begin);
                prop_assert!(clock(begin) == wanted || left_out, "{} by {}: {} shows {}, not {}", time, length, begin, clock(begin), wanted);
            }
        }
    }

    #[test]
    fn instants_that_no_calendar_has_are_no_trouble() {
        let mut calendar = Calendar::new(TimeZone::get("America/St_Johns").unwrap());
        for time in [i64::MIN, i64::MAX, 0] {
            assert!(calendar.begin(time, 3_600_000) <= time);
        }
    }
}
