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
pub mod handshake;
pub mod made;
pub mod obtaining;

use crate::system::threads::keep_on;
use arc_swap::ArcSwap;
use exedra_answering::config::{CertificateOrigin, Config};
use files::{FileStamp, read, stamp};
use made::Made;
use parking_lot::Mutex;
use rustls::crypto::CryptoProvider;
use rustls::server::{ClientHello, ProducesTickets, ResolvesServerCert, ServerConfig};
use rustls::sign::CertifiedKey;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Weak};
use std::time::Duration;
use x509_parser::prelude::{FromDer, X509Certificate};

/// Whose certificate is shown where nobody is asked for.
const NOBODY: &str = "localhost";
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

/// Where the certificate is kept that is shown to whoever asks for no name, as by an address: a chain.
pub fn of_addresses(state: &Path) -> PathBuf {
    state.join("certificates").join("made").join(format!("{NOBODY}.pem"))
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
        let hosts = hosts.chain(config.service.console_hosts.iter().cloned());
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
        if let Err(error) = keep_on("certificates", move || look_after(&weak)) {
            tracing::warn!("changed certificates will not be noticed: {error}");
        }
        certificates
    }

    /// Reads the files that have changed.
    pub fn look(&self) {
        let mut stamps = self.stamps.lock();
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

    /// The certificate that is shown to whoever asks for a host by TLS, in lower case, if it needs neither be read nor made. To
    /// whoever names nobody, or somebody unknown, one that was made: it is told so by its client.
    pub fn known(&self, name: &str) -> Option<Arc<CertifiedKey>> {
        let listed = self.table.load().of(name);
        listed.or_else(|| self.made.known(if self.made.is_ours(name) { name } else { NOBODY }))
    }

    /// Makes sure that there is a certificate to be shown to whoever asks for a host by TLS. Blocks.
    pub fn prepare(&self, name: &str) {
        // What cannot be made has been said, and the handshake fails.
        let _ = self.of(if self.made.is_ours(name) { name } else { NOBODY });
    }

    /// The certificate for a host, in lower case, and whether it was made here. Blocks where it has to be made.
    /// When the certificate of a host ends (seconds since 1970 UTC), and whether it was made for development.
    pub fn ends(&self, host: &str) -> Option<(i64, bool)> {
        let (key, is_made) = self.of(host)?;
        let (_, found) = X509Certificate::from_der(key.cert.first()?).ok()?;
        Some((found.validity().not_after.timestamp(), is_made))
    }

    /// The certificate of a host, and whether it was made for development.
    pub fn of(&self, host: &str) -> Option<(Arc<CertifiedKey>, bool)> {
        match self.table.load().of(host) {
            Some(key) => Some((key, false)),
            None => self.made.of(host).map(|key| (key, true)),
        }
    }

    /// How connections are secured by them, over which one of these protocols is spoken (RFC 7301), the first that the client knows.
    pub fn server(
        self: &Arc<Self>,
        tickets: &Arc<dyn ProducesTickets>,
        protocols: &[&str],
    ) -> Result<Arc<ServerConfig>, rustls::Error> {
        let config = ServerConfig::builder_with_provider(Arc::clone(&self.provider))
            .with_safe_default_protocol_versions()?
            .with_no_client_auth();
        let mut config = config.with_cert_resolver(Arc::clone(self) as Arc<dyn ResolvesServerCert>);
        config.alpn_protocols = protocols.iter().map(|name| name.as_bytes().to_vec()).collect();
        config.ticketer = Arc::clone(tickets);
        Ok(Arc::new(config))
    }
}

/// The first name that a certificate is for, or else whom it is of.
pub fn first_name(key: &CertifiedKey) -> Option<String> {
    first_name_of(key.cert.first()?)
}

/// The same, of the first of a chain.
pub fn first_name_of(certificate: &[u8]) -> Option<String> {
    let (_, certificate) = X509Certificate::from_der(certificate).ok()?;
    let named = names(&certificate).into_iter().next();
    named.or_else(|| {
        let name = certificate.subject().iter_common_name().next()?;
        Some(name.as_str().ok()?.to_ascii_lowercase())
    })
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
        self.known(&hello.server_name().map(str::to_ascii_lowercase).unwrap_or_default())
    }
}

fn look_after(certificates: &Weak<Certificates>) {
    while let Some(certificates) = certificates.upgrade() {
        certificates.look();
        drop(certificates);
        std::thread::sleep(EVERY);
    }
}

/// The names that a certificate is for.
pub fn names(certificate: &X509Certificate<'_>) -> Vec<String> {
    let alternatives = certificate.subject_alternative_name().ok().flatten();
    let names = alternatives.iter().flat_map(|found| &found.value.general_names);
    names
        .filter_map(|name| match name {
            x509_parser::extensions::GeneralName::DNSName(name) => Some(name.to_ascii_lowercase()),
            _ => None,
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_made_while_somebody_shakes_hands() {
        let place = tempfile::tempdir().unwrap();
        let text = "[[listener]]\naddress = \"127.0.0.1:0\"\nhttps = true\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \".\"\n";
        let config = exedra_answering::config::understand(text, place.path()).unwrap();
        let certificates = Certificates::open(&config);
        let made = place.path().join("state/certificates/made/a.example.pem");
        assert!(certificates.known("a.example").is_none() && !made.exists());
        certificates.prepare("a.example");
        let shown = certificates.known("a.example").unwrap();
        assert_eq!((first_name(&shown).as_deref(), made.exists()), (Some("a.example"), true));
        // Strangers are shown one that is for none of them.
        assert!(certificates.known("stranger.example").is_none());
        certificates.prepare("stranger.example");
        let shown = certificates.known("stranger.example").unwrap();
        assert_eq!(first_name(&shown).as_deref(), Some("localhost"));
        assert!(Arc::ptr_eq(&shown, &certificates.known("").unwrap()));
    }
}
