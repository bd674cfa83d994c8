//! Starting everything in order, and stopping it in the reverse.
//!
//! Down: no new connections; requests under way finish; their lines are written; the lines are recorded.

use crate::access::certificates::obtaining::obtain_all;
use crate::connections::sockets::{HandedOver, become_user};
use crate::console::{self, Console};
use crate::control::StartError;
use crate::control::changes::Changes;
use crate::control::preflight::{prefer_small_pages, raise_open_files};
use crate::control::runtime::{LogsShared, Runtime};
use crate::jobs::messages::delivery;
use crate::jobs::{Jobs, Shared};
use crate::logs::closed_days::{self, keep_closed_days};
use crate::logs::ingest::Ingest;
use crate::logs::ingest::caught_up::CaughtUp;
use crate::logs::journal::keeping::look_after;
use crate::system::lock::{self, NoLock, StateLock};
use crate::system::threads::{keep_on, keep_on_task};
use crate::system::whole;
use exedra_answering::config::Config;
use exedra_store::{Holder, Purpose, Records, Revisions, Secrets, StoreError, Tallies};
use rustix::fs::Mode;
use std::io;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Sender, channel, sync_channel};
use std::thread::JoinHandle;
use std::time::Duration;
use tokio::net::TcpListener;

/// How long a sign-in link can be used, in seconds.
const LINK_TIME: i64 = 60 * 60;
/// How long a client's token can be used, in seconds. There is one at a time: it is made anew at every start, and long before
/// it ends.
const TOKEN_TIME: i64 = 48 * 3600;
/// After how long the next one is made.
const TOKEN_ROTATION: Duration = Duration::from_secs(24 * 3600);
/// After how long it is tried again when none could be made.
const TOKEN_AGAIN: Duration = Duration::from_secs(10);
/// File in the state folder that holds the token for clients on this machine.
pub const TOKEN_FILE: &str = "client.token";

/// The service while it runs.
pub struct Running {
    /// Addresses on which sites answer, as they came to be (port 0 is some free one).
    pub listeners: Vec<SocketAddr>,
    /// Where the console answers.
    pub console: SocketAddr,
    /// Whether it does by HTTPS.
    pub console_https: bool,
    /// A link that signs in once, where one could be made.
    pub sign_in: Option<String>,
    /// What brings changed configurations into force.
    pub changes: Arc<Changes>,
    runtime: Arc<Runtime>,
    workers: Vec<JoinHandle<()>>,
    follower: (Arc<AtomicBool>, JoinHandle<()>),
    keeper: (Sender<()>, JoinHandle<()>),
    counter: (Arc<AtomicBool>, JoinHandle<()>),
    jobs: Jobs,
    /// Held until everything has ended.
    lock: StateLock,
}

