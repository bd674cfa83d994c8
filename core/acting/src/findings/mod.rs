//! What deserves attention: from what was counted of requests, the configuration and the folders, ranked by the people and the bytes it
//! touches, each with its evidence, its cost in words, how sure it is, and where there is one a remedy as a change of the configuration.
//!
//! Whatever the configuration has mended already is no finding: what is missing, uncompressed or unlimited is decided anew, by the
//! configuration in force and the folders as they are.
//!
//! - [`counts`]: what is counted of requests, in one pass, and of whoever makes them ([`askers`]); [`inventory`]: what is in a
//!   folder, and what its pages lead to ([`html`])
//! - [`kind`]: the one list of kinds
//! - [`likely`]: the likely new address of a missing page
//! - [`pages`]: missing pages, links that are broken, redirect chains; [`sending`]: what is sent again, uncompressed, large or for others;
//!   [`clients`]: who asks too much, and who probes; [`times`]: what is missing at certain times; [`standing`]: exposures, guards,
//!   certificates, allowances, error pages; [`present`]: what of these is known from elsewhere
//!
//! ```
//! use exedra_acting::findings::{FindingKind, Sureness};
//! assert_eq!(FindingKind::named("missing_page"), Some(FindingKind::MissingPage));
//! assert!(Sureness::Certain > Sureness::Guess);
//! ```

pub mod askers;
mod clients;
pub mod counts;
pub mod html;
pub mod inventory;
pub mod kind;
pub mod likely;
mod pages;
mod present;
mod sending;
mod standing;
mod times;

pub use counts::FindingCounts;
pub use inventory::Inventory;
pub use kind::{ConsolePage, FindingKind};
pub use present::{BurstSeen, Exposed, SiteMonth, Standing};

use crate::rehearsal::SiteFolders;
use crate::remedy::Remedy;
use askers::PathNumber;
use counts::{Answered, PathCounts};
use exedra_answering::answer::{Answer, LettingIn, Trace, answer, answer_traced};
use exedra_answering::config::{Config, Https, Site, SiteId};
use exedra_answering::facts::{Facts, Fields, Known, LoggedFields, Scheme, read_agent};
use exedra_common::figures::grouped;
use exedra_common::tables::Table;
use inventory::Linked;
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::net::IpAddr;
use utoipa::ToSchema;

/// How sure a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Sureness {
    /// It may be so.
    Guess,
    /// It is so more often than not.
    Likely,
    /// It is so.
    Certain,
}

impl Sureness {
    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Sureness::Guess => "a guess",
            Sureness::Likely => "likely",
            Sureness::Certain => "certain",
        }
    }
}

/// Something that deserves attention.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// What it is known by, as long as it is about the same.
    pub id: String,
    /// Its kind.
    pub kind: FindingKind,
    /// The page of the console that it belongs to.
    pub page: ConsolePage,
    /// The site.
    pub site: String,
    /// What it is about: a path, a client, a host.
    pub subject: String,
    /// What was found, in a sentence.
    pub title: String,
    /// What it costs, in words.
    pub cost: String,
    /// How many people it touches, of those who came.
    pub people: u64,
    /// Requests that it touches.
    pub requests: u64,
    /// Bytes that it costs.
    pub bytes: u64,
    /// By what it is ranked: people whom it touches, and bytes as if they were people.
    pub weight: f64,
    /// How sure it is.
    pub sureness: Sureness,
    /// Why that is thought, in sentences.
    pub reasons: Vec<String>,
    /// Its figures.
    #[schema(value_type = exedra_common::tables::TableWire)]
    pub evidence: Table,
    /// The command that gives them.
    pub command: String,
    /// What to do about it by the configuration, where that helps.
    pub remedy: Option<Remedy>,
    /// What else to do, where there is something.
    pub advice: Option<String>,
}

