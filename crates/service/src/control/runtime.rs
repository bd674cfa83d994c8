//! What stays while configurations come and go: sockets, workers, logs, records, and what is known of clients.
//!
//! [`Runtime::change`] brings a configuration into force. Everything that it needs is opened first; only when all of that
//! has worked do workers get it, all of them between two requests. Requests under way finish by what they began with.
//! Listeners that stay keep their sockets, sites that stay keep their logs and what is remembered of their files.

use super::start_error::StartError;
use crate::access::allowance::AllowanceGate;
use crate::access::certificates::Certificates;
use crate::access::certificates::obtaining::Tokens;
use crate::access::countries;
use crate::access::descriptors::{self, Division, OpenFiles};
use crate::access::guards::Guards;
use crate::access::guards::login_throttle::LoginThrottle;
use crate::access::limits::Limits;
use crate::active::trials::Trials;
use crate::active::{Active, Fired, Tls};
use crate::connections::sockets::HandedOver;
use crate::connections::{ListenerOptions, Workers, accept};
use crate::content::disk::Disk;
use crate::content::encodings::Encodings;
use crate::content::folders::Folders;
use crate::content::thread_cache::CacheOwner;
use crate::control::explaining::real::Explainer;
use crate::logs::access_log::{AccessLog, NO_SITE};
use crate::logs::error_log::{ERRORS, ErrorLog};
use crate::logs::journal::generations::Listing;
use crate::logs::journal::keeping::Kept;
use crate::logs::journal::thread::LogThread;
use crate::logs::journal::{Appender, Journal};
use crate::system::Clock;
use crate::system::Counters;
use crate::system::background::step_back;
use crate::system::threads::{keep_on, keep_on_task};
use exedra_answering::config::{Config, Keeping, Limits as ConfigLimits, Listener, Log};
use exedra_reading::logs::{Layout, LogTemplate};
use exedra_store::Records;
use parking_lot::Mutex;
use rustls::server::ProducesTickets;
use std::collections::HashMap;
use std::future::Future;
use std::io;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{Sender, SyncSender};
use std::thread::JoinHandle;
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio::task::JoinSet;

/// Everything that stays.
pub struct Runtime {
    /// What is counted.
    pub counters: Arc<Counters>,
    /// The records.
    pub records: Arc<Records>,
    /// The sockets that were handed over.
    pub handed: HandedOver,
    /// What happens while the service stops.
    pub stop: watch::Sender<bool>,
    clock: Arc<Clock>,
    tickets: Arc<dyn ProducesTickets>,
    limits: Arc<Limits>,
    open_files: Arc<OpenFiles>,
    throttle: Arc<LoginThrottle>,
    /// What authorities are told that are asked for certificates.
    pub tokens: Arc<Tokens>,
    trials: Arc<Trials>,
    journals: Mutex<Journals>,
    open_listeners: Mutex<Vec<OpenListener>>,
    tasks: Mutex<JoinSet<()>>,
    /// What is in force. Held for a look only.
    site: Mutex<Option<Arc<Active>>>,
    /// Held by whoever brings another configuration into force, which takes its time.
    changing: Mutex<()>,
    workers: Mutex<Option<Arc<Workers>>>,
}

/// All logs that are written.
struct Journals {
    /// Those of sites that are gone too: they may come back.
    open: HashMap<String, Arc<Journal>>,
    /// Who writes them.
    thread: Arc<LogThread>,
    /// Told when lines have reached a file; gone when the service stops.
    written: Option<SyncSender<()>>,
    followed: Sender<(Arc<Journal>, Layout)>,
    kept: Arc<Mutex<Vec<Kept>>>,
    records: Arc<Records>,
}

/// A socket on which connections come in.
struct OpenListener {
    listener: Listener,
    address: SocketAddr,
    options: watch::Sender<ListenerOptions>,
    close: watch::Sender<bool>,
}

