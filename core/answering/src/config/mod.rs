//! `exedra.toml` understood: text in, a [`Config`] or diagnostics out.
//!
//! - [`settings`]: the one list of settings; unknown words, wrong kinds and the documentation follow from it
//! - [`diagnostic`]: mistakes as facts, and their drawing
//! - [`document`]: TOML with the place of every value
//! - [`sources`]: the files it is written in, laid end to end, so that one number is a place
//! - [`understand`]: the documents into a `Config`
//! - [`folder`]: what a folder's `.exedra.toml` says
//!
//! Reading files is somebody else's business; so is whether a folder exists.
//!
//! ```
//! use exedra_answering::config::{Https, understand};
//! use exedra_answering::facts::Scheme;
//! let text = "[[listener]]\naddress = \"127.0.0.1:7380\"\n[[site]]\nname = \"harbour\"\nhosts = [\"harbour.example\"]\n\
//!             folder = \"harbour\"\n";
//! let config = understand(text, std::path::Path::new("/srv")).unwrap();
//! let site = &config.sites[0];
//! assert_eq!(site.root(), Some(std::path::Path::new("/srv/harbour")));
//! assert_eq!((site.https.value, config.public_port(Scheme::Http)), (Https::Offered, Some(7380)));
//! assert!(site.compress.has_type("text/css") && !site.compress.has_type("image/png"));
//! let mistakes = understand("[[sit]]\n", std::path::Path::new("")).unwrap_err();
//! assert_eq!(mistakes[0].remedy.as_deref(), Some("did you mean `site`?"));
//! ```

pub mod alerts;
pub mod allowance;
pub mod diagnostic;
pub mod document;
pub mod folder;
pub mod recipients;
pub mod reports;
pub mod settings;
pub mod sources;
pub mod understand;

pub use diagnostic::{Diagnostic, Severity};
pub use folder::FolderSettings;
pub use sources::{Companions, Sources};
pub use understand::{understand, understand_with};

use crate::encode::{COMPRESSED_TYPES, Codec};
use crate::facts::Scheme;
use crate::media_types::MediaTypes;
use crate::rules::RuleSet;
use crate::rules::effects::CompressChange;
use alerts::Alert;
use allowance::AtAllowance;
use exedra_common::text::{Wildcard, nearest};
use exedra_reading::logs::Layout;
use ipnet::IpNet;
use jiff::tz::TimeZone;
use recipients::{MailServer, Recipient};
use reports::ScheduledReport;
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;

/// A value and where it is written: octets of the configuration's text. Defaults stand at `0..0`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Located<T> {
    /// The value.
    pub value: T,
    /// Where it is written.
    pub span: Range<usize>,
}

/// Everything the service does is decided by this.
#[derive(Debug, Clone)]
pub struct Config {
    /// Settings of the service as a whole.
    pub service: Service,
    /// How much a client may take, and how long.
    pub limits: Limits,
    /// How the log of errors is kept.
    pub errors: Keeping,
    /// Addresses on which sites answer.
    pub listeners: Vec<Listener>,
    /// Certificates that lie in files, or are to be obtained.
    pub certificates: Vec<Certificate>,
    /// The authority that certificates are obtained from, where one is asked for.
    pub authority: Option<Authority>,
    /// Who may go where a login is asked for.
    pub realms: Vec<Realm>,
    /// Layouts of one's own, by their names.
    pub layouts: Vec<Layout>,
    /// What is watched.
    pub alerts: Vec<Alert>,
    /// Who is told of it.
    pub recipients: Vec<Recipient>,
    /// Reports that are made by themselves.
    pub reports: Vec<ScheduledReport>,
    /// The server that takes mail.
    pub mail: Option<MailServer>,
    /// The sites, in the order in which they are written.
    pub sites: Vec<Site>,
    /// Which site answers to a host, by its name in lower case.
    pub hosts: BTreeMap<String, SiteId>,
    /// Which site answers to all hosts that end so (`.harbour.example`), the longest first.
    pub endings: Vec<(String, SiteId)>,
    /// The site that answers to all other hosts.
    pub default_site: Option<SiteId>,
    /// What is asked of a request beyond its octets.
    pub asks: AsksFor,
    /// The files it is written in.
    pub sources: Sources,
}