/// Starts the service by a configuration that has been checked, and that was read from a file.
pub async fn start(config: Config, file: &Path) -> Result<Running, StartError> {
    raise_open_files();
    prefer_small_pages();
    // Whatever is written, state and logs alike, is for the service's user alone.
    rustix::process::umask(Mode::RWXG | Mode::RWXO);
    let handed = HandedOver::take();
    let console_at = config.service.console.value;
    let is_secured = config.service.console_https;
    let failed = |error| StartError::Listen { what: "the console", address: console_at, error };
    let console_socket = handed.listen(console_at).and_then(TcpListener::from_std).map_err(failed)?;
    let console = console_socket.local_addr().unwrap_or(console_at);
    let early = listen_early(&config, &handed)?;
    if let Some(user) = &config.service.user {
        become_user(&user.value).map_err(|reason| StartError::User { user: user.value.clone(), reason })?;
    }
    early.into_iter().for_each(|socket| handed.give_back(socket));

    let state = &config.service.state.value.clone();
    make_private_folder(state)?;
    let lock = StateLock::of(state).map_err(|why| match why {
        NoLock::Taken(process) if process.is_empty() => {
            StartError::Taken { path: state.clone(), holder: String::new() }
        }
        NoLock::Taken(process) => {
            StartError::Taken { path: state.clone(), holder: format!(" (process {process})") }
        }
        NoLock::Failed(error) => StartError::Path { path: state.join(lock::FILE), error },
    })?;
    make_folder(&config.service.logs.value)?;
    let secrets = Arc::new(Secrets::open(state));
    let revisions = Revisions::open(state);
    let records = Arc::new(Records::open(state));
    let (written, news) = sync_channel(1);
    let (followed, more) = channel();
    let kept = Arc::default();
    let shared = LogsShared { written, followed, kept: Arc::clone(&kept) };
    let thread_failed = |error| StartError::Path { path: state.clone(), error };
    let runtime = Runtime::new(Arc::clone(&records), handed, shared);
    let runtime = runtime.map_err(|error| thread_failed(io::Error::other(error)))?;
    let changes = Arc::new(Changes::new(Arc::clone(&runtime), revisions, file));
    let workers = changes.begin(config)?;

    let ending = Arc::new(AtomicBool::new(false));
    let caught_up = Arc::new(CaughtUp::default());
    let mut ingest = Ingest::new(Arc::clone(&records), more, Arc::clone(&ending), Arc::clone(&caught_up));
    let follower = (ending, keep_on("records", move || ingest.run(&news)).map_err(thread_failed)?);
    let (stop_keeping, stop_kept) = channel();
    let keeper = keep_on("past logs", move || look_after(&kept, &stop_kept));
    let keeper = (stop_keeping, keeper.map_err(thread_failed)?);
    let stop_counting = Arc::new(AtomicBool::new(false));
    let stop_counted = Arc::clone(&stop_counting);
    let (counted, weak) = (Arc::clone(&records), Arc::downgrade(&runtime));
    let tallies = Tallies::open(state);
    // What a crash has left half done: before anybody asks.
    if let Err(error) = tallies.settle(|removal| records.has_removed(removal)) {
        tracing::error!("figures of days that have passed the retention cannot be settled: {error}");
    }
    let counter = keep_on(closed_days::NAME, move || {
        keep_closed_days(&counted, &tallies, || weak.upgrade()?.site(), &stop_counted);
    });
    let counter = (stop_counting, counter.map_err(thread_failed)?);
    let shared = Shared::new(&records, Tallies::open(state), caught_up, state);
    let weak = Arc::downgrade(&runtime);
    let address = console_address(console, is_secured);
    let take_back = {
        let (changes, handle) = (Arc::downgrade(&changes), tokio::runtime::Handle::current());
        move |revision| {
            let changes = changes.upgrade().ok_or_else(|| "the service is stopping".to_owned())?;
            // Sockets and tasks belong to the event loop.
            let _entered = handle.enter();
            changes.restore(revision).map(drop).map_err(|error| error.to_string())
        }
    };
    let jobs = Jobs::start(&shared, move || weak.upgrade()?.site(), address, state.clone(), take_back)
        .map_err(thread_failed)?;
    let (weak, waiting, stopping) =
        (Arc::downgrade(&runtime), Arc::clone(&shared.outbox), runtime.stop.subscribe());
    runtime.spawn(keep_on_task(delivery::NAME, move || {
        let weak = weak.clone();
        delivery::deliver(Arc::clone(&waiting), move || weak.upgrade()?.site(), stopping.clone())
    }));

    let now = jiff::Timestamp::now().as_second();
    // A state folder that is full or read-only keeps no site down.
    let mut token_is_made =
        complain("no token for clients on this machine", renew_token(&secrets, state)).is_some();
    let sign_in =
        complain("no sign-in link", sign_in_link(&secrets, &console_address(console, is_secured), now));
    let listeners = runtime.addresses();
    let (renewed, state_folder) = (Arc::clone(&secrets), state.clone());
    let mut ends = runtime.stop.subscribe();
    runtime.spawn(async move {
        loop {
            let pause = if token_is_made { TOKEN_ROTATION } else { TOKEN_AGAIN };
            tokio::select! {
                () = tokio::time::sleep(pause) => {}
                _ = ends.wait_for(|stop| *stop) => return,
            }
            let (secrets, state) = (Arc::clone(&renewed), state_folder.clone());
            let made = tokio::task::spawn_blocking(move || renew_token(&secrets, &state)).await;
            let made = made.map_err(io::Error::other);
            token_is_made = complain("no new token for clients on this machine", made)
                .is_some_and(|made| complain("no new token for clients on this machine", made).is_some());
        }
    });
    let shown = Console::new(Arc::clone(&runtime), Arc::clone(&changes), records, secrets, shared, state);
    runtime.spawn(console::serve(console_socket, shown, runtime.stop.subscribe()));
    let (weak, tokens) = (Arc::downgrade(&runtime), Arc::clone(&runtime.tokens));
    let mut stopping = runtime.stop.subscribe();
    runtime.spawn(async move {
        let config = || Some(Arc::clone(&weak.upgrade()?.site()?.config));
        tokio::select! {
            () = obtain_all(config, tokens) => {}
            _ = stopping.wait_for(|stop| *stop) => {}
        }
    });
    Ok(Running {
        listeners,
        console,
        console_https: is_secured,
        sign_in,
        changes,
        runtime,
        workers,
        follower,
        keeper,
        counter,
        jobs,
        lock,
    })
}

