//! Published changes in their first minutes: where more requests fail than was promised, that is said loudly, and the configuration
//! before is brought back where the administrator wants that.

use crate::active::Active;
use crate::system::background::step_back;
use exedra_acting::effect::{EffectTally, FirstMinutes, Usual};
use exedra_acting::rehearsal::RehearsalOutcome;
use exedra_common::scope::Scope;
use exedra_common::tables::Table;
use exedra_common::{Dictionaries, Projection, RequestBatch};
use exedra_reading::classify::Classifier;
use exedra_reading::trail::Place;
use exedra_store::records::{Counting, Scan, ScanSink};
use exedra_store::{Acting, Publication, PublicationState, Records, StoreError};
use jiff::Timestamp;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// The name of the thread.
pub const NAME: &str = "publications";
/// How often changes are looked at, and how often it is looked whether it should stop.
const PAUSE: Duration = Duration::from_secs(5);
const LOOK: Duration = Duration::from_secs(1);
/// How far back it is looked how paths were answered before, in milliseconds.
const WEEK: i64 = 7 * 86_400_000;
/// How many of the latest changes are looked at.
const LATEST: usize = 10;

/// Watches until told to stop by the flag and woken. `take_back` brings a revision into force again.
pub fn watch(
    records: &Records,
    acting: &Acting,
    active: &impl Fn() -> Option<Arc<Active>>,
    take_back: &impl Fn(i32) -> Result<(), String>,
    stop: &AtomicBool,
) {
    step_back();
    let mut last = Instant::now();
    // How paths were answered before the change that is watched: counted once.
    let mut usual: Option<(i32, Arc<Usual>)> = None;
    while !stop.load(Ordering::SeqCst) {
        if last.elapsed() >= PAUSE {
            last = Instant::now();
            let Some(active) = active() else { return };
            if let Err(error) = look((records, &mut usual), acting, &active, take_back, stop) {
                tracing::warn!("published changes cannot be watched at the moment: {error}");
            }
        }
        std::thread::park_timeout(LOOK);
    }
}

fn look(
    (records, known): (&Records, &mut Option<(i32, Arc<Usual>)>),
    acting: &Acting,
    active: &Active,
    take_back: &impl Fn(i32) -> Result<(), String>,
    stop: &AtomicBool,
) -> Result<(), StoreError> {
    let service = &active.config.service;
    let latest = acting.publications(LATEST)?;
    let newest = latest.first().map(|publication| publication.revision);
    for publication in latest.iter().filter(|publication| publication.state == PublicationState::Watched) {
        let Some(promised) =
            publication.rehearsal.as_ref().and_then(|written| serde_json::from_str(written).ok())
        else {
            continue;
        };
        let age = (Timestamp::now().as_millisecond() - publication.made) / 1000;
        let is_over = age >= i64::try_from(service.watch_changes.as_secs()).unwrap_or(i64::MAX);
        // Another has taken its place: what comes now is not its doing.
        if Some(publication.revision) != newest {
            acting.went(publication.revision, PublicationState::Well, "another change followed")?;
            continue;
        }
        let usual = match known {
            Some((revision, usual)) if *revision == publication.revision => Arc::clone(usual),
            _ => {
                let counted = Arc::new(usual_before(publication, records, stop)?);
                *known = Some((publication.revision, Arc::clone(&counted)));
                counted
            }
        };
        let watch = watched(publication, records, &usual, stop)?;
        if stop.load(Ordering::SeqCst) {
            return Ok(());
        }
        match watch.verdict(&promised, &usual) {
            Some(failing) => {
                let words = failing.words();
                tracing::error!(
                    revision = publication.revision,
                    "the published change fails more than promised: {words}"
                );
                let (state, said) = taken_back(publication, service.take_back, &words, take_back);
                acting.went(publication.revision, state, &said)?;
            }
            None if is_over => {
                acting.went(publication.revision, PublicationState::Well, &well(&watch, &promised))?
            }
            None => {}
        }
    }
    Ok(())
}

/// Takes a change back where that is wanted, and says what came of it.
fn taken_back(
    publication: &Publication,
    is_wanted: bool,
    words: &str,
    take_back: &impl Fn(i32) -> Result<(), String>,
) -> (PublicationState, String) {
    if !is_wanted {
        return (PublicationState::Failing, words.to_owned());
    }
    match take_back(publication.before) {
        Ok(()) => {
            tracing::warn!(revision = publication.before, "the published change was taken back");
            let said = format!("{words}; taken back: revision {} is in force again", publication.before);
            (PublicationState::TakenBack, said)
        }
        Err(error) => {
            tracing::error!("the published change could not be taken back: {error}");
            (PublicationState::Failing, format!("{words}; it could not be taken back: {error}"))
        }
    }
}

