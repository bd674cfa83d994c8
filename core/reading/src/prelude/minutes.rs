//! Requests by minute, and the bursts among them.
//!
//! A burst is a run of minutes with far more troubled requests than the two hours around it lead to expect: so many that
//! chance alone would bring them once in a million such runs.
//!
//! ```
//! use exedra_reading::prelude::minutes::surprise;
//! assert_eq!(surprise(3, 5.0), 0.0, "fewer than usual surprise nobody");
//! assert!(surprise(50, 5.0) > surprise(20, 5.0));
//! ```

use super::{MINUTE, Trouble};
use crate::survey::calendar::{Calendar, date_of};
use exedra_common::batch::NO_TIME;
use exedra_common::{Column, NumberColumn, Projection, RequestBatch};
use jiff::tz::TimeZone;
use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::collections::{BTreeMap, BTreeSet};
use utoipa::ToSchema;

/// How far around a minute the usual is looked for, in minutes.
const AROUND: i64 = 60;
/// Fewer troubled requests are no burst.
const FEWEST: u64 = 5;
/// Two minutes of one burst lie no further apart.
const GAP: i64 = 2;
/// The minutes of a day.
const DAY: i64 = 24 * 60;
/// What happens on fewer days is not daily.
const OFTEN: usize = 5;
/// How surprising a run of minutes must be: bits.
const SURPRISING: f64 = 20.0;
/// Bursts that begin as late in the day, within so many minutes, are the same story.
const SAME_TIME: i64 = 10;

/// All requests and the troubled ones, by minute since 1970 UTC.
#[derive(Debug, Clone, Default)]
pub struct Minutes(BTreeMap<i64, [u64; 2]>);

/// A stretch of time with trouble.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Burst {
    /// Its first minute since 1970 UTC; written by RFC 3339.
    #[serde(serialize_with = "stamp", deserialize_with = "of_stamp")]
    #[schema(value_type = String)]
    pub from: i64,
    /// The first minute after it.
    #[serde(serialize_with = "stamp", deserialize_with = "of_stamp")]
    #[schema(value_type = String)]
    pub until: i64,
    /// All requests in it.
    pub requests: u64,
    /// The troubled ones.
    pub troubled: u64,
    /// How surprising it is, in bits: what the two hours around it lead to expect comes that often twice, twice, … by chance.
    pub surprise: f64,
    /// Days on which the same happened at the same time, this one left out, as in `2026-09-14`.
    pub also_on: Vec<String>,
    /// Whether it is too small to be seen on one day, and comes back so often that it is one all the same: then the figures are
    /// those of all days, and this is the last of them.
    pub daily: bool,
    /// On how many days it was, all of which its figures are of.
    pub times: u64,
    /// The first minutes of all these days.
    #[serde(skip)]
    pub starts: Vec<i64>,
}

fn stamp<S: Serializer>(minute: &i64, out: S) -> Result<S::Ok, S::Error> {
    out.collect_str(&jiff::Timestamp::from_millisecond(minute * MINUTE).unwrap_or_default())
}

fn of_stamp<'d, D: Deserializer<'d>>(from: D) -> Result<i64, D::Error> {
    let text = String::deserialize(from)?;
    let stamp = text.parse::<jiff::Timestamp>().map_err(D::Error::custom)?;
    Ok(stamp.as_millisecond().div_euclid(MINUTE))
}

/// How surprising it is to count so many where fewer are expected, in bits (likelihood ratio of Poisson counts).
pub fn surprise(count: u64, expected: f64) -> f64 {
    let (count, expected) = (count as f64, expected.max(1e-9));
    if count <= expected {
        return 0.0;
    }
    (count * (count / expected).ln() - (count - expected)) / std::f64::consts::LN_2
}

impl Minutes {
    /// The columns that it looks at.
    pub fn projection() -> Projection {
        [NumberColumn::Status, NumberColumn::Duration].map(Column::Number).into_iter().collect()
    }

    /// Counts a request.
    pub fn add(&mut self, batch: &RequestBatch, row: usize, trouble: Trouble) {
        // What came in nobody knows when is in no burst.
        if batch.time[row] == NO_TIME {
            return;
        }
        let [all, troubled] = self.0.entry(batch.time[row].div_euclid(MINUTE)).or_default();
        *all += 1;
        *troubled += u64::from(trouble.is(batch, row));
    }

    /// Takes in what another thread counted.
    pub fn merge(&mut self, other: Minutes) {
        for (minute, [all, troubled]) in other.0 {
            let ours = self.0.entry(minute).or_default();
            ours[0] += all;
            ours[1] += troubled;
        }
    }

