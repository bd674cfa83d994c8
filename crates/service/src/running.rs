//! Starting everything in order, and stopping it in the reverse.
//!
//! Down: no new connections; requests under way finish; their lines are written; the lines are recorded.

use crate::Counters;
use crate::access_log::{AccessLog, NO_SITE};
use crate::connections::{Clock, Workers, accept};
use crate::console::{self, Console};
use crate::disk::Disk;
use crate::encodings::Encodings;
use crate::error_log::{ERRORS, ErrorLog};
use crate::ingest::Ingest;
use crate::journal::keeping::{Kept, look_after};
use crate::journal::{Journal, Opening};
use crate::preflight::{prefer_small_pages, raise_open_files};
use crate::site::Site;
use exedra_core::config::{Config, Keeping};
use exedra_core::logs::{Layout, LogTemplate};
use exedra_store::{Purpose, Records, Secrets, StoreError};
use std::io;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Sender, SyncSender, channel, sync_channel};
use std::thread::JoinHandle;
use thiserror::Error;
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio::task::JoinSet;

/// How long a sign-in link can be used, in seconds.
const LINK_TIME: i64 = 60 * 60;
/// How long a client's token can be used, in seconds: it is made anew at every start.
const TOKEN_TIME: i64 = 10 * 365 * 24 * 3600;
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
    /// A link that signs in once.
    pub sign_in: String,
    stop: watch::Sender<bool>,
    tasks: JoinSet<()>,
    workers: Vec<JoinHandle<()>>,
    journals: Vec<Arc<Journal>>,
    writers: Vec<JoinHandle<()>>,
    follower: (Arc<AtomicBool>, JoinHandle<()>),
    keeper: (Sender<()>, JoinHandle<()>),
}

/// Starts the service by a configuration that has been checked.
pub async fn start(config: Arc<Config>) -> Result<Running, StartError> {
    raise_open_files();
    prefer_small_pages();
    let state = &config.service.state.value;
    make_private_folder(state)?;
    make_folder(&config.service.logs.value)?;
    let secrets = Arc::new(Secrets::open(state)?);
    let records = Arc::new(Records::open(state)?);
    let counters = Arc::new(Counters::default());
    let clock = Clock::new();
    let disk = Disk::open(&config, Arc::clone(&clock));
    let disk = Arc::new(disk.map_err(|error| StartError::Path { path: state.clone(), error })?);
    disk.watch().map_err(|error| StartError::Path { path: state.clone(), error })?;
    let encodings = Encodings::open(state.join("encodings"), Arc::clone(&disk), &config);
    let encodings = encodings.map_err(|error| StartError::Path { path: state.join("encodings"), error })?;

    let mut sockets = Vec::new();
    for address in &config.listeners {
        sockets.push(bind("a listener", address.value).await?);
    }
    let console_socket = bind("the console", config.service.console.value).await?;
    let console = address_of(&console_socket, config.service.console.value);
    let listeners: Vec<SocketAddr> = sockets
        .iter()
        .zip(&config.listeners)
        .map(|(socket, wanted)| address_of(socket, wanted.value))
        .collect();

    let folder = &config.service.logs.value;
    let failed = |error| StartError::Path { path: folder.clone(), error };
    let (written, news) = sync_channel(1);
    let mut journals = Journals { config: &config, journals: Vec::new(), writers: Vec::new() };
    let mut logs = Vec::new();
    for site in &config.sites {
        let (layout, keeping) = (&site.log.layout, site.log.keeping);
        let journal = match site.log.write {
            true => Some(journals.open(&site.name.value, layout, keeping, Some(&written)).map_err(failed)?),
            false => None,
        };
        let template = LogTemplate::new(layout);
        logs.push(AccessLog { journal, template, masks_clients: site.log.masks_clients });
    }
    let full = Layout::full();
    let all_masked = config.sites.iter().all(|site| site.log.masks_clients);
    let no_site = AccessLog {
        journal: Some(journals.open(NO_SITE, &full, config.errors, Some(&written)).map_err(failed)?),
        template: LogTemplate::new(&full),
        masks_clients: all_masked,
    };
    let errors =
        ErrorLog { journal: journals.open(ERRORS, &Layout::bare(), config.errors, None).map_err(failed)? };
    drop(written);
    let Journals { journals, writers, .. } = journals;

    let layouts = config.sites.iter().map(|site| site.log.layout.clone()).chain([full]);
    let followed = logs.iter().chain([&no_site]).zip(layouts).filter_map(|(log, layout)| {
        let journal = log.journal.as_ref().filter(|_| config.service.records)?;
        Some((Arc::clone(journal), layout))
    });
    let followed: Vec<_> = followed.collect();
    let kept: Vec<Kept> = journals
        .iter()
        .map(|journal| {
            let is_followed = followed.iter().any(|(followed, _)| Arc::ptr_eq(followed, journal));
            Kept { journal: Arc::clone(journal), records: is_followed.then(|| Arc::clone(&records)) }
        })
        .collect();
    let ending = Arc::new(AtomicBool::new(false));
    let ingest = Ingest::new(Arc::clone(&records), followed, Arc::clone(&ending));
    let follower = std::thread::Builder::new().name("records".to_owned()).spawn(move || ingest.run(&news));
    let follower = (ending, follower.map_err(failed)?);
    let (stop_keeping, stop_kept) = channel();
    let keeper = std::thread::Builder::new().name("past logs".to_owned());
    let keeper = (stop_keeping, keeper.spawn(move || look_after(&kept, &stop_kept)).map_err(failed)?);

    let now = jiff::Timestamp::now().as_second();
    let token = secrets.make(Purpose::Token, now, now + TOKEN_TIME)?;
    write_private(&state.join(TOKEN_FILE), &token)?;
    let sign_in = sign_in_link(&secrets, console, now)?;

    let (stop, stopping) = watch::channel(false);
    let mut tasks = JoinSet::new();
    let site =
        Site { config: Arc::clone(&config), disk, encodings, logs, no_site, errors, counter: counters.add() };
    let count = std::thread::available_parallelism().map_or(1, usize::from);
    let (connections, workers) =
        Workers::start(count, &site, &counters, &clock, &stopping).map_err(failed)?;
    for socket in sockets {
        tasks.spawn(accept(socket, Arc::clone(&connections), stopping.clone()));
    }
    let shown = Console::new(Arc::new(site), counters, connections, records, secrets, listeners.clone());
    tasks.spawn(console::serve(console_socket, shown, stopping));
    Ok(Running { listeners, console, sign_in, stop, tasks, workers, journals, writers, follower, keeper })
}

