//! How large an answer was and how long it took: numbers are told from each other by how they vary.

use super::{Confidence, Roles, percent};
use crate::logs::meaning::Meaning;
use crate::logs::numbers::with_unit;
use crate::logs::search::durations;
use crate::logs::search::place::{Place, is_number, unit_behind};
use crate::logs::search::tokens::Shape;
use crate::logs::template::Field;
use exedra_common::columns::{NumberColumn, Unit};
use std::collections::HashMap;

impl Roles<'_, '_> {
    /// Bytes: numbers that are the same whenever the same was asked for.
    pub(super) fn sizes(&mut self) {
        let size =
            |at: usize| Meaning::Number(NumberColumn::Bytes, Unit::Bytes) == at_meaning(&self.places[at]);
        if let Some(at) = self.free().into_iter().find(|at| size(*at)) {
            self.set(at, Field::Number(NumberColumn::Bytes, Unit::Bytes), Confidence::Certain, "named so");
            return;
        }
        let answered = self.answered();
        let numbers: Vec<usize> = self
            .free()
            .into_iter()
            .filter(|at| {
                let place = &self.places[*at];
                *at > answered && place.name.is_none() || place.meaning().is_some() || is_called_size(place)
            })
            .filter(|at| self.places[*at].count() > 0 && self.places[*at].numbers().is_some())
            .collect();
        let mut sizes = Vec::new();
        for at in numbers.iter().copied() {
            match self.constancy(at) {
                Some(share) if share > 0.6 && self.places[at].distinct() > 1 => sizes.push((at, share)),
                _ => {}
            }
        }
        let status = self.find(&Field::Number(NumberColumn::Status, Unit::None));
        let next = status.map(|at| at + 1).filter(|at| numbers.contains(at));
        let found = match (sizes.first(), next) {
            // The usual place, unless another is clearly better.
            (Some((at, share)), next)
                if next.is_none_or(|next| sizes.iter().all(|(size, _)| *size != next)) =>
            {
                let reason = format!("the same for the same path in {} of repeats", percent(*share));
                Some((*at, Confidence::Certain, reason))
            }
            (_, Some(next)) => match self.constancy(next) {
                Some(share) if share < 0.3 && self.places[next].distinct() > 4 => {
                    self.size_among(next, &numbers, answered)
                }
                Some(share) if share > 0.6 => Some((
                    next,
                    Confidence::Certain,
                    format!("the same for the same path in {} of repeats", percent(share)),
                )),
                _ => Some((next, Confidence::Likely, "whole numbers behind the status".to_owned())),
            },
            _ => None,
        };
        let Some((at, confidence, reason)) = found else { return };
        self.set(at, Field::Number(NumberColumn::Bytes, Unit::Bytes), confidence, reason);
        for (other, _) in sizes.into_iter().filter(|(other, _)| *other != at) {
            self.skip(other, "the same for the same path too: perhaps the size with its headers");
        }
    }

    /// Which of several numbers is the size, where none is the same for the same path: a page that is made anew for everybody has
    /// another size each time, as it takes another time. Alone behind a status stands a duration; of several one is the size, at the usual
    /// place unless the others are far larger.
    fn size_among(
        &self,
        next: usize,
        numbers: &[usize],
        answered: usize,
    ) -> Option<(usize, Confidence, String)> {
        let median = |at: usize| {
            let mut numbers = self.places[at].numbers().unwrap_or_default();
            numbers.sort_unstable();
            numbers.get(numbers.len() / 2).copied().unwrap_or(0)
        };
        let is_other = |at: &usize| *at != next && self.places[*at].distinct() > 4;
        let others: Vec<usize> = numbers.iter().copied().filter(is_other).collect();
        let has_time = self.free().into_iter().any(|at| at != next && self.may_be_duration(at, answered));
        if others.is_empty() && !has_time {
            return None;
        }
        let larger = others.into_iter().filter(|at| median(*at) > 20 * median(next).max(1));
        let at = larger.max_by_key(|at| median(*at)).unwrap_or(next);
        let reason = "whole numbers behind the status, others for the same path each time";
        Some((at, Confidence::Unsure, reason.to_owned()))
    }

