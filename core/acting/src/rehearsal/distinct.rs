//! Requests that neither configuration can tell apart, so that each is decided once.
//!
//! What always has a say is asked of every request: host, scheme, method, path, and whether there is a query. What else has one, an
//! answer tells itself; of the same address one answer may have depended on the agent, and another on nothing.

use super::recorded::{RecordedRequest, Surroundings, local};
use exedra_answering::answer::Answer;
use exedra_answering::facts::{Ground, LoggedField};
use foldhash::quality::RandomState;
use http::HeaderName;
use smallvec::SmallVec;
use std::collections::HashMap;
use std::hash::{BuildHasher, Hash, Hasher};

/// How many are told apart by each thread: about 100 octets each.
const MOST: usize = 1_500_000;

/// What had a say beside what always has.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Needs(u16);

const CLIENT: u16 = 1;
const COUNTRY: u16 = 1 << 1;
const PROTOCOL: u16 = 1 << 2;
const TIME: u16 = 1 << 3;
const LOGIN: u16 = 1 << 4;
const AGENT: u16 = 1 << 5;
const REFERRER: u16 = 1 << 6;
const ACCEPT_ENCODING: u16 = 1 << 7;
const QUERY: u16 = 1 << 8;

impl Needs {
    /// What an answer depended on, of what may differ between requests that were logged.
    pub fn of(answer: &Answer) -> Self {
        let of_ground = |ground: Ground| match ground {
            Ground::Client => CLIENT,
            Ground::Country => COUNTRY,
            Ground::Protocol => PROTOCOL,
            Ground::Time => TIME,
            Ground::Password => LOGIN,
            Ground::Query => QUERY,
            // By its scheme a request is told from others anyway; what it came in by no log tells.
            Ground::Scheme | Ground::Tls | Ground::Connection => 0,
        };
        let of_field = |field: &HeaderName| match LoggedField::of(field) {
            Some(LoggedField::AcceptEncoding) => ACCEPT_ENCODING,
            Some(LoggedField::Authorization) => LOGIN,
            Some(LoggedField::Agent) => AGENT,
            Some(LoggedField::Referrer) => REFERRER,
            None => 0,
        };
        let depends = &answer.depends;
        let all = depends.grounds().map(of_ground).chain(depends.fields().map(of_field));
        Needs(all.fold(0, |all, bit| all | bit))
    }

    /// What either had.
    #[must_use]
    pub fn and(self, other: Needs) -> Self {
        Needs(self.0 | other.0)
    }

    /// Whether what the query says had a say.
    pub fn is_on_query(self) -> bool {
        self.has(QUERY)
    }

    fn has(self, bit: u16) -> bool {
        self.0 & bit != 0
    }
}

/// What always has a say, as one number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Base(u64);

/// All that have been decided.
#[derive(Debug, Default)]
pub struct Distinct {
    hashes: RandomState,
    /// What had a say, by what always has.
    needs: HashMap<u64, SmallVec<[Needs; 1]>, RandomState>,
    /// The number of the verdict, by all that had a say.
    verdicts: HashMap<u64, u32, RandomState>,
    /// How many another thread told apart.
    of_others: usize,
}

impl Distinct {
    /// What always has a say in a request; `None` where it has no path.
    pub fn base(&self, request: &RecordedRequest<'_>) -> Option<Base> {
        let path = request.path?;
        let mut hasher = self.hashes.build_hasher();
        let always = (path, request.method, request.scheme, request.host, request.query.is_some());
        always.hash(&mut hasher);
        // Without a host, it is the site that says which.
        request.host.is_none().then_some(request.site).hash(&mut hasher);
        Some(Base(hasher.finish()))
    }

    /// The verdict on a request, where one like it has been decided.
    pub fn find(&self, base: Base, request: &RecordedRequest<'_>, around: &Surroundings) -> Option<u32> {
        let needs = self.needs.get(&base.0)?;
        needs.iter().find_map(|needs| self.verdicts.get(&self.whole(base, *needs, request, around))).copied()
    }

    /// Remembers the verdict on a request, and what had a say in it.
    pub fn remember(
        &mut self,
        base: Base,
        needs: Needs,
        request: &RecordedRequest<'_>,
        around: &Surroundings,
        verdict: u32,
    ) {
        let known = self.needs.entry(base.0).or_default();
        if !known.contains(&needs) {
            known.push(needs);
        }
        let whole = self.whole(base, needs, request, around);
        self.verdicts.insert(whole, verdict);
    }

    /// Whether no more can be told apart.
    pub fn is_full(&self) -> bool {
        self.verdicts.len() >= MOST
    }

    /// How many there are; a request that two threads decided counts for both.
    pub fn count(&self) -> u64 {
        (self.verdicts.len() + self.of_others) as u64
    }

    /// Counts what another thread told apart.
    #[must_use]
    pub fn merge(mut self, other: Distinct) -> Self {
        self.of_others += other.verdicts.len() + other.of_others;
        self
    }

    /// Everything that had a say, as one number.
    fn whole(&self, base: Base, needs: Needs, request: &RecordedRequest<'_>, around: &Surroundings) -> u64 {
        if needs == Needs::default() {
            return base.0;
        }
        let mut hasher = self.hashes.build_hasher();
        (base.0, needs.0).hash(&mut hasher);
        let asked = |bit: u16, value: Option<&str>, hasher: &mut foldhash::quality::FoldHasher<'_>| {
            if needs.has(bit) {
                value.hash(hasher);
            }
        };
        asked(CLIENT, request.client, &mut hasher);
        asked(PROTOCOL, request.protocol, &mut hasher);
        asked(LOGIN, request.user, &mut hasher);
        asked(AGENT, request.agent, &mut hasher);
        asked(REFERRER, request.referrer, &mut hasher);
        asked(QUERY, request.query, &mut hasher);
        if needs.has(COUNTRY) {
            let client = request.client.and_then(|client| client.parse().ok());
            let country =
                around.countries.as_ref().zip(client).and_then(|(countries, client)| countries.of(client));
            country.hash(&mut hasher);
        }
        if needs.has(ACCEPT_ENCODING) {
            around.accepted.of(request).value().hash(&mut hasher);
        }
        if needs.has(TIME) {
            let time = local(request.time, &around.zone);
            time.map(|time| (time.date.year(), time.date.day_of_year(), time.hour)).hash(&mut hasher);
        }
        hasher.finish()
    }

    /// A number for whoever asked, the same as long as nothing else is told apart by it.
    pub fn number_of(&self, texts: impl Hash) -> u64 {
        fixed().hash_one(texts)
    }
}

/// The same in all threads of this process, and known to nobody outside.
fn fixed() -> &'static RandomState {
    static FIXED: std::sync::OnceLock<RandomState> = std::sync::OnceLock::new();
    FIXED.get_or_init(RandomState::default)
}
