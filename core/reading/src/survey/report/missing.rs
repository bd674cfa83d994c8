//! Missing pages and who led there, gathered once for all sections that show them.

use super::weights::Weights;
use crate::classify::{paths, referrers};
use crate::survey::counted::{MissingKey, Survey};
use crate::survey::ranking::Counts;
use crate::survey::visitors_of_entries::Listed;
use foldhash::quality::RandomState;
use hashbrown::{HashMap, HashSet};

/// What is known of one missing page.
#[derive(Default)]
pub struct Page<'s> {
    /// Requests for it, and what was sent.
    pub counts: Counts,
    /// By links of one's own.
    pub own: u64,
    /// By links elsewhere.
    pub others: u64,
    /// Typed, bookmarked, or from a mail.
    pub typed: u64,
    /// By a crawler that is known.
    pub crawling: u64,
    /// By another program, or for something that only programs try that look for a way in.
    pub probing: u64,
    /// Pages that lead to it; of those that are shown, in order, most requests first.
    pub linking: Vec<Referrer<'s>>,
}

/// A page that leads to missing ones.
pub struct Referrer<'s> {
    /// Its address.
    pub referrer: &'s str,
    /// How often it did.
    pub requests: u64,
    /// Whether it is one's own.
    pub own: bool,
}

impl Page<'_> {
    /// Adds the figures of another one.
    pub fn merge(&mut self, other: &Page<'_>) {
        self.counts.merge(other.counts);
        self.own += other.own;
        self.others += other.others;
        self.typed += other.typed;
        self.crawling += other.crawling;
        self.probing += other.probing;
    }
}

/// All missing pages with their paths, those first that weigh most. Of the first `shown` those that lead there are in order.
pub fn missing_pages<'s>(
    survey: &'s Survey,
    own_hosts: &[String],
    weights: &Weights<'_>,
    shown: usize,
) -> Vec<(u64, &'s str, Page<'s>)> {
    let own_hosts = own_hosts.iter().map(String::as_str).collect::<HashSet<&str>>();
    let mut pages: HashMap<&str, Page<'s>, RandomState> = HashMap::default();
    let entries = survey.missing.entries();
    let entries = entries.filter_map(|(key, counts)| Some((MissingKey::split(key)?, counts)));
    for ((path, referrer), counts) in entries {
        let page = pages.entry(path).or_default();
        page.counts.merge(counts);
        if referrer.is_empty() {
            let probing = survey.probes.of(path).requests.min(counts.requests);
            let crawling = survey.crawled.of(path).requests.min(counts.requests - probing);
            page.probing += probing;
            page.crawling += crawling;
            page.typed += counts.requests - probing - crawling;
            continue;
        }
        let own = referrers::host(referrer).is_some_and(|host| own_hosts.contains(&*host));
        *(if own { &mut page.own } else { &mut page.others }) += counts.requests;
        page.linking.push(Referrer { referrer, requests: counts.requests, own });
    }
    // What is also answered is no way in that somebody looks for, whoever asks for it.
    for (path, page) in &mut pages {
        let is_answered = match paths::is_probe(path) {
            true => survey.answered.of(path).requests > 0,
            false => survey.paths.of(path).requests > page.counts.requests,
        };
        if is_answered {
            page.typed += std::mem::take(&mut page.probing);
        }
    }
    let weight = |path: &str, page: &Page<'_>| weights.of(Listed::Missing, path, page.counts);
    let mut ranked: Vec<(u64, &str, Page<'s>)> =
        pages.into_iter().map(|(path, page)| (weight(path, &page), path, page)).collect();
    ranked.sort_unstable_by(|a, b| b.0.cmp(&a.0).then_with(|| a.1.cmp(b.1)));
    for (.., page) in ranked.iter_mut().take(shown) {
        let order = |a: &Referrer<'_>, b: &Referrer<'_>| {
            b.requests.cmp(&a.requests).then_with(|| a.referrer.cmp(b.referrer))
        };
        page.linking.sort_unstable_by(order);
    }
    ranked
}
