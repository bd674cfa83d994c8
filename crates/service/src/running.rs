//! Starting everything in order, and stopping it in the reverse.
//!
//! Down: no new connections; requests under way finish; their lines are written; the lines are recorded.

use crate::certificates::obtaining::obtain_all;
use crate::changes::Changes;
use crate::console::{self, Console};
use crate::house::{House, LogsShared};
use crate::ingest::Ingest;
use crate::journal::keeping::look_after;
use crate::lock::{self, NoLock, StateLock};
use crate::preflight::{prefer_small_pages, raise_open_files};
use crate::sockets::{HandedOver, become_user};
use crate::threads::keep_on;
use crate::whole;
use exedra_core::config::Config;
use exedra_store::{Purpose, Records, Revisions, Secrets, StoreError};
use rustix::fs::Mode;
use std::io;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Sender, channel, sync_channel};
use std::thread::JoinHandle;
use std::time::Duration;
use thiserror::Error;
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

/// Why the service could not start.
#[derive(Debug, Error)]
pub enum StartError {
    /// An address cannot be had.
    #[error("{what} cannot listen on {address}: {error}{}", remedy(error))]
    Listen {
        /// Who wants it.
        what: &'static str,
        /// The address.
        address: SocketAddr,
        /// What the system says.
        error: io::Error,
    },
    /// A folder or file cannot be used.
    #[error("{} cannot be used: {error}", path.display())]
    Path {
        /// Which one.
        path: PathBuf,
        /// What the system says.
        error: io::Error,
    },
    /// The system gives this process too few descriptors.
    #[error(
        "this process may have {all} descriptors (connections, files, logs), and needs {needed} at least: raise the limit, as by `ulimit -n {needed}` or LimitNOFILE={needed}"
    )]
    Descriptors {
        /// How many it may have.
        all: usize,
        /// How many it needs.
        needed: usize,
    },
    /// The service cannot become somebody else.
    #[error("the service cannot become `{user}`: {reason}")]
    User {
        /// Whom.
        user: String,
        /// Why not.
        reason: String,
    },
    /// Another service has the state folder.
    #[error(
        "{} belongs to another Exedra that is running{holder}: stop that one, or name another `state` in this configuration",
        path.display()
    )]
    Taken {
        /// The folder.
        path: PathBuf,
        /// Which process it is, in words.
        holder: String,
    },
    /// A database cannot be used.
    #[error(transparent)]
    Store(#[from] StoreError),
}

fn remedy(error: &io::Error) -> &'static str {
    match error.kind() {
        io::ErrorKind::AddrInUse => "; another program has it, perhaps another Exedra: choose another port",
        io::ErrorKind::PermissionDenied => "; ports below 1024 need privileges",
        _ => "",
    }
}

/// The service while it runs.
pub struct Running {
    /// Addresses on which sites answer, as they came to be (port 0 is some free one).
    pub listeners: Vec<SocketAddr>,
    /// Where the console answers.
    pub console: SocketAddr,
    /// A link that signs in once, where one could be made.
    pub sign_in: Option<String>,
    /// What brings changed configurations into force.
    pub changes: Arc<Changes>,
    house: Arc<House>,
    workers: Vec<JoinHandle<()>>,
    follower: (Arc<AtomicBool>, JoinHandle<()>),
    keeper: (Sender<()>, JoinHandle<()>),
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
    let console_address = config.service.console.value;
    let failed = |error| StartError::Listen { what: "the console", address: console_address, error };
    let console_socket = handed.listen(console_address).and_then(TcpListener::from_std).map_err(failed)?;
    let console = console_socket.local_addr().unwrap_or(console_address);
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
    let house = House::new(Arc::clone(&records), handed, shared);
    let house = house.map_err(|error| thread_failed(io::Error::other(error)))?;
    let changes = Arc::new(Changes::new(Arc::clone(&house), revisions, file));
    let workers = changes.begin(config)?;

    let ending = Arc::new(AtomicBool::new(false));
    let mut ingest = Ingest::new(Arc::clone(&records), more, Arc::clone(&ending));
    let follower = (ending, keep_on("records", move || ingest.run(&news)).map_err(thread_failed)?);
    let (stop_keeping, stop_kept) = channel();
    let keeper = keep_on("past logs", move || look_after(&kept, &stop_kept));
    let keeper = (stop_keeping, keeper.map_err(thread_failed)?);

    let now = jiff::Timestamp::now().as_second();
    // A state folder that is full or read-only keeps no site down.
    let mut token_is_made =
        complain("no token for clients on this machine", renew_token(&secrets, state)).is_some();
    let sign_in = complain("no sign-in link", sign_in_link(&secrets, console, now));
    let listeners = house.addresses();
    let (renewed, state_folder) = (Arc::clone(&secrets), state.clone());
    let mut ends = house.stop.subscribe();
    house.spawn(async move {
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
    let shown = Console::new(Arc::clone(&house), Arc::clone(&changes), records, secrets);
    house.spawn(console::serve(console_socket, shown, house.stop.subscribe()));
    let (weak, tokens) = (Arc::downgrade(&house), Arc::clone(&house.tokens));
    let mut stopping = house.stop.subscribe();
    house.spawn(async move {
        let config = || Some(Arc::clone(&weak.upgrade()?.site()?.config));
        tokio::select! {
            () = obtain_all(config, tokens) => {}
            _ = stopping.wait_for(|stop| *stop) => {}
        }
    });
    Ok(Running { listeners, console, sign_in, changes, house, workers, follower, keeper, lock })
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
        self.house.reopen_logs();
    }

    /// Stops, after finishing what is under way.
    pub async fn stop(self) {
        let _ = self.house.stop.send(true);
        self.house.wait().await;
        let Running { house, workers, follower: (ending, follower), keeper: (keeping, keeper), lock, .. } =
            self;
        let last = tokio::task::spawn_blocking(move || {
            let join = |threads: Vec<JoinHandle<()>>| {
                for thread in threads {
                    // One that panicked has said so already.
                    let _ = thread.join();
                }
            };
            join(workers);
            house.close_logs();
            ending.store(true, Ordering::SeqCst);
            drop(keeping);
            join(vec![follower, keeper]);
            drop(lock);
        });
        let _ = last.await;
    }
}

/// Makes the token for clients on this machine, whose file only the owner of the state can read. The one before opens
/// nothing any longer.
pub fn renew_token(secrets: &Secrets, state: &Path) -> Result<(), StartError> {
    let now = jiff::Timestamp::now().as_second();
    let token = secrets.replace(Purpose::Token, now, now + TOKEN_TIME)?;
    write_private(&state.join(TOKEN_FILE), &token)
}

/// Says that something could not be made, and why.
fn complain<T, E: std::fmt::Display>(what: &str, made: Result<T, E>) -> Option<T> {
    made.inspect_err(|error| tracing::error!("{what} could be made: {error}")).ok()
}

/// A link that signs in once, for whoever can read the state folder.
pub fn sign_in_link(secrets: &Secrets, console: SocketAddr, now: i64) -> Result<String, StoreError> {
    let key = secrets.make(Purpose::Link, now, now + LINK_TIME)?;
    Ok(format!("http://{console}/sign-in?key={key}"))
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
