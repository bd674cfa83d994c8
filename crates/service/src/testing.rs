//! For the tests of this crate: a service in a folder of its own, without its console and without the threads that look after
//! records and past logs.

use crate::active::Active;
use crate::connections::sockets::HandedOver;
use crate::control::StartError;
use crate::control::runtime::{LogsShared, Runtime};
use exedra_answering::config::{Config, understand};
use exedra_reading::logs::Layout;
use exedra_store::Records;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel, sync_channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// A listener on any free port, and one site.
pub const ONE_SITE: &str = "[[listener]]\naddress = \"127.0.0.1:0\"\n\
                            [[site]]\nname = \"harbour\"\nhosts = [\"harbour.example\"]\nfolder = \"harbour\"\n";

/// A service, stopped when it is dropped.
pub struct TestService {
    pub place: TempDir,
    pub runtime: Arc<Runtime>,
    pub executor: tokio::runtime::Runtime,
    workers: Vec<JoinHandle<()>>,
    // Whoever writes lines must have somebody to tell.
    _written: Receiver<()>,
    _followed: Receiver<(Arc<crate::logs::journal::Journal>, Layout)>,
}

impl TestService {
    /// One that serves by a configuration. The folder of the site `harbour` has a page.
    pub fn new(text: &str) -> Self {
        let place = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(place.path().join("state")).unwrap();
        let (written, news) = sync_channel(1);
        let (followed, more) = channel();
        let records = Arc::new(Records::open(&place.path().join("state")));
        let shared = LogsShared { written, followed, kept: Arc::default() };
        let runtime = Runtime::new(records, HandedOver::take(), shared).unwrap();
        let executor = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build();
        let mut service = TestService {
            place,
            runtime,
            executor: executor.unwrap(),
            workers: Vec::new(),
            _written: news,
            _followed: more,
        };
        service.write("harbour/index.html", "<h1>Harbour</h1>");
        service.change(text).unwrap();
        service
    }

    /// Writes a file below the folder that configurations are relative to.
    pub fn write(&self, path: &str, text: impl AsRef<[u8]>) {
        let path = self.place.path().join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }

    /// A configuration, understood.
    pub fn config(&self, text: &str) -> Config {
        understand(text, self.place.path()).unwrap()
    }

    /// Brings another configuration into force.
    pub fn change(&mut self, text: &str) -> Result<(), StartError> {
        let config = self.config(text);
        let _entered = self.executor.enter();
        self.workers.extend(self.runtime.change(config)?);
        Ok(())
    }

    /// What is in force.
    pub fn active(&self) -> Arc<Active> {
        self.runtime.site().unwrap()
    }

    /// A connection to one of the listeners.
    pub fn connect(&self, listener: usize) -> TcpStream {
        connect(self.runtime.addresses()[listener])
    }

    /// What a path of a host answers, as it comes over a connection of its own.
    pub fn get(&self, listener: usize, host: &str, path: &str) -> String {
        let mut socket = self.connect(listener);
        write!(socket, "GET {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n").unwrap();
        let mut answer = String::new();
        socket.read_to_string(&mut answer).unwrap();
        answer
    }

    /// What has been written in the log of a site, a text for each of its files.
    pub fn logged(&self, site: &str) -> Vec<String> {
        let folder = self.active().config.service.logs.value.clone();
        let files = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
        let is_log = |path: &PathBuf| {
            let name = path.file_name().unwrap().to_string_lossy();
            name.starts_with(site) && !name.ends_with("layouts")
        };
        files.filter(is_log).map(|path| std::fs::read_to_string(path).unwrap()).collect()
    }
}

impl Drop for TestService {
    fn drop(&mut self) {
        let _ = self.runtime.stop.send(true);
        self.executor.block_on(self.runtime.wait());
        self.workers.drain(..).for_each(|worker| worker.join().unwrap());
        self.runtime.close_logs();
    }
}

/// A connection that gives up after a while.
pub fn connect(address: SocketAddr) -> TcpStream {
    let socket = TcpStream::connect(address).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    socket
}

/// Reads what has come until it ends with something.
pub fn read_until(socket: &mut TcpStream, end: &str) -> String {
    let (mut all, mut octets) = (String::new(), [0; 4096]);
    while !all.ends_with(end) {
        let length = socket.read(&mut octets).unwrap();
        assert!(length > 0, "ended after {all:?}");
        all.push_str(std::str::from_utf8(&octets[..length]).unwrap());
    }
    all
}

/// Waits until something is so.
pub fn until(what: &str, is_so: impl Fn() -> bool) {
    let began = Instant::now();
    while !is_so() {
        assert!(began.elapsed() < Duration::from_secs(30), "waited for: {what}");
        std::thread::sleep(Duration::from_millis(5));
    }
}
