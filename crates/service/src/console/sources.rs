//! Where the records come from: the logs of the sites, generation by generation, and logs that were imported.

use super::caller::Caller;
use super::failure::Failure;
use crate::logs::access_log::NO_SITE;
use crate::logs::journal::Journal;
use crate::logs::journal::generations::generations;
use exedra_api::{Source, SourceKind};
use std::sync::Arc;

/// All that may be seen of some sites, or of all.
pub fn all(caller: &Caller, asked: Vec<String>) -> Result<Vec<Source>, Failure> {
    let active = caller.console().site()?;
    let sites = caller.sites(asked, &active.config)?;
    let is_meant =
        |site: &str| (sites.is_empty() || sites.iter().any(|one| one == site)) && caller.grant().sees(site);
    let mut all = Vec::new();
    let own = active.config.sites.iter().zip(&active.logs);
    for (site, log) in own.filter(|(site, _)| is_meant(&site.name.value)) {
        if let Some(appender) = &log.appender {
            of_journal(caller, &site.name.value, &appender.journal, &mut all);
        }
    }
    if let Some(appender) = active.no_site.appender.as_ref().filter(|_| is_meant(NO_SITE)) {
        of_journal(caller, NO_SITE, &appender.journal, &mut all);
    }
    for import in caller.console().imports.all()?.into_iter().filter(|import| is_meant(&import.site)) {
        let known = caller.checkpoint(&import.source());
        all.push(Source {
            site: import.site,
            server: server_of(&import.name),
            name: import.name,
            kind: SourceKind::Import,
            is_written: false,
            octets: known.octets,
            requests: known.lines,
            unread: known.unread,
            lag: 0,
            incomplete: known.incomplete,
        });
    }
    Ok(all)
}

/// The machine that a source was imported under: `quay=logs/quay.log`.
fn server_of(name: &str) -> Option<String> {
    let (server, _) = name.split_once('=')?;
    Some(server).filter(|server| !server.is_empty() && !server.contains('/')).map(str::to_owned)
}

fn of_journal(caller: &Caller, site: &str, journal: &Arc<Journal>, all: &mut Vec<Source>) {
    let reads = caller.console().site().is_ok_and(|active| active.config.service.records);
    for generation in generations(journal.folder(), &journal.name).unwrap_or_default() {
        let known = caller.checkpoint(&generation.name);
        let is_behind = reads && !generation.is_whole(known.octets);
        let length = generation.length().unwrap_or_default();
        all.push(Source {
            site: site.to_owned(),
            is_written: generation.number >= journal.oldest_written(),
            name: generation.name,
            server: None,
            kind: SourceKind::Log,
            octets: known.octets,
            requests: known.lines,
            unread: known.unread,
            lag: if is_behind { length.saturating_sub(known.octets) } else { 0 },
            incomplete: known.incomplete,
        });
    }
}
