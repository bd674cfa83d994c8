//! What findings are made of, counted in one pass over requests: what each path was answered, for whom, and what came before and after.
//!
//! Everything that a stranger can grow has a bound. People are told apart by a sample with a threshold: past [`MOST_PEOPLE`] pairs of a
//! path and a person, only every second person counts, then every fourth, and so on.

use super::askers::{ClientCounts, FromOutside, MINUTE, PathNumber, beginning};
use exedra_common::{Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use exedra_reading::classify::paths::{Kind, is_probe, kind, saving};
use exedra_reading::classify::{agents, referrers};
use foldhash::quality::RandomState;
use std::collections::{HashMap, HashSet};
use std::hash::BuildHasher;
use std::net::IpAddr;
use std::sync::OnceLock;

/// How many paths are kept, with about 200 octets each; and how many pairs of a path and a person.
const MOST_PATHS: usize = 200_000;
/// How many octets paths may have together; and how much of a referrer is kept.
const MOST_OCTETS: usize = 64 << 20;
const REFERRER: usize = 500;
const MOST_PEOPLE: usize = 1 << 20;
/// How many referrers of missing pages, clients, embedding sites, networks and steps from page to page are kept.
const MOST_REFERRERS: usize = 50_000;
const MOST_CLIENTS: usize = 100_000;
const MOST_SITES: usize = 20_000;
const MOST_STEPS: usize = 100_000;
/// How many minutes in which a path was missing are kept, of all paths.
const MOST_MINUTES: usize = 200_000;

/// What somebody does next counts as long as it comes within five minutes, in milliseconds; the next hop of a redirect within three seconds.
const SOON: i64 = 5 * 60_000;
const AT_ONCE: i64 = 3_000;
/// What a request was answered, as far as findings tell answers apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[repr(u8)]
pub enum Answered {
    /// In full or in part.
    Sent,
    /// The client had it already.
    Same,
    /// Redirected.
    Redirected,
    /// A name and a password were asked for.
    Login,
    /// Refused.
    Refused,
    /// Missing or gone.
    Missing,
    /// Failed.
    Failed,
    /// Something else.
    Other,
}

impl Answered {
    fn of(status: u64) -> Self {
        match status {
            200 | 203 | 206 => Answered::Sent,
            304 => Answered::Same,
            301 | 302 | 303 | 307 | 308 => Answered::Redirected,
            401 => Answered::Login,
            403 => Answered::Refused,
            404 | 410 => Answered::Missing,
            500..=599 => Answered::Failed,
            _ => Answered::Other,
        }
    }
}

/// How many of them there are.
const ANSWERS: usize = 8;

/// What was counted of one path.
#[derive(Debug, Clone, Default)]
pub struct PathCounts {
    /// Requests by what they were answered.
    pub requests: [u64; ANSWERS],
    /// Those of people among them.
    pub of_people: [u64; ANSWERS],
    /// Body bytes.
    pub bytes: [u64; ANSWERS],
    /// Full answers that were sent as they are to clients that take encoded ones.
    pub plain: u64,
    /// Their bytes.
    pub plain_bytes: u64,
    /// Full answers of somebody who had signed in.
    pub signed_in: u64,
    /// The minutes since 1970 UTC in which it was missing.
    pub missing_minutes: Vec<i64>,
    /// A host that it was asked for by.
    pub host: Option<Box<str>>,
}

impl PathCounts {
    /// Requests that were answered so.
    pub fn requests(&self, answered: Answered) -> u64 {
        self.requests[answered as usize]
    }

    /// Bytes of those.
    pub fn bytes(&self, answered: Answered) -> u64 {
        self.bytes[answered as usize]
    }

    /// Those of people among them.
    pub fn of_people(&self, answered: Answered) -> u64 {
        self.of_people[answered as usize]
    }
}

/// What people did next.
#[derive(Debug, Clone, Copy)]
struct Last {
    path: PathNumber,
    time: i64,
    answered: Answered,
}

/// The number of a site and a text.
type OfSite = (u16, Box<str>);

/// People by path and answer, each with how often.
type PeopleOfPaths = HashMap<(PathNumber, u8), Vec<(u64, u32)>, RandomState>;

/// All that was counted.
#[derive(Debug, Default)]
pub struct FindingCounts {
    sites: Vec<String>,
    numbers: HashMap<OfSite, PathNumber, RandomState>,
    paths: Vec<PathCounts>,
    names: Vec<OfSite>,
    /// Requests by path, answer and person.
    people: HashMap<(PathNumber, u8, u64), u32, RandomState>,
    halvings: u32,
    referrers: HashMap<(PathNumber, Box<str>), u64, RandomState>,
    embedding: HashMap<OfSite, FromOutside, RandomState>,
    clients: HashMap<OfSite, ClientCounts, RandomState>,
    probing: HashMap<OfSite, FromOutside, RandomState>,
    next: HashMap<(PathNumber, PathNumber), u64, RandomState>,
    hops: HashMap<(PathNumber, PathNumber), u64, RandomState>,
    last: HashMap<(u16, u64), Last, RandomState>,
    /// The same by path and answer, made when it is first asked for.
    index: OnceLock<PeopleOfPaths>,
    minutes: usize,
    octets: usize,
    /// Requests of all.
    pub requests: u64,
    /// Requests of which too many other paths had come before.
    pub let_go: u64,
    /// First and last request, in milliseconds since 1970 UTC.
    pub span: Option<(i64, i64)>,
}

/// The same in all threads of this process, and known to nobody outside.
fn hashes() -> &'static RandomState {
    static HASHES: OnceLock<RandomState> = OnceLock::new();
    HASHES.get_or_init(RandomState::default)
}

