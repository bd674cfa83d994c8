//! What follows from the texts of a survey: who asked with what, where they came from, what they took and stayed for.
//!
//! Surveys count agents, paths and referrers; only here, when all parts have met, is each distinct one looked at.

use super::ReportOptions;
use super::schema::{Changes, Measured};
use super::weights::Weights;
use crate::classify::{agents, paths, referrers};
use crate::logs::OriginColumn;
use crate::survey::counted::Survey;
use crate::survey::measure::Measure;
use crate::survey::plan::{Part, SurveyPlan};
use crate::survey::ranking::{Counts, Ranking};
use crate::survey::visitors_of_entries::Listed;
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
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
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
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ListEntry {
    /// The value.
    pub value: String,
    /// Requests; of first and last pages, visits.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
    /// By the other measures, where they are asked for.
    #[serde(flatten)]
    pub measured: Measured,
    /// Beside the other period.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub changes: Changes,
}

/// Requests of people and of programs that ask by themselves.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
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
    /// Beside the other period.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub changes: Changes,
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
    /// How many took how long.
    #[serde(default)]
    pub by_length: Vec<VisitCount>,
    /// How many saw how many pages.
    #[serde(default)]
    pub by_pages: Vec<VisitCount>,
    /// Visits of programs, which the other figures leave out.
    pub by_crawlers: u64,
    /// Beside the other period.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub changes: Changes,
}

/// Visits of some length.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct VisitCount {
    /// Seconds or pages that they did not exceed; absent for those longer than all before.
    pub up_to: Option<u64>,
    /// How many.
    pub visits: u64,
}

/// The seconds that visits are told apart by.
const LENGTHS: [u64; 7] = [0, 30, 120, 300, 900, 1800, 3600];
/// The pages that visits are told apart by.
const PAGES: [u64; 6] = [0, 1, 2, 5, 10, 20];

/// Everything that follows.
#[derive(Debug, Clone, Default)]
pub struct Lists {
    /// Each list by its name.
    pub lists: BTreeMap<String, RankedList>,
    /// People and programs.
    pub apart: Apart,
    /// Visits of people.
    pub visits: VisitFigures,
}

/// The names of all lists.
pub const NAMES: [&str; 17] = [
    "kinds",
    "extensions",
    "first_pages",
    "last_pages",
    "browsers",
    "systems",
    "devices",
    "crawlers",
    "agents",
    "linking_sites",
    "linking_pages",
    "search_phrases",
    "embedding_sites",
    "users",
    "countries",
    "sites",
    "servers",
];

/// Hosts whose links and pages are the sites' own: those that are known, or else those whose pages load style sheets and
/// scripts. Pages of others show pictures from here, but do not look like ours.
pub fn own_hosts(survey: &Survey, known: &[String]) -> Vec<String> {
    if !known.is_empty() {
        return known.to_vec();
    }
    let loaded = survey.styles.by_requests();
    let enough = survey.styles.total().requests / OWN_SHARE;
    let own = loaded.iter().filter(|(_, counts)| counts.requests > enough);
    own.map(|(host, _)| (*host).to_owned()).collect()
}

impl Lists {
    /// Makes the lists of a survey.
    pub fn of(
        survey: &Survey,
        plan: &SurveyPlan,
        options: &ReportOptions,
        own_hosts: &[String],
        weights: &Weights<'_>,
    ) -> Lists {
        let mut all = Gathered::default();
        if weights.by() == Measure::Visitors {
            all.links = Some(Links::default());
        }
        let (apart, visits) = all.gather(survey, plan, options, own_hosts, weights);
        let derived = match (weights.by(), &survey.times) {
            (Measure::Visitors, _) => all.visitors(survey),
            (Measure::Time, Some(times)) => {
                let mut timed = Gathered::default();
                timed.gather(times, plan, options, own_hosts, weights);
                timed.amounts()
            }
            _ => Derived::default(),
        };
        let weight = |list: &str, value: &str, counts: Counts| match (weights.by(), list) {
            (_, "first_pages" | "last_pages") | (Measure::Requests, _) => counts.requests,
            (Measure::Bytes, _) => counts.bytes,
            (_, "agents") => weights.of(Listed::Agents, value, counts),
            (_, "users") => weights.of(Listed::Users, value, counts),
            _ => derived.get(list).and_then(|list| list.get(value)).copied().unwrap_or(0),
        };
        let ranked = |name: &'static str| {
            let ranking = match name {
                "agents" => Some(&survey.agents),
                "users" => Some(&survey.users),
                name => all.rankings.get(name),
            };
            let weight = |value: &str, counts| weight(name, value, counts);
            // Visits have neither bytes nor a duration of their own.
            let measured = |weight| match name {
                "first_pages" | "last_pages" => Measured::default(),
                _ => weights.measured(weight),
            };
            (name.to_owned(), rank(ranking, options.top, weight, measured))
        };
        Lists { lists: NAMES.into_iter().map(ranked).collect(), apart, visits }
    }
}

