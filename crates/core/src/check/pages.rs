//! Error pages that could not be shown, or not with all that belongs to them.

use super::Looking;
use super::probe::ways;
use crate::answer::path::resolve;
use crate::answer::{Entry, Question, Reply, Want, answer};
use crate::config::{Config, Diagnostic, SiteId};
use crate::facts::Scheme;

/// Finds them in all sites.
pub fn check(config: &Config, looking: Looking<'_>) -> Vec<Diagnostic> {
    let mut found = Vec::new();
    for (number, site) in config.sites.iter().enumerate() {
        let id = SiteId(number);
        for page in site.error_pages.all() {
            let Ok(resolved) = resolve(&page.value) else {
                let message = format!("the error page {} could never be shown", page.value);
                let reason = "it is hidden: names beginning with a dot are never served";
                found.push(
                    Diagnostic::error(page.span.clone(), message, reason).remedy("give it another name"),
                );
                continue;
            };
            let question = Question { site: id, path: resolved.place, want: Want::Entry };
            let is_file = matches!(looking(&question), Reply::File(_) | Reply::Entry(Entry::File(_)));
            if !is_file {
                let message = format!("the error page {} is not there", page.value);
                let remedy = format!("make {}", site.folder.value.join(question.path.as_str()).display());
                found.push(
                    Diagnostic::remark(page.span.clone(), message, "the built-in page stands in")
                        .remedy(remedy),
                );
                continue;
            }
            let at_home = ways(config, id).into_iter().rev().find(|probe| {
                probe.scheme == Scheme::Https || !config.listeners.iter().any(|door| door.https)
            });
            let Some(mut probe) = at_home else { continue };
            probe.host = site.main_host.as_ref().map_or(probe.host, |main| main.value.clone());
            probe.path.clone_from(&page.value);
            let status = answer(config, probe.facts()).finish(looking).0.status.as_u16();
            if matches!(status, 401 | 403 | 410) {
                let message = format!("the error page {} lies where strangers may not go", page.value);
                let reason = format!(
                    "the page itself is shown all the same; pictures and styles beside it answer {status}"
                );
                found.push(
                    Diagnostic::remark(page.span.clone(), message, reason)
                        .remedy("put it, and what it needs, where anybody may go"),
                );
            }
        }
    }
    found
}