/// The journals that have been opened.
struct Journals<'c> {
    config: &'c Config,
    journals: Vec<Arc<Journal>>,
    writers: Vec<JoinHandle<()>>,
}

impl Journals<'_> {
    fn open(
        &mut self,
        name: &str,
        layout: &Layout,
        keeping: Keeping,
        written: Option<&SyncSender<()>>,
    ) -> io::Result<Arc<Journal>> {
        let (journal, writer) = Journal::open(Opening {
            folder: &self.config.service.logs.value,
            name,
            heading: &layout.heading(),
            keeping,
            zone: self.config.service.time_zone.clone(),
            written: written.cloned(),
        })?;
        self.journals.push(Arc::clone(&journal));
        self.writers.push(writer);
        Ok(journal)
    }
}

impl Running {
    /// Looks whether the logs are still where they were, and begins new ones where they are not.
    pub fn reopen_logs(&self) {
        self.journals.iter().for_each(|journal| journal.reopen());
    }

    /// Stops, after finishing what is under way.
    pub async fn stop(mut self) {
        let _ = self.stop.send(true);
        while self.tasks.join_next().await.is_some() {}
        let Running {
            workers,
            journals,
            writers,
            follower: (ending, follower),
            keeper: (keeping, keeper),
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
            journals.iter().for_each(|journal| journal.stop());
            join(writers);
            ending.store(true, Ordering::SeqCst);
            drop(keeping);
            join(vec![follower, keeper]);
        });
        let _ = last.await;
    }
}

/// A link that signs in once, for whoever can read the state folder.
pub fn sign_in_link(secrets: &Secrets, console: SocketAddr, now: i64) -> Result<String, StoreError> {
    let key = secrets.make(Purpose::Link, now, now + LINK_TIME)?;
    Ok(format!("http://{console}/sign-in?key={key}"))
}

async fn bind(what: &'static str, address: SocketAddr) -> Result<TcpListener, StartError> {
    TcpListener::bind(address).await.map_err(|error| StartError::Listen { what, address, error })
}

fn address_of(socket: &TcpListener, wanted: SocketAddr) -> SocketAddr {
    socket.local_addr().unwrap_or(wanted)
}

fn make_folder(path: &Path) -> Result<(), StartError> {
    std::fs::create_dir_all(path).map_err(|error| StartError::Path { path: path.to_owned(), error })
}

/// A folder that only its owner can look into: it holds the databases and a token.
fn make_private_folder(path: &Path) -> Result<(), StartError> {
    use std::os::unix::fs::DirBuilderExt;
    std::fs::DirBuilder::new()
        .recursive(true)
        .mode(0o700)
        .create(path)
        .map_err(|error| StartError::Path { path: path.to_owned(), error })
}

fn write_private(path: &Path, text: &str) -> Result<(), StartError> {
    use std::io::Write;
    use std::os::unix::fs::OpenOptionsExt;
    let fresh = path.with_extension("new");
    let write = || -> io::Result<()> {
        let mut file =
            std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&fresh)?;
        file.write_all(text.as_bytes())?;
        std::fs::rename(&fresh, path)
    };
    write().map_err(|error| StartError::Path { path: path.to_owned(), error })
}
