//! How much will have been sent when the month ends, and when an allowance runs out.
//!
//! A day is expected to be like the days of its name before it, at a level that goes up or down as it did lately, the later days counting
//! more; what is to come of today is the part of such a day that is left. How far off such guesses are is seen on the days before
//! themselves: each of them is taken for today once, and the misses, over as many days in a row as are to come, give the range. Nine out of
//! ten months should end within it.

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
    /// Nine out of ten times it is between this and `most`.
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
    /// Nine out of ten times it is between this and `most`.
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
/// How much the mean of all days counts beside the days of one name: as a third of one of them.
const OF_ALL: f64 = 0.33;
/// How many times the mean a day may be for what days of its name usually are, and the least part of it.
const MOST_DIFFERENT: f64 = 4.0;
const LEAST_DIFFERENT: f64 = 0.02;
/// With fewer days nothing is said of how the level changes.
const FEWEST_FOR_SLOPE: f64 = 14.0;
/// How many days count as if they were the last, and how many of them miss together.
const EFFECTIVE_DAYS: f64 = 35.0;
const TOGETHER: f64 = 2.0;
/// After so many days a change has slowed down to less than half.
const DAMPING: f64 = 120.0;
/// The most days of a month.
const LONGEST_MONTH: usize = 31;
/// Standard deviations to either side that hold nine out of ten.
const NINE_OF_TEN: f64 = 1.6449;

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
        let usual = Expected::of(whole);
        let spread = Spread::of(whole, usual.level.max(0.0));
        let (first, last) = (present.date.first_of_month(), present.date.last_of_month());
        let mut course = Vec::new();
        let mut sent = 0;
        for date in first.series(1.day()).take_while(|date| *date < present.date) {
            sent += days.iter().find(|day| day.date == date).map_or(0, |day| day.bytes);
            course.push(Course { date, has_ended: true, expected: sent, least: sent, most: sent });
        }
        sent += present.bytes;
        let (mut expected, mut length) = (0.0, 0.0);
        for (ahead, date) in present.date.series(1.day()).take_while(|date| *date <= last).enumerate() {
            let left = if date == present.date { 1.0 - present.part.clamp(0.0, 1.0) } else { 1.0 };
            expected += left * usual.on(date.weekday(), ahead);
            length += left;
            let off = NINE_OF_TEN * spread.over(length);
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

    /// The day on which more than an allowance will have been sent: as expected, and the earliest and the latest that nine out of ten
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

/// What is expected of days: a level that goes up or down from day to day, times what a day of a name sends beside others.
struct Expected {
    /// By how much days of a name differ from the mean.
    weekdays: [f64; 7],
    /// The level on the day after the last one that is known.
    level: f64,
    /// By how much it changes from day to day.
    slope: f64,
}

impl Expected {
    /// From days in order, the later ones counting more.
    fn of(days: &[Day]) -> Expected {
        let weekdays = weekdays(days);
        // Ages of days are counted back from the one that comes next.
        let mut sums = Sums::default();
        for (ago, day) in days.iter().rev().enumerate() {
            // A day on which little is sent says little of the level.
            let share = weekdays[place(day.date.weekday())];
            sums.add(-(ago as f64) - 1.0, day.bytes as f64 / share, share * FADING.powf(ago as f64 / 7.0));
        }
        let (level, slope) = sums.line();
        Expected { weekdays, level, slope }
    }

    /// What a day sends, so many days after the last one that is known.
    fn on(&self, weekday: Weekday, ahead: usize) -> f64 {
        // A change does not go on for ever as it was.
        let length = DAMPING * (1.0 - (-(ahead as f64) / DAMPING).exp());
        ((self.level + self.slope * length) * self.weekdays[place(weekday)]).max(0.0)
    }
}

/// By how much days of a name differ from the mean; by nothing where too few are known. Days that differ from others for once count as
/// little as others.
fn weekdays(days: &[Day]) -> [f64; 7] {
    let mut sums = [(0.0, 0.0); 7];
    for week in days.rchunks(7) {
        let mean = week.iter().map(|day| day.bytes as f64).sum::<f64>() / week.len() as f64;
        if mean <= 0.0 || week.len() < 7 {
            continue;
        }
        for day in week {
            let sum = &mut sums[place(day.date.weekday())];
            sum.0 += (day.bytes as f64 / mean).min(MOST_DIFFERENT);
            sum.1 += 1.0;
        }
    }
    let of_all = |(sum, weeks): (f64, f64)| (sum + OF_ALL) / (weeks + OF_ALL);
    let shares = sums.map(of_all);
    let mean = shares.iter().sum::<f64>() / 7.0;
    shares.map(|share| (share / mean).max(LEAST_DIFFERENT))
}

/// Sums for a line through weighted points.
#[derive(Default)]
struct Sums {
    weight: f64,
    x: f64,
    y: f64,
    xx: f64,
    xy: f64,
    yy: f64,
    count: f64,
}

impl Sums {
    fn add(&mut self, x: f64, y: f64, weight: f64) {
        self.weight += weight;
        self.x += weight * x;
        self.y += weight * y;
        self.xx += weight * x * x;
        self.xy += weight * x * y;
        self.yy += weight * y * y;
        self.count += 1.0;
    }

    /// Its value at 0 and its slope, which is taken for less the less sure it is.
    fn line(&self) -> (f64, f64) {
        let (mean_x, mean_y) = (self.x / self.weight, self.y / self.weight);
        let of_x = self.xx / self.weight - mean_x * mean_x;
        if self.count < FEWEST_FOR_SLOPE || of_x <= 0.0 {
            return (mean_y, 0.0);
        }
        let slope = (self.xy / self.weight - mean_x * mean_y) / of_x;
        let rest = (self.yy / self.weight - mean_y * mean_y - slope * slope * of_x).max(0.0);
        // Of the days only so many count as if they were as good as the last; those of a week often miss together.
        let days = (self.count.min(EFFECTIVE_DAYS) / TOGETHER).max(2.0);
        let error = rest / of_x / days;
        let sure = if slope == 0.0 { 0.0 } else { (1.0 - error / (slope * slope)).max(0.0) };
        let slope = slope * sure;
        (mean_y - slope * mean_x, slope)
    }
}

fn place(weekday: Weekday) -> usize {
    weekday.to_monday_zero_offset() as usize
}

/// How far guesses are off: of what is sent in one day, two days and so on together.
struct Spread {
    deviations: Vec<f64>,
}

impl Spread {
    /// From days in order: each of them is taken for today once, and what was sent after it is guessed from those before it. `now` is the
    /// level that is expected.
    fn of(days: &[Day], now: f64) -> Spread {
        let least = FEWEST_DAYS - 1;
        let begin = if days.len() > 4 * 7 { 2 * 7 } else { least };
        let mut sums = vec![(0.0, 0.0); LONGEST_MONTH];
        for origin in begin..days.len() {
            let expected = Expected::of(&days[..origin]);
            // Where the level was another, misses were.
            let scale = now / expected.level.max(now / MOST_DIFFERENT);
            let mut miss = 0.0;
            for (ahead, day) in days[origin..].iter().take(LONGEST_MONTH).enumerate() {
                miss += day.bytes as f64 - expected.on(day.date.weekday(), ahead);
                sums[ahead].0 += (miss * scale) * (miss * scale);
                sums[ahead].1 += 1.0;
            }
        }
        let mut deviations: Vec<f64> = Vec::new();
        for (nth, (squares, count)) in sums.into_iter().enumerate() {
            let length = nth as f64 + 1.0;
            let before = deviations.last().copied().unwrap_or(0.0);
            // Stretches that lie over each other are not as good as so many.
            let independent: f64 = count / length;
            let deviation = match independent {
                some if some >= 1.0 => (squares / count).sqrt() * (1.0 + 1.2 / (some + 2.0)),
                // Of stretches that were never seen: misses that go on grow with their length.
                _ => before * length / (length - 1.0).max(1.0),
            };
            deviations.push(deviation.max(before));
        }
        Spread { deviations }
    }

    /// The standard deviation of what is sent in so many days.
    fn over(&self, days: f64) -> f64 {
        let nth = (days.ceil() as usize).clamp(1, LONGEST_MONTH) - 1;
        // Of a part of a day, a part of it.
        self.deviations[nth] * if days < 1.0 { days.sqrt() } else { 1.0 }
    }
}
