//! How much will have been sent when the month ends, and when an allowance runs out.
//!
//! A day is expected to be like the days of its name before it, the later ones counting more; what is to come of today is the part of
//! such a day that is left. How far off such guesses are is seen on the days before themselves: each is guessed from those before it,
//! and the misses, over as many days in a row as are to come, give the range. Four out of five months should end within it.

#[cfg(test)]
mod tests;

use jiff::ToSpan;
use jiff::civil::{Date, Weekday};

/// What was sent in one whole day.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Day {
    /// Which one.
    pub date: Date,
    /// Octets of bodies.
    pub bytes: u64,
}

/// The day that goes on.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Present {
    /// Which one it is.
    pub date: Date,
    /// Octets sent of it so far.
    pub bytes: u64,
    /// The part of a day's transfer that has usually been sent by now, from 0 to 1.
    pub part: f64,
}

/// What is expected of a month.
#[derive(Debug, Clone, PartialEq)]
pub struct Forecast {
    /// Octets sent since it began.
    pub sent: u64,
    /// What will have been sent at its end.
    pub expected: u64,
    /// Four out of five times it is between this and `most`.
    pub least: u64,
    /// See `least`.
    pub most: u64,
    /// Each day of it, from the first: what was sent by its end, or is expected to have been, with the range.
    pub days: Vec<Course>,
}

/// What has been sent by the end of a day since the month began.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Course {
    /// The day.
    pub date: Date,
    /// Whether it has ended, so that nothing of it is a guess.
    pub has_ended: bool,
    /// What was sent, or is expected to have been.
    pub expected: u64,
    /// Four out of five times it is between this and `most`.
    pub least: u64,
    /// See `least`.
    pub most: u64,
}

/// With fewer whole days nothing is foretold.
pub const FEWEST_DAYS: usize = 3;
/// How many weeks are looked back on.
pub const WEEKS: usize = 10;
/// By how much a week counts less than the one after it.
const FADING: f64 = 0.8;
/// How much the mean of all days counts beside the days of one name: as one of them.
const OF_ALL: f64 = 1.0;
/// Standard deviations to either side that hold four out of five.
const FOUR_OF_FIVE: f64 = 1.2816;

impl Forecast {
    /// What is expected of the month of a day, from the whole days before it in order, those of earlier months among them; days without
    /// any request are days too. Nothing where there are fewer than [`FEWEST_DAYS`].
    pub fn of_month(days: &[Day], present: Present) -> Option<Forecast> {
        let days = &days[days.len().saturating_sub(WEEKS * 7)..];
        if days.len() < FEWEST_DAYS {
            return None;
        }
        // Whatever was sent on the first day before it was recorded is not in it.
        let whole = if days.len() > FEWEST_DAYS { &days[1..] } else { days };
        let (usual, spread) = (Usual::of(whole), Spread::of(whole));
        let (first, last) = (present.date.first_of_month(), present.date.last_of_month());
        let mut course = Vec::new();
        let mut sent = 0;
        for date in first.series(1.day()).take_while(|date| *date < present.date) {
            sent += days.iter().find(|day| day.date == date).map_or(0, |day| day.bytes);
            course.push(Course { date, has_ended: true, expected: sent, least: sent, most: sent });
        }
        sent += present.bytes;
        let (mut expected, mut length) = (0.0, 0.0);
        for date in present.date.series(1.day()).take_while(|date| *date <= last) {
            let left = if date == present.date { 1.0 - present.part.clamp(0.0, 1.0) } else { 1.0 };
            expected += left * usual.on(date.weekday());
            length += left;
            let off = FOUR_OF_FIVE * spread.over(length);
            let more = |octets: f64| sent + octets.max(0.0).round() as u64;
            course.push(Course {
                date,
                has_ended: false,
                expected: more(expected),
                least: more(expected - off),
                most: more(expected + off),
            });
        }
        let end = *course.last()?;
        Some(Forecast { sent, expected: end.expected, least: end.least, most: end.most, days: course })
    }

    /// The day on which more than an allowance will have been sent: as expected, and the earliest and the latest that four out of five
    /// times hold. Nothing where the month ends before.
    pub fn runs_out(&self, allowance: u64) -> RunsOut {
        let day = |sent: fn(&Course) -> u64| {
            self.days.iter().find(|course| sent(course) > allowance).map(|course| course.date)
        };
        RunsOut {
            expected: day(|course| course.expected),
            earliest: day(|course| course.most),
            latest: day(|course| course.least),
        }
    }
}

/// When an allowance runs out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct RunsOut {
    /// As is expected.
    pub expected: Option<Date>,
    /// Where more is sent than expected.
    pub earliest: Option<Date>,
    /// Where less is.
    pub latest: Option<Date>,
}

/// What days usually send, by their names.
struct Usual([f64; 7]);

impl Usual {
    /// From days in order.
    fn of(days: &[Day]) -> Usual {
        let mut sums = [(0.0, 0.0); 7];
        let mut all = (0.0, 0.0);
        for (ago, day) in days.iter().rev().enumerate() {
            let weight = FADING.powi((ago / 7) as i32);
            let sum = &mut sums[place(day.date.weekday())];
            for sum in [sum, &mut all] {
                sum.0 += weight * day.bytes as f64;
                sum.1 += weight;
            }
        }
        let mean = if all.1 > 0.0 { all.0 / all.1 } else { 0.0 };
        Usual(sums.map(|(sum, weight)| (sum + OF_ALL * mean) / (weight + OF_ALL)))
    }

    fn on(&self, weekday: Weekday) -> f64 {
        self.0[place(weekday)]
    }
}

fn place(weekday: Weekday) -> usize {
    weekday.to_monday_zero_offset() as usize
}

/// How far guesses are off.
struct Spread {
    /// The variance of one day's miss.
    day: f64,
    /// The variance of what all misses of a month have in common: that the level was guessed wrong.
    level: f64,
}

impl Spread {
    /// From days in order: each is guessed from those before it.
    fn of(days: &[Day]) -> Spread {
        let misses: Vec<f64> = (FEWEST_DAYS - 1..days.len())
            .map(|at| days[at].bytes as f64 - Usual::of(&days[..at]).on(days[at].date.weekday()))
            .collect();
        let count = misses.len() as f64;
        let day = misses.iter().map(|miss| miss * miss).sum::<f64>() / count;
        // Misses that go on for a week are of the level; of independent ones a seventh of the variance would remain.
        let weeks: Vec<f64> = misses.windows(7).map(|week| week.iter().sum::<f64>() / 7.0).collect();
        let level = match weeks.len() {
            0 => day / count.max(1.0),
            length => {
                let of_weeks = weeks.iter().map(|mean| mean * mean).sum::<f64>() / length as f64;
                (of_weeks - day / 7.0).max(day / count)
            }
        };
        Spread { day, level }
    }

    /// The standard deviation of what is sent in so many days.
    fn over(&self, days: f64) -> f64 {
        (self.day * days + self.level * days * days).sqrt()
    }
}