fn well(watch: &FirstMinutes, promised: &RehearsalOutcome) -> String {
    match watch.requests() {
        0 => "nobody came in its first minutes".to_owned(),
        requests => format!(
            "{} in its first minutes, and no more failed than promised ({})",
            exedra_common::figures::several(requests, "request", "requests"),
            promised.about()
        ),
    }
}

/// How paths were answered in the week before a change was published.
fn usual_before(
    publication: &Publication,
    records: &Records,
    stop: &AtomicBool,
) -> Result<Usual, StoreError> {
    /// Counts on one thread.
    #[derive(Default)]
    struct UsualSink(Usual);
    impl ScanSink for UsualSink {
        fn take(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, _: Place) {
            self.0.add(batch, row, texts);
        }
    }
    let (from, until) = (Some(publication.made - WEEK), Some(publication.made));
    let scope = Scope { from, until, ..Scope::default() };
    let mut usual = Usual::default();
    for sink in scanned(records, &scope, stop, UsualSink::default)? {
        usual.merge(sink.0);
    }
    Ok(usual)
}

/// Requests since a change was published.
fn watched(
    publication: &Publication,
    records: &Records,
    usual: &Arc<Usual>,
    stop: &AtomicBool,
) -> Result<FirstMinutes, StoreError> {
    /// Counts on one thread.
    struct FirstMinutesSink(FirstMinutes, Arc<Usual>);
    impl ScanSink for FirstMinutesSink {
        fn take(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, _: Place) {
            self.0.add(batch, row, texts, &self.1);
        }
    }
    let scope = Scope { from: Some(publication.made), ..Scope::default() };
    let begin = || FirstMinutesSink(FirstMinutes::default(), Arc::clone(usual));
    let mut watch = FirstMinutes::default();
    for sink in scanned(records, &scope, stop, begin)? {
        watch.merge(sink.0);
    }
    Ok(watch)
}

/// What sinks have taken of a scope, on one thread; nothing where it should stop.
fn scanned<S: ScanSink>(
    records: &Records,
    scope: &Scope,
    stop: &AtomicBool,
    begin: impl Fn() -> S + Sync,
) -> Result<Vec<S>, StoreError> {
    let goes_on = || if stop.load(Ordering::SeqCst) { Err(Ended::Stopped) } else { Ok(()) };
    let counting = Counting { begin_thread: step_back, most_threads: 1, remembers: true, goes_on: &goes_on };
    match scan(records, scope, FirstMinutes::projection(), &counting, begin) {
        Ok(sinks) => Ok(sinks),
        Err(Ended::Stopped) => Ok(Vec::new()),
        Err(Ended::Store(error)) => Err(error),
    }
}

/// What ends counting early.
#[derive(Debug)]
enum Ended {
    Stopped,
    Store(StoreError),
}

impl From<StoreError> for Ended {
    fn from(error: StoreError) -> Self {
        Ended::Store(error)
    }
}

fn scan<S: ScanSink, E: From<StoreError> + Send>(
    records: &Records,
    scope: &Scope,
    projection: Projection,
    counting: &Counting<'_, E>,
    begin: impl Fn() -> S + Sync,
) -> Result<Vec<S>, E> {
    let seen = records.snapshot().within(scope);
    let derive = Arc::new(Classifier { countries: None });
    let scan = Scan { scope, projection, derive };
    let (sinks, ..) = records.scan(&seen, &scan, counting, begin)?;
    Ok(sinks)
}

/// What became of a change that was published at an instant, as far as another one: milliseconds since 1970 UTC.
pub fn effect_of<E: From<StoreError> + Send>(
    promised: &RehearsalOutcome,
    published: i64,
    until: i64,
    records: &Records,
    counting: &Counting<'_, E>,
) -> Result<Table, E> {
    /// Counts on one thread.
    struct EffectSink(EffectTally);
    impl ScanSink for EffectSink {
        fn take(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, _: Place) {
            self.0.add(batch, row, texts);
        }
    }
    let begin = || EffectSink(EffectTally::new(promised, published, until));
    let (from, to) = begin().0.span();
    let scope = Scope { from: Some(from), until: Some(to), ..Scope::default() };
    let sinks = scan(records, &scope, EffectTally::projection(), counting, begin)?;
    let all = sinks.into_iter().map(|sink| sink.0).reduce(EffectTally::merge).unwrap_or_else(|| begin().0);
    Ok(all.table(promised))
}
