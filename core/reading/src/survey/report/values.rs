//! Lists of what follows from texts: who asked with what, where they came from, what they took.
//!
//! Surveys count agents, paths and referrers; only here, when all parts have met, is each distinct one looked at.

use super::context::Context;
use super::section::{Follows, From, Made, Section, Value};
use crate::classify::agents;
use crate::classify::referrers;
use crate::survey::counted::Survey;
use crate::survey::measure::Measure;
use crate::survey::ranking::{Counts, Ranking};
use std::collections::HashMap;

/// How many agents are looked at, the most frequent first. The others are counted together.
pub const MOST_AGENTS: usize = 20_000;
/// One part in so many of the style sheets and scripts makes a host one's own.
const OWN_SHARE: u64 = 20;
/// What stands for the browser of agents that are not looked at.
const UNREAD: &str = "(rare agents)";

/// Values by the names of their sections, ranked by requests, and what they weigh.
pub struct Values {
    by: Measure,
    rankings: HashMap<&'static str, Ranking>,
    /// Visitors or microseconds of each value, where that is what lists are ranked by.
    weights: HashMap<&'static str, HashMap<String, u64>>,
}

/// Which values follow from which texts.
#[derive(Default)]
struct Links {
    /// The numbers of the values that follow from each text, by the hash of the text in its list.
    by_text: HashMap<u64, Vec<u32>>,
    numbers: HashMap<(&'static str, String), u32>,
}

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

impl Context<'_> {
    /// Whether a host is one's own.
    pub fn is_own(&self, host: &str) -> bool {
        self.own_hosts.iter().any(|own| own == host)
    }

    /// The host of a referrer, where it is not one's own.
    pub fn foreign_host(&self, referrer: &str) -> Option<String> {
        referrers::host(referrer).filter(|host| !self.is_own(host))
    }
}

impl Values {
    /// Makes the lists of some sections.
    pub fn of(context: &Context<'_>, sections: &[&'static Section]) -> Values {
        let by = context.plan.by;
        let follows: Vec<(&'static str, &Follows)> = sections
            .iter()
            .filter_map(|section| match &section.made {
                Made::Follows(follows) => Some((section.name, follows)),
                _ => None,
            })
            .collect();
        let gather = |survey: &Survey| -> HashMap<&'static str, Ranking> {
            follows.iter().map(|(name, follows)| (*name, follows.gather(context, survey))).collect()
        };
        let rankings = gather(context.survey);
        let weights = match (by, &context.survey.times) {
            (Measure::Visitors, _) => visitors(context, &follows),
            (Measure::Time, Some(times)) => amounts(&gather(times)),
            _ => HashMap::new(),
        };
        Values { by, rankings, weights }
    }

    /// The values of a section by requests.
    pub fn ranking(&self, section: &str) -> Option<&Ranking> {
        self.rankings.get(section)
    }

    /// What a value of a section weighs.
    pub fn weight(&self, section: &str, value: &str, counts: Counts) -> u64 {
        match self.by {
            Measure::Requests => counts.requests,
            Measure::Bytes => counts.bytes,
            _ => self.weights.get(section).and_then(|list| list.get(value)).copied().unwrap_or(0),
        }
    }
}

impl Follows {
    /// What follows from everything that was counted.
    fn gather(&self, context: &Context<'_>, survey: &Survey) -> Ranking {
        let mut values = Ranking::default();
        let texts = (self.of)(survey);
        match self.value {
            From::Text(value) => {
                for (text, counts) in texts.entries() {
                    value(context, text).into_iter().for_each(|value| values.add(&value, counts));
                }
            }
            From::Agent { said, names_rare } => {
                let (frequent, rare) = texts.top(|_, counts| counts.requests, MOST_AGENTS);
                for (text, counts) in frequent {
                    said(&agents::read(text)).into_iter().for_each(|value| values.add(&value, counts));
                }
                if names_rare {
                    rare.into_iter().for_each(|(_, counts)| values.add(UNREAD, counts));
                }
            }
        }
        if let Some(others) = self.taken_out {
            for (value, counts) in others(survey).entries() {
                values.take_out(value, counts);
            }
        }
        values
    }

    /// Each text by which visitors of the values are known, with the value.
    fn linked<'s>(&self, context: &Context<'s>, mut link: impl FnMut(&str, &str)) {
        let survey = context.survey;
        if let Some((texts, value)) = self.visitors {
            for (text, _) in texts(survey).entries() {
                value(context, text).into_iter().for_each(|value| link(text, &value));
            }
            return;
        }
        let texts = (self.of)(survey);
        match self.value {
            From::Text(value) => {
                for (text, _) in texts.entries() {
                    value(context, text).into_iter().for_each(|value| link(text, &value));
                }
            }
            From::Agent { said, names_rare } => {
                let (frequent, rare) = texts.top(|_, counts| counts.requests, MOST_AGENTS);
                for (text, _) in frequent {
                    said(&agents::read(text)).into_iter().for_each(|value: Value| link(text, &value));
                }
                rare.into_iter().filter(|_| names_rare).for_each(|(text, _)| link(text, UNREAD));
            }
        }
    }
}

/// Visitors of each value of each list.
fn visitors(
    context: &Context<'_>,
    follows: &[(&'static str, &Follows)],
) -> HashMap<&'static str, HashMap<String, u64>> {
    let mut links = Links::default();
    for (name, follows) in follows {
        follows.linked(context, |text, value| {
            let next = links.numbers.len() as u32;
            let number = *links.numbers.entry((*name, value.to_owned())).or_insert(next);
            links.by_text.entry(context.weights.hash(follows.listed, text)).or_default().push(number);
        });
    }
    let none: &[u32] = &[];
    let of_text = |text: u64| links.by_text.get(&text).map_or(none, |found| &found[..]);
    let visitors = context.survey.listed.by_value(of_text);
    let mut weights: HashMap<&'static str, HashMap<String, u64>> = HashMap::new();
    for ((list, value), number) in links.numbers {
        let visitors = visitors.get(&number).copied().unwrap_or(0);
        weights.entry(list).or_default().insert(value, visitors);
    }
    weights
}

/// What stands in place of bytes, of each value.
fn amounts(rankings: &HashMap<&'static str, Ranking>) -> HashMap<&'static str, HashMap<String, u64>> {
    let list = |(name, ranking): (&&'static str, &Ranking)| {
        (*name, ranking.entries().map(|(value, counts)| (value.to_owned(), counts.bytes)).collect())
    };
    rankings.iter().map(list).collect()
}
