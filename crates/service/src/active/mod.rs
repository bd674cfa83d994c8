//! What answering needs, and what is written down of what never became a request.
//!
//! - [`trials`]: addresses that are opened once, to see what becomes of a browser's own request

pub mod trials;

use crate::access::allowance::AllowanceGate;
use crate::access::certificates::Certificates;
use crate::access::certificates::obtaining::Tokens;
use crate::access::countries::Countries;
use crate::access::descriptors::{Division, OpenFiles};
use crate::access::guards::Guards;
use crate::access::limits::Limits;
use crate::content::disk::Disk;
use crate::content::encodings::Encodings;
use crate::content::folders::Folders;
use crate::content::thread_cache::CacheOwner;
use crate::logs::access_log::{AccessLog, client_text};
use crate::logs::error_log::{ErrorLine, ErrorLog};
use crate::system::Counter;
use arc_swap::ArcSwap;
use exedra_answering::config::{Config, SiteId};
use exedra_answering::facts::{Known, LocalTime, Scheme};
use exedra_common::{NumberColumn, TextColumn};
use exedra_reading::logs::LoggedRequest;
use http::StatusCode;
use std::net::IpAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use trials::Trials;

/// What a worker answers by at the moment.
pub type Current = ArcSwap<Active>;

/// What answering needs: the configuration in force, and what it opened. Each worker has its own, so that
/// counting who holds it stays on one processor.
#[derive(Clone)]
pub struct Active {
    /// The configuration.
    pub config: Arc<Config>,
    /// The folders.
    pub disk: Arc<Disk>,
    /// What folders in them say of themselves.
    pub folders: Arc<Folders>,
    /// What is kept of their encodings.
    pub encodings: Arc<Encodings>,
    /// Who may go where a name and a password are asked for.
    pub guards: Arc<Guards>,
    /// How much each client may take.
    pub limits: Arc<Limits>,
    /// Whether allowances of the month are used up.
    pub allowance: Arc<AllowanceGate>,
    /// Which country an address is in, where a file knows it.
    pub countries: Option<Arc<Countries>>,
    /// How connections are secured, where any are.
    pub tls: Option<Tls>,
    /// What authorities are told that are asked for certificates.
    pub tokens: Arc<Tokens>,
    /// Addresses that are opened once to see what becomes of a request.
    pub trials: Arc<Trials>,
    /// How often each rule of each site has fitted.
    pub fired: Arc<Fired>,
    /// The log of each site.
    pub logs: Vec<AccessLog>,
    /// The log of what no site answers.
    pub no_site: AccessLog,
    /// The log of errors.
    pub errors: ErrorLog,
    /// How descriptors are divided.
    pub division: Division,
    /// Files that are open to be sent.
    pub open_files: Arc<OpenFiles>,
    /// What is counted.
    pub counter: Arc<Counter>,
    /// Whose remembered answers are those of this configuration.
    pub owner: CacheOwner,
}

/// How connections are secured.
#[derive(Clone)]
pub struct Tls {
    /// The certificates.
    pub certificates: Arc<Certificates>,
    /// What is agreed upon with clients of the sites.
    pub server: Arc<rustls::ServerConfig>,
    /// The same of the console.
    pub console: Arc<rustls::ServerConfig>,
}

/// How often each rule of each site has fitted, since the configuration came into force.
#[derive(Debug, Default)]
pub struct Fired(Vec<Vec<AtomicU64>>);

impl Fired {
    /// None has, yet.
    pub fn new(config: &Config) -> Self {
        Fired(
            config
                .sites
                .iter()
                .map(|site| (0..site.rules.len()).map(|_| AtomicU64::new(0)).collect())
                .collect(),
        )
    }

    /// Some rules of a site have fitted once more.
    pub fn count(&self, site: SiteId, rules: &[u32]) {
        for rule in rules {
            if let Some(times) = self.0.get(site.0).and_then(|site| site.get(*rule as usize)) {
                times.fetch_add(1, Ordering::Relaxed);
            }
        }
    }

    /// How often a rule of a site has fitted.
    pub fn times(&self, site: SiteId, rule: usize) -> u64 {
        let times = self.0.get(site.0).and_then(|site| site.get(rule));
        times.map_or(0, |times| times.load(Ordering::Relaxed))
    }
}

impl Active {
    /// The hour and the day, where rules ask for them.
    pub fn local_time(&self, time: i64) -> Known<LocalTime> {
        if !self.config.asks.time {
            return Known::Unknown;
        }
        let time = jiff::Timestamp::from_millisecond(time).unwrap_or_default();
        Known::Is(LocalTime::from(&time.to_zoned(self.config.service.time_zone.clone())))
    }

    /// The country of an address, where rules ask for it.
    pub fn country(&self, address: IpAddr) -> Known<&str> {
        match (&self.countries, self.config.asks.country) {
            (Some(countries), true) => countries.of(address).into(),
            _ => Known::Unknown,
        }
    }

    /// Writes down why a connection was closed before anything was asked for.
    pub fn record_refused(&self, client: IpAddr, status: StatusCode, cause: &str) {
        let client = client_text(client.to_canonical(), self.no_site.masks_clients);
        self.errors.record(&ErrorLine {
            time: jiff::Timestamp::now().to_string().into(),
            site: None,
            client: client.as_str().into(),
            method: "".into(),
            host: "".into(),
            target: "".into(),
            status: status.as_u16(),
            file: None,
            referrer: None,
            cause: cause.into(),
        });
    }

    /// Writes down what came in but never became a request: malformed, too large, too slow, or cut off.
    pub fn record_unfinished(
        &self,
        client: IpAddr,
        scheme: Scheme,
        (status, bytes): (u16, u64),
        head: &[u8],
    ) {
        let line = head.split(|octet| *octet == b'\n').next().unwrap_or_default();
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        let text = String::from_utf8_lossy(line);
        let mut words = text.splitn(3, ' ');
        let (method, target, protocol) = (words.next(), words.next(), words.next());
        let client = client_text(client.to_canonical(), self.no_site.masks_clients);
        let request = LoggedRequest::new(
            jiff::Timestamp::now().as_millisecond(),
            target.unwrap_or_default().as_bytes(),
        )
        .number(NumberColumn::Status, status.into())
        .number(NumberColumn::Bytes, bytes)
        .number(NumberColumn::FullBytes, bytes)
        .number(NumberColumn::Duration, 0)
        .text(TextColumn::Client, client.as_str())
        .text(TextColumn::Method, method.unwrap_or_default())
        .text(TextColumn::Protocol, protocol.unwrap_or_default())
        .text(TextColumn::Scheme, scheme.as_str());
        self.no_site.record(&request);
        self.counter.count(bytes);
    }
}
