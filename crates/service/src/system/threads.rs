//! Threads and tasks that go on until they are told to end. A mistake of ours that ends one before that is written down, said
//! in the status of the service, and the thread goes on: nothing stops in silence.

use futures_util::FutureExt;
use parking_lot::{Mutex, MutexGuard};
use std::any::Any;
use std::collections::BTreeMap;
use std::future::Future;
use std::io;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::thread::JoinHandle;
use std::time::Duration;

/// How long the first pause before going on is, and the longest: each is twice the one before.
const FIRST_PAUSE: Duration = Duration::from_millis(250);
const LONGEST_PAUSE: Duration = Duration::from_secs(60);

/// Those that have failed since the process began.
static FAILED: Mutex<BTreeMap<String, Failed>> = Mutex::new(BTreeMap::new());

/// Those that go on, and what they say that they are at.
static RUNNING: Mutex<BTreeMap<String, (jiff::Timestamp, Option<String>)>> = Mutex::new(BTreeMap::new());

/// A thread or task that goes on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Job {
    /// What it is called.
    pub name: String,
    /// When it began.
    pub since: jiff::Timestamp,
    /// What it is at, where it says so.
    pub doing: Option<String>,
    /// How often it failed.
    pub failures: u64,
    /// What was said when it failed last.
    pub last_failure: Option<String>,
}

/// All that go on.
pub fn jobs() -> Vec<Job> {
    let failed = failed();
    let running = RUNNING.lock();
    let job = |(name, (since, doing)): (&String, &(jiff::Timestamp, Option<String>))| Job {
        name: name.clone(),
        since: *since,
        doing: doing.clone(),
        failures: failed.get(name).map_or(0, |failed| failed.times),
        last_failure: failed.get(name).map(|failed| failed.message.clone()),
    };
    running.iter().map(job).collect()
}

/// Says what the thread of a name is at; nothing when it waits.
pub fn doing(name: &str, words: Option<String>) {
    if let Some((_, doing)) = RUNNING.lock().get_mut(name) {
        *doing = words;
    }
}

/// A name among those that go on, for as long as it does.
struct Registration(String);

impl Registration {
    fn new(name: &str) -> Self {
        RUNNING.lock().insert(name.to_owned(), (jiff::Timestamp::now(), None));
        Registration(name.to_owned())
    }
}

impl Drop for Registration {
    fn drop(&mut self) {
        RUNNING.lock().remove(&self.0);
    }
}

struct Failed {
    times: u64,
    last: jiff::Timestamp,
    message: String,
}

/// Runs something on a thread of its own, again where it panics, until it ends by itself.
pub fn keep_on(name: &str, mut run: impl FnMut() + Send + 'static) -> io::Result<JoinHandle<()>> {
    let own = name.to_owned();
    std::thread::Builder::new().name(name.to_owned()).spawn(move || {
        let _registered = Registration::new(&own);
        let mut pause = FIRST_PAUSE;
        while let Err(panic) = catch_unwind(AssertUnwindSafe(&mut run)) {
            note(&own, panic.as_ref());
            std::thread::sleep(pause);
            pause = LONGEST_PAUSE.min(pause * 2);
        }
    })
}

/// Runs a task, again where it panics, until it ends by itself.
pub async fn keep_on_task<F: Future<Output = ()>>(name: &str, mut task: impl FnMut() -> F) {
    let _registered = Registration::new(name);
    let mut pause = FIRST_PAUSE;
    while let Err(panic) = AssertUnwindSafe(task()).catch_unwind().await {
        note(name, panic.as_ref());
        tokio::time::sleep(pause).await;
        pause = LONGEST_PAUSE.min(pause * 2);
    }
}

/// Writes down that something panicked which goes on.
pub fn note(name: &str, panic: &(dyn Any + Send)) {
    let text = panic.downcast_ref::<&str>().map(|text| (*text).to_owned());
    let message = text.or_else(|| panic.downcast_ref::<String>().cloned()).unwrap_or_default();
    tracing::error!("`{name}` failed and is restarted, which is a bug in this program: {message}");
    let mut failed = failed();
    let entry = failed.entry(name.to_owned()).or_insert(Failed {
        times: 0,
        last: jiff::Timestamp::UNIX_EPOCH,
        message: String::new(),
    });
    *entry = Failed { times: entry.times + 1, last: jiff::Timestamp::now(), message };
}

/// What has failed since the process began, in words.
pub fn troubles() -> Vec<String> {
    let words = |(name, Failed { times, last, message }): (&String, &Failed)| {
        let times = if *times == 1 { "once".to_owned() } else { format!("{times} times") };
        let last = last.round(jiff::Unit::Second).unwrap_or(*last);
        format!(
            "the thread `{name}` failed {times}, last at {last}, and was restarted: {message}; this is a bug in Exedra"
        )
    };
    failed().iter().map(words).collect()
}

fn failed() -> MutexGuard<'static, BTreeMap<String, Failed>> {
    FAILED.lock()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_panics_goes_on_and_is_told_of() {
        let mut left = 2;
        let thread = keep_on("tide tables", move || {
            left -= 1;
            assert!(left < 0, "no such tide: {left}");
        });
        thread.unwrap().join().unwrap();
        let told = troubles().into_iter().find(|words| words.contains("`tide tables`")).unwrap();
        assert!(told.contains("failed 2 times") && told.contains("no such tide: 0"), "{told}");
        assert!(!jobs().iter().any(|job| job.name == "tide tables"), "it has ended");
        assert!(!troubles().iter().any(|words| words.contains("`soundings`")));
        let runtime = tokio::runtime::Builder::new_current_thread().enable_time().build().unwrap();
        let mut tries = 0;
        runtime.block_on(keep_on_task("soundings", || {
            tries += 1;
            let sound = tries > 1;
            doing("soundings", Some("the inner harbour".to_owned()));
            let job = jobs().into_iter().find(|job| job.name == "soundings").unwrap();
            assert_eq!((job.doing.as_deref(), job.failures), (Some("the inner harbour"), tries - 1));
            async move { assert!(sound, "no ground") }
        }));
        assert!(troubles().iter().any(|words| words.contains("`soundings` failed once")));
    }
}
