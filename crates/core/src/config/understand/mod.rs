//! The document into a [`Config`].
//!
//! - [`compress`]: codecs, types and efforts
//! - [`bounds`]: logs and how long they are kept, limits on clients

mod bounds;
mod compress;

use super::diagnostic::Diagnostic;
use super::document::{Section, in_words, located};
use super::*;
use std::collections::HashMap;
use std::path::Path;
use toml::de::DeTable;

/// Understands a configuration. Relative folders are taken from `base`.
///
/// All mistakes are found in one go; a configuration with one does not come into force.
pub fn understand(text: &str, base: &Path) -> Result<Config, Vec<Diagnostic>> {
    let document = DeTable::parse(text).map_err(|error| {
        let span = error.span().unwrap_or(0..0);
        vec![Diagnostic::error(span, "this is no valid TOML", error.message().replace('\n', ", "))]
    })?;
    let mut reading = Reading { base, diagnostics: Vec::new() };
    let top = Section::top(&document, &mut reading.diagnostics);
    let config = reading.config(&top);
    reading.diagnostics.sort_by_key(|diagnostic| diagnostic.span.start);
    match config {
        Some(config) if reading.diagnostics.is_empty() => Ok(config),
        _ => Err(reading.diagnostics),
    }
}

struct Reading<'b> {
    base: &'b Path,
    diagnostics: Vec<Diagnostic>,
}