/// What rules ask of a request that its octets do not say, so that nobody finds it out in vain.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct AsksFor {
    /// The country of the client.
    pub country: bool,
    /// What time it is.
    pub time: bool,
}

/// There is no site of that name.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("there is no site `{name}`{}", nearest.as_ref().map(|near| format!(": did you mean `{near}`?")).unwrap_or_default())]
pub struct NoSite {
    /// What was written.
    pub name: String,
    /// The nearest name there is.
    pub nearest: Option<String>,
}

impl Config {
    /// The site of a name; the error says which was perhaps meant.
    pub fn site_named(&self, name: &str) -> Result<SiteId, NoSite> {
        let names = || self.sites.iter().map(|site| site.name.value.as_str());
        names().position(|known| known == name).map(SiteId).ok_or_else(|| NoSite {
            name: name.to_owned(),
            nearest: nearest(name, names()).map(str::to_owned),
        })
    }

    /// A site by its number.
    pub fn site(&self, id: SiteId) -> &Site {
        &self.sites[id.0]
    }

    /// The port that addresses of a scheme name: that of the first such listener. Port 0 is any, and named by nobody.
    pub fn public_port(&self, scheme: Scheme) -> Option<u16> {
        let listener = self.listeners.iter().find(|listener| listener.scheme() == scheme)?;
        Some(listener.public_port.unwrap_or(listener.address.value.port()))
    }
}

/// An address on which sites answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listener {
    /// Address and port.
    pub address: Located<SocketAddr>,
    /// Whether by HTTPS.
    pub https: bool,
    /// The port that visitors know it by, where something in front maps it.
    pub public_port: Option<u16>,
    /// Whether connections begin with who they come from (PROXY protocol).
    pub announced: bool,
}

impl Listener {
    /// The scheme that it answers by.
    pub fn scheme(&self) -> Scheme {
        if self.https { Scheme::Https } else { Scheme::Http }
    }
}

/// A certificate for some hosts.
#[derive(Debug, Clone)]
pub struct Certificate {
    /// The hosts.
    pub hosts: Vec<Located<String>>,
    /// Where it comes from.
    pub origin: CertificateOrigin,
    /// Where it is written.
    pub place: Range<usize>,
}

/// Where a certificate comes from.
#[derive(Debug, Clone)]
pub enum CertificateOrigin {
    /// From files: the chain and the key of its first certificate, in PEM (RFC 7468).
    Files {
        /// The chain.
        chain: Located<PathBuf>,
        /// The key.
        key: Located<PathBuf>,
    },
    /// Obtained from the authority, and renewed (RFC 8555).
    Authority,
    /// Files as above, which a command of one's own brings up to date once a day, and at the start.
    Command {
        /// The command and its arguments.
        command: Vec<String>,
        /// The chain.
        chain: Located<PathBuf>,
        /// The key.
        key: Located<PathBuf>,
    },
}

/// The authority that certificates are obtained from (RFC 8555).
#[derive(Debug, Clone)]
pub struct Authority {
    /// Address of its directory.
    pub directory: Located<String>,
    /// Whom it may write to.
    pub contact: Option<String>,
    /// Certificates of those who vouch for the authority itself, in PEM, where the system does not know them.
    pub trusted: Option<Located<PathBuf>>,
}

/// Some users.
#[derive(Debug, Clone)]
pub struct Realm {
    /// Its name, which rules use.
    pub name: Located<String>,
    /// What browsers say when they ask for name and password.
    pub title: String,
    /// The file with its users.
    pub users: Located<PathBuf>,
    /// Whether passwords may come in without HTTPS.
    pub without_https: bool,
}

/// Whether a site is there by HTTPS.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Https {
    /// It may be asked either way.
    Offered,
    /// Who asks without is sent there.
    Required,
}