    /// How often a number is the same as before where path and status are; nothing where nothing was asked for twice.
    fn constancy(&self, at: usize) -> Option<f64> {
        let status = self.find(&Field::Number(NumberColumn::Status, Unit::None));
        let asked = self.asked();
        let mut known: HashMap<(&[u8], &[u8]), &[u8]> = HashMap::new();
        let (mut same, mut repeats) = (0, 0);
        for (line, value) in self.places[at].values.iter().enumerate() {
            if matches!(*value, b"-" | b"" | b"0") {
                continue;
            }
            let status = status.map_or(&b""[..], |status| self.places[status].values[line]);
            if let Some(before) = known.insert((self.places[asked].values[line], status), value) {
                repeats += 1;
                same += usize::from(before == *value);
            }
        }
        (repeats >= 3).then(|| same as f64 / repeats as f64)
    }

    /// Durations: numbers that are none of all that numbers else are.
    pub(super) fn durations(&mut self, given: Option<Unit>) {
        let is_duration =
            |meaning| matches!(meaning, Meaning::Number(NumberColumn::Duration, _) | Meaning::RequestTime);
        let named = self.free().into_iter().find(|at| self.places[*at].meaning().is_some_and(is_duration));
        let has_unit = |at: &usize| self.places[*at].share(|value| unit_behind(value).is_some()) >= 0.9;
        let suffixed = self.longest(&self.free().into_iter().filter(has_unit).collect::<Vec<_>>());
        let answered = self.answered();
        let is_called =
            |at: &usize| is_called_time(&self.places[*at]) && self.places[*at].share(is_number) > 0.97;
        let called = self.longest(&self.free().into_iter().filter(is_called).collect::<Vec<_>>());
        let candidates: Vec<usize> =
            self.free().into_iter().filter(|at| self.may_be_duration(*at, answered)).collect();
        let found = named.or(suffixed).or(called).map(|at| (at, ""));
        let found = found.or_else(|| Some((self.whole_of_joined()?, "all steps together, ")));
        let found = found.or_else(|| Some((self.longest(&candidates)?, "")));
        let Some((at, why)) = found.or_else(|| Some((self.aligned()?, "below each other, "))) else { return };
        let texts: Vec<&str> =
            self.places[at].known().filter_map(|value| std::str::from_utf8(value).ok()).collect();
        let by_name = match self.places[at].meaning() {
            Some(Meaning::Number(_, unit)) if unit != Unit::None => Some(unit),
            _ => None,
        };
        let by_size = durations::unit(&texts);
        let (unit, confidence, reason) = match (by_name, self.unit_of(at), given, by_size) {
            (Some(unit), ..) => (unit, Confidence::Certain, "named so".to_owned()),
            (_, Some(unit), ..) => (unit, Confidence::Certain, "the unit stands there".to_owned()),
            (_, _, Some(unit), _) => (unit, Confidence::Certain, "as you said".to_owned()),
            (.., Some((unit, reason))) => {
                let is_named = named.or(called) == Some(at);
                (unit, if is_named { Confidence::Likely } else { Confidence::Unsure }, reason)
            }
            _ => return,
        };
        let reason = format!("{why}{reason}: {}", unit.name());
        self.set(at, Field::Number(NumberColumn::Duration, unit), confidence, reason);
        for other in candidates.into_iter().filter(|other| *other != at) {
            self.skip(other, "another duration, perhaps a part of the first");
        }
    }

    /// The unit that stands behind a number, right there or as the next word.
    fn unit_of(&self, at: usize) -> Option<Unit> {
        let own = self.places[at].known().next().and_then(unit_behind);
        let next = || {
            let place = self.places.get(at + 1).filter(|place| place.distinct() == 1)?;
            Unit::of_time(std::str::from_utf8(place.known().next()?).ok()?)
        };
        own.or_else(next)
    }

    /// The last of several numbers with slashes between them, where it is no less than any of them: how long the steps of an answer took,
    /// and all of them.
    fn whole_of_joined(&self) -> Option<usize> {
        let is_joined = |at: usize| self.places[at].shape == Shape::Joined;
        let whole = |last: &usize| {
            let first = (0..*last).rev().take_while(|at| is_joined(*at)).last()?;
            let number = |at: usize, line: usize| {
                std::str::from_utf8(self.places[at].values[line]).ok()?.parse::<i64>().ok()
            };
            let lines = self.places[*last].values.len();
            let is_whole = |line: &usize| {
                let whole = number(*last, *line);
                whole.is_some() && (first..*last).all(|part| number(part, *line) <= whole)
            };
            let fits = (0..lines).filter(is_whole).count() * 10 >= lines * 9;
            (fits && self.places[*last].distinct() > 4).then_some(*last)
        };
        self.free()
            .into_iter()
            .filter(|at| *at > 0 && is_joined(at - 1) && !is_joined(*at))
            .find_map(|at| whole(&at))
    }