impl FindingCounts {
    /// The columns that are looked at.
    pub fn projection() -> Projection {
        let texts: Projection = [
            TextColumn::Site,
            TextColumn::Client,
            TextColumn::User,
            TextColumn::Host,
            TextColumn::Path,
            TextColumn::Referrer,
            TextColumn::Agent,
            TextColumn::Encoding,
        ]
        .into_iter()
        .collect();
        texts.with([NumberColumn::Status, NumberColumn::Bytes].into_iter().collect())
    }

    /// FindingCounts a row of a batch. `is_own` tells whether a host is one of a site's own.
    pub fn add(
        &mut self,
        batch: &RequestBatch,
        row: usize,
        texts: &Dictionaries,
        is_own: impl Fn(&str) -> bool,
    ) {
        let text = |column: TextColumn| batch.code(column, row).map(|code| texts.of(column).text(code));
        let time = batch.time[row];
        self.requests += 1;
        self.span = Some(self.span.map_or((time, time), |(first, last)| (first.min(time), last.max(time))));
        let (Some(path), Some(site)) = (text(TextColumn::Path), text(TextColumn::Site)) else { return };
        let site = self.site(site);
        let Some(number) = self.path(site, path) else {
            self.let_go += 1;
            return;
        };
        let answered = Answered::of(batch.number(NumberColumn::Status, row).unwrap_or(0));
        let bytes = batch.number(NumberColumn::Bytes, row).unwrap_or(0);
        let agent = text(TextColumn::Agent).unwrap_or_default();
        let read = agents::read(agent);
        let is_person = !agent.is_empty() && read.crawler.is_none();
        let client = text(TextColumn::Client).unwrap_or_default();
        let person = hashes().hash_one((client, agent));
        let counts = &mut self.paths[number as usize];
        counts.requests[answered as usize] += 1;
        counts.bytes[answered as usize] += bytes;
        if counts.host.is_none() {
            counts.host = text(TextColumn::Host).map(Into::into);
        }
        if is_person {
            counts.of_people[answered as usize] += 1;
        }
        if answered == Answered::Sent {
            counts.signed_in += u64::from(text(TextColumn::User).is_some());
            if text(TextColumn::Encoding).is_none() && is_person && saving(path) > 0.0 {
                counts.plain += 1;
                counts.plain_bytes += bytes;
            }
        }
        if answered == Answered::Missing && self.minutes < MOST_MINUTES {
            let minute = time.div_euclid(MINUTE);
            if counts.missing_minutes.last() != Some(&minute) {
                counts.missing_minutes.push(minute);
                self.minutes += 1;
            }
        }
        let referrer = text(TextColumn::Referrer).map(|referrer| beginning(referrer, REFERRER));
        if is_person {
            self.see_person(number, answered, person);
            self.follow((site, person), number, path, answered, time);
        }
        if let Some(referrer) = referrer {
            if answered == Answered::Missing {
                count(&mut self.referrers, (number, referrer.into()), MOST_REFERRERS, |count| *count += 1);
            }
            let embeds = matches!(kind(path), Kind::Asset | Kind::Download) && answered == Answered::Sent;
            if embeds && let Some(host) = referrers::host(referrer).filter(|host| !is_own(host)) {
                count(&mut self.embedding, (site, host.into()), MOST_SITES, |from| {
                    from.add(number, bytes, client)
                });
            }
        }
        if answered == Answered::Missing && is_probe(path) {
            let network = network(client);
            count(&mut self.probing, (site, network.into()), MOST_SITES, |from| {
                from.add(number, bytes, client)
            });
        }
        count(&mut self.clients, (site, client.into()), MOST_CLIENTS, |counts| {
            counts.add(number, time, bytes, agent);
        });
    }