/// What the threads that read logs and look after them share with the runtime.
pub struct LogsShared {
    /// Told when lines have reached a file.
    pub written: SyncSender<()>,
    /// Logs that are followed.
    pub followed: Sender<(Arc<Journal>, Layout)>,
    /// Logs whose past is looked after.
    pub kept: Arc<Mutex<Vec<Kept>>>,
}

impl Runtime {
    /// A runtime in which nothing is in force yet.
    pub fn new(
        records: Arc<Records>,
        handed: HandedOver,
        shared: LogsShared,
    ) -> Result<Arc<Self>, rustls::Error> {
        let journals = Journals {
            open: HashMap::new(),
            thread: Arc::default(),
            written: Some(shared.written),
            followed: shared.followed,
            kept: shared.kept,
            records: Arc::clone(&records),
        };
        let trials = Arc::new(Trials::default());
        trials.explained_by(Box::new(Explainer));
        Ok(Arc::new(Runtime {
            counters: Arc::default(),
            records,
            handed,
            stop: watch::channel(false).0,
            clock: Clock::new(),
            tickets: rustls::crypto::ring::Ticketer::new()?,
            limits: Arc::default(),
            open_files: Arc::default(),
            throttle: Arc::default(),
            tokens: Arc::default(),
            trials,
            journals: Mutex::new(journals),
            open_listeners: Mutex::default(),
            tasks: Mutex::default(),
            site: Mutex::default(),
            changing: Mutex::default(),
            workers: Mutex::default(),
        }))
    }

    /// What is in force.
    pub fn site(&self) -> Option<Arc<Active>> {
        self.site.lock().clone()
    }

    /// Connections that are open.
    pub fn connections(&self) -> u64 {
        self.workers.lock().as_ref().map_or(0, |workers| workers.open())
    }

    /// The workers, once there are any.
    #[cfg(test)]
    pub fn workers(&self) -> Option<Arc<Workers>> {
        self.workers.lock().clone()
    }

    /// Addresses on which sites answer, as they came to be.
    pub fn addresses(&self) -> Vec<SocketAddr> {
        self.open_listeners.lock().iter().map(|open| open.address).collect()
    }

