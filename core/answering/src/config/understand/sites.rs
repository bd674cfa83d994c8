//! A site: its name, its hosts, its folder, its pages, and what it begins with.

use super::hosts::answers_to;
use super::rules::Kinship;
use super::*;
use crate::config::folder::FILE_NAME;
use crate::config::settings::of_section;
use crate::media_types::MediaTypes;
use std::sync::Arc;

/// What every site begins with.
pub(super) struct Defaults {
    compress: Compress,
    https: Located<Https>,
    https_only: Option<Duration>,
    index: Vec<String>,
    listing: bool,
    folder_settings: bool,
    folder_host_headers: bool,
    error_pages: ErrorPages,
    media_types: Arc<MediaTypes>,
    log: Log,
    origins: BTreeMap<&'static str, Range<usize>>,
}

impl Default for Defaults {
    fn default() -> Self {
        let keeping = Keeping { rotate: Rotate::Days(1), keep: NINETY_DAYS };
        Defaults {
            compress: Compress::default(),
            https: Located { value: Https::Offered, span: 0..0 },
            https_only: None,
            index: vec!["index.html".to_owned()],
            listing: false,
            folder_settings: true,
            folder_host_headers: false,
            error_pages: ErrorPages::default(),
            media_types: Arc::default(),
            log: Log { write: true, layout: Layout::full(), masks_clients: false, keeping },
            origins: BTreeMap::new(),
        }
    }
}

/// Settings that `[defaults]` and sites have in common, and those of their sections.
const INHERITED: [(&str, &str, &str); 20] = [
    ("", "https", "https"),
    ("", "https_only", "https_only"),
    ("", "index", "index"),
    ("", "listing", "listing"),
    ("", "folder_settings", "folder_settings"),
    ("", "folder_host_headers", "folder_host_headers"),
    ("", "main_host", "main_host"),
    ("", "media_types", "media_types"),
    ("", "folder", "folder"),
    ("", "allowance", "allowance"),
    ("", "at_allowance", "at_allowance"),
    ("compress", "codecs", "compress.codecs"),
    ("compress", "types", "compress.types"),
    ("compress", "at_least", "compress.at_least"),
    ("compress", "effort", "compress.effort"),
    ("compress", "not_for", "compress.not_for"),
    ("log", "layout", "log.layout"),
    ("log", "clients", "log.clients"),
    ("log", "rotate", "log.rotate"),
    ("log", "keep", "log.keep"),
];

