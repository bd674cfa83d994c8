//! The call that rehearses a changed configuration on the requests that were recorded.

use super::blocking::{Work, working};
use super::caller::Caller;
use super::configuration::{drafts, failed};
use super::counting::for_a_call;
use super::failure::{Failure, Sent};
use super::query::{NothingMore, Scoped};
use super::reading::About;
use super::sites::diagnostics;
use crate::content::disk::Disk;
use crate::control::checking::{self, Depth};
use crate::control::configuration::{self, Refused, version};
use crate::control::on_disk::OnDisk;
use crate::control::rehearsing::RehearsedSites;
use crate::system::Clock;
use axum::Json;
use exedra_acting::rehearsal::{Accepted, RecordedRequest, Rehearsal, RehearsalOutcome, Surroundings};
use exedra_answering::config::Config;
use exedra_api::rehearsals::{NewRehearsal, Rehearsed};
use exedra_common::{Dictionaries, RequestBatch};
use exedra_reading::trail::Place;
use exedra_store::records::{Scan, ScanSink};
use jiff::Timestamp;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Instant;

/// The stretch that is looked at where nobody says one: four weeks, in milliseconds.
pub(super) const USUAL: i64 = 28 * 86_400_000;

/// RecordedRequest requests run through the configuration as it might be and through the one in force: every answer that would differ.
#[utoipa::path(post, path = "/rehearsals", params(super::query::ScopeQuery), request_body = NewRehearsal,
    responses((status = 200, body = Rehearsed), (status = 409, body = exedra_api::Problem)))]
pub async fn rehearse(
    caller: Caller,
    Scoped(about, NothingMore {}): Scoped<NothingMore>,
    Sent(new): Sent<NewRehearsal>,
) -> Result<Json<Rehearsed>, Failure> {
    let mut about = About::understand(&caller, about)?;
    working(move |work| {
        let begun = Instant::now();
        if about.scope.from.is_none() && about.scope.until.is_none() {
            about.scope.from = Some(about.now - USUAL);
        }
        let called = new.called.clone();
        let texts = texts(&caller, new)?;
        let changes = &caller.console().changes;
        let mut rehearsed = Rehearsed {
            id: identity(&texts),
            is_sound: false,
            found: Vec::new(),
            from: about.scope.from.map(instant),
            until: about.scope.until.map(instant),
            time_zone: about.zone_name(),
            took_ms: 0.0,
            is_worse: false,
            outcome: RehearsalOutcome::default(),
            table: RehearsalOutcome::default().table(),
            unsure: RehearsalOutcome::default().unsure_table(),
        };
        let config = match configuration::drafted(&changes.file, &texts) {
            Ok(config) => config,
            Err(Refused::Mistaken { found, sources }) => {
                let found = diagnostics(&found, &sources);
                return Ok(as_called(Rehearsed { found, ..rehearsed }, called.as_deref(), &changes.file));
            }
            Err(unreadable @ Refused::Unreadable { .. }) => {
                return Err(Failure::Wrong(unreadable.to_string()));
            }
        };
        let mut found = checking::check(&config, Depth::Thorough, Some(&about.active.config));
        found.extend(changes.new_commands(&config));
        rehearsed.is_sound = !found.iter().any(|one| one.is_error());
        rehearsed.found = diagnostics(&found, &config.sources);
        if !rehearsed.is_sound {
            return Ok(as_called(rehearsed, called.as_deref(), &changes.file));
        }
        let outcome = run(&caller, &about, &config, work)?;
        caller.console().known_rehearsals.add(&rehearsed.id, &outcome);
        let rehearsed = Rehearsed {
            is_worse: outcome.is_worse_for_somebody(),
            unsure: outcome.unsure_table(),
            outcome,
            took_ms: begun.elapsed().as_secs_f64() * 1000.0,
            ..rehearsed
        };
        let rehearsed = as_called(rehearsed, called.as_deref(), &changes.file);
        Ok(Rehearsed { table: rehearsed.outcome.table(), ..rehearsed })
    })
    .await
}

/// The same with the main file called as whoever sent its text calls it.
fn as_called(mut rehearsed: Rehearsed, called: Option<&str>, main: &Path) -> Rehearsed {
    let Some(called) = called else { return rehearsed };
    let main = main.display().to_string();
    let causes = rehearsed.outcome.groups.iter_mut().map(|group| &mut group.cause);
    let files = causes.filter(|cause| cause.is_new).filter_map(|cause| cause.file.as_mut());
    let files = files.chain(rehearsed.found.iter_mut().map(|one| &mut one.file));
    files.filter(|file| **file == main).for_each(|file| called.clone_into(file));
    rehearsed
}