/// Bytes that weigh as much as a person who does not find a page: 10 MB.
pub const BYTES_OF_A_PERSON: f64 = 10e6;
/// What weighs less is not worth anybody's time, unless somebody asks for it.
pub const THRESHOLD: f64 = 10.0;

/// A site whose requests were counted, with what is in its folder.
pub struct SiteSeen {
    /// The site.
    pub id: SiteId,
    /// What is in its folder.
    pub inventory: Inventory,
}

/// Everything that findings are made of.
pub struct Seen<'s> {
    /// The configuration in force.
    pub config: &'s Config,
    /// The folders of its sites.
    pub folders: &'s dyn SiteFolders,
    /// The sites that are looked at.
    pub sites: &'s [SiteSeen],
    /// What was counted.
    pub counts: &'s FindingCounts,
    /// Whose days and hours.
    pub zone: TimeZone,
    /// What is so at present.
    pub present: &'s Standing,
}

/// One site of them.
#[derive(Clone, Copy)]
struct OfSite<'s> {
    seen: &'s Seen<'s>,
    id: SiteId,
    site: &'s Site,
    inventory: &'s Inventory,
    /// Its paths with what was counted of them, in the order of their letters.
    paths: &'s [CountedPath<'s>],
    /// Addresses that its own pages lead to, and where from.
    links: &'s HashMap<String, Vec<Linked<'s>>>,
}

/// A path with what was counted of it.
type CountedPath<'p> = (PathNumber, &'p str, &'p PathCounts);

/// Whatever deserves attention, the weightiest first.
pub fn find(seen: &Seen<'_>) -> Vec<Finding> {
    let mut all = Vec::new();
    for of in seen.sites {
        let site = seen.config.site(of.id);
        let paths = seen.counts.paths_of(&site.name.value);
        let links = of.inventory.links(seen.config, of.id);
        let site = OfSite { seen, id: of.id, site, inventory: &of.inventory, paths: &paths, links: &links };
        // Each is one list; whoever adds one adds it here.
        for find in [
            pages::missing,
            pages::broken_links,
            pages::redirect_chains,
            sending::sent_again,
            sending::uncompressed,
            sending::large_files,
            sending::embedded,
            clients::hammering,
            clients::probing,
            times::at_certain_times,
            times::bursts,
            standing::exposures,
            standing::guards,
            standing::allowance,
            standing::certificates,
            standing::error_pages,
        ] {
            all.extend(find(site));
        }
    }
    // Links that lead to a missing page are told with it.
    let told: HashSet<(String, String)> = all
        .iter()
        .filter(|finding| finding.kind == FindingKind::MissingPage)
        .map(|finding| (finding.site.clone(), finding.subject.clone()))
        .collect();
    all.retain(|finding| {
        finding.kind != FindingKind::BrokenLink
            || !told.contains(&(finding.site.clone(), finding.subject.clone()))
    });
    all.sort_by(|a, b| b.weight.total_cmp(&a.weight).then_with(|| a.id.cmp(&b.id)));
    all
}

/// Who asks, where it matters.
#[derive(Debug, Clone, Copy, Default)]
struct Asker<'a> {
    client: Option<IpAddr>,
    agent: Option<&'a str>,
    referrer: Option<&'a str>,
}

/// A browser of a person, where an agent is needed and nobody's in particular.
const BROWSER: &str = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0";