    /// The first and the last minute with a request.
    pub fn span(&self) -> Option<(i64, i64)> {
        Some((*self.0.first_key_value()?.0, *self.0.last_key_value()?.0))
    }

    /// The burst that is a stretch given by its minutes, whatever is in it.
    pub fn stretch(&self, from: i64, until: i64) -> Burst {
        let (requests, troubled) = self.sum(from, until);
        let surprise = surprise(troubled, self.expected(from, until));
        Burst {
            from,
            until,
            requests,
            troubled,
            surprise,
            also_on: Vec::new(),
            daily: false,
            times: 1,
            starts: vec![from],
        }
    }

    /// The most surprising bursts, at most so many. One that comes back at the same time of the day stands for all of them.
    pub fn bursts(&self, most: usize, zone: &TimeZone) -> Vec<Burst> {
        let mut all: Vec<Burst> =
            self.runs().into_iter().map(|(from, until)| self.stretch(from, until)).collect();
        all.retain(is_burst);
        all.sort_by(|a, b| b.surprise.total_cmp(&a.surprise).then_with(|| a.from.cmp(&b.from)));
        let mut calendar = Calendar::new(zone.clone());
        let mut told: Vec<(i64, Burst, BTreeSet<i32>)> = Vec::new();
        for burst in all {
            let quarter = calendar.quarter(burst.from * MINUTE);
            let clock = (burst.from + quarter.ahead / MINUTE).rem_euclid(DAY);
            let same = told.iter_mut().find(|(other, kept, _)| {
                let apart = (clock - other).rem_euclid(DAY);
                apart.min(DAY - apart) <= SAME_TIME && alike(kept, &burst)
            });
            match same {
                Some((_, kept, days)) => {
                    if calendar.quarter(kept.from * MINUTE).day != quarter.day {
                        days.insert(quarter.day);
                    }
                }
                None => told.push((clock, burst, BTreeSet::new())),
            }
        }
        let with_days = |(_, burst, days): (i64, Burst, BTreeSet<i32>)| Burst {
            also_on: days.iter().map(|day| date_of(*day).to_string()).collect(),
            ..burst
        };
        let clocks: Vec<i64> = told.iter().map(|(clock, ..)| *clock).collect();
        let mut bursts: Vec<Burst> = told.into_iter().map(with_days).collect();
        bursts.extend(self.daily(&clocks, zone));
        bursts.sort_by(|a, b| b.surprise.total_cmp(&a.surprise).then_with(|| a.from.cmp(&b.from)));
        bursts.truncate(most);
        bursts
    }

    /// What happens at the same time of many days, too small to be seen on one; what is told already is left out.
    fn daily(&self, told: &[i64], zone: &TimeZone) -> Vec<Burst> {
        let mut calendar = Calendar::new(zone.clone());
        let mut folded = Minutes::default();
        for (minute, [all, troubled]) in &self.0 {
            let clock = (minute + calendar.quarter(minute * MINUTE).ahead / MINUTE).rem_euclid(DAY);
            let ours = folded.0.entry(clock).or_default();
            ours[0] += all;
            ours[1] += troubled;
        }
        let mut found = Vec::new();
        for (from, until) in folded.runs() {
            let apart = |clock: &i64| (from - clock).rem_euclid(DAY).min((clock - from).rem_euclid(DAY));
            let burst = folded.stretch(from, until);
            if !is_burst(&burst) || told.iter().any(|clock| apart(clock) <= SAME_TIME) {
                continue;
            }
            let mut starts: Vec<i64> = Vec::new();
            for (&minute, _) in self.0.iter().filter(|(_, [_, troubled])| *troubled > 0) {
                let clock = (minute + calendar.quarter(minute * MINUTE).ahead / MINUTE).rem_euclid(DAY);
                let start = minute - (clock - from);
                if (from..until).contains(&clock) && starts.last() != Some(&start) {
                    starts.push(start);
                }
            }
            let Some((&last, others)) = starts.split_last().filter(|(_, others)| others.len() + 1 >= OFTEN)
            else {
                continue;
            };
            let mut day = |start: &i64| date_of(calendar.quarter(start * MINUTE).day).to_string();
            let also_on = others.iter().map(&mut day).collect();
            found.push(Burst {
                from: last,
                until: last + until - from,
                also_on,
                daily: true,
                times: starts.len() as u64,
                starts,
                ..burst
            });
        }
        found
    }

    /// Runs of minutes with more troubled requests than usual.
    fn runs(&self) -> Vec<(i64, i64)> {
        let mut runs: Vec<(i64, i64)> = Vec::new();
        for (&minute, &[_, troubled]) in self.0.iter().filter(|(_, [_, troubled])| *troubled > 0) {
            if (troubled as f64) <= 3.0 * self.expected(minute, minute + 1) {
                continue;
            }
            match runs.last_mut() {
                Some(run) if minute - run.1 < GAP => run.1 = minute + 1,
                _ => runs.push((minute, minute + 1)),
            }
        }
        runs.into_iter().map(|run| self.trimmed(run)).collect()
    }