/// The number of a site in its configuration.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct SiteId(pub usize);

/// The field by which forwarders say for whom they ask. They set one; any other came from a stranger.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ForwardedBy {
    /// `Forwarded` (RFC 7239).
    #[default]
    Forwarded,
    /// The older `X-Forwarded-For`, with `X-Forwarded-Proto` for the scheme.
    XForwardedFor,
}

/// Settings of the service as a whole.
#[derive(Debug, Clone)]
pub struct Service {
    /// Where the console and its API answer.
    pub console: Located<SocketAddr>,
    /// Whether it answers by HTTPS.
    pub console_https: bool,
    /// Names by which the console is reached, beside addresses and `localhost`.
    pub console_hosts: Vec<String>,
    /// Folder of databases and tokens.
    pub state: Located<PathBuf>,
    /// Folder of access logs.
    pub logs: Located<PathBuf>,
    /// Whether the service reads its own logs into records.
    pub records: bool,
    /// How long single requests stay in the records; for ever where there is none.
    pub retention: Option<jiff::Span>,
    /// For how long a published change is watched.
    pub watch_changes: Duration,
    /// Whether one that fails more than promised is taken back by itself.
    pub take_back: bool,
    /// Octets of bodies that all sites together may send in a calendar month, where that is limited by somebody.
    pub allowance: Option<u64>,
    /// What happens to downloads of all sites when it is used up.
    pub at_allowance: AtAllowance,
    /// Whose days and hours reports speak of.
    pub time_zone: TimeZone,
    /// Networks whose `Forwarded` field is believed (RFC 7239).
    pub forwarders: Vec<IpNet>,
    /// The field by which they say so.
    pub forwarded_by: ForwardedBy,
    /// The file that knows countries of addresses.
    pub countries: Option<Located<PathBuf>>,
    /// Whom the service becomes once it has its sockets.
    pub user: Option<Located<String>>,
}

/// A site.
#[derive(Debug, Clone)]
pub struct Site {
    /// Its name, which is also the name of its log.
    pub name: Located<String>,
    /// Host names it answers to, in lower case.
    pub hosts: Vec<Located<String>>,
    /// The one host name it is known by.
    pub main_host: Option<Located<String>>,
    /// Whether it is there by HTTPS.
    pub https: Located<Https>,
    /// For how long browsers are told to come by HTTPS only (RFC 6797).
    pub https_only: Option<Duration>,
    /// Its folder; one whose rules answer everything needs none.
    pub folder: Option<Located<PathBuf>>,
    /// Media types by extension that are its own.
    pub media_types: Arc<MediaTypes>,
    /// Whether folders may have settings of their own.
    pub folder_settings: bool,
    /// Whether those may set header fields that browsers keep for the whole host.
    pub folder_host_headers: bool,
    /// Its rules.
    pub rules: RuleSet,
    /// Where each of its settings is written that somebody wrote, by its name.
    pub origins: BTreeMap<&'static str, Range<usize>>,
    /// Files that stand for their folder, in order.
    pub index: Vec<String>,
    /// Whether folders without an index file are listed.
    pub listing: bool,
    /// Pages of its own for errors.
    pub error_pages: ErrorPages,
    /// How answers are compressed.
    pub compress: Compress,
    /// How its access log is written.
    pub log: Log,
    /// Octets of bodies that it may send in a calendar month, where that is limited by somebody.
    pub allowance: Option<u64>,
    /// What happens to its downloads when it is used up.
    pub at_allowance: AtAllowance,
}

impl Site {
    /// Its folder, where it has one.
    pub fn root(&self) -> Option<&Path> {
        self.folder.as_ref().map(|folder| folder.value.as_path())
    }

    /// Where its folder is written, or else its name.
    pub fn folder_place(&self) -> &Range<usize> {
        self.folder.as_ref().map_or(&self.name.span, |folder| &folder.span)
    }
}