impl<'s> OfSite<'s> {
    fn name(&self) -> &'s str {
        &self.site.name.value
    }

    /// The host that the site is known by.
    fn host(&self) -> String {
        let host = self.site.main_host.as_ref().or(self.site.hosts.first());
        host.map_or_else(String::new, |host| host.value.replace('*', "any"))
    }

    /// How a path is answered now.
    fn answer(&self, path: &str, asker: Asker<'_>) -> Answer {
        self.decided(path, asker, |facts| {
            let Ok((decided, ())) = answer(self.seen.config, facts).by(&LettingIn(self.seen.folders));
            decided
        })
    }

    /// The same to anybody, with the steps that led to it.
    fn traced(&self, path: &str) -> (Answer, Trace) {
        self.decided(path, Asker::default(), |facts| {
            let decision = answer_traced(self.seen.config, facts, Trace::default());
            let Ok(decided) = decision.by(&LettingIn(self.seen.folders));
            decided
        })
    }

    fn decided<T>(&self, path: &str, asker: Asker<'_>, decide: impl FnOnce(Facts<'_>) -> T) -> T {
        let host = self.host();
        let scheme = match self.site.https.value {
            Https::Required => Scheme::Https,
            Https::Offered => Scheme::Http,
        };
        let fields = LoggedFields {
            agent: Known::Is(asker.agent.unwrap_or(BROWSER)),
            referrer: asker.referrer.into(),
            accept_encoding: Known::Is("br, zstd, gzip"),
            authorization: Known::Absent,
        };
        let facts = Facts {
            client: asker.client.map_or(Known::Unknown, Known::Is),
            scheme: Known::Is(scheme),
            host: Known::Is(&host),
            port: Known::Absent,
            method: Known::Is("GET"),
            path: Known::Is(path),
            query: Known::Absent,
            protocol: Known::Is("HTTP/1.1"),
            agents: Some(read_agent),
            fields: Fields::Logged(&fields),
            ..Facts::UNKNOWN
        };
        decide(facts)
    }

    fn counts(&self) -> &'s FindingCounts {
        self.seen.counts
    }

    /// How much of a month was looked at: figures of thirty days are said for it.
    fn a_month(&self, count: u64) -> u64 {
        (count as f64 * 30.0 / self.counts().days()).round() as u64
    }

    /// A count of people, and of how many a month that is where much less or more than a month was looked at.
    fn people_in_words(&self, people: u64) -> String {
        let counted = several_people(people);
        let month = self.a_month(people);
        match self.counts().days() {
            days if (25.0..=35.0).contains(&days) || people == 0 => counted,
            days if days < 2.0 => counted,
            _ => format!("{counted}, about {} a month", grouped(month)),
        }
    }

    /// A finding of a kind, about something.
    fn finding(&self, kind: FindingKind, subject: &str) -> Finding {
        Finding {
            id: identity(kind, self.name(), subject),
            kind,
            page: kind.page(),
            site: self.name().to_owned(),
            subject: subject.to_owned(),
            title: String::new(),
            cost: String::new(),
            people: 0,
            requests: 0,
            bytes: 0,
            weight: 0.0,
            sureness: Sureness::Certain,
            reasons: Vec::new(),
            evidence: Table::new(kind.name(), "", []),
            command: String::new(),
            remedy: None,
            advice: None,
        }
    }

    /// People whom some paths were answered so for.
    fn people(&self, paths: &[PathNumber], answered: Answered) -> u64 {
        self.counts().people(paths, answered).people
    }
}

impl Finding {
    /// The same, weighed by whom it touches and what it costs.
    fn weighed(mut self, people: u64, requests: u64, bytes: u64) -> Self {
        (self.people, self.requests, self.bytes) = (people, requests, bytes);
        self.weight = people as f64 + bytes as f64 / BYTES_OF_A_PERSON;
        self
    }
}

/// A count of people in words.
pub fn several_people(people: u64) -> String {
    if people == 1 { "one person".to_owned() } else { format!("{} people", grouped(people)) }
}

/// What a finding is known by: its kind, and a few letters that follow from what it is about.
fn identity(kind: FindingKind, site: &str, subject: &str) -> String {
    // FNV-1a (draft-eastlake-fnv): short, and the same everywhere and always.
    let octets = site.bytes().chain([0]).chain(subject.bytes());
    let hash = octets.fold(0xcbf2_9ce4_8422_2325_u64, |hash, octet| {
        (hash ^ u64::from(octet)).wrapping_mul(0x100_0000_01b3)
    });
    format!("{}-{:05x}", kind.short(), hash & 0xf_ffff)
}
