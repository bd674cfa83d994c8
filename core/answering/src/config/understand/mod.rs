//! The documents into a [`Config`].
//!
//! - [`service`]: what belongs to no site: console, folders, zone, proxies, allowance
//! - [`hosts`]: listeners, certificates, host names; [`access`]: realms; [`alerts`]: what is watched; [`recipients`]: who is told;
//!   [`reports`]: what is made by itself
//! - [`sites`]: a site with its folder and pages
//! - [`headers`]: fields that answers are given
//! - [`rules`]: rules and their conditions; [`effects`]: what they do; [`redirects`]: many of them from a file
//! - [`compress`]: codecs, types and efforts
//! - [`bounds`]: logs and how long they are kept, limits on clients; [`allowances`]: what may be sent in a month

mod access;
mod alerts;
mod allowances;
mod bounds;
mod compress;
mod effects;
mod headers;
mod hosts;
mod recipients;
mod redirects;
mod reports;
mod rules;
mod service;
mod sites;

use super::alerts::{What, When};
use super::diagnostic::Diagnostic;
use super::document::{Item, Section};
use super::*;
use crate::facts::FactName;
use bounds::NINETY_DAYS;
use exedra_common::text::nearest;
use exedra_common::units;
use std::collections::HashMap;
use std::path::Path;
use toml::Spanned;
use toml::de::DeTable;

/// Understands a configuration that names no other files. Relative folders are taken from `base`.
///
/// All mistakes are found in one go; a configuration with one does not come into force.
pub fn understand(text: &str, base: &Path) -> Result<Config, Vec<Diagnostic>> {
    understand_with("exedra.toml", text, base, &()).map_err(|(found, _)| found)
}

/// Understands a configuration of a name, with the files it names.
pub fn understand_with(
    name: &str,
    text: &str,
    base: &Path,
    companions: &dyn Companions,
) -> Result<Config, (Vec<Diagnostic>, Sources)> {
    let mut sources = Sources::one(name, text);
    let main = match parse(text, 0) {
        Ok(main) => main,
        Err(mistake) => return Err((vec![mistake], sources)),
    };
    let mut diagnostics = Vec::new();
    let included = include(&main, base, companions, &mut sources, &mut diagnostics);
    let mut others = Vec::new();
    for (at, begins) in included {
        let text: &str = &sources.files()[at].text;
        match parse(text, begins) {
            Ok(document) => others.push((document, begins)),
            Err(mistake) => diagnostics.push(mistake),
        }
    }
    let main = Section::top(&main, 0, &mut diagnostics);
    let others: Vec<Section<'_>> =
        others.iter().map(|(document, begins)| Section::top(document, *begins, &mut diagnostics)).collect();
    let mut reading = Reading {
        base,
        companions,
        diagnostics,
        realms: Vec::new(),
        layouts: Vec::new(),
        time_zone: TimeZone::UTC,
        limits: 0,
        host_headers: true,
        read: sources.clone(),
    };
    let config = reading.config(&main, &others);
    let Reading { mut diagnostics, read: sources, .. } = reading;
    diagnostics.sort_by_key(|diagnostic| diagnostic.span.start);
    match config {
        Some(config) if diagnostics.is_empty() => Ok(Config { sources, ..config }),
        _ => Err((diagnostics, sources)),
    }
}

/// Where the state folder and the console are, and whether it answers by HTTPS, as far as a text says so that may be full of mistakes.
pub fn whereabouts(text: &str, base: &Path) -> (PathBuf, SocketAddr, bool) {
    let read = |line: &str, key: &str| -> Option<String> {
        let value = line.trim().strip_prefix(key)?.trim_start().strip_prefix('=')?;
        value.split('"').nth(1).map(str::to_owned)
    };
    let first = |key: &str| text.lines().find_map(|line| read(line, key));
    let console = first("console").and_then(|text| text.parse().ok());
    let state = base.join(first("state").unwrap_or_else(|| "state".to_owned()));
    let console = console.unwrap_or(SocketAddr::from(([127, 0, 0, 1], 7300)));
    let flag = |key: &str| {
        let value =
            text.lines().find_map(|line| line.trim().strip_prefix(key)?.trim_start().strip_prefix('='))?;
        Some(value.trim().starts_with("true"))
    };
    let https = service::is_https(console, flag("console_https"), flag("console_in_the_open") == Some(true));
    (state, console, https)
}

