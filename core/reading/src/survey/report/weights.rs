//! What entries of lists weigh, by the measure that lists are ranked by.

use crate::survey::counted::{MissingKey, Survey};
use crate::survey::measure::Measure;
use crate::survey::plan::SurveyPlan;
use crate::survey::ranking::Counts;
use crate::survey::visitors::VisitorKey;
use crate::survey::visitors_of_entries::Listed;
use hashbrown::HashMap;

/// The weights of the entries of one survey's lists.
pub struct Weights<'s> {
    by: Measure,
    key: VisitorKey,
    survey: &'s Survey,
    /// Visitors by the hash of a text in its list.
    pub visitors: HashMap<u64, u64>,
    /// Microseconds by missing path.
    missing: HashMap<&'s str, u64>,
}

impl<'s> Weights<'s> {
    /// The weights by a measure.
    pub fn new(survey: &'s Survey, plan: &SurveyPlan, by: Measure) -> Self {
        let visitors = match by {
            Measure::Visitors => survey.listed.by_text(),
            _ => HashMap::new(),
        };
        let mut missing: HashMap<&str, u64> = HashMap::new();
        let times = survey.times.iter().flat_map(|times| times.missing.entries());
        for ((path, _), counts) in times.filter_map(|(key, counts)| Some((MissingKey::split(key)?, counts))) {
            *missing.entry(path).or_default() += counts.bytes;
        }
        Weights { by, key: plan.key, survey, visitors, missing }
    }

    /// The hash of a text in a list.
    pub fn hash(&self, list: Listed, text: &str) -> u64 {
        self.key.of_listed(list, text)
    }

    /// What a text of a list weighs.
    pub fn of(&self, list: Listed, text: &str, counts: Counts) -> u64 {
        match self.by {
            Measure::Requests => counts.requests,
            Measure::Bytes => counts.bytes,
            Measure::Visitors => self.visitors.get(&self.hash(list, text)).copied().unwrap_or(0),
            Measure::Time => self.time(list, text),
        }
    }

    fn time(&self, list: Listed, text: &str) -> u64 {
        let Some(times) = &self.survey.times else { return 0 };
        match list {
            Listed::Paths => times.paths.of(text).bytes,
            Listed::Clients => times.clients.of(text).bytes,
            Listed::Users => times.users.of(text).bytes,
            Listed::Agents => times.agents.of(text).bytes,
            Listed::Referrers => times.referrers.of(text).bytes,
            Listed::Missing => self.missing.get(text).copied().unwrap_or(0),
            Listed::Hosts => times.hosts.of(text).bytes,
            Listed::Methods => times.methods.of(text).bytes,
            Listed::Protocols => times.protocols.of(text).bytes,
            Listed::Queries => times.queries.of(text).bytes,
            Listed::Linking | Listed::Embedding | Listed::Sources => 0,
        }
    }

    /// What sources of one value weigh together.
    pub fn of_sources(&self, places: &[usize], counts: Counts) -> u64 {
        match self.by {
            Measure::Requests => counts.requests,
            Measure::Bytes => counts.bytes,
            Measure::Visitors => {
                // A visitor of several sources is one.
                let hashes: Vec<u64> =
                    places.iter().map(|place| Listed::Sources.hash(*place as u64)).collect();
                let one: &[u32] = &[0];
                let of = |text: u64| if hashes.contains(&text) { one } else { &[] };
                self.survey.listed.by_value(of).get(&0).copied().unwrap_or(0)
            }
            Measure::Time => {
                let times = self.survey.times.iter().flat_map(|times| &times.sources).enumerate();
                times.filter(|(place, _)| places.contains(place)).map(|(_, counts)| counts.bytes).sum()
            }
        }
    }

    /// That visitors of entries are not exact, and by how much.
    pub fn caveat(&self) -> Option<String> {
        const SOME: u64 = 10_000;
        let listed = &self.survey.listed;
        let (weight, error) = (listed.weight(), listed.error(SOME) * 100.0);
        (weight > 1).then(|| {
            format!(
                "visitors of entries are estimated from one visitor in {weight}; standard error {error:.1} % of an entry with \
                 {SOME}, less of larger ones"
            )
        })
    }
}
