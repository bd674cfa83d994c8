//! What each place of a line is: everything that is seen in it, weighed against what stands beside it.
//!
//! The order is from what cannot be mistaken (times, request lines) to what can (durations), and each step uses the ones before
//! it: a status stands behind the request, and a body has the same size whenever the same path was asked for.
//!
//! Objects and pairs first, then [`times`], [`requests`] and their statuses, [`clients`], [`texts`], [`numbers`].

mod clients;
mod numbers;
mod requests;
mod texts;
mod times;

use super::place::Place;
use super::tokens::Shape;
use crate::logs::meaning::Meaning;
use crate::logs::template::Field;
use exedra_common::columns::{NumberColumn, TextColumn, Unit};
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

/// What each place is. A unit that is given is what durations count that do not say it.
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

impl Roles<'_, '_> {
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