    fn site(&mut self, name: &str) -> u16 {
        let known = self.sites.iter().position(|known| known == name);
        let nth = known.unwrap_or_else(|| {
            self.sites.push(name.to_owned());
            self.sites.len() - 1
        });
        u16::try_from(nth).unwrap_or(u16::MAX)
    }

    fn path(&mut self, site: u16, path: &str) -> Option<PathNumber> {
        let key = (site, Box::from(path));
        if let Some(known) = self.numbers.get(&key) {
            return Some(*known);
        }
        if self.paths.len() >= MOST_PATHS || self.octets + path.len() > MOST_OCTETS {
            return None;
        }
        self.octets += path.len();
        let number = self.paths.len() as PathNumber;
        self.paths.push(PathCounts::default());
        self.names.push(key.clone());
        self.numbers.insert(key, number);
        Some(number)
    }

    fn is_sampled(&self, person: u64) -> bool {
        person.trailing_zeros() >= self.halvings
    }

    fn see_person(&mut self, path: PathNumber, answered: Answered, person: u64) {
        self.see_person_times(path, answered as u8, person, 1);
    }

    fn see_person_times(&mut self, path: PathNumber, answered: u8, person: u64, times: u32) {
        if !self.is_sampled(person) {
            return;
        }
        self.index.take();
        *self.people.entry((path, answered, person)).or_default() += times;
        while self.people.len() > MOST_PEOPLE {
            self.halvings += 1;
            let halvings = self.halvings;
            self.people.retain(|(.., person), _| person.trailing_zeros() >= halvings);
        }
    }

    /// Where somebody went after a missing page, and which redirect followed which.
    fn follow(&mut self, who: (u16, u64), path: PathNumber, written: &str, answered: Answered, time: i64) {
        let is_redirected = answered == Answered::Redirected;
        if kind(written) != Kind::Page && !is_redirected {
            return;
        }
        if let Some(last) = self.last.get(&who).copied() {
            let after = time - last.time;
            if last.answered == Answered::Missing
                && matches!(answered, Answered::Sent | Answered::Same)
                && (0..=SOON).contains(&after)
            {
                count(&mut self.next, (last.path, path), MOST_STEPS, |count| *count += 1);
            }
            if last.answered == Answered::Redirected && is_redirected && (0..=AT_ONCE).contains(&after) {
                count(&mut self.hops, (last.path, path), MOST_STEPS, |count| *count += 1);
            }
        }
        if self.last.len() >= MOST_CLIENTS {
            self.last.clear();
        }
        self.last.insert(who, Last { path, time, answered });
    }

