//! What remains of a day of a site when its requests are no longer kept: figures, and nothing of anybody.
//!
//! ```
//! use exedra_reading::survey::Survey;
//! use exedra_reading::survey::day_tally::DayTally;
//! let mut day = Survey::default();
//! day.days.entry(20_000).or_default().add(2, 512);
//! let tally = DayTally::of(&day, 20_000);
//! let mut year = Survey::default();
//! year.take_in_tally(&tally);
//! assert_eq!((year.total.counts.requests, year.days[&20_000].counts.bytes), (1, 512));
//! assert_eq!(year.tallied, Some((20_000, 20_000)));
//! ```

use super::calendar::{date_of, day_number, weekday};
use super::counted::{Bucket, Survey};
use super::ranking::Counts;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};

/// Figures of a day.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct DayTally {
    /// Which day.
    pub date: Date,
    /// Requests and bytes, with their answers by class.
    pub total: Bucket,
    /// By status; 0 stands for none.
    pub statuses: Vec<(u16, Counts)>,
    /// By hour of the day.
    pub hours: Vec<Counts>,
    /// Visitors.
    pub visitors: u64,
}

impl DayTally {
    /// Of a survey of that day alone, counted from 1970-01-01 in its zone.
    pub fn of(survey: &Survey, day: i32) -> Self {
        DayTally {
            date: date_of(day),
            total: survey.days.get(&day).copied().unwrap_or_default(),
            statuses: survey.statuses.iter().map(|(status, counts)| (*status, *counts)).collect(),
            hours: survey.week[weekday(day)].to_vec(),
            visitors: survey.visitors.on(day),
        }
    }
}

impl Survey {
    /// Takes in a day of which nothing else is known.
    pub fn take_in_tally(&mut self, tally: &DayTally) {
        let day = day_number(tally.date);
        self.total.merge(tally.total);
        self.days.entry(day).or_default().merge(tally.total);
        for (status, counts) in &tally.statuses {
            self.statuses.entry(*status).or_default().merge(*counts);
        }
        let hours = self.week[weekday(day)].iter_mut().zip(&tally.hours);
        hours.for_each(|(hour, counts)| hour.merge(*counts));
        self.visitors.add_counted(day, tally.visitors);
        self.said.bytes = true;
        self.said.clients = true;
        self.tallied = Some(match self.tallied {
            Some((first, last)) => (first.min(day), last.max(day)),
            None => (day, day),
        });
    }
}
