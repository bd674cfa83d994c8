//! What each place of a line is: everything that is seen in it, weighed against what stands beside it.
//!
//! The order is from what cannot be mistaken (times, request lines) to what can (durations), and each step uses the ones before
//! it: a status stands behind the request, and a body has the same size whenever the same path was asked for.

use super::super::meaning::Meaning;
use super::super::moment::{TimeForm, forms};
use super::super::template::Field;
use super::super::values;
use super::durations;
use super::place::{
    Place, is_address, is_agent, is_encoding, is_host, is_method, is_number, is_path, is_protocol,
    is_request, is_status, is_url, unit_behind,
};
use super::tokens::Shape;
use exedra_common::columns::{NumberColumn, TextColumn, Unit};
use std::collections::HashMap;
use thiserror::Error;

/// How sure it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Confidence {
    /// It may well be something else.
    Unsure,
    /// Little speaks against it.
    Likely,
    /// It can hardly be anything else.
    Certain,
}

impl Confidence {
    /// In words.
    pub fn name(self) -> &'static str {
        match self {
            Confidence::Unsure => "unsure",
            Confidence::Likely => "likely",
            Confidence::Certain => "certain",
        }
    }
}

/// What a place is taken for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Role {
    /// What it is.
    pub field: Field,
    /// How sure that is.
    pub confidence: Confidence,
    /// Why.
    pub reason: String,
}

/// All places of a line and what they have been taken for so far.
struct Roles<'p, 'l> {
    places: &'p [Place<'l>],
    roles: Vec<Option<Role>>,
}

/// Why parts of lines are no layout.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Error)]
pub enum Missing {
    /// Nothing in them was asked for.
    #[error("nothing in the lines is a request: neither a request line, nor a method, nor a path")]
    Request,
    /// Nothing in them says when.
    #[error("there is something like a request in the lines, but nothing in all of them is a time")]
    Time,
    /// Nothing says what was answered, or to whom.
    #[error(
        "there are times and something like a request in the lines, but neither a status nor a client: another kind of log"
    )]
    Answer,
}