    /// Adds what was counted elsewhere.
    pub fn merge(&mut self, other: FindingCounts) {
        let sites: Vec<u16> = other.sites.iter().map(|name| self.site(name)).collect();
        let site = |nth: u16| sites.get(nth as usize).copied().unwrap_or(u16::MAX);
        let numbers: Vec<Option<PathNumber>> =
            other.names.iter().map(|(nth, path)| self.path(site(*nth), path)).collect();
        let number = |theirs: PathNumber| numbers[theirs as usize];
        for (theirs, counts) in other.paths.into_iter().enumerate() {
            match numbers[theirs] {
                Some(ours) => {
                    self.minutes += counts.missing_minutes.len();
                    self.paths[ours as usize].merge(counts);
                }
                None => self.let_go += counts.requests.iter().sum::<u64>(),
            }
        }
        self.halvings = self.halvings.max(other.halvings);
        let halvings = self.halvings;
        self.index.take();
        self.people.retain(|(.., person), _| person.trailing_zeros() >= halvings);
        for ((path, answered, person), times) in other.people {
            if let Some(path) = number(path) {
                self.see_person_times(path, answered, person, times);
            }
        }
        for ((path, referrer), times) in other.referrers {
            if let Some(path) = number(path) {
                count(&mut self.referrers, (path, referrer), MOST_REFERRERS, |count| *count += times);
            }
        }
        for (ours, theirs) in [(&mut self.next, other.next), (&mut self.hops, other.hops)] {
            for ((from, to), times) in theirs {
                if let (Some(from), Some(to)) = (number(from), number(to)) {
                    count(ours, (from, to), MOST_STEPS, |count| *count += times);
                }
            }
        }
        for (ours, theirs) in [(&mut self.embedding, other.embedding), (&mut self.probing, other.probing)] {
            for ((nth, name), from) in theirs {
                count(ours, (site(nth), name), MOST_SITES, |counts| counts.merge(from, number));
            }
        }
        for ((nth, client), theirs) in other.clients {
            count(&mut self.clients, (site(nth), client), MOST_CLIENTS, |counts| {
                counts.merge(theirs, number)
            });
        }
        self.requests += other.requests;
        self.let_go += other.let_go;
        if let Some((first, last)) = other.span {
            self.span = Some(self.span.map_or((first, last), |span| (span.0.min(first), span.1.max(last))));
        }
    }

    /// For how many days requests were counted; at least one hour.
    pub fn days(&self) -> f64 {
        self.span.map_or(1.0, |(first, last)| (last - first) as f64 / 86_400_000.0).max(1.0 / 24.0)
    }

    /// Whether people are estimated from a sample.
    pub fn is_sample(&self) -> bool {
        self.halvings > 0
    }

    /// The name of a path's site, and the path.
    pub fn name(&self, path: PathNumber) -> (&str, &str) {
        let (site, path) = &self.names[path as usize];
        (self.sites.get(*site as usize).map_or("", String::as_str), path)
    }

    /// What was counted of a path.
    pub fn of(&self, path: PathNumber) -> &PathCounts {
        &self.paths[path as usize]
    }

    /// The number of a path of a site.
    pub fn known(&self, site: &str, path: &str) -> Option<PathNumber> {
        let nth = self.sites.iter().position(|known| known == site)?;
        self.numbers.get(&(u16::try_from(nth).ok()?, Box::from(path))).copied()
    }

    /// All paths of a site, in the order of their letters.
    pub fn paths_of(&self, site: &str) -> Vec<(PathNumber, &str, &PathCounts)> {
        let Some(nth) = self.sites.iter().position(|known| known == site) else { return Vec::new() };
        let mut all: Vec<_> = self
            .names
            .iter()
            .enumerate()
            .filter(|(_, (of, _))| usize::from(*of) == nth)
            .map(|(number, (_, path))| (number as PathNumber, &**path, &self.paths[number]))
            .collect();
        all.sort_by_key(|(_, path, _)| *path);
        all
    }

    /// Requests of a site that failed.
    pub fn failed(&self, site: &str) -> u64 {
        self.paths_of(site).iter().map(|(.., counts)| counts.requests(Answered::Failed)).sum()
    }

    /// How many people some paths were answered so for, and how often the same had it before.
    pub fn people(&self, paths: &[PathNumber], answered: Answered) -> People {
        let index = self.index.get_or_init(|| {
            let mut index = PeopleOfPaths::default();
            for ((path, answered, person), times) in &self.people {
                index.entry((*path, *answered)).or_default().push((*person, *times));
            }
            index
        });
        let mut seen: HashSet<u64> = HashSet::new();
        let mut again = 0;
        let mut again_people: HashSet<u64> = HashSet::new();
        for (person, times) in paths.iter().filter_map(|path| index.get(&(*path, answered as u8))).flatten() {
            seen.insert(*person);
            if *times > 1 {
                again += u64::from(*times - 1);
                again_people.insert(*person);
            }
        }
        let scale = |count: u64| count << self.halvings;
        People {
            people: scale(seen.len() as u64),
            again: scale(again),
            again_people: scale(again_people.len() as u64),
        }
    }

    /// Who led to a missing path, the most frequent first.
    pub fn referrers_of(&self, paths: &[PathNumber]) -> Vec<(String, u64)> {
        let mut all: HashMap<&str, u64> = HashMap::new();
        for ((path, referrer), times) in &self.referrers {
            if paths.contains(path) {
                *all.entry(referrer).or_default() += times;
            }
        }
        ranked(all.into_iter().map(|(referrer, times)| (referrer.to_owned(), times)))
    }