/// Understands the settings of a folder of a site.
pub(super) fn folder_settings(
    text: &str,
    config: &Config,
    site: SiteId,
) -> Result<FolderSettings, Vec<Diagnostic>> {
    let document = parse(text, 0).map_err(|mistake| vec![mistake])?;
    let mut diagnostics = Vec::new();
    let section = Section::top_of(folder::FILE_NAME, &document, 0, &mut diagnostics);
    let mut reading = Reading {
        base: Path::new(""),
        companions: &(),
        diagnostics,
        realms: config.realms.iter().map(|realm| realm.name.value.clone()).collect(),
        layouts: config.layouts.clone(),
        time_zone: config.service.time_zone.clone(),
        limits: 0,
        host_headers: config.site(site).folder_host_headers,
        read: Sources::default(),
    };
    let settings = reading.folder_settings(&section);
    for condition in settings.rules.written().iter().flat_map(|rule| &rule.when) {
        if condition.fact == FactName::Country && config.service.countries.is_none() {
            let remedy = "name one in the service's configuration, or leave this out";
            reading.error(&condition.place, "the country is unknown", "there is no `countries` file", remedy);
        }
    }
    if reading.diagnostics.is_empty() { Ok(settings) } else { Err(reading.diagnostics) }
}

fn parse(text: &str, begins: usize) -> Result<Spanned<DeTable<'_>>, Diagnostic> {
    DeTable::parse(text).map_err(|error| {
        let span = error.span().unwrap_or(0..0);
        let span = span.start + begins..span.end + begins;
        Diagnostic::error(span, "this is not valid TOML", error.message().replace('\n', ", "))
    })
}

/// Reads the files that a configuration includes: which of the sources each is, and where it begins.
fn include(
    main: &Spanned<DeTable<'_>>,
    base: &Path,
    companions: &dyn Companions,
    sources: &mut Sources,
    diagnostics: &mut Vec<Diagnostic>,
) -> Vec<(usize, usize)> {
    let top = Section::top(main, 0, &mut Vec::new());
    let patterns = top.section("service", &mut Vec::new()).texts("include").unwrap_or_default();
    let mut included = Vec::new();
    for pattern in patterns {
        let cannot = |reason: String| {
            let message = format!("`{}` cannot be included", pattern.value);
            let remedy = "name a file, or some in one folder as in \"sites.d/*.toml\"";
            Diagnostic::error(pattern.span.clone(), message, reason).remedy(remedy)
        };
        let paths = match companions.matching(&base.join(&pattern.value)) {
            Ok(paths) if paths.is_empty() && !pattern.value.contains('*') => {
                diagnostics.push(cannot("there is no such file".to_owned()));
                continue;
            }
            Ok(paths) => paths,
            Err(reason) => {
                diagnostics.push(cannot(reason));
                continue;
            }
        };
        for path in paths {
            match companions.read(&path) {
                Ok(text) => {
                    let begins = sources.add(&path.display().to_string(), text);
                    included.push((sources.files().len() - 1, begins));
                }
                Err(reason) => diagnostics.push(cannot(format!("{}: {reason}", path.display()))),
            }
        }
    }
    included
}

struct Reading<'b> {
    base: &'b Path,
    companions: &'b dyn Companions,
    diagnostics: Vec<Diagnostic>,
    /// Names of the realms, in their order.
    realms: Vec<String>,
    /// Layouts of one's own.
    layouts: Vec<Layout>,
    /// The zone of the service.
    time_zone: TimeZone,
    /// How many limits there are so far.
    limits: usize,
    /// Whether header fields may be set that browsers keep for the whole host.
    host_headers: bool,
    /// All files that were read, also meanwhile.
    read: Sources,
}