/// What each place is. A unit that is given is what durations
/// count that do not say it.
pub fn assign(places: &[Place<'_>], given: Option<Unit>) -> Result<Vec<Role>, Missing> {
    let mut roles = Roles { places, roles: vec![None; places.len()] };
    roles.object();
    roles.time();
    let has_object = roles.find(&Field::Json).or(roles.find(&Field::Pairs)).is_some();
    if !has_object {
        roles.request().ok_or(Missing::Request)?;
        roles.status();
        roles.client();
        roles.names();
        roles.texts();
        roles.sizes();
        roles.durations(given);
        roles.user();
    }
    let has_time =
        roles.roles.iter().flatten().any(|role| matches!(role.field, Field::Time(_) | Field::Date(_)));
    if !has_time && !has_object {
        // Lines that say who asked for what, and how it was answered, are requests, whenever that was.
        let status = roles.find(&Field::Number(NumberColumn::Status, Unit::None));
        if status.is_none() || roles.find(&Field::Text(TextColumn::Client)).is_none() {
            return Err(Missing::Time);
        }
    }
    roles.rest();
    Ok(roles.roles.into_iter().flatten().collect())
}

impl<'l> Roles<'_, 'l> {
    fn set(&mut self, at: usize, field: Field, confidence: Confidence, reason: impl Into<String>) {
        self.roles[at] = Some(Role { field, confidence, reason: reason.into() });
    }

    fn skip(&mut self, at: usize, reason: &str) {
        self.set(at, Field::Skip, Confidence::Certain, reason);
    }

    fn find(&self, field: &Field) -> Option<usize> {
        self.roles.iter().position(|role| role.as_ref().is_some_and(|role| role.field == *field))
    }

    /// Places that nothing is known of yet.
    fn free(&self) -> Vec<usize> {
        (0..self.places.len()).filter(|at| self.roles[*at].is_none()).collect()
    }

    /// The first free place whose name means this.
    fn named(&self, meaning: Meaning) -> Option<usize> {
        self.free().into_iter().find(|at| self.places[*at].meaning() == Some(meaning))
    }

    /// The free place in which the most values are of a kind, if nearly all are.
    fn most(&self, is_of_kind: impl Fn(&[u8]) -> bool) -> Option<(usize, f64)> {
        let share = |at: usize| (at, self.places[at].share(&is_of_kind));
        let all = self.free().into_iter().map(share).filter(|(_, share)| *share >= 0.9);
        // Of equal ones the first.
        all.rev_max()
    }

    fn object(&mut self) {
        if let Some(at) = self.places.iter().position(|place| place.shape == Shape::Object) {
            self.set(at, Field::Json, Confidence::Certain, "an object of JSON");
        }
        if let Some(at) = self.places.iter().position(|place| place.shape == Shape::Pairs) {
            self.set(at, Field::Pairs, Confidence::Certain, "key=value");
        }
    }

    fn time(&mut self) {
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
            let codes = super::super::moment::Codes::compile(codes);
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

    /// The request: in one, or its method and its address beside each other, or one of them alone.
    fn request(&mut self) -> Option<()> {
        if let Some((at, share)) =
            self.free().into_iter().map(|at| (at, self.places[at].share(is_request))).rev_max()
            && share > 0.7
        {
            let reason = format!("request lines in {} of lines", percent(share));
            self.set(at, Field::Request, Confidence::Certain, reason);
            return Some(());
        }
        let method = self.most(is_method).map(|(at, _)| at);
        if let Some(at) = method {
            self.set(at, Field::Text(TextColumn::Method), Confidence::Certain, "methods");
        }
        let named = [Meaning::Target, Meaning::Text(TextColumn::Path)].into_iter().find_map(|meaning| {
            let at = self.named(meaning)?;
            (self.places[at].share(|value| is_path(value) || is_url(value)) > 0.9).then_some(at)
        });
        let is_target = |value: &[u8]| is_path(value) || value == b"*";
        let paths = self.free().into_iter().filter(|at| self.places[*at].share(is_target) > 0.9);
        let urls = self.free().into_iter().filter(|at| self.places[*at].share(is_url) > 0.9);
        // Right behind the method stands what was asked for; elsewhere an address may be a referrer.
        let behind = method.map(|method| method + 1);
        let found = named
            .or_else(|| paths.clone().chain(urls.clone()).find(|at| Some(*at) == behind))
            .or_else(|| paths.clone().next())
            .or_else(|| urls.clone().next().filter(|_| method.is_some()));
        if let Some(at) = found {
            let is_url = self.places[at].share(is_url) > 0.0;
            let field = if is_url { Field::Url } else { Field::Target };
            let reason = if is_url { "addresses of the web" } else { "paths" };
            self.set(at, field, Confidence::Certain, reason);
            if let Some(query) = self.free().into_iter().find(|free| {
                *free == at + 1 && self.places[*free].meaning() == Some(Meaning::Text(TextColumn::Query))
            }) {
                self.roles[at] =
                    self.roles[at].take().map(|role| Role { field: Field::Text(TextColumn::Path), ..role });
                self.set(query, Field::Text(TextColumn::Query), Confidence::Certain, "named so");
            }
        }
        (method.is_some() || found.is_some()).then_some(())
    }

    /// From where on a number may say something of the answer: behind the request or its status, whichever comes first.
    fn answered(&self) -> usize {
        let status = self.find(&Field::Number(NumberColumn::Status, Unit::None));
        status.map_or(self.asked(), |status| status.min(self.asked()))
    }

    /// Where the request stands, or the last part of it.
    fn asked(&self) -> usize {
        let is_asked = |role: &Role| {
            matches!(role.field, Field::Request | Field::Target | Field::Url)
                || matches!(role.field, Field::Text(TextColumn::Method | TextColumn::Path))
        };
        self.roles.iter().rposition(|role| role.as_ref().is_some_and(is_asked)).unwrap_or(0)
    }

    fn status(&mut self) {
        let asked = self.asked();
        let named = self.named(Meaning::Number(NumberColumn::Status, Unit::None));
        let all = self.free().into_iter().filter(|at| self.places[*at].share(is_status) > 0.97);
        // The nearest behind the request; before it a number is something else more often than not.
        let found = named.filter(|at| self.places[*at].share(is_status) > 0.9);
        let found = found.or_else(|| all.clone().find(|at| *at > asked)).or_else(|| all.clone().next_back());
        if let Some(at) = found {
            let confidence = if at > asked { Confidence::Certain } else { Confidence::Likely };
            self.set(at, Field::Number(NumberColumn::Status, Unit::None), confidence, "statuses of answers");
        }
    }

    fn client(&mut self) {
        let addresses: Vec<usize> = self
            .free()
            .into_iter()
            .filter(|at| self.places[*at].share(is_address) > 0.9)
            .filter(|at| self.places[*at].meaning().is_none_or(is_client))
            .collect();
        let Some(&first) = addresses.first() else {
            return self.client_by_name();
        };
        let values = self.places[first].values.len();
        // A balancer is one of few, or within; whoever it speaks for is many, and named by a list or after it.
        let is_balancer = |at: usize| {
            let place = &self.places[at];
            let internal =
                place.share(|value| values::client(value).is_some_and(|c| values::is_internal(&value[c])));
            internal > 0.9 || place.distinct() * 10 <= values && place.distinct() <= 3
        };
        let said = |at: usize| self.places[at].count() * 2 > values;
        let beyond = addresses.iter().copied().find(|at| {
            *at != first
                && said(*at)
                && self.places[*at].distinct() > self.places[first].distinct()
                && !is_balancer(*at)
        });
        let named = addresses.iter().copied().find(|at| self.places[*at].meaning().is_some());
        let (at, reason) = match (named, beyond.filter(|_| is_balancer(first))) {
            (_, Some(beyond)) => {
                (beyond, "addresses; the others are those of few machines that hand requests on")
            }
            (Some(named), _) => (named, "addresses, and named so"),
            _ => (first, "addresses"),
        };
        let confidence = if addresses.len() == 1 { Confidence::Certain } else { Confidence::Likely };
        self.set(at, Field::Text(TextColumn::Client), confidence, reason);
        for other in addresses.into_iter().filter(|other| *other != at) {
            self.skip(other, "addresses of other machines");
        }
    }

    /// Where clients are resolved, names of hosts stand beside addresses, or instead of them.
    fn client_by_name(&mut self) {
        let asked = self.asked();
        let before = self.free().into_iter().filter(|at| *at < asked);
        let is_client = |value: &[u8]| is_address(value) || is_host(value);
        let found = before.map(|at| (at, self.places[at].share(is_client), self.places[at].distinct()));
        let found =
            found.filter(|(_, share, distinct)| *share > 0.9 && *distinct > 3).map(|(at, ..)| at).next();
        if let Some(at) = found.or_else(|| self.named(Meaning::Text(TextColumn::Client))) {
            let reason = "names of hosts, many of them";
            self.set(at, Field::Text(TextColumn::Client), Confidence::Likely, reason);
        }
    }

    /// Hosts, protocols, schemes, encodings: words that are known.
    fn names(&mut self) {
        let of = |meaning: TextColumn| Meaning::Text(meaning);
        let time =
            self.roles.iter().position(|role| role.as_ref().is_some_and(|role| role.field == Field::Skip));
        // The machine that a line was written on follows the time of whoever collected it.
        let machine = time.filter(|at| self.places[*at].shape == Shape::Time).map(|at| at + 1);
        let hosts: Vec<usize> = self
            .free()
            .into_iter()
            .filter(|at| Some(*at) != machine && self.places[*at].share(is_host) > 0.9)
            .collect();
        let named = self.named(of(TextColumn::Host));
        if let Some(at) = named
            .or_else(|| hosts.into_iter().max_by_key(|at| (self.places[*at].distinct(), usize::MAX - at)))
        {
            self.set(at, Field::Text(TextColumn::Host), Confidence::Likely, "names of hosts");
        }
        if let Some((at, _)) = self.most(is_protocol) {
            self.set(at, Field::Text(TextColumn::Protocol), Confidence::Certain, "protocols");
        }
        if let Some((at, _)) = self.most(|value| matches!(value, b"http" | b"https")) {
            self.set(at, Field::Text(TextColumn::Scheme), Confidence::Certain, "http or https");
        }
        if let Some((at, _)) = self.most(is_encoding) {
            self.set(at, Field::Text(TextColumn::Encoding), Confidence::Likely, "names of codings");
        }
    }

    /// Agents and referrers.
    fn texts(&mut self) {
        let agent = self.named(Meaning::Text(TextColumn::Agent));
        let likely = |at: &usize| self.places[*at].share(is_agent) > 0.6;
        let agent = agent.or_else(|| self.free().into_iter().find(|at| likely(at)));
        if let Some(at) = agent {
            self.set(at, Field::Text(TextColumn::Agent), Confidence::Certain, "programs with their versions");
        }
        let is_referrer = |at: &usize| {
            let place = &self.places[*at];
            place.count() > 0 && place.share(is_url) > 0.8
        };
        let named = self.named(Meaning::Text(TextColumn::Referrer));
        // Nobody linked anywhere yet, but where a referrer is usual, this is its place.
        let usual = || {
            let before = agent?.checked_sub(1)?;
            let place = &self.places[before];
            (self.roles[before].is_none() && place.shape == Shape::Quoted && place.count() == 0)
                .then_some(before)
        };
        let found = named.or_else(|| self.free().into_iter().find(is_referrer));
        if let Some(at) = found {
            self.set(
                at,
                Field::Text(TextColumn::Referrer),
                Confidence::Certain,
                "addresses of the web, or nothing",
            );
        } else if let Some(at) = usual() {
            self.set(
                at,
                Field::Text(TextColumn::Referrer),
                Confidence::Likely,
                "nothing yet, before the agent",
            );
        }
    }

    /// Bytes: numbers that are the same whenever the same was asked for.
    fn sizes(&mut self) {
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
                *at > answered && self.places[*at].name.is_none() || self.places[*at].meaning().is_some()
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
                Some(share) if share < 0.3 && self.places[next].distinct() > 4 => None,
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
    fn durations(&mut self, given: Option<Unit>) {
        let is_duration =
            |meaning| matches!(meaning, Meaning::Number(NumberColumn::Duration, _) | Meaning::RequestTime);
        let named = self.free().into_iter().find(|at| self.places[*at].meaning().is_some_and(is_duration));
        let suffixed = self.most(|value| unit_behind(value).is_some()).map(|(at, _)| at);
        let answered = self.answered();
        let candidates: Vec<usize> =
            self.free().into_iter().filter(|at| self.may_be_duration(*at, answered)).collect();
        let Some(at) = named.or(suffixed).or_else(|| self.longest(&candidates)) else { return };
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
                let is_named = named == Some(at);
                (unit, if is_named { Confidence::Likely } else { Confidence::Unsure }, reason)
            }
            _ => return,
        };
        let reason = format!("{reason}: {}", unit.name());
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

    fn may_be_duration(&self, at: usize, answered: usize) -> bool {
        let place = &self.places[at];
        let enough = place.count() * 2 > place.values.len();
        if !enough || place.share(|value| is_number(value) || unit_behind(value).is_some()) < 0.97 {
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
        at > answered && !is_port && !counts_up && !is_fixed
    }

    /// Of several durations the whole is the one that the others are parts of.
    fn longest(&self, candidates: &[usize]) -> Option<usize> {
        let sum = |at: usize| -> f64 {
            let values = self.places[at]
                .known()
                .filter_map(|value| std::str::from_utf8(value).ok()?.parse::<f64>().ok());
            values.sum()
        };
        let decimals = |at: &usize| self.places[*at].share(|value| value.contains(&b'.')) > 0.5;
        let first = *candidates.first()?;
        let alike = candidates.iter().copied().filter(|at| decimals(at) == decimals(&first));
        let longest = alike.max_by(|one, other| sum(*one).total_cmp(&sum(*other)))?;
        Some(if sum(longest) > sum(first) { longest } else { first })
    }

    /// Between the client and what follows it stand, where they do, an identity that nobody has and a name.
    fn user(&mut self) {
        if let Some(at) = self.named(Meaning::Text(TextColumn::User)) {
            return self.set(at, Field::Text(TextColumn::User), Confidence::Certain, "named so");
        }
        let Some(client) = self.find(&Field::Text(TextColumn::Client)) else { return };
        let until = (client + 1..self.places.len()).find(|at| self.roles[*at].is_some());
        let between: Vec<usize> = (client + 1..until.unwrap_or(client + 1)).collect();
        let is_word = |at: usize| self.places[at].shape == Shape::Bare && self.places[at].name.is_none();
        match between[..] {
            [identity, user] if is_word(identity) && is_word(user) && self.places[identity].count() == 0 => {
                self.set(
                    user,
                    Field::Text(TextColumn::User),
                    Confidence::Likely,
                    "where the name of a user usually is",
                );
                self.skip(identity, "nothing in any line");
            }
            [user] if is_word(user) && self.places[user].count() > 0 && self.places[user].distinct() > 1 => {
                let reason = "words behind the client";
                self.set(user, Field::Text(TextColumn::User), Confidence::Unsure, reason);
            }
            _ => {}
        }
    }

    /// What is left is read and forgotten.
    fn rest(&mut self) {
        for at in self.free() {
            let place = &self.places[at];
            let reason = match (place.count(), place.distinct()) {
                (0, _) => "nothing in any line".to_owned(),
                (_, 1) => "the same in every line".to_owned(),
                (_, distinct) => format!("{distinct} different values that we do not know"),
            };
            let confidence = if place.distinct() > 1 { Confidence::Unsure } else { Confidence::Certain };
            self.set(at, Field::Skip, confidence, reason);
        }
    }
}

/// Whether its values have names in the line.
fn is_named(place: &Place<'_>) -> bool {
    matches!(place.shape, Shape::Object | Shape::Pairs)
}

fn at_meaning(place: &Place<'_>) -> Meaning {
    place.meaning().unwrap_or(Meaning::Date)
}

fn is_client(meaning: Meaning) -> bool {
    matches!(meaning, Meaning::Text(TextColumn::Client) | Meaning::Forwarded)
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

fn percent(share: f64) -> String {
    format!("{:.0} %", share * 100.0)
}

/// The greatest share; of equal ones the first.
trait FirstMax: Iterator<Item = (usize, f64)> + Sized {
    fn rev_max(self) -> Option<(usize, f64)> {
        self.fold(None, |best: Option<(usize, f64)>, one| match best {
            Some(known) if known.1 >= one.1 => Some(known),
            _ => Some(one),
        })
    }
}

impl<I: Iterator<Item = (usize, f64)>> FirstMax for I {}
