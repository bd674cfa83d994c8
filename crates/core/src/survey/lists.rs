//! What follows from the texts of a survey: who asked with what, where they came from, what they took and stayed for.
//!
//! Surveys count agents, paths and referrers; only here, when all parts have met, is each distinct one looked at.

use super::ranking::{Counts, Ranking};
use super::surveyor::Survey;
use crate::classify::{agents, paths, referrers};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap};
use utoipa::ToSchema;

/// How many agents are looked at, the most frequent first. The others are counted together.
const MOST_AGENTS: usize = 20_000;
/// One part in so many of the style sheets and scripts makes a host one's own.
const OWN_SHARE: u64 = 20;
/// What stands for the agents that are not looked at.
const UNREAD: &str = "(rare agents)";

/// Values by requests, the most frequent first.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RankedList {
    /// The first of them.
    pub entries: Vec<ListEntry>,
    /// How many more there are.
    pub more: u64,
    /// Requests of those.
    pub more_requests: u64,
    /// Body bytes of those.
    pub more_bytes: u64,
}

/// One value of a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ListEntry {
    /// The value.
    pub value: String,
    /// Requests; of first and last pages, visits.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
}

/// Requests of people and of programs that ask by themselves.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Apart {
    /// Requests of people.
    pub people: u64,
    /// Body bytes sent to people.
    pub people_bytes: u64,
    /// Requests of programs.
    pub crawlers: u64,
    /// Body bytes sent to programs.
    pub crawler_bytes: u64,
    /// Requests that named no agent.
    pub unnamed: u64,
}

/// Visits of people: a visitor's requests with no gap over half an hour.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct VisitFigures {
    /// How many began.
    pub visits: u64,
    /// Those that saw one page or none.
    pub short: u64,
    /// Pages that were seen in all of them.
    pub pages: u64,
    /// Seconds from the first to the last request, on average.
    pub seconds: f64,
    /// Seconds of the middle one of all visits.
    pub middle_seconds: f64,
    /// Visits of programs, which the other figures leave out.
    pub by_crawlers: u64,
}

/// Everything that follows.
#[derive(Debug, Clone, Default)]
pub struct Lists {
    /// Each list by its name.
    pub lists: BTreeMap<String, RankedList>,
    /// People and programs.
    pub apart: Apart,
    /// Visits of people.
    pub visits: VisitFigures,
    /// Hosts whose links and pages are the sites' own.
    pub own_hosts: Vec<String>,
}

/// The names of all lists.
pub const NAMES: [&str; 13] = [
    "kinds",
    "extensions",
    "first_pages",
    "last_pages",
    "browsers",
    "systems",
    "devices",
    "crawlers",
    "agents",
    "referring_sites",
    "referring_pages",
    "search_phrases",
    "embedding_sites",
];

impl Lists {
    /// Makes the lists of a survey, each of a length. Without known hosts of one's own, those are taken for them whose
    /// pages load style sheets and scripts: pages of others show pictures from here, but do not look like ours.
    pub fn of(survey: &Survey, known_hosts: &[String], top: usize) -> Lists {
        let own_hosts = match known_hosts {
            [] => {
                let loaded = survey.styles.by_requests();
                let enough = loaded.iter().map(|(_, counts)| counts.requests).sum::<u64>() / OWN_SHARE;
                let own = loaded.iter().filter(|(_, counts)| counts.requests > enough);
                own.map(|(host, _)| host.to_string()).collect()
            }
            known => known.to_vec(),
        };
        let mut all = Gathered::default();
        let apart = all.agents(&survey.agents, survey.total.counts);
        all.paths(&survey.paths);
        all.referrers(survey, &own_hosts);
        let visits = all.visits(survey);
        let lists = NAMES.into_iter().map(|name| (name.to_owned(), rank(all.0.remove(name), top))).collect();
        Lists { lists, apart, visits, own_hosts }
    }
}

