//! Which site a host leads to, and where a request belongs that came by another host of its site, or without the HTTPS
//! that it requires.
//!
//! ```
//! use exedra_answering::config::understand;
//! let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n";
//! let config = understand(text, std::path::Path::new("")).unwrap();
//! use exedra_answering::answer::home::site_for;
//! assert!(site_for(&config, "A.Example.").is_some());
//! assert_eq!(site_for(&config, "b.example"), None);
//! ```

use super::trace::Place;
use crate::config::{Config, Https, Site, SiteId};
use crate::facts::Scheme;

/// The site that answers to a host, and whether only because it answers to all unknown ones.
pub fn site_for(config: &Config, host: &str) -> Option<(SiteId, bool)> {
    let host = host.trim_end_matches('.');
    let found = match host.bytes().any(|octet| octet.is_ascii_uppercase()) {
        true => site_of(config, &host.to_ascii_lowercase()),
        false => site_of(config, host),
    };
    found.map(|id| (id, false)).or(config.default_site.map(|id| (id, true)))
}

/// The site that a host in lower case is listed for.
pub fn site_of(config: &Config, host: &str) -> Option<SiteId> {
    let below = |ending: &str| host.len() > ending.len() && host.ends_with(ending);
    config
        .hosts
        .get(host)
        .copied()
        .or_else(|| config.endings.iter().find(|(ending, _)| below(ending)).map(|(_, id)| *id))
}

/// Where a request belongs.
#[derive(Debug)]
pub(super) struct Home<'a> {
    pub scheme: Scheme,
    pub host: &'a str,
    pub port: Option<u16>,
    /// Where it is written that it belongs to another host.
    pub host_place: Option<Place>,
    /// Where it is written that it belongs to HTTPS.
    pub https_place: Option<Place>,
}

impl Home<'_> {
    /// Scheme, host and port, as an address begins.
    pub fn origin(&self) -> String {
        let port = self.port.filter(|port| *port != self.scheme.port());
        format!(
            "{}://{}{}",
            self.scheme.as_str(),
            self.host,
            port.map(|port| format!(":{port}")).unwrap_or_default()
        )
    }
}

/// Where an address of a site belongs, if not where it is.
pub(super) fn home<'a>(
    config: &Config,
    site: &'a Site,
    scheme: Scheme,
    host: &'a str,
    port: Option<u16>,
    path: &str,
) -> Option<Home<'a>> {
    let main = site.main_host.as_ref().filter(|main| !may_stay(host, &main.value));
    let may_be_plain = path.starts_with("/.well-known/");
    let to_https = site.https.value == Https::Required && scheme == Scheme::Http && !may_be_plain;
    if main.is_none() && !to_https {
        return None;
    }
    let (scheme, port) = match to_https {
        true => (Scheme::Https, config.public_port(Scheme::Https)),
        false => (scheme, port),
    };
    let host_place = main.map(|main| Place::from(&main.span));
    let https_place = to_https.then(|| Place::from(&site.https.span));
    let host = main.map_or(host, |main| main.value.as_str());
    Some(Home { scheme, host, port, host_place, https_place })
}

/// Whether a request need not be sent to the main host: it came there, or by a name below `.localhost`, which
/// only ever leads to one's own machine (RFC 6761 §6.3) and so lets a site be looked at before its name exists.
fn may_stay(written: &str, main: &str) -> bool {
    let written = written.trim_end_matches('.');
    let is_local = |host: &str| host.len() > 10 && host[host.len() - 10..].eq_ignore_ascii_case(".localhost");
    written.eq_ignore_ascii_case(main) || (written.is_ascii() && is_local(written) && !is_local(main))
}
