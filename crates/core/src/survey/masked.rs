//! A survey that may be handed on: addresses cut to their networks, names of users left out.

use super::counted::Survey;
use super::ranking::Ranking;
use super::report::Lines;
use crate::logs::mask::network;
use std::borrow::Cow;

impl Survey {
    /// The same survey with nothing finer in it than networks: the first 24 bits of IPv4 addresses, the first 48 of IPv6.
    /// Visitors and visits were counted before and stay as they are. What is no address is left out.
    pub fn masked(mut self) -> Survey {
        self.clients = self.clients.regrouped(|client| network(client).map(Cow::Owned));
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