#[derive(Default)]
struct Gathered(HashMap<&'static str, HashMap<String, Counts>>);

impl Gathered {
    fn add(&mut self, list: &'static str, value: &str, counts: Counts) {
        let list = self.0.entry(list).or_default();
        match list.get_mut(value) {
            Some(known) => known.merge(counts),
            None => {
                list.insert(value.to_owned(), counts);
            }
        }
    }

    fn agents(&mut self, agents: &Ranking<Box<str>>, total: Counts) -> Apart {
        let mut apart = Apart::default();
        let mut named = 0;
        for (nth, (text, counts)) in agents.by_requests().into_iter().enumerate() {
            named += counts.requests;
            self.add("agents", text, counts);
            if nth >= MOST_AGENTS {
                self.add("browsers", UNREAD, counts);
                continue;
            }
            let agent = agents::read(text);
            let said = [
                ("browsers", agent.browser.as_deref()),
                ("systems", agent.system.as_deref()),
                ("devices", agent.device),
                ("crawlers", agent.crawler.as_deref()),
            ];
            for (list, value) in said {
                value.into_iter().for_each(|value| self.add(list, value, counts));
            }
            match agent.crawler {
                Some(_) => {
                    apart.crawlers += counts.requests;
                    apart.crawler_bytes += counts.bytes;
                }
                None => {
                    apart.people += counts.requests;
                    apart.people_bytes += counts.bytes;
                }
            }
        }
        apart.unnamed = total.requests.saturating_sub(named + agents.let_go().requests);
        apart
    }

    fn paths(&mut self, ranking: &Ranking<Box<str>>) {
        for (path, counts) in ranking.by_requests() {
            self.add("kinds", paths::kind(path).name(), counts);
            if let Some(extension) = paths::extension(path) {
                self.add("extensions", &extension, counts);
            }
        }
    }

    fn referrers(&mut self, survey: &Survey, own_hosts: &[String]) {
        let is_own = |host: &str| own_hosts.iter().any(|own| own == host);
        for (referrer, counts) in survey.referrers.by_requests() {
            let Some(host) = referrers::host(referrer).filter(|host| !is_own(host)) else { continue };
            self.add("referring_sites", &host, counts);
            self.add("referring_pages", referrer, counts);
            if let Some(phrase) = referrers::search_phrase(referrer) {
                self.add("search_phrases", &phrase, counts);
            }
        }
        for (host, counts) in survey.embeds.by_requests().into_iter().filter(|(host, _)| !is_own(host)) {
            self.add("embedding_sites", host, counts);
            // Who shows files from here does not link here by that.
            let linking = self.0.entry("referring_sites").or_default();
            if let Some(all) = linking.get_mut(&**host) {
                all.requests = all.requests.saturating_sub(counts.requests);
                all.bytes = all.bytes.saturating_sub(counts.bytes);
            }
        }
        if let Some(linking) = self.0.get_mut("referring_sites") {
            linking.retain(|_, counts| counts.requests > 0);
        }
    }

    fn visits(&mut self, survey: &Survey) -> VisitFigures {
        let weight = survey.visits.weight();
        let one = Counts { requests: weight, bytes: 0 };
        let mut figures = VisitFigures::default();
        let mut lengths: Vec<i64> = Vec::new();
        for visit in survey.visits.all() {
            if visit.is_crawler {
                figures.by_crawlers += weight;
                continue;
            }
            figures.visits += weight;
            figures.pages += visit.pages * weight;
            figures.short += if visit.pages <= 1 { weight } else { 0 };
            lengths.push(visit.last - visit.first);
            for (list, page) in [("first_pages", &visit.first_page), ("last_pages", &visit.last_page)] {
                if let Some((_, path)) = page {
                    self.add(list, path, one);
                }
            }
        }
        if !lengths.is_empty() {
            let middle = lengths.len() / 2;
            figures.seconds = lengths.iter().sum::<i64>() as f64 / lengths.len() as f64 / 1000.0;
            figures.middle_seconds = *lengths.select_nth_unstable(middle).1 as f64 / 1000.0;
        }
        figures
    }
}

fn rank(values: Option<HashMap<String, Counts>>, top: usize) -> RankedList {
    let mut all: Vec<(String, Counts)> = values.unwrap_or_default().into_iter().collect();
    all.sort_unstable_by(|a, b| b.1.requests.cmp(&a.1.requests).then_with(|| a.0.cmp(&b.0)));
    let mut list = RankedList { more: all.len().saturating_sub(top) as u64, ..RankedList::default() };
    for (_, counts) in all.iter().skip(top) {
        list.more_requests += counts.requests;
        list.more_bytes += counts.bytes;
    }
    all.truncate(top);
    let entry = |(value, counts): (String, Counts)| ListEntry {
        value,
        requests: counts.requests,
        bytes: counts.bytes,
    };
    list.entries = all.into_iter().map(entry).collect();
    list
}
