//! Who asks: what was counted of each client, of sites whose pages load files from here, and of networks that probe.
//!
//! Each remembers a few paths and a few clients, whatever comes: those it asked for most often.

use std::collections::HashSet;

/// A path of a site, by its number.
pub type PathNumber = u32;

/// How much of an agent is kept, in octets.
const AGENT: usize = 300;
/// Milliseconds.
pub(super) const MINUTE: i64 = 60_000;
/// A client that asks so often in a minute is in a hurry.
pub const HURRIED: u32 = 30;

/// How many paths a client or a site is remembered by, and how many clients a network is.
pub const FEW: usize = 6;

/// A client of a site.
#[derive(Debug, Clone, Default)]
pub struct ClientCounts {
    /// Requests, and their body bytes.
    pub requests: u64,
    /// Body bytes.
    pub bytes: u64,
    /// The most requests in a minute.
    pub busiest: u32,
    /// Minutes with more than [`HURRIED`] requests, and requests in those.
    pub hurried_minutes: u64,
    /// Requests in those.
    pub hurried_requests: u64,
    minute: i64,
    in_minute: u32,
    /// What it asked for most, and at least how often; nothing where it asked for very many things alike.
    pub paths: Vec<(PathNumber, u64)>,
    /// Something that it asked for.
    pub some: Option<PathNumber>,
    /// What it calls itself.
    pub agent: Box<str>,
}

impl ClientCounts {
    pub(super) fn add(&mut self, path: PathNumber, time: i64, bytes: u64, agent: &str) {
        self.requests += 1;
        self.bytes += bytes;
        most_frequent(&mut self.paths, path, 1);
        self.some.get_or_insert(path);
        if self.agent.is_empty() {
            self.agent = beginning(agent, AGENT).into();
        }
        let minute = time.div_euclid(MINUTE);
        if minute != self.minute {
            (self.minute, self.in_minute) = (minute, 0);
        }
        self.in_minute += 1;
        self.busiest = self.busiest.max(self.in_minute);
        match self.in_minute.cmp(&HURRIED) {
            std::cmp::Ordering::Less => {}
            std::cmp::Ordering::Equal => {
                self.hurried_minutes += 1;
                self.hurried_requests += u64::from(HURRIED);
            }
            std::cmp::Ordering::Greater => self.hurried_requests += 1,
        }
    }

    pub(super) fn merge(&mut self, other: ClientCounts, number: impl Fn(PathNumber) -> Option<PathNumber>) {
        self.requests += other.requests;
        self.bytes += other.bytes;
        self.busiest = self.busiest.max(other.busiest);
        self.hurried_minutes += other.hurried_minutes;
        self.hurried_requests += other.hurried_requests;
        for (path, times) in other.paths {
            if let Some(path) = number(path) {
                most_frequent(&mut self.paths, path, times);
            }
        }
        self.some = self.some.or_else(|| other.some.and_then(&number));
        if self.agent.is_empty() || (!other.agent.is_empty() && other.agent < self.agent) {
            self.agent = other.agent;
        }
    }
}

/// A site whose pages load files from here, or a network that probes.
#[derive(Debug, Clone, Default)]
pub struct FromOutside {
    /// Requests.
    pub requests: u64,
    /// Body bytes.
    pub bytes: u64,
    /// What was asked for most, and at least how often; nothing where very many things were asked for alike.
    pub paths: Vec<(PathNumber, u64)>,
    /// Something that was asked for.
    pub some: Option<PathNumber>,
    /// Some of the clients.
    pub clients: HashSet<Box<str>>,
}

impl FromOutside {
    pub(super) fn add(&mut self, path: PathNumber, bytes: u64, client: &str) {
        self.requests += 1;
        self.bytes += bytes;
        most_frequent(&mut self.paths, path, 1);
        self.some.get_or_insert(path);
        if self.clients.len() < FEW {
            self.clients.insert(client.into());
        }
    }

    pub(super) fn merge(&mut self, other: FromOutside, number: impl Fn(PathNumber) -> Option<PathNumber>) {
        self.requests += other.requests;
        self.bytes += other.bytes;
        for (path, times) in other.paths {
            if let Some(path) = number(path) {
                most_frequent(&mut self.paths, path, times);
            }
        }
        self.some = self.some.or_else(|| other.some.and_then(&number));
        let mut clients: Vec<Box<str>> = self.clients.drain().chain(other.clients).collect();
        clients.sort_unstable();
        self.clients = clients.into_iter().take(FEW).collect();
    }
}

/// Counts the most frequent paths, with few places: a path that is new takes the place of the rarest once that has come down to nothing.
fn most_frequent(paths: &mut Vec<(PathNumber, u64)>, path: PathNumber, times: u64) {
    if let Some(known) = paths.iter_mut().find(|(known, _)| *known == path) {
        known.1 += times;
    } else if paths.len() < FEW {
        paths.push((path, times));
    } else {
        let least = paths.iter().map(|(_, times)| *times).min().unwrap_or(0).min(times);
        paths.iter_mut().for_each(|(_, times)| *times -= least);
        paths.retain(|(_, times)| *times > 0);
        if times > least {
            paths.push((path, times - least));
        }
    }
}

/// The beginning of a text, at most so many octets.
pub(super) fn beginning(text: &str, most: usize) -> &str {
    &text[..text.floor_char_boundary(most)]
}