/// Values of lists with what they weigh.
type Derived = HashMap<&'static str, HashMap<String, u64>>;

#[derive(Default)]
struct Gathered {
    rankings: HashMap<&'static str, Ranking>,
    /// Which values follow from which texts, where that is asked for.
    links: Option<Links>,
}

/// Which values follow from which texts.
#[derive(Default)]
struct Links {
    /// The hash of the text at hand.
    text: Option<u64>,
    /// The numbers of the values that follow from each text.
    by_text: HashMap<u64, Vec<u32>>,
    numbers: HashMap<(&'static str, String), u32>,
}

impl Gathered {
    /// Goes through everything that was counted by texts.
    fn gather(
        &mut self,
        survey: &Survey,
        plan: &SurveyPlan,
        options: &ReportOptions,
        own_hosts: &[String],
        weights: &Weights<'_>,
    ) -> (Apart, VisitFigures) {
        let apart = match plan.parts.has(Part::Agents) {
            true => self.agents(&survey.agents, survey.total.counts, weights),
            false => Apart::default(),
        };
        self.paths(&survey.paths, weights);
        self.clients(survey, plan, weights);
        self.referrers(survey, own_hosts, weights);
        self.sources(survey, options);
        self.follows_from(None);
        (apart, self.visits(survey))
    }

    fn add(&mut self, list: &'static str, value: &str, counts: Counts) {
        self.rankings.entry(list).or_default().add(value, counts);
        self.link(list, value);
    }

    /// Takes note that a value follows from the text at hand.
    fn link(&mut self, list: &'static str, value: &str) {
        if let Some(links) = &mut self.links
            && let Some(text) = links.text
        {
            let next = links.numbers.len() as u32;
            let number = *links.numbers.entry((list, value.to_owned())).or_insert(next);
            links.by_text.entry(text).or_default().push(number);
        }
    }

    /// What is added from here on follows from the text with a hash, where anybody wants to know.
    fn follows_from(&mut self, hash: Option<u64>) {
        if let Some(links) = &mut self.links {
            links.text = hash;
        }
    }

    /// Visitors of each value.
    fn visitors(&self, survey: &Survey) -> Derived {
        let mut derived = Derived::default();
        let Some(links) = &self.links else { return derived };
        let none: &[u32] = &[];
        let visitors =
            survey.listed.by_value(|text| links.by_text.get(&text).map_or(none, |found| &found[..]));
        for ((list, value), number) in &links.numbers {
            let visitors = visitors.get(number).copied().unwrap_or(0);
            derived.entry(*list).or_default().insert(value.clone(), visitors);
        }
        derived
    }

    /// What stands in place of bytes, of each value.
    fn amounts(&self) -> Derived {
        let list = |(name, ranking): (&&'static str, &Ranking)| {
            (*name, ranking.entries().map(|(value, counts)| (value.to_owned(), counts.bytes)).collect())
        };
        self.rankings.iter().map(list).collect()
    }