    /// Brings a configuration into force, or leaves everything as it is. Gives the threads of the workers, which the
    /// first configuration starts.
    pub fn change(&self, config: Config) -> Result<Vec<JoinHandle<()>>, StartError> {
        // One after the other: whoever changes holds this until it is done.
        let _changing = self.changing.lock();
        let in_force = self.site();
        let config = Arc::new(config);
        let state = &config.service.state.value;
        let failed = |path: &Path, error| StartError::Path { path: path.to_owned(), error };

        let division = self.divide(&config)?;
        let fresh_sockets = self.open_sockets(&config)?;
        let before = in_force.as_deref();
        let disk = match before.map(|site| &site.disk).filter(|disk| disk.is_of(&config)) {
            Some(disk) => Arc::clone(disk),
            None => {
                let disk =
                    Disk::open(&config, Arc::clone(&self.clock)).map_err(|error| failed(state, error))?;
                disk.watch().map_err(|error| failed(state, error))?;
                Arc::new(disk)
            }
        };
        let same = before.filter(|site| Arc::ptr_eq(&site.disk, &disk)).map(|site| &site.encodings);
        let encodings = match same.filter(|encodings| encodings.is_of(&config)) {
            Some(encodings) => Arc::clone(encodings),
            None => {
                let folder = state.join("encodings");
                let opened = Encodings::open(folder.clone(), Arc::clone(&disk), &config);
                opened.map_err(|error| failed(&folder, error))?
            }
        };
        let countries = match &config.service.countries {
            None => None,
            Some(path) => {
                let opened = countries::open(&path.value).map_err(io::Error::other);
                Some(Arc::new(opened.map_err(|error| failed(&path.value, error))?))
            }
        };
        let is_secured =
            config.service.console_https || config.listeners.iter().any(|listener| listener.https);
        let tls = match is_secured {
            false => None,
            true => {
                let certificates = Certificates::open(&config);
                let failed = |error| failed(state, io::Error::other(error));
                let server = certificates.server(&self.tickets, &["h2", "http/1.1"]).map_err(failed)?;
                let console = certificates.server(&self.tickets, &["http/1.1"]).map_err(failed)?;
                Some(Tls { certificates, server, console })
            }
        };
        // Where nothing has changed, counting goes on.
        let texts = |config: &Config| -> Vec<Arc<String>> {
            config.sources.files().iter().map(|file| Arc::clone(&file.text)).collect()
        };
        let fired = match before.filter(|site| texts(&site.config) == texts(&config)) {
            Some(site) => Arc::clone(&site.fired),
            None => Arc::new(Fired::new(&config)),
        };
        let folder = &config.service.logs.value;
        let (logs, no_site, errors) = self.open_logs(&config).map_err(|error| failed(folder, error))?;
        let site = Arc::new(Active {
            disk,
            folders: Arc::new(Folders::new()),
            encodings,
            guards: Arc::new(Guards::new(&config, Arc::clone(&self.throttle))),
            limits: Arc::clone(&self.limits),
            allowance: Arc::new(AllowanceGate::new(&config)),
            countries,
            tls,
            tokens: Arc::clone(&self.tokens),
            trials: Arc::clone(&self.trials),
            fired,
            logs,
            no_site,
            errors,
            division,
            open_files: Arc::clone(&self.open_files),
            counter: before.map_or_else(|| self.counters.add(), |site| Arc::clone(&site.counter)),
            owner: CacheOwner::another(),
            config: Arc::clone(&config),
        });
        let threads = self.employ(&site).map_err(|error| failed(state, error))?;
        let looked_at = Arc::downgrade(&site);
        let look = move || {
            step_back();
            if let Some(site) = looked_at.upgrade() {
                site.folders.look_at_all(&site.disk, &site.config);
            }
        };
        keep_on("folders", look).map_err(|error| failed(state, error))?;
        self.open_files.allow(division.files);
        *self.site.lock() = Some(site);
        self.change_listeners(&config, fresh_sockets);
        Ok(threads)
    }

    /// Divides the descriptors among all who need some.
    fn divide(&self, config: &Config) -> Result<Division, StartError> {
        let wanted = usize::try_from(config.limits.connections).unwrap_or(usize::MAX);
        let (all, workers) = (descriptors::available(), worker_count());
        let division = descriptors::divide(all, config.sites.len(), workers, wanted)
            .map_err(|needed| StartError::Descriptors { all, needed })?;
        let is_asked_for = config.limits.connections != ConfigLimits::default().connections;
        if division.connections < wanted && is_asked_for {
            tracing::warn!(
                "this process may have {all} descriptors: {} connections fit, not {wanted}",
                division.connections
            );
        }
        Ok(division)
    }

    /// Has the workers answer by a configuration; the first starts them.
    fn employ(&self, site: &Arc<Active>) -> io::Result<Vec<JoinHandle<()>>> {
        let mut workers = self.workers.lock();
        if let Some(workers) = workers.as_ref() {
            workers.change(site);
            return Ok(Vec::new());
        }
        let count = worker_count();
        let stop = self.stop.subscribe();
        let (started, threads) = Workers::start(count, site, &self.counters, &self.clock, &stop)?;
        *workers = Some(started);
        Ok(threads)
    }

    /// Opens the sockets that a configuration asks for and that are not open yet.
    fn open_sockets(&self, config: &Config) -> Result<Vec<(Listener, TcpListener)>, StartError> {
        let mut open: Vec<SocketAddr> =
            self.open_listeners.lock().iter().map(|open| open.listener.address.value).collect();
        let mut fresh = Vec::new();
        for listener in &config.listeners {
            let address = listener.address.value;
            if let Some(nth) = open.iter().position(|known| *known == address) {
                open.swap_remove(nth);
                continue;
            }
            let failed = |error| StartError::Listen { what: "a listener", address, error };
            let socket = self.handed.listen(address).and_then(TcpListener::from_std).map_err(failed)?;
            fresh.push((listener.clone(), socket));
        }
        Ok(fresh)
    }

