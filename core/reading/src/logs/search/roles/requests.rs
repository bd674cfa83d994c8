//! What was asked for, and how it was answered.

use super::{Confidence, FirstMax, Role, Roles, percent};
use crate::logs::meaning::Meaning;
use crate::logs::search::place::{is_method, is_path, is_request, is_status, is_url};
use crate::logs::template::Field;
use exedra_common::columns::{NumberColumn, TextColumn, Unit};

impl Roles<'_, '_> {
    /// The request: in one, or its method and its address beside each other, or one of them alone.
    pub(super) fn request(&mut self) -> Option<()> {
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
    pub(super) fn answered(&self) -> usize {
        let status = self.find(&Field::Number(NumberColumn::Status, Unit::None));
        status.map_or(self.asked(), |status| status.min(self.asked()))
    }

    /// Where the request stands, or the last part of it.
    pub(super) fn asked(&self) -> usize {
        let is_asked = |role: &Role| {
            matches!(role.field, Field::Request | Field::Target | Field::Url)
                || matches!(role.field, Field::Text(TextColumn::Method | TextColumn::Path))
        };
        self.roles.iter().rposition(|role| role.as_ref().is_some_and(is_asked)).unwrap_or(0)
    }

    pub(super) fn status(&mut self) {
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
}
