//! Missing pages and who led there: a link of one's own, somebody else's, nobody, or a program that looks for a way in.

use super::schema::{Changes, MissingPage, Origins, ReferrerCount};
use super::{Beyond, Counts};
use crate::classify::{paths, referrers};
use crate::survey::counted::{MissingKey, Survey};
use crate::survey::visitors_of_entries::Listed;
use foldhash::quality::RandomState;
use hashbrown::{HashMap, HashSet};

/// What is known of one page.
#[derive(Default)]
struct Page {
    counts: Counts,
    without_referrer: u64,
    origins: Origins,
}

/// The pages, and the origins of the requests for all of them.
pub fn missing(survey: &Survey, own_hosts: &[String], beyond: &mut Beyond) -> (Vec<MissingPage>, Origins) {
    let own_hosts: HashSet<&str> = own_hosts.iter().map(String::as_str).collect();
    let is_own = |referrer: &str| referrers::host(referrer).is_some_and(|host| own_hosts.contains(&*host));
    let mut pages: HashMap<&str, Page, RandomState> = HashMap::default();
    let entries =
        || survey.missing.entries().filter_map(|(key, counts)| Some((MissingKey::split(key)?, counts)));
    for ((path, referrer), counts) in entries() {
        let page = pages.entry(path).or_default();
        page.counts.merge(counts);
        if referrer.is_empty() {
            let probing = survey.probes.of(path).requests.min(counts.requests);
            page.without_referrer += counts.requests;
            page.origins.probing += probing;
            page.origins.typed += counts.requests - probing;
        } else if is_own(referrer) {
            page.origins.own += counts.requests;
        } else {
            page.origins.others += counts.requests;
        }
    }
    // What is also answered is no way in that somebody looks for, whoever asks for it.
    for (path, page) in &mut pages {
        let is_answered = match paths::is_probe(path) {
            true => survey.answered.of(path).requests > 0,
            false => survey.paths.of(path).requests > page.counts.requests,
        };
        if is_answered {
            page.origins.typed += std::mem::take(&mut page.origins.probing);
        }
    }
    let mut all = Origins::default();
    for page in pages.values() {
        all.own += page.origins.own;
        all.others += page.origins.others;
        all.typed += page.origins.typed;
        all.probing += page.origins.probing;
    }
    let weights = beyond.weights;
    let weight = |path: &str, page: &Page| weights.of(Listed::Missing, path, page.counts);
    let mut pages: Vec<(u64, &str, Page)> =
        pages.into_iter().map(|(path, page)| (weight(path, &page), path, page)).collect();
    pages.sort_unstable_by(|a, b| b.0.cmp(&a.0).then_with(|| a.1.cmp(b.1)));
    let left = pages.iter().skip(beyond.options.top).map(|page| page.2.counts);
    beyond.leave_out("missing", left, survey.missing.let_go());
    pages.truncate(beyond.options.top);
    // Pages that link there are gathered only for those that are shown.
    let mut linking: HashMap<&str, Vec<ReferrerCount>, RandomState> =
        pages.iter().map(|(_, path, _)| (*path, Vec::new())).collect();
    for ((path, referrer), counts) in entries().filter(|((_, referrer), _)| !referrer.is_empty()) {
        if let Some(linking) = linking.get_mut(path) {
            let (referrer, own) = (referrer.to_owned(), is_own(referrer));
            linking.push(ReferrerCount { referrer, requests: counts.requests, own });
        }
    }
    let told = pages.into_iter().map(|(weight, path, page)| {
        let mut referrers = linking.remove(path).unwrap_or_default();
        referrers
            .sort_unstable_by(|a, b| b.requests.cmp(&a.requests).then_with(|| a.referrer.cmp(&b.referrer)));
        referrers.truncate(beyond.options.referrers);
        MissingPage {
            path: path.to_owned(),
            requests: page.counts.requests,
            without_referrer: page.without_referrer,
            referrers,
            origins: page.origins,
            bytes: page.counts.bytes,
            measured: weights.measured(weight),
            changes: Changes::new(),
        }
    });
    (told.collect(), all)
}