    /// Where people went after a missing path, the most frequent first.
    pub fn next_after(&self, path: PathNumber) -> Vec<(&str, u64)> {
        let next = self.next.iter().filter(|((from, _), _)| *from == path);
        ranked(next.map(|((_, to), times)| (self.name(*to).1, *times)))
    }

    /// Redirects that followed each other at once, the most frequent first.
    pub fn hops(&self) -> Vec<((PathNumber, PathNumber), u64)> {
        ranked(self.hops.iter().map(|(hop, times)| (*hop, *times)))
    }

    /// Sites whose pages load files from a site, the one that costs most first.
    pub fn embedding(&self, site: &str) -> Vec<(&str, &FromOutside)> {
        self.outside(site, &self.embedding, |from| from.bytes)
    }

    /// Networks that probe a site, the most frequent first.
    pub fn probing(&self, site: &str) -> Vec<(&str, &FromOutside)> {
        self.outside(site, &self.probing, |from| from.requests)
    }

    fn outside<'c>(
        &'c self,
        site: &str,
        all: &'c HashMap<OfSite, FromOutside, RandomState>,
        by: impl Fn(&FromOutside) -> u64,
    ) -> Vec<(&'c str, &'c FromOutside)> {
        let Some(nth) = self.sites.iter().position(|known| known == site) else { return Vec::new() };
        let of_site = all.iter().filter(|((of, _), _)| usize::from(*of) == nth);
        let mut all: Vec<_> = of_site.map(|((_, name), from)| (&**name, from)).collect();
        all.sort_by(|a, b| by(b.1).cmp(&by(a.1)).then_with(|| a.0.cmp(b.0)));
        all
    }

    /// Clients of a site, the most frequent first.
    pub fn clients(&self, site: &str) -> Vec<(&str, &ClientCounts)> {
        let Some(nth) = self.sites.iter().position(|known| known == site) else { return Vec::new() };
        let of_site = self.clients.iter().filter(|((of, _), _)| usize::from(*of) == nth);
        let mut all: Vec<_> = of_site.map(|((_, client), counts)| (&**client, counts)).collect();
        all.sort_by(|a, b| b.1.requests.cmp(&a.1.requests).then_with(|| a.0.cmp(b.0)));
        all
    }

    /// The sites that were asked, by their names.
    pub fn sites(&self) -> &[String] {
        &self.sites
    }
}

/// How many people something happened to.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct People {
    /// People.
    pub people: u64,
    /// How often the same person had it again.
    pub again: u64,
    /// People who had it again.
    pub again_people: u64,
}

/// Counts by a key, as long as there is room for another.
fn count<K: Eq + std::hash::Hash, V: Default>(
    counts: &mut HashMap<K, V, RandomState>,
    key: K,
    most: usize,
    change: impl FnOnce(&mut V),
) {
    if counts.len() < most || counts.contains_key(&key) {
        change(counts.entry(key).or_default());
    }
}

/// By their counts, the greatest first.
fn ranked<T: Ord>(all: impl Iterator<Item = (T, u64)>) -> Vec<(T, u64)> {
    let mut all: Vec<(T, u64)> = all.collect();
    all.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    all
}

/// The network of an address: /24 or /48 (as reports mask clients).
fn network(client: &str) -> String {
    match client.parse::<IpAddr>() {
        Ok(IpAddr::V4(address)) => {
            let [a, b, c, _] = address.octets();
            format!("{a}.{b}.{c}.0/24")
        }
        Ok(IpAddr::V6(address)) => {
            let [a, b, c, ..] = address.segments();
            format!("{}/48", std::net::Ipv6Addr::new(a, b, c, 0, 0, 0, 0, 0))
        }
        Err(_) => client.to_owned(),
    }
}

impl PathCounts {
    fn merge(&mut self, other: PathCounts) {
        for nth in 0..ANSWERS {
            self.requests[nth] += other.requests[nth];
            self.of_people[nth] += other.of_people[nth];
            self.bytes[nth] += other.bytes[nth];
        }
        self.plain += other.plain;
        self.plain_bytes += other.plain_bytes;
        self.signed_in += other.signed_in;
        self.missing_minutes.extend(other.missing_minutes);
        if self.host.is_none() || (other.host.is_some() && other.host < self.host) {
            self.host = other.host;
        }
    }
}