/// Listens before privileges are dropped: ports below 1024 need them.
fn listen_early(config: &Config, handed: &HandedOver) -> Result<Vec<std::net::TcpListener>, StartError> {
    let privileged = config.service.user.is_some();
    let addresses = config.listeners.iter().map(|listener| listener.address.value).filter(|_| privileged);
    addresses
        .map(|address| {
            let failed = |error| StartError::Listen { what: "a listener", address, error };
            handed.listen(address).map_err(failed)
        })
        .collect()
}

impl Running {
    /// Looks whether the logs are still where they were, and begins new ones where they are not.
    pub fn reopen_logs(&self) {
        self.runtime.reopen_logs();
    }

    /// Stops, after finishing what is under way.
    pub async fn stop(self) {
        let _ = self.runtime.stop.send(true);
        self.runtime.wait().await;
        let Running {
            runtime,
            workers,
            follower: (ending, follower),
            keeper: (keeping, keeper),
            counter: (counting, counter),
            jobs,
            lock,
            ..
        } = self;
        let last = tokio::task::spawn_blocking(move || {
            let join = |threads: Vec<JoinHandle<()>>| {
                for thread in threads {
                    // One that panicked has said so already.
                    let _ = thread.join();
                }
            };
            join(workers);
            runtime.close_logs();
            ending.store(true, Ordering::SeqCst);
            drop(keeping);
            counting.store(true, Ordering::SeqCst);
            jobs.stop();
            counter.thread().unpark();
            join(vec![follower, keeper, counter]);
            drop(lock);
        });
        let _ = last.await;
    }
}

/// Makes the token for clients on this machine, whose file only the owner of the state can read. The one before opens
/// nothing any longer.
pub fn renew_token(secrets: &Secrets, state: &Path) -> Result<(), StartError> {
    let now = jiff::Timestamp::now().as_second();
    let token = secrets.replace_own_token(now, now + TOKEN_TIME)?;
    write_private(&state.join(TOKEN_FILE), &token)
}

/// Says that something could not be made, and why.
fn complain<T, E: std::fmt::Display>(what: &str, made: Result<T, E>) -> Option<T> {
    made.inspect_err(|error| tracing::error!("{what} could be made: {error}")).ok()
}

/// A link that signs in once, for whoever can read the state folder.
pub fn sign_in_link(secrets: &Secrets, console: &str, now: i64) -> Result<String, StoreError> {
    let key = secrets.make(Purpose::Link, &Holder::this_machine(), now, now + LINK_TIME)?;
    Ok(format!("{console}/sign-in?key={key}"))
}

/// Where the console is found: an address as browsers take it.
pub fn console_address(console: SocketAddr, is_secured: bool) -> String {
    format!("{}://{console}", if is_secured { "https" } else { "http" })
}

fn make_folder(path: &Path) -> Result<(), StartError> {
    std::fs::create_dir_all(path).map_err(|error| StartError::Path { path: path.to_owned(), error })
}

/// A folder that only its owner can look into: it holds the databases and a token.
fn make_private_folder(path: &Path) -> Result<(), StartError> {
    whole::make_private_folder(path).map_err(|error| StartError::Path { path: path.to_owned(), error })
}

fn write_private(path: &Path, text: &str) -> Result<(), StartError> {
    whole::write_private(path, text).map_err(|error| StartError::Path { path: path.to_owned(), error })
}
