//! When a request came: of several times the one that is its own.

use super::{Confidence, Roles, is_named};
use crate::logs::meaning::Meaning;
use crate::logs::moment::{Codes, TimeForm, forms};
use crate::logs::search::place::{Place, is_method, is_path, is_request};
use crate::logs::search::tokens::Shape;
use crate::logs::template::Field;

impl Roles<'_, '_> {
    pub(super) fn time(&mut self) {
        // Where an object or a request is: the time that stands nearest is its own, others are of whoever handed it on.
        let anchor = self
            .places
            .iter()
            .position(|place| is_named(place) || place.share(is_request) > 0.7)
            .or_else(|| self.places.iter().position(|place| place.share(is_method) > 0.9))
            .or_else(|| self.places.iter().position(|place| place.share(is_path) > 0.9))
            .unwrap_or(0);
        let mut best: Option<((bool, bool, i64), usize, TimeForm)> = None;
        let mut others = Vec::new();
        for (at, place) in self.places.iter().enumerate() {
            if is_named(place) || place.count() == 0 {
                continue;
            }
            let Some(form) = forms::of_all(place.known()) else { continue };
            let is_called = place.meaning() == Some(Meaning::Time);
            let is_number = matches!(
                form,
                TimeForm::Seconds | TimeForm::Milliseconds | TimeForm::Microseconds | TimeForm::Nanoseconds
            );
            others.push(at);
            let distance = (at as i64 - anchor as i64).abs();
            let rank = (says_day(&form), is_called || !is_number, -distance);
            if best.as_ref().is_none_or(|(known, ..)| rank > *known) {
                best = Some((rank, at, form));
            }
        }
        let date = self.date();
        if let Some((rank, at, form)) = best {
            // Day and time of day may stand apart.
            if !rank.0
                && let Some((day, codes)) = date
            {
                let clock = form.argument().to_owned();
                self.set(day, Field::Date(codes.to_owned()), Confidence::Certain, "a day in every line");
                self.set(at, Field::Clock(clock), Confidence::Certain, "a time of day in every line");
            } else {
                let (confidence, reason) = match (&form, rank.0, says_zone(&form)) {
                    (_, false, _) => (Confidence::Likely, "a time without its day, which is the file's"),
                    (TimeForm::Codes(codes), _, _) if !codes.contains("%Y") => {
                        (Confidence::Likely, "a time without its year, which is the file's")
                    }
                    (_, _, false) => (Confidence::Likely, "a time in every line; no zone, taken for UTC"),
                    _ => (Confidence::Certain, "a time in every line"),
                };
                self.set(at, Field::Time(form), confidence, reason);
            }
        }
        for at in others {
            if self.roles[at].is_none() && self.places[at].shape == Shape::Time {
                self.skip(at, "another time");
            }
        }
    }

    /// A place with days alone, and their strftime codes.
    fn date(&self) -> Option<(usize, &'static str)> {
        const DAYS: [&str; 6] = ["%Y-%m-%d", "%d/%b/%Y", "%Y/%m/%d", "%d.%m.%Y", "%m/%d/%Y", "%Y%m%d"];
        let fits = |place: &Place<'_>, codes: &str| {
            let codes = Codes::compile(codes);
            let is_day = |value: &[u8]| {
                codes
                    .as_ref()
                    .and_then(|codes| codes.read(value))
                    .is_some_and(|day| day.instant(None).is_some())
            };
            place.count() > 0 && place.share(is_day) == 1.0
        };
        self.places
            .iter()
            .enumerate()
            .find_map(|(at, place)| Some((at, DAYS.into_iter().find(|codes| fits(place, codes))?)))
    }
}

/// Whether a time of this form says its day.
fn says_day(form: &TimeForm) -> bool {
    match form {
        TimeForm::Codes(codes) => codes.contains("%d"),
        _ => true,
    }
}

fn says_zone(form: &TimeForm) -> bool {
    match form {
        TimeForm::Codes(codes) => codes.contains("%z") || codes.contains("%Z"),
        _ => true,
    }
}