    /// A run without the minutes at its ends that have little of it: they only happened to lie near.
    fn trimmed(&self, (mut from, mut until): (i64, i64)) -> (i64, i64) {
        let troubled = |minute: i64| self.0.get(&minute).map_or(0, |counts| counts[1]) as f64;
        let little = self.sum(from, until).1 as f64 / (until - from) as f64 / 4.0;
        while from + 1 < until && troubled(from) < little {
            from += 1;
        }
        while from + 1 < until && troubled(until - 1) < little {
            until -= 1;
        }
        (from, until)
    }

    fn sum(&self, from: i64, until: i64) -> (u64, u64) {
        let inside = self.0.range(from..until.max(from));
        inside.fold((0, 0), |sum, (_, [all, troubled])| (sum.0 + all, sum.1 + troubled))
    }

    /// How many troubled requests the hour before and the hour after a stretch lead to expect in it.
    fn expected(&self, from: i64, until: i64) -> f64 {
        let around = self.sum(from - AROUND, from).1 + self.sum(until, until + AROUND).1;
        // Minutes next to each other are alike: where they are troubled too, the run goes on. So the middle is what counts,
        // and it is never nothing.
        let mut counts: Vec<u64> = (from - AROUND..from)
            .chain(until..until + AROUND)
            .map(|minute| self.0.get(&minute).map_or(0, |counts| counts[1]))
            .collect();
        counts.sort_unstable();
        let middle = counts[counts.len() / 2] as f64;
        let mean = around as f64 / (2 * AROUND) as f64;
        mean.min(middle + 0.5).max(0.1) * (until - from) as f64
    }
}

fn is_burst(burst: &Burst) -> bool {
    burst.troubled >= FEWEST && burst.surprise >= SURPRISING
}

/// Whether two bursts may be the same story: neither is much longer or heavier.
fn alike(a: &Burst, b: &Burst) -> bool {
    let near = |a: u64, b: u64| a.max(b) <= 4 * a.min(b).max(1);
    near(a.troubled, b.troubled) && near((a.until - a.from) as u64, (b.until - b.from) as u64)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn minutes(troubled: impl Fn(i64) -> u64) -> Minutes {
        Minutes((0..5 * 24 * 60).map(|minute| (minute, [20 + troubled(minute), troubled(minute)])).collect())
    }

    #[test]
    fn a_burst_is_found_where_it_is() {
        let found =
            minutes(|minute| if (1500..1504).contains(&minute) { 12 } else { u64::from(minute % 7 == 0) })
                .bursts(5, &TimeZone::UTC);
        assert_eq!(found.iter().map(|burst| (burst.from, burst.until)).collect::<Vec<_>>(), [(1500, 1504)]);
        assert_eq!((found[0].troubled, found[0].requests), (48, 128));
        assert!(found[0].also_on.is_empty());
    }

    #[test]
    fn steady_trouble_is_no_burst() {
        assert_eq!(minutes(|_| 40).bursts(5, &TimeZone::UTC), []);
        assert_eq!(minutes(|minute| 2 + (minute % 3) as u64).bursts(5, &TimeZone::UTC), []);
    }

    #[test]
    fn what_comes_back_every_day_is_told_once() {
        let found = minutes(|minute| if (190..194).contains(&(minute % 1440)) { 9 } else { 0 })
            .bursts(5, &TimeZone::UTC);
        assert_eq!(found.len(), 1);
        assert_eq!(found[0].also_on, ["1970-01-02", "1970-01-03", "1970-01-04", "1970-01-05"]);
    }

    #[test]
    fn what_is_too_small_for_one_day_is_seen_over_many() {
        let mut minutes = minutes(|minute| u64::from(minute % 97 == 0));
        (0..30).for_each(|day| minutes.0.entry(day * 1440 + 191).or_default()[1] += 1);
        let found = minutes.bursts(5, &TimeZone::UTC);
        assert_eq!(found.len(), 1, "{found:?}");
        assert!(found[0].daily && found[0].troubled >= 30 && found[0].also_on.len() == 29);
        assert_eq!((found[0].from, found[0].until), (29 * 1440 + 191, 29 * 1440 + 192));
    }

    #[test]
    fn surprise_grows_with_the_count() {
        assert_eq!(surprise(3, 5.0), 0.0);
        assert!(surprise(20, 5.0) > surprise(10, 5.0));
        assert!(surprise(10, 0.0).is_finite());
    }
}
