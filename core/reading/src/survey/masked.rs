//! A survey that may be handed on: addresses cut to their networks, names of users left out.

use super::counted::{StatusKey, Survey};
use super::ranking::Ranking;
use super::report::Lines;
use super::visitors::VisitorKey;
use super::visitors_of_entries::Listed;
use crate::logs::mask::network;
use std::borrow::Cow;

impl Survey {
    /// The same survey with nothing finer in it than networks: the first 24 bits of IPv4 addresses, the first 48 of IPv6.
    /// Visitors and visits were counted before, with `key`, and stay as they are. What is no address is left out.
    pub fn masked(mut self, key: VisitorKey) -> Survey {
        let hash = |client: &str| key.of_listed(Listed::Clients, client);
        let names =
            self.clients.entries().filter_map(|(client, _)| Some((hash(client), hash(&network(client)?))));
        self.listed = std::mem::take(&mut self.listed).renamed(&names.collect());
        self.times = self.times.map(|times| Box::new(times.masked(key)));
        self.clients = self.clients.regrouped(|client| network(client).map(Cow::Owned));
        self.failing_clients = self.failing_clients.regrouped(|key| {
            let (status, client) = StatusKey::split(key)?;
            Some(StatusKey::join(status, &network(client)?).into())
        });
        self.users = Ranking::default();
        self
    }
}

impl Lines {
    /// The same without the lines themselves: there may be addresses in them.
    pub fn without_examples(mut self) -> Lines {
        self.reasons.iter_mut().for_each(|reason| reason.examples.clear());
        self
    }
}