    /// Lets connections in by the new sockets, and by those that stay in the manner that is asked for now; closes the others.
    fn change_listeners(&self, config: &Config, fresh: Vec<(Listener, TcpListener)>) {
        let (mut open_listeners, workers) = (self.open_listeners.lock(), self.workers.lock().clone());
        let Some(workers) = workers else { return };
        let mut before: Vec<OpenListener> = open_listeners.drain(..).collect();
        let mut fresh = fresh.into_iter();
        for listener in &config.listeners {
            let options = ListenerOptions { https: listener.https, announced: listener.announced };
            let known = before.iter().position(|open| open.listener.address.value == listener.address.value);
            if let Some(nth) = known {
                let mut kept = before.remove(nth);
                kept.options.send_replace(options);
                kept.listener = listener.clone();
                open_listeners.push(kept);
                continue;
            }
            let Some((listener, socket)) = fresh.next() else { continue };
            let address = socket.local_addr().unwrap_or(listener.address.value);
            let (options, changing) = watch::channel(options);
            let (close, closing) = watch::channel(false);
            let mut stop = self.stop.subscribe();
            let close_too = close.clone();
            let mut tasks = self.tasks.lock();
            let workers = Arc::clone(&workers);
            tasks.spawn(async move {
                let accept = || accept(&socket, Arc::clone(&workers), changing.clone(), closing.clone());
                keep_on_task(&format!("listener {address}"), accept).await;
            });
            tasks.spawn(async move {
                // It is closed by itself, or with the service.
                tokio::select! {
                    _ = stop.wait_for(|stop| *stop) => { let _ = close_too.send(true); }
                    () = close_too.closed() => {}
                }
            });
            open_listeners.push(OpenListener { listener, address, options, close });
        }
        for gone in before {
            let _ = gone.close.send(true);
        }
    }

    /// The logs of a configuration. Sites that stay keep theirs, and go on in the same file if its lines look the same.
    fn open_logs(&self, config: &Config) -> io::Result<(Vec<AccessLog>, AccessLog, ErrorLog)> {
        let mut journals = self.journals.lock();
        // A folder that is not there is made with the first file.
        let listing = match Listing::of(&config.service.logs.value) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Listing::default(),
            listed => listed?,
        };
        let mut logs = Vec::new();
        for site in &config.sites {
            let Log { write, layout, masks_clients, keeping } = &site.log;
            let appender = match write {
                true => Some(journals.open(config, &listing, &site.name.value, layout, *keeping, true)?),
                false => None,
            };
            let template = LogTemplate::new(layout);
            logs.push(AccessLog { appender, template, masks_clients: *masks_clients });
        }
        let full = Layout::full();
        let appender = journals.open(config, &listing, NO_SITE, &full, config.errors, true)?;
        let masks_clients = config.sites.iter().all(|site| site.log.masks_clients);
        let no_site =
            AccessLog { appender: Some(appender), template: LogTemplate::new(&full), masks_clients };
        let appender = journals.open(config, &listing, ERRORS, &Layout::bare(), config.errors, false)?;
        Ok((logs, no_site, ErrorLog { appender }))
    }

    /// Looks whether the logs are still where they were, and begins new ones where they are not.
    pub fn reopen_logs(&self) {
        self.journals.lock().open.values().for_each(|journal| journal.reopen());
    }

    /// What runs until the service stops, besides.
    pub fn spawn(&self, task: impl Future<Output = ()> + Send + 'static) {
        self.tasks.lock().spawn(task);
    }

    /// Waits until everything that was spawned has ended.
    pub async fn wait(&self) {
        let mut tasks = std::mem::take(&mut *self.tasks.lock());
        while tasks.join_next().await.is_some() {}
    }

    /// Has everything written that waits, and ends the threads that write.
    pub fn close_logs(&self) {
        let mut journals = self.journals.lock();
        journals.open.values().for_each(|journal| journal.close());
        journals.written = None;
    }
}