impl Reading<'_> {
    pub(super) fn defaults(&mut self, section: &Section<'_>) -> Defaults {
        self.inheriting(section, &Defaults::default())
    }

    /// What a section says, and otherwise what it begins with.
    fn inheriting(&mut self, section: &Section<'_>, base: &Defaults) -> Defaults {
        let compress = section.section("compress", &mut self.diagnostics);
        let log = section.section("log", &mut self.diagnostics);
        let pages = section.section("error_pages", &mut self.diagnostics);
        let types = section.section("media_types", &mut self.diagnostics);
        let mut origins = base.origins.clone();
        for (inner, key, name) in INHERITED {
            let of = match inner {
                "compress" => &compress,
                "log" => &log,
                _ => section,
            };
            if let Some(place) = of.place(key) {
                origins.insert(name, place);
            }
        }
        let flag = |key: &str, base: bool| section.flag(key).map_or(base, |flag| flag.value);
        Defaults {
            compress: self.compress(&compress, base.compress.clone()),
            https: section.text("https").map_or(base.https.clone(), |text| self.https(&text)),
            https_only: section.text("https_only").map_or(base.https_only, |text| self.time(&text)),
            index: section.texts("index").map_or(base.index.clone(), |files| {
                files.into_iter().filter_map(|file| self.index_file(file)).collect()
            }),
            listing: flag("listing", base.listing),
            folder_settings: flag("folder_settings", base.folder_settings),
            folder_host_headers: flag("folder_host_headers", base.folder_host_headers),
            error_pages: self.error_pages(&pages, &base.error_pages),
            media_types: self.media_types(&types, &base.media_types),
            log: self.log(&log, &base.log).unwrap_or_else(|| base.log.clone()),
            origins,
        }
    }

    fn https(&mut self, text: &Located<String>) -> Located<Https> {
        let value = match text.value.as_str() {
            "required" => Https::Required,
            "offered" => Https::Offered,
            other => {
                let message = format!("HTTPS cannot be `{other}`");
                self.error(&text.span, message, "not known", "write \"offered\" or \"required\"");
                Https::Offered
            }
        };
        Located { value, span: text.span.clone() }
    }

    /// A length of time.
    pub(super) fn time(&mut self, text: &Located<String>) -> Option<Duration> {
        let time = units::seconds(&text.value);
        if time.is_none() {
            let message = format!("`{}` is not a length of time", text.value);
            self.error(&text.span, message, "a number and its unit", "write it like \"90 days\"");
        }
        time
    }

    pub(super) fn site(&mut self, section: &Section<'_>, defaults: &Defaults) -> Option<Site> {
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
        let hosts: Vec<_> =
            section.texts("hosts")?.into_iter().filter_map(|host| self.site_host(host)).collect();
        let main_host = section.text("main_host").and_then(|host| self.host(host));
        if let Some(main) = &main_host
            && !hosts.iter().any(|host| answers_to(&host.value, &main.value))
        {
            let message = format!("the main host `{}` is none of the site's hosts", main.value);
            let remedy = match nearest(&main.value, hosts.iter().map(|host| host.value.as_str())) {
                Some(near) => format!("did you mean `{near}`?"),
                None => "add it to `hosts`".to_owned(),
            };
            self.error(&main.span, message, "redirects would lead to a host that no site answers", remedy);
        }
        let folder = section.text("folder").map(|folder| self.folder(Some(folder), ""));
        let rules = self.rules(section, Kinship::Site);
        let moved = section.text("redirects").map(|file| self.redirects(&file)).unwrap_or_default();
        if folder.is_none() && rules.is_empty() && moved.is_empty() {
            let message = format!("the site `{}` has neither a folder nor rules", name.value);
            let reason = "there is nothing it could answer with";
            self.error(
                &name.span,
                message,
                reason,
                "write folder = \"sites/harbour\", or a rule that answers",
            );
        }
        let inherited = self.inheriting(section, defaults);
        let (allowance, at_allowance) = (self.allowance(section), self.at_allowance(section));
        Some(Site {
            name,
            hosts,
            main_host,
            https: inherited.https,
            https_only: inherited.https_only,
            folder,
            media_types: inherited.media_types,
            folder_settings: inherited.folder_settings,
            folder_host_headers: inherited.folder_host_headers,
            rules: RuleSet::with_moved(rules, moved),
            origins: inherited.origins,
            index: inherited.index,
            listing: inherited.listing,
            error_pages: inherited.error_pages,
            compress: inherited.compress,
            log: inherited.log,
            allowance,
            at_allowance,
        })
    }

    /// What a folder says of itself.
    pub(super) fn folder_settings(&mut self, section: &Section<'_>) -> FolderSettings {
        let pages = section.section("error_pages", &mut self.diagnostics);
        let index = section
            .texts("index")
            .map(|files| files.into_iter().filter_map(|file| self.index_file(file)).collect());
        let keys = of_section(FILE_NAME).map(|setting| setting.key);
        FolderSettings {
            index,
            error_pages: self.error_pages(&pages, &ErrorPages::default()),
            effects: self.effects(section, &[], Kinship::Folder),
            places: keys.filter_map(|key| Some((key, section.place(key)?))).collect(),
            rules: RuleSet::new(self.rules(section, Kinship::Folder)),
        }
    }

    /// Adds a site, if nobody else has its name, its hosts, or its place as the one for unknown hosts.
    pub(super) fn add_site(
        &mut self,
        config: &mut Config,
        site: Site,
        default: Option<Located<bool>>,
        names: &mut HashMap<String, Range<usize>>,
    ) {
        let id = SiteId(config.sites.len());
        if let Some(flag) = default.filter(|flag| flag.value) {
            if config.default_site.is_some() {
                let reason = "another site has said so before";
                let message = "two sites cannot both answer for unknown hosts";
                self.error(&flag.span, message, reason, "keep one");
            }
            config.default_site = Some(id);
        }
        if names.insert(site.name.value.clone(), site.name.span.clone()).is_some() {
            let message = format!("two sites are called `{}`", site.name.value);
            self.error(&site.name.span, message, "this is the second", "give it a name of its own");
        }
        for host in &site.hosts {
            let other = match host.value.strip_prefix('*') {
                Some(ending) => {
                    let before = config.endings.iter().find(|(known, _)| known == ending).map(|(_, id)| *id);
                    config.endings.push((ending.to_owned(), id));
                    before
                }
                None => config.hosts.insert(host.value.clone(), id),
            };
            if let Some(other) = other {
                let owner = config.sites.get(other.0).map_or("this site", |site| site.name.value.as_str());
                let message = format!("the host `{}` is claimed twice", host.value);
                let reason = format!("`{owner}` has it already");
                self.error(&host.span, message, reason, "a request can go to one site only: remove one");
            }
        }
        config.sites.push(site);
    }

    pub(super) fn index_file(&mut self, file: Located<String>) -> Option<String> {
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

    /// Media types by extension, sent just as they are written.
    fn media_types(&mut self, section: &Section<'_>, base: &Arc<MediaTypes>) -> Arc<MediaTypes> {
        let pairs = section.pairs();
        if pairs.is_empty() {
            return Arc::clone(base);
        }
        let mut types = MediaTypes::clone(base);
        for (key, value) in pairs {
            let extension = key.value.strip_prefix('.').unwrap_or(&key.value);
            if extension.is_empty() || extension.contains(['.', '/', '*']) {
                let message = format!("`{}` is not an extension", key.value);
                let reason = "what stands after the last dot of a file's name";
                self.error(&key.span, message, reason, "write it like chart = \"image/x-chart\"");
                continue;
            }
            let written = value.text().map(|text| text.value).unwrap_or_default();
            if let Err(reason) = types.set(extension, &written) {
                let message = format!("`{written}` is not a media type");
                let remedy = "write it like \"image/x-chart\" or \"text/plain; charset=iso-8859-1\"";
                self.error(&value.span, message, reason, remedy);
            }
        }
        Arc::new(types)
    }

    pub(super) fn error_pages(&mut self, section: &Section<'_>, base: &ErrorPages) -> ErrorPages {
        let mut pages = base.clone();
        for (key, value) in section.pairs() {
            let Some(page) = value.text() else {
                let reason = format!("this is {}", value.in_words());
                self.error(
                    &value.span,
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
                    let message = format!("`{}` is not an error status", key.value);
                    self.error(&key.span, message, "400 to 599, or \"4xx\" or \"5xx\"", "write it like 404");
                }
            }
        }
        pages
    }
}