/// How an access log is written.
#[derive(Debug, Clone)]
pub struct Log {
    /// Whether there is one at all.
    pub write: bool,
    /// How a line looks.
    pub layout: Layout,
    /// Whether addresses are cut to their network before they are written.
    pub masks_clients: bool,
    /// How its generations follow each other.
    pub keeping: Keeping,
}

/// How the generations of a log follow each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Keeping {
    /// When the next one begins.
    pub rotate: Rotate,
    /// How long past ones are kept; `None` is for ever.
    pub keep: Option<Duration>,
}

/// When the next generation of a log begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rotate {
    /// After so many days of the service's time zone.
    Days(u64),
    /// When the next lines would make it larger than so many bytes.
    Size(u64),
    /// Never, unless somebody takes the file away.
    Never,
}

/// How much a client may take, and how long.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// How long the head of a request may take to come in.
    pub head_time: Duration,
    /// How long a connection may wait for its next request.
    pub idle_time: Duration,
    /// How long a client may take none of an answer, or give none of a body.
    pub body_time: Duration,
    /// The largest head of a request, in bytes.
    pub head_size: u64,
    /// How many connections may be open.
    pub connections: u64,
    /// How many requests one connection may bring.
    pub requests: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Limits {
            head_time: Duration::from_secs(20),
            idle_time: Duration::from_secs(60),
            body_time: Duration::from_secs(60),
            head_size: 64 << 10,
            connections: 20_000,
            requests: 10_000,
        }
    }
}

/// Pages of a site's own for errors, by status before class.
#[derive(Debug, Clone, Default)]
pub struct ErrorPages {
    /// By status.
    pub by_status: BTreeMap<u16, Located<String>>,
    /// By first digit of the status.
    pub by_class: BTreeMap<u16, Located<String>>,
}

impl ErrorPages {
    /// Path of the page for a status.
    pub fn page(&self, status: u16) -> Option<&Located<String>> {
        self.by_status.get(&status).or_else(|| self.by_class.get(&(status / 100)))
    }

    /// All pages.
    pub fn all(&self) -> impl Iterator<Item = &Located<String>> {
        self.by_status.values().chain(self.by_class.values())
    }
}

/// How answers are compressed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Compress {
    /// Codecs, the preferred first.
    pub codecs: Vec<Codec>,
    /// Types that are compressed.
    pub types: Vec<Wildcard>,
    /// The smallest body worth it, in bytes.
    pub at_least: u64,
    /// Effort by codec, in the order of [`Codec::ALL`]; those without one settle.
    pub effort: [Option<u32>; Codec::ALL.len()],
    /// Agents that get nothing compressed.
    pub not_for: Vec<Wildcard>,
}

impl Default for Compress {
    fn default() -> Self {
        Compress {
            codecs: vec![Codec::Brotli, Codec::Zstd, Codec::Gzip],
            types: COMPRESSED_TYPES.iter().map(|&name| Wildcard::new(name)).collect(),
            at_least: 256,
            effort: Default::default(),
            not_for: Vec::new(),
        }
    }
}

impl Compress {
    /// Changes what a rule, or a section, says otherwise.
    pub fn change(&mut self, change: &CompressChange) {
        let CompressChange { codecs, types, at_least, not_for } = change.clone();
        self.codecs = codecs.unwrap_or_else(|| std::mem::take(&mut self.codecs));
        self.types = types.unwrap_or_else(|| std::mem::take(&mut self.types));
        self.at_least = at_least.unwrap_or(self.at_least);
        self.not_for = not_for.unwrap_or_else(|| std::mem::take(&mut self.not_for));
    }

    /// Whether a type (without its parameters) is to be compressed.
    pub fn has_type(&self, essence: &str) -> bool {
        self.types.iter().any(|listed| listed.fits(essence))
    }

    /// The pattern by which an agent gets nothing compressed, where there is one.
    pub fn leaves_out(&self, agent: &str) -> Option<&Wildcard> {
        self.not_for.iter().find(|pattern| pattern.fits(agent))
    }
}
