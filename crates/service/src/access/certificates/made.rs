//! Certificates made here, for development: each for one host, vouched for by nobody, and saying so.
//!
//! They are kept, so that a browser that was told to trust one need not be told again. Only hosts of the configuration get
//! one, so strangers cannot have any number of them made.

use crate::system::whole::{make_private_folder, write_private};
use parking_lot::Mutex;
use rcgen::{CertificateParams, DistinguishedName, DnType, KeyPair};
use rustls::crypto::CryptoProvider;
use rustls::sign::CertifiedKey;
use std::collections::HashMap;
use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

/// Who the certificates say has made them.
pub const MAKER: &str = "made by Exedra for development, vouched for by nobody";
/// How long one is used.
const USED: Duration = Duration::from_secs(180 * 24 * 3600);
/// How long one is good for, in days.
const DAYS: i64 = 365;

/// The certificates made for some hosts.
pub struct Made {
    folder: PathBuf,
    hosts: Vec<String>,
    known: Mutex<HashMap<String, Arc<CertifiedKey>>>,
    /// Held by whoever makes one.
    making: Mutex<()>,
    provider: Arc<CryptoProvider>,
}

impl Made {
    /// None yet. They are kept in a folder.
    pub fn new(folder: PathBuf, hosts: Vec<String>, provider: Arc<CryptoProvider>) -> Self {
        Made { folder, hosts, known: Mutex::default(), making: Mutex::default(), provider }
    }

    /// The certificate for a host, if it has been made or read before.
    pub fn known(&self, host: &str) -> Option<Arc<CertifiedKey>> {
        let name = self.name_for(host)?;
        self.known.lock().get(&name).cloned()
    }

    /// The certificate for a host, if it is one of ours. It is read or made where it is not known yet, which blocks, and
    /// holds up nobody who asks for one that is.
    pub fn of(&self, host: &str) -> Option<Arc<CertifiedKey>> {
        let name = self.name_for(host)?;
        let _one_at_a_time = self.making.lock();
        if let Some(key) = self.known(host) {
            return Some(key);
        }
        match self.kept_or_made(&name) {
            Ok(key) => {
                let key = Arc::new(key);
                let mut known = self.known.lock();
                known.insert(name, Arc::clone(&key));
                Some(key)
            }
            Err(reason) => {
                tracing::warn!("no certificate could be made for {name}: {reason}");
                None
            }
        }
    }

    /// Whether one would be made for a host.
    pub fn is_ours(&self, host: &str) -> bool {
        self.name_for(host).is_some()
    }

    /// The name that a certificate for a host is made for: one for all names that a wildcard stands for.
    fn name_for(&self, host: &str) -> Option<String> {
        if host == "localhost" || self.hosts.iter().any(|known| known == host) {
            return Some(host.to_owned());
        }
        let below = |known: &&String| {
            known.strip_prefix('*').is_some_and(|ending| host.len() > ending.len() && host.ends_with(ending))
        };
        self.hosts.iter().find(below)?;
        // A wildcard stands for one label only (RFC 6125 §6.4.3).
        host.find('.').map(|dot| format!("*{}", &host[dot..]))
    }

    fn kept_or_made(&self, name: &str) -> Result<CertifiedKey, String> {
        let file = name.replace('*', "any").replace([':', '[', ']'], "_");
        let (chain, key) = (self.folder.join(format!("{file}.pem")), self.folder.join(format!("{file}.key")));
        let age = std::fs::metadata(&chain).and_then(|found| found.modified()).ok();
        let age = age.and_then(|made| SystemTime::now().duration_since(made).ok());
        if age.is_none_or(|age| age > USED) || !key.exists() {
            let (certificate, secret) = make(name)?;
            let keep = || -> io::Result<()> {
                make_private_folder(&self.folder)?;
                write_private(&key, &secret)?;
                write_private(&chain, &certificate)
            };
            keep().map_err(|error| format!("it cannot be kept in {}: {error}", self.folder.display()))?;
        }
        super::files::read(&chain, &key, &self.provider)
    }
}

/// Makes a certificate for a host: itself and its key, in PEM.
fn make(host: &str) -> Result<(String, String), String> {
    let make = || -> Result<(String, String), rcgen::Error> {
        let bare = host.trim_start_matches('[').trim_end_matches(']').to_owned();
        let mut params = CertificateParams::new(vec![bare])?;
        let mut name = DistinguishedName::new();
        name.push(DnType::CommonName, host);
        name.push(DnType::OrganizationName, MAKER);
        params.distinguished_name = name;
        let today = jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).date();
        let day = |date: jiff::civil::Date| {
            rcgen::date_time_ymd(
                i32::from(date.year()),
                date.month().unsigned_abs(),
                date.day().unsigned_abs(),
            )
        };
        let days = |days: i64| today.saturating_add(jiff::Span::new().days(days));
        (params.not_before, params.not_after) = (day(days(-1)), day(days(DAYS)));
        let key = KeyPair::generate()?;
        let certificate = params.self_signed(&key)?;
        Ok((certificate.pem(), key.serialize_pem()))
    };
    make().map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use x509_parser::prelude::*;

    #[test]
    fn certificates_are_made_once_for_our_hosts_only_and_say_what_they_are() {
        let folder = tempfile::tempdir().unwrap();
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let hosts = vec!["a.example".to_owned(), "*.b.example".to_owned()];
        let made = || Made::new(folder.path().join("made"), hosts.clone(), Arc::clone(&provider));
        let first = made().of("a.example").unwrap();
        assert_eq!(made().of("a.example").unwrap().cert, first.cert, "kept");
        assert!(made().of("evil.example").is_none());
        let below = made();
        assert!(Arc::ptr_eq(&below.of("x.b.example").unwrap(), &below.of("y.b.example").unwrap()));
        let (_, found) = X509Certificate::from_der(&first.cert[0]).unwrap();
        assert!(found.subject().to_string().contains(MAKER));
        assert!(found.validity().is_valid());
        let mode = std::os::unix::fs::MetadataExt::mode(
            &std::fs::metadata(folder.path().join("made/a.example.key")).unwrap(),
        );
        assert_eq!(mode & 0o777, 0o600);
    }
}
