//! Whole addresses, with scheme and host, and which of our sites they lead into.
//!
//! ```
//! use exedra_answering::config::understand;
//! let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n";
//! let config = understand(text, std::path::Path::new("")).unwrap();
//! use exedra_answering::answer::absolute::{leads_to, leads_within};
//! use exedra_answering::config::SiteId;
//! let target = leads_to(&config, "https://a.example/tides/?day=14#noon").unwrap();
//! assert_eq!((target.host, target.path(), target.query()), ("a.example", "/tides/", Some("day=14")));
//! assert_eq!(leads_within(&config, SiteId(0), "http://elsewhere.example/"), None);
//! ```

use super::home::site_of;
use crate::config::{Config, SiteId};
use crate::facts::Scheme;

/// An address with its scheme.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Absolute<'t> {
    /// Its scheme.
    pub scheme: Scheme,
    /// Its host.
    pub host: &'t str,
    /// The port that it names.
    pub port: Option<u16>,
    /// Path, query and fragment.
    pub(super) rest: &'t str,
}

impl<'t> Absolute<'t> {
    pub(super) fn understand(address: &'t str) -> Option<Self> {
        let (scheme, rest) = match (address.strip_prefix("https://"), address.strip_prefix("http://")) {
            (Some(rest), _) => (Scheme::Https, rest),
            (None, Some(rest)) => (Scheme::Http, rest),
            (None, None) => return None,
        };
        let (authority, rest) = rest.split_at(rest.find(['/', '?', '#']).unwrap_or(rest.len()));
        let (host, port) = match authority.rsplit_once(':') {
            Some((host, port)) if !port.contains(']') => (host, Some(port.parse().ok()?)),
            _ => (authority, None),
        };
        Some(Absolute { scheme, host, port, rest })
    }

    /// Its path.
    pub fn path(&self) -> &'t str {
        match self.rest.split(['?', '#']).next().unwrap_or_default() {
            "" => "/",
            path => path,
        }
    }

    /// Its query, without the question mark.
    pub fn query(&self) -> Option<&'t str> {
        let bare = self.rest.split('#').next().unwrap_or_default();
        bare.split_once('?').map(|(_, query)| query)
    }
}

/// Where an address leads, if that is one of a configuration's sites.
pub fn leads_to<'t>(config: &Config, address: &'t str) -> Option<Absolute<'t>> {
    let target = Absolute::understand(address)?;
    site_of(config, &target.host.to_ascii_lowercase())?;
    Some(target)
}

/// The path of a site that an address leads to, if it does.
pub fn leads_within<'t>(config: &Config, site: SiteId, address: &'t str) -> Option<&'t str> {
    let target = Absolute::understand(address)?;
    (site_of(config, &target.host.to_ascii_lowercase())? == site).then(|| target.path())
}
