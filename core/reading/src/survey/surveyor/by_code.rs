//! Counts by the codes of texts, and what is learnt of each text once.
//!
//! Codes mean something within one set of dictionaries only: before another comes, everything is settled into the survey by its
//! text.

use super::super::counted::{Encoded, MissingKey, StatusKey, Survey};
use super::super::ranking::{Counts, Ranking};
use super::super::tally::Tally;
use super::super::visitors::VisitorKey;
use crate::classify::agents;
use crate::classify::paths::Kind;
use exedra_common::batch::NO_TEXT;
use exedra_common::{Dictionaries, Dictionary, TextColumn};
use foldhash::fast::RandomState;
use hashbrown::HashMap;

/// Counts by the codes of texts, to be settled before other dictionaries come.
#[derive(Debug, Default)]
pub(super) struct ByCode {
    pub paths: Vec<Counts>,
    pub clients: Vec<Counts>,
    pub users: Vec<Counts>,
    pub agents: Vec<Counts>,
    pub referrers: Vec<Counts>,
    pub encodings: Vec<Encoded>,
    pub slow: Vec<Counts>,
    pub hosts: Vec<Counts>,
    pub methods: Vec<Counts>,
    pub protocols: Vec<Counts>,
    pub queries: Vec<Counts>,
    pub uncompressed: Vec<Counts>,
    /// By status and path, and by status and client.
    pub failing_paths: Tally<(u16, u32), Counts>,
    pub failing_clients: Tally<(u16, u32), Counts>,
    /// By path and referrer.
    pub missing: Tally<(u32, u32), Counts>,
    pub probes: HashMap<u32, Counts, RandomState>,
    pub crawled: HashMap<u32, Counts, RandomState>,
    pub answered: HashMap<u32, Counts, RandomState>,
}

/// What follows from texts, learnt once for each code.
#[derive(Debug, Default)]
pub(super) struct Learnt {
    pub paths: Vec<Path>,
    pub clients: Vec<u64>,
    pub agents: Vec<u64>,
    /// The keyed hash of each path, where durations are counted.
    pub path_hashes: Vec<u64>,
    /// Whether an agent is a program; looked for when it is needed, as that takes its time.
    pub programs: Vec<Option<bool>>,
    /// Whether it is a crawler that is known, in the same way.
    pub crawlers: Vec<Option<bool>>,
}

#[derive(Debug, Clone, Copy)]
pub(super) struct Path {
    pub kind: Kind,
    pub is_style: bool,
    pub is_probe: bool,
    /// Whether it is text, which gets smaller when it is compressed.
    pub is_text: bool,
}

impl Learnt {
    /// Whether an agent is a program.
    pub fn is_program(&mut self, agent: u32, agents: &Dictionary) -> bool {
        learnt(&mut self.programs, agent, agents, agents::is_program)
    }

    /// Whether an agent is a crawler that is known.
    pub fn is_known_crawler(&mut self, agent: u32, agents: &Dictionary) -> bool {
        learnt(&mut self.crawlers, agent, agents, agents::is_known_crawler)
    }

    /// Learns the keyed hashes of paths that are new.
    pub fn hash_paths(&mut self, key: VisitorKey, paths: &Dictionary) {
        let new = self.path_hashes.len()..paths.len();
        self.path_hashes.extend(new.map(|code| key.of_text(paths.text(code as u32))));
    }
}

/// What is so of a text, looked for once.
fn learnt(known: &mut Vec<Option<bool>>, code: u32, texts: &Dictionary, is_so: fn(&str) -> bool) -> bool {
    if code == NO_TEXT {
        return false;
    }
    if known.len() <= code as usize {
        known.resize(texts.len(), None);
    }
    *known[code as usize].get_or_insert_with(|| is_so(texts.text(code)))
}

impl ByCode {
    /// How many pairs of texts, or of status and text, are known.
    pub fn pairs(&self) -> usize {
        self.missing.keys() + self.failing_paths.keys() + self.failing_clients.keys()
    }

    /// Hands everything over by its text.
    pub fn settle(self, dictionaries: &Dictionaries, survey: &mut Survey) {
        let texts = |column| dictionaries.of(column);
        let rankings: [(&mut Ranking, &[Counts], TextColumn); 11] = [
            (&mut survey.paths, &self.paths, TextColumn::Path),
            (&mut survey.clients, &self.clients, TextColumn::Client),
            (&mut survey.users, &self.users, TextColumn::User),
            (&mut survey.agents, &self.agents, TextColumn::Agent),
            (&mut survey.referrers, &self.referrers, TextColumn::Referrer),
            (&mut survey.durations.slow, &self.slow, TextColumn::Path),
            (&mut survey.hosts, &self.hosts, TextColumn::Host),
            (&mut survey.methods, &self.methods, TextColumn::Method),
            (&mut survey.protocols, &self.protocols, TextColumn::Protocol),
            (&mut survey.queries, &self.queries, TextColumn::Query),
            (&mut survey.uncompressed, &self.uncompressed, TextColumn::Path),
        ];
        for (ranking, counts, column) in rankings {
            ranking.add_all(texts(column), counts);
        }
        for ((path, referrer), counts) in self.missing.into_sorted() {
            let referrer = if referrer == NO_TEXT { "" } else { texts(TextColumn::Referrer).text(referrer) };
            survey.missing.add(&MissingKey::join(texts(TextColumn::Path).text(path), referrer), counts);
        }
        for (failing, ranking, column) in [
            (self.failing_paths, &mut survey.failing_paths, TextColumn::Path),
            (self.failing_clients, &mut survey.failing_clients, TextColumn::Client),
        ] {
            for ((status, code), counts) in failing.into_sorted() {
                ranking.add(&StatusKey::join(status, texts(column).text(code)), counts);
            }
        }
        for (path, counts) in self.probes {
            survey.probes.add(texts(TextColumn::Path).text(path), counts);
        }
        for (path, counts) in self.crawled {
            survey.crawled.add(texts(TextColumn::Path).text(path), counts);
        }
        for (path, counts) in self.answered {
            survey.answered.add(texts(TextColumn::Path).text(path), counts);
        }
        let encodings = texts(TextColumn::Encoding).texts().zip(self.encodings);
        encodings
            .filter(|(_, encoded)| encoded.counts.requests > 0)
            .for_each(|(name, encoded)| survey.add_encoded(name, encoded));
    }
}