impl Reading<'_> {
    fn config(&mut self, top: &Section<'_>, others: &[Section<'_>]) -> Option<Config> {
        for section in others {
            for only in ["service", "limits", "errors", "defaults", "authority", "mail"] {
                if let Some(place) = section.place(only) {
                    let message = format!("[{only}] stands in the main file only");
                    let remedy = "move it there; included files have sites, realms, layouts, alerts, recipients, reports, certificates and listeners";
                    self.error(&place, message, "this is an included one", remedy);
                }
            }
        }
        let mut all = |key: &'static str| -> Vec<Section<'_>> {
            let tops = std::iter::once(top).chain(others);
            tops.flat_map(|section| section.sections(key, &mut self.diagnostics)).collect()
        };
        let (listeners, certificates) = (all("listener"), all("certificate"));
        let (realms, layouts, sites) = (all("realm"), all("layout"), all("site"));
        let (alerts, recipients) = (all("alert"), all("recipient"));
        let reports = all("report");
        let service = top.section("service", &mut self.diagnostics);
        let service = self.service(&service);
        self.time_zone = service.time_zone.clone();
        let limits = top.section("limits", &mut self.diagnostics);
        let limits = self.limits(&limits);
        let errors = top.section("errors", &mut self.diagnostics);
        let errors = self.keeping(&errors, Keeping { rotate: Rotate::Size(20_000_000), keep: NINETY_DAYS });
        let authority = top.section("authority", &mut self.diagnostics);
        let authority = self.authority(&authority);
        let listeners: Vec<_> = listeners.iter().filter_map(|section| self.listener(section)).collect();
        let certificates = certificates
            .iter()
            .filter_map(|section| self.certificate(section, authority.is_some()))
            .collect();
        let realms = realms.iter().filter_map(|section| self.realm(section)).collect();
        layouts.iter().for_each(|section| self.named_layout(section));
        let defaults = top.section("defaults", &mut self.diagnostics);
        let defaults = self.defaults(&defaults);
        let mail = top.section("mail", &mut self.diagnostics);
        let has_mail = mail.is_there();
        let mail = self.mail_server(&mail);
        let recipients = self.recipients(&recipients, has_mail);
        let mut config = Config {
            service,
            limits,
            errors,
            listeners,
            certificates,
            authority,
            realms,
            layouts: self.layouts.clone(),
            alerts: self.alerts(&alerts, &recipients),
            reports: self.reports(&reports, &recipients),
            recipients,
            mail,
            sites: Vec::new(),
            hosts: BTreeMap::new(),
            endings: Vec::new(),
            default_site: None,
            asks: AsksFor::default(),
            sources: Sources::default(),
        };
        let mut names: HashMap<String, Range<usize>> = HashMap::new();
        let has_sites = !sites.is_empty();
        for section in sites {
            let Some(site) = self.site(&section, &defaults) else { continue };
            self.add_site(&mut config, site, section.flag("default"), &mut names);
        }
        config.endings.sort_by_key(|(ending, _)| std::cmp::Reverse(ending.len()));
        // One without sites is for reading logs.
        if config.listeners.is_empty() && has_sites && self.diagnostics.is_empty() {
            let reason = "no [[listener]] in this file";
            let remedy = "add one: [[listener]] with address = \"127.0.0.1:7380\"";
            self.error(&(0..0), "no site could be reached", reason, remedy);
        }
        self.hold_together(&mut config);
        Some(config)
    }

    /// What only shows when everything is known.
    fn hold_together(&mut self, config: &mut Config) {
        let has_https = config.listeners.iter().any(|listener| listener.https);
        for site in &config.sites {
            if site.https.value == Https::Required && !has_https && !config.listeners.is_empty() {
                let message = format!("`{}` requires HTTPS, and no listener has it", site.name.value);
                let remedy = "give a [[listener]] https = true, or write https = \"offered\"";
                self.error(
                    &site.https.span,
                    message,
                    "redirects would lead to a port nobody listens on",
                    remedy,
                );
            }
            for fact in site.rules.written().iter().flat_map(|rule| rule.asks_for()) {
                match fact {
                    FactName::Country => config.asks.country = true,
                    FactName::Hour | FactName::Weekday | FactName::Date => config.asks.time = true,
                    _ => {}
                }
            }
            let country = site.rules.written().iter().flat_map(|rule| &rule.when);
            for condition in country.filter(|condition| condition.fact == FactName::Country) {
                if config.service.countries.is_none() {
                    let remedy = "name one in [service]: countries = \"countries.mmdb\"";
                    let place = condition.place.clone();
                    self.error(&place, "the country is unknown", "there is no `countries` file", remedy);
                }
            }
        }
        for alert in &config.alerts {
            let When::Present(present) = &alert.when else { continue };
            let place = &alert.name.span;
            match &present.what {
                What::Allowance(site) | What::Forecast(site) | What::Unread(site) => {
                    let known = site.as_ref().map(|name| config.site_named(name));
                    if let Some(Err(error)) = &known {
                        let reason = format!("the alert `{}` is about it", alert.name.value);
                        self.error(place, error.to_string(), reason, "name a site, or \"all\"");
                        continue;
                    }
                    let allowance = match known.and_then(Result::ok) {
                        Some(site) => config.site(site).allowance,
                        None => config.service.allowance,
                    };
                    if allowance.is_none() && !matches!(present.what, What::Unread(_)) {
                        let message =
                            format!("`{}` is about an allowance that there is not", alert.name.value);
                        let remedy =
                            "write allowance = \"200 GB\" in the site, or in [service] for all together";
                        self.error(place, message, "`allowance` is missing", remedy);
                    }
                }
                What::Certificate(Some(host)) => {
                    let is_known = config
                        .certificates
                        .iter()
                        .any(|one| one.hosts.iter().any(|known| known.value == *host));
                    if !is_known {
                        let message = format!("there is no certificate for `{host}`");
                        let reason = format!("the alert `{}` is about it", alert.name.value);
                        self.error(place, message, reason, "name a host of a [[certificate]], or \"all\"");
                    }
                }
                What::Certificate(None) | What::FreeSpace(_) | What::Query { .. } => {}
            }
        }
        // A folder's settings may ask for either at any time.
        if config.sites.iter().any(|site| site.folder_settings) {
            config.asks = AsksFor { country: config.service.countries.is_some(), time: true };
        }
    }

    fn address(&mut self, text: Located<String>) -> Option<Located<SocketAddr>> {
        match text.value.parse() {
            Ok(value) => Some(Located { value, span: text.span }),
            Err(_) => {
                let message = format!("`{}` is not an address", text.value);
                let remedy = "write it like \"127.0.0.1:7380\" or \"[::1]:7380\"";
                self.error(&text.span, message, "a numeric address and a port", remedy);
                None
            }
        }
    }

    fn network(&mut self, text: &Located<String>) -> Option<IpNet> {
        let network = text.value.parse().or_else(|_| text.value.parse::<std::net::IpAddr>().map(IpNet::from));
        if network.is_err() {
            let message = format!("`{}` is not a network", text.value);
            self.error(
                &text.span,
                message,
                "an address, or one with the length of its network",
                "write it like \"10.0.0.0/8\"",
            );
        }
        network.ok()
    }

    fn folder(&self, text: Option<Located<String>>, default: &str) -> Located<PathBuf> {
        let text = text.unwrap_or(Located { value: default.to_owned(), span: 0..0 });
        Located { value: self.base.join(text.value), span: text.span }
    }

    fn error(
        &mut self,
        span: &Range<usize>,
        message: impl Into<String>,
        reason: impl Into<String>,
        remedy: impl Into<String>,
    ) {
        self.diagnostics.push(Diagnostic::error(span.clone(), message, reason).remedy(remedy));
    }
}

