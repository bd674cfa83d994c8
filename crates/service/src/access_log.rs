//! One line for each request, written behind the answers' backs.
//!
//! Whoever finishes a request formats its line into a buffer; one thread for each log takes the buffer and
//! writes it in one go. Files have generations, and their names say which: `harbour.000001.log`. A last line
//! that a crash has torn is ended when the log is opened, so that nothing is ever appended to it, and in a
//! way that no reader takes for a whole one.

use crate::Counters;
use exedra_core::config::Site;
use exedra_core::facts::Scheme;
use exedra_core::logs::mask::masked;
use exedra_core::logs::{LogTemplate, LoggedRequest};
use http::{HeaderValue, Method, StatusCode, Uri, Version};
use std::borrow::Cow;
use std::fs::{File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::SyncSender;
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// Octets that may wait to be written; what comes on top of them is counted and lost.
const MOST_WAITING: usize = 32 << 20;
/// Octets that are written without gathering more.
const MOST_GATHERED: usize = 1 << 20;
/// How long lines are gathered before they are written: waking a thread for every one would cost more than
/// everything else about it.
const GATHERING: Duration = Duration::from_millis(8);
/// How often a failing disk is complained about.
const COMPLAINT: Duration = Duration::from_secs(60);

/// The access log of one site.
pub struct AccessLog {
    /// Name of the site.
    pub site: Arc<str>,
    /// The file that is being written.
    pub path: PathBuf,
    template: LogTemplate,
    masks_clients: bool,
    waiting: Mutex<Vec<u8>>,
    wake: Condvar,
    stop: AtomicBool,
    unwritten: AtomicU64,
}

impl AccessLog {
    /// Opens the newest generation of a site's log, or begins the first, and starts its writer.
    /// `written` is told whenever lines have reached the file.
    pub fn open(
        folder: &Path,
        site: &Site,
        written: SyncSender<()>,
    ) -> io::Result<(Arc<AccessLog>, JoinHandle<()>)> {
        let name: Arc<str> = site.name.value.as_str().into();
        let path =
            generations(folder, &name)?.pop().unwrap_or_else(|| folder.join(format!("{name}.000001.log")));
        let file = open(&path)?;
        let log = Arc::new(AccessLog {
            site: name,
            path,
            template: LogTemplate::new(&site.layout),
            masks_clients: site.masks_clients,
            waiting: Mutex::default(),
            wake: Condvar::new(),
            stop: AtomicBool::new(false),
            unwritten: AtomicU64::new(0),
        });
        let writer = Arc::clone(&log);
        let thread = std::thread::Builder::new()
            .name(format!("log {}", log.site))
            .spawn(move || writer.write_until_stopped(file, &written))?;
        Ok((log, thread))
    }

    /// Hands one finished request over.
    pub fn record(&self, request: &LoggedRequest<'_>) {
        let mut waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
        if waiting.len() > MOST_WAITING {
            self.unwritten.fetch_add(1, Ordering::Relaxed);
            return;
        }
        let was_empty = waiting.is_empty();
        self.template.write(request, &mut waiting);
        drop(waiting);
        if was_empty {
            self.wake.notify_one();
        }
    }

    /// Lines that could not be written.
    pub fn unwritten(&self) -> u64 {
        self.unwritten.load(Ordering::Relaxed)
    }

    /// Writes what waits, and ends the writer.
    pub fn stop(&self) {
        self.stop.store(true, Ordering::SeqCst);
        self.wake.notify_all();
    }

    fn write_until_stopped(&self, mut file: File, written: &SyncSender<()>) {
        let mut lines = Vec::new();
        let mut complained: Option<Instant> = None;
        loop {
            let mut waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
            while waiting.is_empty() {
                if self.stop.load(Ordering::SeqCst) {
                    return;
                }
                let idle = Duration::from_secs(1);
                waiting = self.wake.wait_timeout(waiting, idle).unwrap_or_else(PoisonError::into_inner).0;
            }
            if !self.stop.load(Ordering::SeqCst) && waiting.len() < MOST_GATHERED {
                drop(waiting);
                std::thread::sleep(GATHERING);
                waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
            }
            std::mem::swap(&mut *waiting, &mut lines);
            drop(waiting);
            if let Err(error) = file.write_all(&lines) {
                let lost = memchr::memchr_iter(b'\n', &lines).count() as u64;
                self.unwritten.fetch_add(lost, Ordering::Relaxed);
                if complained.is_none_or(|last| last.elapsed() > COMPLAINT) {
                    tracing::error!(log = %self.path.display(), lines = self.unwritten(), "log lines could not be written: {error}");
                    complained = Some(Instant::now());
                }
            }
            lines.clear();
            // When the follower has been told already and did not come yet, it will see these lines too.
            let _ = written.try_send(());
        }
    }
}

/// The files of a site's log, oldest first.
pub fn generations(folder: &Path, site: &str) -> io::Result<Vec<PathBuf>> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let generation =
            name.strip_prefix(site).and_then(|rest| rest.strip_prefix('.')?.strip_suffix(".log"));
        if generation
            .is_some_and(|number| number.len() == 6 && number.bytes().all(|octet| octet.is_ascii_digit()))
        {
            found.push(path);
        }
    }
    found.sort();
    Ok(found)
}