    /// The only number that stands in a column of its own, its digits below each other, where it is another for the same path each time:
    /// numbers of processes and the like are not written so.
    fn aligned(&self) -> Option<usize> {
        let mut all = self.free().into_iter().filter(|at| {
            let place = &self.places[*at];
            place.is_aligned
                && place.distinct() > 4
                && place.numbers().is_some_and(|numbers| numbers.windows(2).any(|pair| pair[0] > pair[1]))
                && self.constancy(*at).is_none_or(|share| share < 0.3)
        });
        all.next().filter(|_| all.next().is_none())
    }

    fn may_be_duration(&self, at: usize, answered: usize) -> bool {
        let place = &self.places[at];
        let enough = place.count() * 2 > place.values.len();
        // Of numbers with slashes between them the whole is looked for, and no part is taken for it.
        let is_part = [Some(at), at.checked_sub(1)]
            .into_iter()
            .flatten()
            .any(|at| self.places[at].shape == Shape::Joined);
        if !enough || is_part || place.share(|value| is_number(value) || unit_behind(value).is_some()) < 0.97
        {
            return false;
        }
        if self.unit_of(at).is_some() || place.share(|value| value.contains(&b'.')) > 0.5 {
            return true;
        }
        let Some(numbers) = place.numbers() else { return false };
        let is_port = numbers.iter().all(|number| (1024..65_536).contains(number))
            && numbers.iter().filter(|number| **number > 30_000).count() * 10 > numbers.len() * 9;
        let counts_up = numbers.len() > 3 && numbers.windows(2).all(|pair| pair[0] < pair[1]);
        let is_fixed = numbers.len() > 3 && place.distinct() == 1 && numbers[0] != 0;
        at > answered && !is_port && !counts_up && !is_fixed && !are_request_sizes(&numbers)
    }

    /// Of several durations the whole is the one that the others are parts of.
    fn longest(&self, candidates: &[usize]) -> Option<usize> {
        let sum = |at: usize| -> f64 {
            let microseconds = |value| with_unit(value, NumberColumn::Duration, Unit::Seconds);
            self.places[at].known().filter_map(microseconds).map(|value| value as f64).sum()
        };
        let decimals = |at: &usize| self.places[*at].share(|value| value.contains(&b'.')) > 0.5;
        let first = *candidates.first()?;
        let alike = candidates.iter().copied().filter(|at| decimals(at) == decimals(&first));
        let longest = alike.max_by(|one, other| sum(*one).total_cmp(&sum(*other)))?;
        Some(if sum(longest) > sum(first) { longest } else { first })
    }
}

/// Whether numbers are rather what clients sent: never a few octets, and all of about one size, which times are not.
fn are_request_sizes(numbers: &[u64]) -> bool {
    let mut sorted = numbers.to_vec();
    sorted.sort_unstable();
    let at = |share: f64| sorted[((sorted.len() - 1) as f64 * share) as usize];
    sorted.len() >= 20 && at(0.05) >= 50 && at(0.95) < 8 * at(0.05)
}

/// Whether a name that is none we know ends as those of sizes do, and is not that of what the client sent.
fn is_called_size(place: &Place<'_>) -> bool {
    let name = place.name.as_deref().unwrap_or_default().to_ascii_lowercase();
    let is_size = ["size", "bytes", "length"].iter().any(|word| name.ends_with(word));
    is_size && !["request", "header", "upload", "received"].iter().any(|word| name.contains(word))
}

/// Whether a name that is none we know ends as those of durations do, be it with a unit behind it.
fn is_called_time(place: &Place<'_>) -> bool {
    let name = place.name.as_deref().unwrap_or_default();
    let plain: String =
        name.chars().filter(char::is_ascii_alphanumeric).map(|letter| letter.to_ascii_lowercase()).collect();
    let units = ["milliseconds", "microseconds", "nanoseconds", "seconds", "ms", "us", "ns"];
    let without_unit = units.iter().find_map(|unit| plain.strip_suffix(unit)).unwrap_or(&plain);
    ["duration", "responsetime", "latency", "elapsed", "elapsedtime", "timetaken"]
        .iter()
        .any(|word| without_unit.ends_with(word))
}

fn at_meaning(place: &Place<'_>) -> Meaning {
    place.meaning().unwrap_or(Meaning::Date)
}
