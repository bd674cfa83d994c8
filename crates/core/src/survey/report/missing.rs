//! Missing pages and who led there: a link of one's own, somebody else's, nobody, or a program that looks for a way in.

use super::forms::{Changes, MissingPage, Origins, ReferrerCount};
use super::{Beyond, Counts};
use crate::classify::referrers;
use crate::survey::survey::{MissingKey, Survey};
use std::collections::BTreeMap;

/// The pages, and the origins of the requests for all of them.
pub fn missing(survey: &Survey, own_hosts: &[String], beyond: &mut Beyond) -> (Vec<MissingPage>, Origins) {
    let mut pages: BTreeMap<&str, (Counts, MissingPage)> = BTreeMap::new();
    let mut all = Origins::default();
    let entries = survey.missing.by_requests();
    for (key, counts) in &entries {
        let Some((path, referrer)) = MissingKey::split(key) else { continue };
        let (total, page) = pages.entry(path).or_insert_with(|| (Counts::default(), empty(path)));
        total.merge(*counts);
        page.requests += counts.requests;
        if referrer.is_empty() {
            let probing = survey.probes.of(path).requests.min(counts.requests);
            page.without_referrer += counts.requests;
            page.origins.probing += probing;
            page.origins.typed += counts.requests - probing;
            continue;
        }
        let own = referrers::host(referrer).is_some_and(|host| own_hosts.contains(&host));
        *if own { &mut page.origins.own } else { &mut page.origins.others } += counts.requests;
        if page.referrers.len() < beyond.options.referrers {
            let referrer = referrer.to_owned();
            page.referrers.push(ReferrerCount { referrer, requests: counts.requests, own });
        }
    }
    for (_, page) in pages.values() {
        all.own += page.origins.own;
        all.others += page.origins.others;
        all.typed += page.origins.typed;
        all.probing += page.origins.probing;
    }
    let by = beyond.options.by;
    let mut pages: Vec<(Counts, MissingPage)> = pages.into_values().collect();
    pages.sort_by(|a, b| by.of(b.0).cmp(&by.of(a.0)).then_with(|| a.1.path.cmp(&b.1.path)));
    let left = pages.iter().skip(beyond.options.top).map(|page| page.0);
    beyond.leave_out("missing", left, survey.missing.let_go());
    (pages.into_iter().take(beyond.options.top).map(|(_, page)| page).collect(), all)
}

fn empty(path: &str) -> MissingPage {
    MissingPage {
        path: path.to_owned(),
        requests: 0,
        without_referrer: 0,
        referrers: Vec::new(),
        origins: Origins::default(),
        changes: Changes::new(),
    }
}
