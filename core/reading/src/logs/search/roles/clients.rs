//! Who asked: of several addresses the one that is the client's, and the name of whoever signed in.

use super::{Confidence, Roles};
use crate::logs::meaning::Meaning;
use crate::logs::search::place::{is_address, is_host};
use crate::logs::search::tokens::Shape;
use crate::logs::template::Field;
use crate::logs::values;
use exedra_common::columns::TextColumn;

impl Roles<'_, '_> {
    pub(super) fn client(&mut self) {
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

    /// Between the client and what follows it stand, where they do, an identity that nobody has and a name.
    pub(super) fn user(&mut self) {
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
}

fn is_client(meaning: Meaning) -> bool {
    matches!(meaning, Meaning::Text(TextColumn::Client) | Meaning::Forwarded)
}
