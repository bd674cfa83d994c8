//! Hosts, agents, referrers, and words of which there are few.

use super::{Confidence, Roles};
use crate::logs::meaning::Meaning;
use crate::logs::search::place::{is_agent, is_encoding, is_host, is_protocol, is_url};
use crate::logs::search::tokens::Shape;
use crate::logs::template::Field;
use exedra_common::columns::TextColumn;

impl Roles<'_, '_> {
    /// Hosts, protocols, schemes, encodings: words that are known.
    pub(super) fn names(&mut self) {
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
    pub(super) fn texts(&mut self) {
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
}