impl Reading<'_> {
    fn config(&mut self, top: &Section<'_>) -> Option<Config> {
        let service = top.section("service", &mut self.diagnostics);
        let service = self.service(&service);
        let limits = top.section("limits", &mut self.diagnostics);
        let limits = self.limits(&limits);
        let errors = top.section("errors", &mut self.diagnostics);
        let errors = self.keeping(&errors, Rotate::Size(20_000_000));
        let listeners = top.sections("listener", &mut self.diagnostics);
        let listeners: Vec<_> =
            listeners.iter().filter_map(|listener| self.address(listener.text("address")?)).collect();
        let defaults = top.section("defaults", &mut self.diagnostics);
        let defaults = defaults.section("compress", &mut self.diagnostics);
        let compress = self.compress(&defaults, Compress::default());
        let mut config = Config {
            service,
            limits,
            errors,
            listeners,
            sites: Vec::new(),
            hosts: BTreeMap::new(),
            default_site: None,
        };
        let mut names: HashMap<String, Range<usize>> = HashMap::new();
        for section in top.sections("site", &mut self.diagnostics) {
            let Some(site) = self.site(&section, &compress) else { continue };
            let id = SiteId(config.sites.len());
            if let Some(flag) = section.flag("default").filter(|flag| flag.value) {
                if config.default_site.is_some() {
                    let reason = "another site has said so before";
                    self.error(
                        &flag.span,
                        "two sites cannot both answer for unknown hosts",
                        reason,
                        "keep one",
                    );
                }
                config.default_site = Some(id);
            }
            if names.insert(site.name.value.clone(), site.name.span.clone()).is_some() {
                let message = format!("two sites are called `{}`", site.name.value);
                self.error(&site.name.span, message, "this is the second", "give it a name of its own");
            }
            for host in &site.hosts {
                if let Some(other) = config.hosts.insert(host.value.clone(), id) {
                    let owner =
                        config.sites.get(other.0).map_or("this site", |site| site.name.value.as_str());
                    let message = format!("the host `{}` is claimed twice", host.value);
                    let reason = format!("`{owner}` has it already");
                    self.error(&host.span, message, reason, "a request can go to one site only: remove one");
                }
            }
            config.sites.push(site);
        }
        if config.listeners.is_empty() && self.diagnostics.is_empty() {
            let reason = "no [[listener]] in this file";
            let remedy = "add one: [[listener]] with address = \"127.0.0.1:7380\"";
            self.error(&(0..0), "no site could be reached", reason, remedy);
        }
        Some(config)
    }

    fn service(&mut self, section: &Section<'_>) -> Service {
        let console = section.text("console").and_then(|text| self.address(text));
        let loopback = Located { value: SocketAddr::from(([127, 0, 0, 1], 7300)), span: 0..0 };
        let state = self.folder(section.text("state"), "state");
        let logs = match section.text("logs") {
            None => Located { value: state.value.join("logs"), span: 0..0 },
            folder => self.folder(folder, "logs"),
        };
        let time_zone = section.text("time_zone").map_or(TimeZone::UTC, |name| {
            TimeZone::get(&name.value).unwrap_or_else(|_| {
                let names = jiff::tz::db().available().map(|name| name.to_string()).collect::<Vec<_>>();
                let near = nearest(&name.value, names.iter().map(String::as_str));
                let remedy = near.map_or("write a name as in \"Atlantic/Faroe\"".to_owned(), |near| {
                    format!("did you mean `{near}`?")
                });
                self.error(
                    &name.span,
                    format!("there is no time zone `{}`", name.value),
                    "not known",
                    remedy,
                );
                TimeZone::UTC
            })
        });
        let forwarders = section.texts("forwarders").unwrap_or_default();
        let forwarders = forwarders.into_iter().filter_map(|text| self.network(&text)).collect();
        let records = section.flag("records").is_none_or(|flag| flag.value);
        Service { console: console.unwrap_or(loopback), state, logs, records, time_zone, forwarders }
    }

    fn site(&mut self, section: &Section<'_>, defaults: &Compress) -> Option<Site> {
        let name = section.text("name")?;
        let sound = |name: &str| {
            !name.is_empty() && name.bytes().all(|octet| octet.is_ascii_alphanumeric() || octet == b'-')
        };
        if !sound(&name.value) {
            let reason = "only letters, digits and dashes: it also names the log file";
            self.error(
                &name.span,
                format!("`{}` cannot be a site's name", name.value),
                reason,
                "choose a plain word",
            );
        }
        let hosts: Vec<_> = section.texts("hosts")?.into_iter().filter_map(|host| self.host(host)).collect();
        let main_host = section.text("main_host").and_then(|host| self.host(host));
        if let Some(main) = &main_host
            && !hosts.iter().any(|host| host.value == main.value)
        {
            let message = format!("the main host `{}` is none of the site's hosts", main.value);
            let remedy = match nearest(&main.value, hosts.iter().map(|host| host.value.as_str())) {
                Some(near) => format!("did you mean `{near}`?"),
                None => "add it to `hosts`".to_owned(),
            };
            self.error(&main.span, message, "visitors would be sent to a host nobody answers to", remedy);
        }
        let folder = self.folder(Some(section.text("folder")?), "");
        let index = section.texts("index").map_or(vec!["index.html".to_owned()], |files| {
            files.into_iter().filter_map(|file| self.index_file(file)).collect()
        });
        let pages = section.section("error_pages", &mut self.diagnostics);
        let error_pages = self.error_pages(&pages);
        let compress = section.section("compress", &mut self.diagnostics);
        let compress = self.compress(&compress, defaults.clone());
        let log = section.section("log", &mut self.diagnostics);
        let log = self.log(&log);
        let listing = section.flag("listing").is_some_and(|flag| flag.value);
        Some(Site { name, hosts, main_host, folder, index, listing, error_pages, compress, log: log? })
    }

    fn index_file(&mut self, file: Located<String>) -> Option<String> {
        if file.value.is_empty() || file.value.contains(['/', '\\', '\0']) || file.value.starts_with('.') {
            let message = format!("`{}` cannot be an index file", file.value);
            self.error(
                &file.span,
                message,
                "a file's name, without a folder",
                "write it like \"index.html\"",
            );
            return None;
        }
        Some(file.value)
    }

    fn error_pages(&mut self, section: &Section<'_>) -> ErrorPages {
        let mut pages = ErrorPages::default();
        for (key, value) in section.pairs() {
            let Some(page) = located(value) else {
                let reason = format!("this is {}", in_words(value.get_ref()));
                self.error(
                    &value.span(),
                    "an error page is a path",
                    reason,
                    "write it like \"/errors/lost.html\"",
                );
                continue;
            };
            if !page.value.starts_with('/') || page.value.starts_with("//") {
                let message = format!("the path `{}` does not begin at the site's root", page.value);
                let remedy = format!("write \"/{}\"", page.value.trim_start_matches('/'));
                self.error(&page.span, message, "paths begin with one slash, everywhere", remedy);
            }
            let class = key.value.strip_suffix("xx").and_then(|digit| digit.parse::<u16>().ok());
            match (class, key.value.parse::<u16>()) {
                (Some(class @ 4..=5), _) => _ = pages.by_class.insert(class, page),
                (_, Ok(status @ 400..=599)) => _ = pages.by_status.insert(status, page),
                _ => {
                    let message = format!("`{}` is no error status", key.value);
                    self.error(&key.span, message, "400 to 599, or \"4xx\" or \"5xx\"", "write it like 404");
                }
            }
        }
        pages
    }

    fn address(&mut self, text: Located<String>) -> Option<Located<SocketAddr>> {
        match text.value.parse() {
            Ok(value) => Some(Located { value, span: text.span }),
            Err(_) => {
                let message = format!("`{}` is no address", text.value);
                let remedy = "write it like \"127.0.0.1:7380\" or \"[::1]:7380\"";
                self.error(&text.span, message, "a numeric address and a port", remedy);
                None
            }
        }
    }

    fn network(&mut self, text: &Located<String>) -> Option<IpNet> {
        let network = text.value.parse().or_else(|_| text.value.parse::<std::net::IpAddr>().map(IpNet::from));
        if network.is_err() {
            let message = format!("`{}` is no network", text.value);
            self.error(
                &text.span,
                message,
                "an address, or one with the length of its network",
                "write it like \"10.0.0.0/8\"",
            );
        }
        network.ok()
    }

    fn host(&mut self, host: Located<String>) -> Option<Located<String>> {
        let value = host.value.trim_end_matches('.').to_ascii_lowercase();
        let sound = |octet: u8| {
            octet.is_ascii_alphanumeric() || matches!(octet, b'-' | b'.' | b'_' | b':' | b'[' | b']')
        };
        if value.is_empty() || !value.bytes().all(sound) || (value.contains(':') && !value.starts_with('[')) {
            let message = format!("`{}` is no host name", host.value);
            self.error(
                &host.span,
                message,
                "a name without scheme, port or path",
                "write it like \"harbour.lindry.example\"",
            );
            return None;
        }
        Some(Located { value, span: host.span })
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
        assert_eq!(site.folder.value, Path::new("/srv/sites/harbour"));
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
    #[case::address("127.0.0.1:7380", "localhost", "`localhost` is no address", "write it like")]
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
    #[case::status("404", "4O4", "`4O4` is no error status", "write it like 404")]
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
        "`long` is no length of time",
        "90 days"
    )]
    #[case::size("1 kB", "1 stone", "`1 stone` is no size", "256 bytes")]
    #[case::toml("[service]", "[service", "this is no valid TOML", "")]
    #[case::host_twice("\"www.h", "\"h", "the host `harbour.lindry.example` is claimed twice", "remove one")]
    fn mistakes_have_place_reason_and_remedy(
        #[case] right: &str,
        #[case] wrong: &str,
        #[case] message: &str,
        #[case] remedy: &str,
    ) {
        let text = SOUND.replacen(right, wrong, 1);
        let diagnostics = understand(&text, Path::new("")).unwrap_err();
        let drawn = draw(&diagnostics, "exedra.toml", &text, false);
        assert!(drawn.contains(message) && drawn.contains(remedy), "{drawn}");
        assert!(drawn.contains("exedra.toml:"), "{drawn}");
    }

    #[test]
    fn all_mistakes_at_once() {
        let text = SOUND.replace("folder =", "foldr =").replace("gzip", "zip7").replace("Faroe", "Pharo");
        insta::assert_snapshot!(draw(
            &understand(&text, Path::new("")).unwrap_err(),
            "exedra.toml",
            &text,
            false
        ));
    }
}
