//! Certificates: found by the name that a client asks for.
//!
//! - [`files`]: from files, which are looked at again when they change
//! - [`made`]: made on the spot, where there is none, for development
//! - [`obtaining`]: from an authority, or by a command
//! - [`asking`]: asking ourselves over HTTPS
//!
//! What a file says counts before what is made. A file that breaks leaves in force what was read before.

pub mod asking;
pub mod files;
pub mod made;
pub mod obtaining;

use arc_swap::ArcSwap;
use exedra_core::config::{CertificateOrigin, Config};
use files::{FileStamp, read, stamp};
use made::Made;
use rustls::crypto::CryptoProvider;
use rustls::server::{ClientHello, ProducesTickets, ResolvesServerCert, ServerConfig};
use rustls::sign::CertifiedKey;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::Duration;

/// How often files are looked at.
const EVERY: Duration = Duration::from_secs(1);

/// Certificates by host.
#[derive(Default)]
struct Table {
    exact: HashMap<String, Arc<CertifiedKey>>,
    /// By what a name ends with, the first dot included.
    endings: HashMap<String, Arc<CertifiedKey>>,
}

/// A certificate that lies in files.
#[derive(Debug, Clone)]
pub struct Listed {
    /// Its hosts.
    pub hosts: Vec<String>,
    /// The chain.
    pub chain: PathBuf,
    /// The key.
    pub key: PathBuf,
}

/// All certificates of a configuration.
pub struct Certificates {
    table: ArcSwap<Table>,
    listed: Vec<Listed>,
    stamps: Mutex<Vec<Option<FileStamp>>>,
    made: Made,
    provider: Arc<CryptoProvider>,
}

impl std::fmt::Debug for Certificates {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Certificates").field("listed", &self.listed).finish_non_exhaustive()
    }
}

/// Where a certificate that was obtained is kept: chain and key.
pub fn obtained(state: &Path, first_host: &str) -> (PathBuf, PathBuf) {
    let folder = state.join("certificates").join("obtained");
    let name = first_host.replace('*', "any");
    (folder.join(format!("{name}.pem")), folder.join(format!("{name}.key")))
}

impl Certificates {
    /// The certificates of a configuration, and a thread that looks after their files until they are dropped.
    pub fn open(config: &Config) -> Arc<Self> {
        let state = &config.service.state.value;
        let listed = config.certificates.iter().map(|certificate| {
            let hosts: Vec<String> = certificate.hosts.iter().map(|host| host.value.clone()).collect();
            let (chain, key) = match &certificate.origin {
                CertificateOrigin::Files { chain, key } | CertificateOrigin::Command { chain, key, .. } => {
                    (chain.value.clone(), key.value.clone())
                }
                CertificateOrigin::Authority => obtained(state, hosts.first().map_or("", String::as_str)),
            };
            Listed { hosts, chain, key }
        });
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let hosts = config.sites.iter().flat_map(|site| &site.hosts).map(|host| host.value.clone());
        let listed: Vec<Listed> = listed.collect();
        let certificates = Arc::new(Certificates {
            table: ArcSwap::default(),
            stamps: Mutex::new(vec![None; listed.len()]),
            listed,
            made: Made::new(state.join("certificates").join("made"), hosts.collect(), Arc::clone(&provider)),
            provider,
        });
        certificates.look();
        let weak = Arc::downgrade(&certificates);
        let thread = std::thread::Builder::new().name("certificates".to_owned());
        if let Err(error) = thread.spawn(move || look_after(&weak)) {
            tracing::warn!("changed certificates will not be noticed: {error}");
        }
        certificates
    }

    /// Reads the files that have changed.
    pub fn look(&self) {
        let mut stamps = self.stamps.lock().unwrap_or_else(PoisonError::into_inner);
        let now: Vec<Option<FileStamp>> =
            self.listed.iter().map(|listed| stamp(&listed.chain, &listed.key)).collect();
        if *stamps == now && now.iter().any(Option::is_some) {
            return;
        }
        let before = self.table.load();
        let mut table = Table::default();
        for ((listed, old), new) in self.listed.iter().zip(stamps.iter()).zip(&now) {
            let known = listed.hosts.first().and_then(|host| before.of(host));
            let key = match (old == new, known) {
                (true, known) => known,
                (false, known) => match read(&listed.chain, &listed.key, &self.provider) {
                    Ok(key) => Some(Arc::new(key)),
                    Err(reason) => {
                        let chain = listed.chain.display();
                        tracing::warn!("the certificate {chain} cannot be used: {reason}");
                        known
                    }
                },
            };
            for (host, key) in listed.hosts.iter().zip(std::iter::repeat(key)) {
                let Some(key) = key else { continue };
                match host.strip_prefix('*') {
                    Some(ending) => _ = table.endings.insert(ending.to_owned(), key),
                    None => _ = table.exact.insert(host.clone(), key),
                }
            }
        }
        drop(before);
        self.table.store(Arc::new(table));
        *stamps = now;
    }

    /// The certificate for a host, in lower case, and whether it was made here.
    pub fn of(&self, host: &str) -> Option<(Arc<CertifiedKey>, bool)> {
        match self.table.load().of(host) {
            Some(key) => Some((key, false)),
            None => self.made.of(host).map(|key| (key, true)),
        }
    }

    /// How connections are secured by them.
    pub fn server(
        self: &Arc<Self>,
        tickets: &Arc<dyn ProducesTickets>,
    ) -> Result<Arc<ServerConfig>, rustls::Error> {
        let config = ServerConfig::builder_with_provider(Arc::clone(&self.provider))
            .with_safe_default_protocol_versions()?
            .with_no_client_auth();
        let mut config = config.with_cert_resolver(Arc::clone(self) as Arc<dyn ResolvesServerCert>);
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        config.ticketer = Arc::clone(tickets);
        Ok(Arc::new(config))
    }
}

impl Table {
    fn of(&self, host: &str) -> Option<Arc<CertifiedKey>> {
        let exact = self.exact.get(host).or_else(|| self.endings.get(host.strip_prefix('*')?));
        // A wildcard stands for one label (RFC 6125 §6.4.3).
        let ending = || host.find('.').and_then(|dot| self.endings.get(&host[dot..]));
        exact.or_else(ending).cloned()
    }
}

impl ResolvesServerCert for Certificates {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        // Whoever names nobody, or somebody unknown, is shown one that was made: it is told so by its client.
        let name = hello.server_name().map(str::to_ascii_lowercase).unwrap_or_default();
        self.of(&name).or_else(|| self.of("localhost")).map(|(key, _)| key)
    }
}

fn look_after(certificates: &Weak<Certificates>) {
    while let Some(certificates) = certificates.upgrade() {
        certificates.look();
        drop(certificates);
        std::thread::sleep(EVERY);
    }
}