impl Journals {
    /// What is written with in the log of a name.
    fn open(
        &mut self,
        config: &Config,
        listing: &Listing,
        name: &str,
        layout: &Layout,
        keeping: Keeping,
        holds_requests: bool,
    ) -> io::Result<Arc<Appender>> {
        let zone = config.service.time_zone.clone();
        let written = self.written.clone().filter(|_| holds_requests);
        if let Some(journal) = self.open.get(name) {
            journal.follow(keeping, zone);
            return journal.appender(layout, written);
        }
        let folder = &config.service.logs.value;
        let thread = Arc::clone(&self.thread);
        let journal = Journal::open_listed(folder, listing, name, keeping, zone, thread)?;
        let appender = journal.appender(layout, written)?;
        let is_followed = holds_requests && config.service.records;
        if is_followed {
            // When nobody follows any longer, the service is about to stop.
            let _ = self.followed.send((Arc::clone(&journal), layout.clone()));
        }
        let records = is_followed.then(|| Arc::clone(&self.records));
        self.kept.lock().push(Kept { journal: Arc::clone(&journal), records });
        self.open.insert(name.to_owned(), journal);
        Ok(appender)
    }
}

/// How many threads answer requests.
fn worker_count() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{ONE_SITE, TestService, read_until, until};
    use std::io::Write;
    use std::net::TcpStream;

    const LAMP: &str = "[[site]]\nname = \"lamp\"\nhosts = [\"lamp.example\"]\nfolder = \"lamp\"\n";

    #[test]
    fn a_connection_outlives_changes_and_each_request_is_answered_by_what_is_in_force() {
        let mut service = TestService::new(ONE_SITE);
        service.write("lamp/index.html", "<h1>Lamp</h1>");
        let mut socket = service.connect(0);
        let mut ask = |host: &str, end: &str| {
            write!(socket, "GET / HTTP/1.1\r\nHost: {host}\r\n\r\n").unwrap();
            read_until(&mut socket, end)
        };
        assert!(ask("harbour.example", "<h1>Harbour</h1>").starts_with("HTTP/1.1 200"));
        assert!(ask("lamp.example", "</html>\n").starts_with("HTTP/1.1 421"));
        service.change(&format!("{ONE_SITE}{LAMP}")).unwrap();
        assert!(ask("lamp.example", "<h1>Lamp</h1>").starts_with("HTTP/1.1 200"));
        assert!(ask("harbour.example", "<h1>Harbour</h1>").starts_with("HTTP/1.1 200"));
        assert_eq!(service.runtime.connections(), 1);
    }

    #[test]
    fn what_cannot_be_opened_leaves_everything_as_it_is() {
        let mut service = TestService::new(ONE_SITE);
        let (before, addresses) = (service.active(), service.runtime.addresses());
        let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let more = format!("[[listener]]\naddress = \"{}\"\n{ONE_SITE}", taken.local_addr().unwrap());
        assert!(matches!(service.change(&more), Err(StartError::Listen { what: "a listener", .. })));
        let nowhere = format!("[service]\ncountries = \"nowhere.mmdb\"\n{ONE_SITE}");
        assert!(matches!(service.change(&nowhere), Err(StartError::Path { .. })));
        assert!(Arc::ptr_eq(&service.active(), &before));
        assert_eq!(service.runtime.addresses(), addresses);
        assert!(service.get(0, "harbour.example", "/").contains("Harbour"));
    }

    #[test]
    fn listeners_come_and_go_while_others_stay() {
        let mut service = TestService::new(ONE_SITE);
        let first = service.runtime.addresses();
        // Another address of this machine, so that any port will do.
        service.change(&format!("[[listener]]\naddress = \"127.0.0.2:0\"\n{ONE_SITE}")).unwrap();
        let both = service.runtime.addresses();
        assert_eq!((both.len(), both[1]), (2, first[0]));
        assert!(service.get(0, "harbour.example", "/").contains("Harbour"));
        service.change(ONE_SITE).unwrap();
        assert_eq!(service.runtime.addresses(), first);
        until("the listener is closed", || TcpStream::connect(both[0]).is_err());
        assert!(service.get(0, "harbour.example", "/").contains("Harbour"));
    }

    #[test]
    fn what_stays_the_same_is_kept_and_only_what_changes_is_opened_anew() {
        let mut service =
            TestService::new(&format!("{ONE_SITE}[[site.rules]]\npath = \"/old\"\ngone = true\n"));
        assert!(service.get(0, "harbour.example", "/old").starts_with("HTTP/1.1 410"));
        let before = service.active();
        let fired = |active: &Active| active.fired.times(exedra_answering::config::SiteId(0), 0);
        until("the rule is counted", || fired(&before) == 1);

        service.change(&format!("{ONE_SITE}[[site.rules]]\npath = \"/old\"\ngone = true\n")).unwrap();
        let same = service.active();
        assert!(Arc::ptr_eq(&same.disk, &before.disk) && Arc::ptr_eq(&same.encodings, &before.encodings));
        assert_eq!(fired(&same), 1, "nothing has changed: counting goes on");

        let changed = format!(
            "{ONE_SITE}[site.compress]\ncodecs = [\"gzip\"]\n[[site.rules]]\npath = \"/old\"\ngone = true\n"
        );
        service.change(&changed).unwrap();
        let other = service.active();
        assert!(Arc::ptr_eq(&other.disk, &before.disk));
        assert!(!Arc::ptr_eq(&other.encodings, &before.encodings), "other codecs");
        assert_eq!(fired(&other), 0, "the rules may be others");

        service.write("elsewhere/index.html", "<h1>Elsewhere</h1>");
        service.change(&ONE_SITE.replace("folder = \"harbour\"", "folder = \"elsewhere\"")).unwrap();
        assert!(!Arc::ptr_eq(&service.active().disk, &before.disk));
        assert!(service.get(0, "harbour.example", "/").contains("Elsewhere"));
    }

    #[test]
    fn logs_of_sites_that_stay_go_on_in_the_same_file() {
        let mut service = TestService::new(ONE_SITE);
        service.write("lamp/index.html", "<h1>Lamp</h1>");
        service.get(0, "harbour.example", "/?before");
        service.change(&format!("{ONE_SITE}{LAMP}")).unwrap();
        service.get(0, "harbour.example", "/?after");
        service.get(0, "lamp.example", "/");
        until("the lines are written", || {
            service.logged("harbour").concat().contains("/?after")
                && service.logged("lamp").concat().contains("GET / ")
        });
        let harbour = service.logged("harbour");
        assert_eq!(harbour.len(), 1, "{harbour:?}");
        assert_eq!(harbour[0].lines().count(), 2);
    }

    #[test]
    fn fewer_connections_may_be_open_after_a_change_that_says_so() {
        let mut service = TestService::new(&format!("[limits]\nconnections = 100\n{ONE_SITE}"));
        let places = |service: &TestService| {
            service.runtime.workers.lock().as_ref().map_or(0, |workers| workers.places.available_permits())
        };
        assert_eq!(places(&service), 100);
        service.change(&format!("[limits]\nconnections = 60\n{ONE_SITE}")).unwrap();
        assert_eq!(places(&service), 60);
        service.change(&format!("[limits]\nconnections = 80\n{ONE_SITE}")).unwrap();
        assert_eq!(places(&service), 80);
    }
}