    fn agents(&mut self, agents: &Ranking, total: Counts, weights: &Weights<'_>) -> Apart {
        let mut apart = Apart::default();
        let mut named = 0;
        let (frequent, rare) = agents.top(|_, counts| counts.requests, MOST_AGENTS);
        for (text, counts) in rare {
            named += counts.requests;
            self.follows_from(weights.link(Listed::Agents, text));
            self.add("browsers", UNREAD, counts);
        }
        for (text, counts) in frequent {
            named += counts.requests;
            let agent = agents::read(text);
            self.follows_from(weights.link(Listed::Agents, text));
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

    fn paths(&mut self, ranking: &Ranking, weights: &Weights<'_>) {
        for (path, counts) in ranking.entries() {
            self.follows_from(weights.link(Listed::Paths, path));
            self.add("kinds", paths::kind(path).name(), counts);
            if let Some(extension) = paths::extension(path) {
                self.add("extensions", &extension, counts);
            }
        }
    }

    /// Countries of clients, also of such as are cut to their network.
    fn clients(&mut self, survey: &Survey, plan: &SurveyPlan, weights: &Weights<'_>) {
        let Some(countries) = &plan.countries else { return };
        for (client, counts) in survey.clients.entries() {
            self.follows_from(weights.link(Listed::Clients, client));
            self.add("countries", countries.of_text(client).unwrap_or("(unknown)"), counts);
        }
    }

    fn sources(&mut self, survey: &Survey, options: &ReportOptions) {
        let sources = options.origins.iter().zip(&survey.sources).enumerate();
        for (place, (origin, counts)) in sources.filter(|(_, (_, counts))| counts.requests > 0) {
            self.follows_from(Some(Listed::Sources.hash(place as u64)));
            let named = [("sites", OriginColumn::Site), ("servers", OriginColumn::Server)];
            for (list, column) in named {
                column.of(origin).into_iter().for_each(|value| self.add(list, value, *counts));
            }
        }
    }

    fn referrers(&mut self, survey: &Survey, own_hosts: &[String], weights: &Weights<'_>) {
        let is_own = |host: &str| own_hosts.iter().any(|own| own == host);
        for (referrer, counts) in survey.referrers.entries() {
            let Some(host) = referrers::host(referrer).filter(|host| !is_own(host)) else { continue };
            self.follows_from(weights.link(Listed::Linking, referrer));
            self.add("linking_sites", &host, counts);
            self.follows_from(weights.link(Listed::Referrers, referrer));
            self.add("linking_pages", referrer, counts);
            if let Some(phrase) = referrers::search_phrase(referrer) {
                self.add("search_phrases", &phrase, counts);
            }
            self.follows_from(weights.link(Listed::Embedding, referrer));
            self.link("embedding_sites", &host);
        }
        for (host, counts) in survey.embeds.entries().filter(|(host, _)| !is_own(host)) {
            self.follows_from(None);
            self.add("embedding_sites", host, counts);
            // Who shows files from here does not link here by that.
            if let Some(linking) = self.rankings.get_mut("linking_sites") {
                linking.take_out(host, counts);
            }
        }
    }

    fn visits(&mut self, survey: &Survey) -> VisitFigures {
        let weight = survey.visits.weight();
        let one = Counts { requests: weight, bytes: 0 };
        let mut figures = VisitFigures::default();
        let mut lengths: Vec<i64> = Vec::new();
        let mut by_length = [0u64; LENGTHS.len() + 1];
        let mut by_pages = [0u64; PAGES.len() + 1];
        for visit in survey.visits.all() {
            if visit.is_crawler {
                figures.by_crawlers += weight;
                continue;
            }
            figures.visits += weight;
            figures.pages += visit.pages * weight;
            figures.short += if visit.pages <= 1 { weight } else { 0 };
            let length = visit.last - visit.first;
            lengths.push(length);
            by_length[LENGTHS.partition_point(|most| (*most as i64) * 1000 < length)] += weight;
            by_pages[PAGES.partition_point(|most| *most < visit.pages)] += weight;
            for (list, page) in [("first_pages", &visit.first_page), ("last_pages", &visit.last_page)] {
                if let Some((_, path)) = page {
                    self.add(list, path, one);
                }
            }
        }
        figures.by_length = counted(&LENGTHS, &by_length);
        figures.by_pages = counted(&PAGES, &by_pages);
        if !lengths.is_empty() {
            let middle = lengths.len() / 2;
            figures.seconds = lengths.iter().sum::<i64>() as f64 / lengths.len() as f64 / 1000.0;
            figures.middle_seconds = *lengths.select_nth_unstable(middle).1 as f64 / 1000.0;
        }
        figures
    }
}

fn counted(bounds: &[u64], visits: &[u64]) -> Vec<VisitCount> {
    let bounds = bounds.iter().map(|bound| Some(*bound)).chain([None]);
    bounds.zip(visits).map(|(up_to, visits)| VisitCount { up_to, visits: *visits }).collect()
}

fn rank(
    ranking: Option<&Ranking>,
    top: usize,
    weight: impl Fn(&str, Counts) -> u64,
    measured: impl Fn(u64) -> Measured,
) -> RankedList {
    let Some(ranking) = ranking else { return RankedList::default() };
    let (first, others) = ranking.top(&weight, top);
    let let_go = ranking.let_go();
    let mut list = RankedList {
        entries: Vec::new(),
        more: others.len() as u64,
        more_requests: let_go.requests,
        more_bytes: let_go.bytes,
    };
    for (_, counts) in others {
        list.more_requests += counts.requests;
        list.more_bytes += counts.bytes;
    }
    let entry = |(value, counts): (&str, Counts)| ListEntry {
        value: value.to_owned(),
        requests: counts.requests,
        bytes: counts.bytes,
        measured: measured(weight(value, counts)),
        changes: Changes::new(),
    };
    list.entries = first.into_iter().map(entry).collect();
    list
}