#[cfg(test)]
mod tests {
    use super::diagnostic::draw;
    use super::*;
    use rstest::rstest;

    const SOUND: &str = r#"
[service]
time_zone = "Atlantic/Faroe"
[[listener]]
address = "127.0.0.1:7380"
[defaults.compress]
codecs = ["gzip"]
[[site]]
name = "harbour"
hosts = ["Harbour.lindry.example", "www.harbour.lindry.example"]
main_host = "harbour.lindry.example"
folder = "sites/harbour"
[site.error_pages]
404 = "/errors/lost.html"
"5xx" = "/errors/sorry.html"
[site.compress]
at_least = "1 kB"
"#;

    #[test]
    fn sites_begin_with_the_defaults() {
        let config = understand(SOUND, Path::new("/srv")).unwrap();
        let site = &config.sites[0];
        assert_eq!(site.root().unwrap(), Path::new("/srv/sites/harbour"));
        assert_eq!((site.compress.codecs.as_slice(), site.compress.at_least), (&[Codec::Gzip][..], 1000));
        assert_eq!(config.hosts["harbour.lindry.example"], SiteId(0));
        assert_eq!(site.error_pages.page(503).unwrap().value, "/errors/sorry.html");
        assert!(site.error_pages.page(403).is_none());
        assert_eq!(&SOUND[site.name.span.clone()], "\"harbour\"");
    }

