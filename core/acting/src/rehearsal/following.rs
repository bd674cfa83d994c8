//! Where an answer leads in the end: redirects into our own sites are followed, as the client that asked would follow them.

use super::SiteFolders;
use super::change::End;
use exedra_answering::answer::absolute::leads_to;
use exedra_answering::answer::{Answer, Body, LettingIn, Question, Step, Trace, Want, answer, answer_traced};
use exedra_answering::config::Config;
use exedra_answering::facts::{Facts, Known};
use http::header;

/// How many redirects a browser would follow, at most.
const MOST_HOPS: usize = 20;

/// Follows an answer to the end. `see` is told each answer on the way: what it depends on matters to the end.
pub fn follow(
    config: &Config,
    sites: &dyn SiteFolders,
    facts: &Facts<'_>,
    first: &Answer,
    mut see: impl FnMut(&Answer),
) -> End {
    let mut reached = first.clone();
    let mut way: Vec<String> = Vec::new();
    // What is asked of it beside its address is the same each time.
    let mut here: Option<String> = None;
    loop {
        if reached.status.as_u16() == 500 && sends_to_itself(config, sites, facts, here.as_deref()) {
            return end(config, sites, &reached, way, true);
        }
        let location = reached.headers.get(header::LOCATION).and_then(|value| value.to_str().ok());
        let Some(location) = location.filter(|_| reached.status.is_redirection()) else {
            return end(config, sites, &reached, way, false);
        };
        let address = match location.starts_with('/') {
            false => location.to_owned(),
            true => {
                let scheme = facts.scheme.value().map_or("http", |scheme| scheme.as_str());
                let host = facts.host.value().unwrap_or_default();
                let port = facts.port.value().map(|port| format!(":{port}")).unwrap_or_default();
                format!("{scheme}://{host}{port}{location}")
            }
        };
        let been_there = way.contains(&address);
        way.push(address.clone());
        if been_there || way.len() > MOST_HOPS {
            return end(config, sites, &reached, way, true);
        }
        if leads_to(config, &address).is_none() {
            return end(config, sites, &reached, way, false);
        }
        let Some(next) = at(config, facts, &address) else {
            return end(config, sites, &reached, way, false);
        };
        let Ok((decided, ())) = answer(config, next).by(&LettingIn(sites));
        see(&decided);
        reached = decided;
        here = Some(address);
    }
}

/// The same request to another address of ours.
fn at<'f>(config: &Config, facts: &Facts<'f>, address: &'f str) -> Option<Facts<'f>> {
    let target = leads_to(config, address)?;
    Some(Facts {
        scheme: Known::Is(target.scheme),
        host: Known::Is(target.host),
        port: target.port.into(),
        path: Known::Is(target.path()),
        query: target.query().into(),
        ..*facts
    })
}

fn sends_to_itself(config: &Config, sites: &dyn SiteFolders, facts: &Facts<'_>, here: Option<&str>) -> bool {
    let facts = match here {
        Some(address) => match at(config, facts, address) {
            Some(facts) => facts,
            None => return false,
        },
        None => *facts,
    };
    let Ok((_, trace)) = answer_traced(config, facts, Trace::default()).by(&LettingIn(sites));
    trace.steps.iter().any(|step| matches!(step, Step::ToItself { .. }))
}

fn end(
    config: &Config,
    sites: &dyn SiteFolders,
    reached: &Answer,
    way: Vec<String>,
    is_endless: bool,
) -> End {
    let file = match (&reached.body, reached.site) {
        (Body::File { path, .. } | Body::Parts { path, .. }, Some(site)) => {
            Some((config.site(site).name.value.clone(), path.as_str().to_owned()))
        }
        _ => None,
    };
    End {
        status: reached.status.as_u16(),
        file,
        bytes: bytes(sites, reached),
        redirects: way.len(),
        address: way.into_iter().next_back(),
        is_endless,
    }
}

/// Body bytes of an answer, where they are known beforehand.
pub fn bytes(sites: &dyn SiteFolders, answer: &Answer) -> Option<u64> {
    if answer.head_only {
        return Some(0);
    }
    match &answer.body {
        Body::None => Some(0),
        Body::Page(page) | Body::PageEncoded(page, _) => Some(page.len() as u64),
        Body::File { path, form } | Body::Parts { path, form, .. } => {
            let question = Question { site: answer.site?, path: path.clone(), want: Want::Entry };
            sites.size(&question, *form)
        }
    }
}
