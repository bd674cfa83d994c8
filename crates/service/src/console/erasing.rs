//! One client erased: out of the records, and out of the logs of the sites.

use super::blocking::{Work, changing_much};
use super::caller::Caller;
use super::failure::{Failure, Sent};
use super::recording::ChangeDetail;
use crate::active::Active;
use crate::logs::erasing::{Erased, erase};
use crate::logs::error_log::ErrorLine;
use crate::logs::journal::generations::Generation;
use axum::Extension;
use axum::Json;
use axum::response::{IntoResponse, Response};
use exedra_api::imports::{Erase, Erasure};
use exedra_common::filters::{Filter, Filters};
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::{Dictionaries, Projection, RequestBatch, TextColumn};
use exedra_reading::classify::Classifier;
use exedra_reading::logs::{Layout, LineReader};
use std::collections::HashMap;
use std::sync::Arc;

/// Says which requests are those of a client.
struct OfClient {
    scope: Scope,
}

impl OfClient {
    fn understand(client: &str) -> Result<Self, Failure> {
        if client.trim().is_empty() {
            return Err(Failure::Wrong(
                "`client` is missing: an address, or a network as in 192.0.2.0/24".to_owned(),
            ));
        }
        let filter = Filter::exactly(TextColumn::Client.into(), client.trim());
        let mut filters = Filters::default();
        filters.narrow(filter.map_err(|error| Failure::Wrong(error.to_string()))?);
        Ok(OfClient { scope: Scope { filters, ..Scope::default() } })
    }

    fn filter(&self) -> RowFilter {
        RowFilter::new(self.scope.clone(), Arc::new(Classifier::default()))
    }

    /// Whether a client, as it is written, is the one.
    fn is(&self, client: &str) -> bool {
        let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
        batch.time.push(0);
        let code = texts.of_mut(TextColumn::Client).code(client);
        batch.codes_mut(TextColumn::Client).push(code);
        self.filter().keeps(&batch, 0, &texts)
    }
}

/// Erases one client.
#[utoipa::path(post, path = "/erasures", request_body = Erase, responses((status = 200, body = Erasure)))]
pub async fn erase_client(caller: Caller, Sent(asked): Sent<Erase>) -> Result<Response, Failure> {
    let of = OfClient::understand(&asked.client)?;
    let Json(erased) = changing_much(move |work| {
        let active = caller.console().site()?;
        // The logs come first: what is read of them meanwhile is in the records before these are looked at.
        let (access, errors) = of_logs(&caller, &active, &of, work)?;
        let requests = caller.erase(&of.filter())?;
        if caller.sees_all() {
            let watching = &caller.console().outbox.watching;
            watching.erase_client(|client| of.is(client))?;
            watching.erase_messages(|text| text.split(is_around_addresses).any(|word| of.is(word)))?;
        }
        Ok(Erasure {
            requests,
            log_lines: access.lines,
            error_lines: errors.lines,
            files: access.files + errors.files,
            remains: remains(&active),
        })
    })
    .await?;
    // Who it was is what is to be forgotten.
    let told = format!("one client: {} requests, {} log lines", erased.requests, erased.log_lines);
    Ok((Extension(ChangeDetail(told)), Json(erased)).into_response())
}

fn of_logs(
    caller: &Caller,
    active: &Active,
    of: &OfClient,
    work: &Work,
) -> Result<(Erased, Erased), Failure> {
    let goes_on = || work.goes_on().is_ok();
    let failed = |error: std::io::Error| match work.goes_on() {
        Err(failure) => failure,
        Ok(()) => {
            Failure::Conflict(format!("a log cannot be rewritten: {error}; what was done before stays done"))
        }
    };
    let mut access = Erased::default();
    let own = active.config.sites.iter().zip(&active.logs);
    let own = own.filter(|(site, _)| caller.grant().sees(&site.name.value)).map(|(_, log)| log);
    let no_site = Some(&active.no_site).filter(|_| caller.sees_all());
    for appender in own.chain(no_site).filter_map(|log| log.appender.as_ref()) {
        let journal = &appender.journal;
        let mut readers: HashMap<u64, (LineReader, RowFilter)> = HashMap::new();
        let is_of = |generation: &Generation, line: &[u8]| {
            let (reader, filter) = readers.entry(generation.number).or_insert_with(|| {
                let layouts = journal
                    .layout_of(generation.number)
                    .map_or_else(Layout::all_named, |layout| vec![layout]);
                let client: Projection = of.scope.columns().collect();
                (LineReader::new(&layouts, client), of.filter())
            });
            let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
            reader.read_block(&[line, b"\n"].concat(), 0, &mut 0, &mut batch, &mut texts);
            filter.forget();
            !filter.rows(&batch, &texts).is_empty()
        };
        access.add(erase(journal, is_of, goes_on).map_err(failed)?);
    }
    let mut errors = Erased::default();
    if caller.sees_all() {
        let is_of = |_: &Generation, line: &[u8]| {
            serde_json::from_slice::<ErrorLine<'_>>(line).is_ok_and(|line| of.is(&line.client))
        };
        errors = erase(&active.errors.appender.journal, is_of, goes_on).map_err(failed)?;
    }
    Ok((access, errors))
}

/// Whether a letter stands beside addresses in a text, and in none.
fn is_around_addresses(letter: char) -> bool {
    !(letter.is_ascii_hexdigit() || ".:".contains(letter))
}

/// What was not erased, and why.
fn remains(active: &Active) -> Vec<String> {
    let mut remains = vec![
        "backups that were made before: delete them, or erase again after restoring one".to_owned(),
        "logs that were imported from elsewhere, copies, messages and reports that were handed on: they are not Exedra's to change".to_owned(),
        "messages that still wait to be delivered".to_owned(),
    ];
    if active.config.reports.iter().any(|report| !report.masked) {
        remains
            .push("scheduled reports in the state folder that are not masked: delete their files".to_owned());
    }
    let masked: Vec<&str> = active
        .config
        .sites
        .iter()
        .filter(|site| site.log.masks_clients)
        .map(|site| site.name.value.as_str())
        .collect();
    if !masked.is_empty() {
        remains.push(format!(
            "lines of {}: they hold networks in place of addresses, so that nobody can tell whose they are",
            masked.join(", ")
        ));
    }
    remains
}