/// The texts of files as they might be. Where none is given, the files are taken as they are on the disk.
fn texts(caller: &Caller, new: NewRehearsal) -> Result<HashMap<PathBuf, String>, Failure> {
    let changes = &caller.console().changes;
    let mut texts = changes.drafted(&drafts(new.files)).map_err(failed)?;
    if let Some(text) = new.main {
        texts.insert(changes.file.clone(), text);
    }
    Ok(texts)
}

/// What was rehearsed lately, by the identities of the changes: whoever publishes one of them is held to what was promised.
#[derive(Default)]
pub struct KnownRehearsals(Mutex<Vec<(String, String)>>);

/// How many are known, and how much of each is kept.
const MOST_KNOWN: usize = 16;
const MOST_GROUPS: usize = 100;

impl KnownRehearsals {
    fn add(&self, id: &str, outcome: &RehearsalOutcome) {
        let mut kept = outcome.clone();
        kept.groups.truncate(MOST_GROUPS);
        let Ok(written) = serde_json::to_string(&kept) else { return };
        let mut known = self.0.lock();
        known.retain(|(other, _)| other != id);
        if known.len() >= MOST_KNOWN {
            known.remove(0);
        }
        known.push((id.to_owned(), written));
    }

    /// The outcome of a rehearsal as JSON.
    pub fn get(&self, id: &str) -> Option<String> {
        self.0.lock().iter().find(|(known, _)| known == id).map(|(_, outcome)| outcome.clone())
    }
}

/// By what a change is known: texts that differ from the files as they are. The same change has the same.
pub(super) fn identity(texts: &HashMap<PathBuf, String>) -> String {
    let differs = |(path, text): &(&PathBuf, &String)| {
        std::fs::read_to_string(path).map_or(true, |there| there != **text)
    };
    let mut files: Vec<(&PathBuf, &String)> = texts.iter().filter(differs).collect();
    files.sort();
    let all: Vec<String> = files.iter().map(|(path, text)| format!("{}\n{text}", path.display())).collect();
    version(&all.join("\n"))
}

/// An instant (RFC 3339) by its milliseconds since 1970 UTC.
pub(super) fn instant(time: i64) -> String {
    Timestamp::from_millisecond(time).map_or_else(|_| String::new(), |time| time.to_string())
}

/// One thread's share of a rehearsal.
struct RehearsalSink<'c>(Rehearsal<'c>);

impl ScanSink for RehearsalSink<'_> {
    fn take(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, _: Place) {
        self.0.add(batch, row, texts);
    }
}

/// Which codings agents take, as one thread has seen.
#[derive(Default)]
struct AcceptedSink(Accepted);

impl ScanSink for AcceptedSink {
    fn take(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, _: Place) {
        self.0.add(batch, row, texts);
    }
}

/// Runs the requests of a scope through a configuration and the one in force.
fn run(caller: &Caller, about: &About, config: &Config, work: &Work) -> Result<RehearsalOutcome, Failure> {
    let (seen, records) = caller.snapshot(&about.scope);
    let goes_on = || work.goes_on();
    let counting = for_a_call(&goes_on);
    let scan = Scan { scope: &about.scope, projection: Accepted::projection(), derive: about.classifier() };
    let (learned, ..) = records.scan(&seen, &scan, &counting, AcceptedSink::default)?;
    let mut around = Surroundings::new(config.service.time_zone.clone());
    learned.into_iter().for_each(|sink| around.accepted.merge(sink.0));
    around.countries.clone_from(&about.active.countries);
    let active = &*about.active;
    let disk = Disk::open(config, Clock::new()).map_err(|error| {
        Failure::Conflict(format!("the folders of the changed configuration cannot be opened: {error}"))
    })?;
    let now = RehearsedSites::new(OnDisk::of_strangers(&active.config, Arc::clone(&active.disk)));
    let changed = RehearsedSites::new(OnDisk::of_strangers(config, Arc::new(disk)));
    let begin = || RehearsalSink(Rehearsal::new((&active.config, &now), (config, &changed), &around));
    let scan =
        Scan { scope: &about.scope, projection: RecordedRequest::projection(), derive: about.classifier() };
    let (sinks, ..) = records.scan(&seen, &scan, &counting, begin)?;
    let all = sinks.into_iter().map(|sink| sink.0).reduce(Rehearsal::merge);
    Ok(all.unwrap_or_else(|| begin().0).finish())
}