/// How a torn line is ended: its last number may have lost digits, and must not be believed.
const TORN: &[u8] = b" (torn)\n";

/// Opens a log to append to it, its last line ended.
fn open(path: &Path) -> io::Result<File> {
    let mut file = OpenOptions::new().read(true).append(true).create(true).open(path)?;
    if file.metadata()?.len() > 0 {
        let mut last = [0];
        file.seek(SeekFrom::End(-1))?;
        file.read_exact(&mut last)?;
        if last != *b"\n" {
            file.write_all(TORN)?;
        }
    }
    Ok(file)
}

/// A request and what became of it, to be written when its body is done with.
pub struct Finished {
    /// The log it belongs to.
    pub log: Arc<AccessLog>,
    /// Where answers are counted.
    pub counters: Arc<Counters>,
    /// When it came in: milliseconds since 1970 UTC.
    pub time: i64,
    /// The same, by a clock that only goes forward.
    pub began: Instant,
    /// Address of the client.
    pub client: IpAddr,
    /// Method.
    pub method: Method,
    /// Target.
    pub target: Uri,
    /// Protocol.
    pub version: Version,
    /// Host asked for.
    pub host: String,
    /// Scheme.
    pub scheme: Scheme,
    /// Page that linked there.
    pub referrer: Option<HeaderValue>,
    /// What the client calls itself.
    pub agent: Option<HeaderValue>,
    /// Status of the answer.
    pub status: StatusCode,
    /// Content coding of the answer.
    pub encoding: &'static str,
    /// Body bytes before compression, where the body was compressed.
    pub full_bytes: Option<u64>,
    /// Body bytes sent so far.
    pub bytes: u64,
}

impl Finished {
    /// Writes the line.
    pub fn write(self) {
        let target = self.target.path_and_query().map_or("*", |target| target.as_str());
        let client = if self.log.masks_clients { masked(self.client) } else { self.client }.to_string();
        let octets = |value| Option::map_or(value, &b""[..], HeaderValue::as_bytes);
        let request = LoggedRequest {
            time: self.time,
            status: self.status.as_u16(),
            bytes: self.bytes,
            full_bytes: self.full_bytes.unwrap_or(self.bytes),
            duration: self.began.elapsed().as_micros() as u64,
            client: &client,
            user: "",
            method: self.method.as_str(),
            target: Cow::Borrowed(target.as_bytes()),
            protocol: protocol(self.version),
            referrer: octets(self.referrer.as_ref()),
            agent: octets(self.agent.as_ref()),
            scheme: self.scheme.as_str(),
            host: &self.host,
            encoding: self.encoding,
            rule: "",
        };
        self.log.record(&request);
        self.counters.answered.fetch_add(1, Ordering::Relaxed);
        self.counters.sent.fetch_add(self.bytes, Ordering::Relaxed);
    }
}

fn protocol(version: Version) -> &'static str {
    match version {
        Version::HTTP_10 => "HTTP/1.0",
        Version::HTTP_2 => "HTTP/2.0",
        _ => "HTTP/1.1",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_core::logs::{Layout, LineReader, Projection};

    #[test]
    fn a_torn_line_is_ended_and_never_read_as_a_whole_one() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.000001.log");
        let line = br#"192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] "GET / HTTP/1.1" 200 5 "-" "x" http a.example 9 - 5 "-" 1791640536000"#;
        for cut in 1..=line.len() {
            std::fs::write(&path, &line[..cut]).unwrap();
            let mut file = open(&path).unwrap();
            file.write_all(line).unwrap();
            file.write_all(b"\n").unwrap();
            let mut reader =
                LineReader::new(&[Layout::understand("full").unwrap()], Projection::everything());
            let (mut batch, mut texts) = Default::default();
            reader.read_block(&std::fs::read(&path).unwrap(), 0, &mut 0, &mut batch, &mut texts);
            assert_eq!((reader.read, reader.unread.lines()), (1, 1), "cut at {cut}");
        }
    }
}