    #[test]
    fn limits_logs_and_efforts_as_they_are_written() {
        let text = SOUND.replace(
            "at_least = \"1 kB\"",
            "effort = { zstd = 12 }\n[site.log]\nrotate = \"50 MB\"\nkeep = \"forever\"\nwrite = false",
        ) + "[limits]\nidle_time = \"2 minutes\"\nconnections = 7\n[errors]\nrotate = \"2 days\"\nkeep = \"1 week\"\n";
        let config = understand(&text, Path::new("")).unwrap();
        let limits = Limits { idle_time: Duration::from_secs(120), connections: 7, ..Limits::default() };
        assert_eq!(config.limits, limits);
        assert_eq!(
            config.errors,
            Keeping { rotate: Rotate::Days(2), keep: Some(Duration::from_secs(7 * units::DAY)) }
        );
        let site = &config.sites[0];
        assert_eq!(site.log.keeping, Keeping { rotate: Rotate::Size(50_000_000), keep: None });
        assert!(!site.log.write);
        assert_eq!(site.compress.effort, [None, Some(12), None, None]);
    }

    #[rstest]
    #[case::unknown_setting(
        "folder =",
        "foldr =",
        "there is no setting `foldr` in `site`",
        "did you mean `folder`?"
    )]
    #[case::wrong_kind(
        "\"harbour\"",
        "7",
        "`name` in `site` takes a text in quotation marks",
        "write it like name = \"harbour\""
    )]
    #[case::zone(
        "Faroe",
        "Faroes",
        "there is no time zone `Atlantic/Faroes`",
        "did you mean `Atlantic/Faroe`?"
    )]
    #[case::codec("gzip", "gzp", "there is no codec `gzp`", "did you mean `gzip`?")]
    #[case::address("127.0.0.1:7380", "localhost", "`localhost` is not an address", "write it like")]
    #[case::main_host(
        "main_host = \"h",
        "main_host = \"mh",
        "the main host `mharbour.lindry.example` is none of the site's hosts",
        "did you mean"
    )]
    #[case::page(
        "/errors/lost",
        "errors/lost",
        "the path `errors/lost.html` does not begin at the site's root",
        "write \"/errors/lost.html\""
    )]
    #[case::status("404", "4O4", "`4O4` is not an error status", "write it like 404")]
    #[case::effort(
        "[\"gzip\"]",
        "[\"gzip\"]\neffort = { gzip = 12 }",
        "`gzip` has no such effort",
        "write it like gzip = 5"
    )]
    #[case::effort_word(
        "[\"gzip\"]",
        "[\"gzip\"]\neffort = \"most\"",
        "there is no effort `most`",
        "settled"
    )]
    #[case::time("[service]", "[limits]\nhead_time = \"soon\"\n[service]", "`soon` is no time", "20 seconds")]
    #[case::no_connections(
        "[service]",
        "[limits]\nconnections = 0\n[service]",
        "no client could be answered",
        "leave it out"
    )]
    #[case::below_zero(
        "[service]",
        "[limits]\nconnections = -1\n[service]",
        "takes a whole number",
        "connections = 20000"
    )]
    #[case::head(
        "[service]",
        "[limits]\nhead_size = \"2 kB\"\n[service]",
        "cannot be bounded by `2 kB`",
        "64 KiB"
    )]
    #[case::rotate(
        "at_least = \"1 kB\"",
        "[site.log]\nrotate = \"1 hour\"",
        "cannot rotate by `1 hour`",
        "1 day"
    )]
    #[case::keep(
        "at_least = \"1 kB\"",
        "[site.log]\nkeep = \"long\"",
        "`long` is not a length of time",
        "90 days"
    )]
    #[case::size("1 kB", "1 stone", "`1 stone` is not a size", "256 bytes")]
    #[case::toml("[service]", "[service", "this is not valid TOML", "")]
    #[case::host_twice("\"www.h", "\"h", "the host `harbour.lindry.example` is claimed twice", "remove one")]
    fn mistakes_have_place_reason_and_remedy(
        #[case] right: &str,
        #[case] wrong: &str,
        #[case] message: &str,
        #[case] remedy: &str,
    ) {
        let text = SOUND.replacen(right, wrong, 1);
        let diagnostics = understand(&text, Path::new("")).unwrap_err();
        let drawn = draw(&diagnostics, &Sources::one("exedra.toml", &text), false);
        assert!(drawn.contains(message) && drawn.contains(remedy), "{drawn}");
        assert!(drawn.contains("exedra.toml:"), "{drawn}");
    }

    #[test]
    fn all_mistakes_at_once() {
        let text = SOUND.replace("folder =", "foldr =").replace("gzip", "zip7").replace("Faroe", "Pharo");
        let found = understand(&text, Path::new("")).unwrap_err();
        insta::assert_snapshot!(draw(&found, &Sources::one("exedra.toml", &text), false));
    }
}
