//! The settings in effect at a place, and where each was decided: by nobody, the defaults, the site, a rule, a folder.

use super::line_of;
use crate::control::on_disk::OnDisk;
use exedra_answering::answer::trace::Place;
use exedra_answering::answer::{Folder, Question, SitePath, Step, Trace, Want};
use exedra_answering::config::{Compress, Config, Https, Rotate, Site, SiteId};
use exedra_answering::encode::Codec;
use exedra_answering::rules::{Cors, Effects, Lifetime, Limit};
use exedra_api::explaining::Setting;
use std::time::Duration;

/// What is in effect where a traced request was looked for.
pub fn settings(disk: &OnDisk<'_>, id: SiteId, trace: &Trace) -> Vec<Setting> {
    let config = disk.config;
    let mut all = Collected { config, id, settings: of_site(config, id) };
    for step in &trace.steps {
        match step {
            Step::Rule { place, .. } => all.by_rule(disk, place),
            Step::Folder { folder } => all.by_folder(disk, folder),
            _ => {}
        }
    }
    all.settings
}

/// What a site says, and where.
pub fn of_site(config: &Config, id: SiteId) -> Vec<Setting> {
    let site = config.site(id);
    let mut all = Collected { config, id, settings: Vec::new() };
    let mut say = |name: &str, key: &str, value: String| {
        let place = site.origins.get(key).map(Place::from).unwrap_or_default();
        all.set(name, value, &place);
    };
    say(
        "folder",
        "folder",
        site.root().map_or("none: rules answer".to_owned(), |folder| folder.display().to_string()),
    );
    let main =
        site.main_host.as_ref().map_or("none: each host is its own".to_owned(), |host| host.value.clone());
    say("main_host", "main_host", main);
    let https = if site.https.value == Https::Required { "required" } else { "offered" };
    say("https", "https", https.to_owned());
    say("https_only", "https_only", site.https_only.map_or("off".to_owned(), lasting));
    say("index", "index", listed(&site.index));
    say("listing", "listing", on_off(site.listing));
    say("folder_settings", "folder_settings", on_off(site.folder_settings));
    say("folder_host_headers", "folder_host_headers", on_off(site.folder_host_headers));
    for (extension, media_type) in site.media_types.own_types() {
        say(&format!("media_types.{extension}"), "media_types", media_type.to_owned());
    }
    for (key, value) in of_compress(&site.compress) {
        say(key, key, value);
    }
    let effort = Codec::ALL
        .iter()
        .filter_map(|codec| Some(format!("{} = {}", codec.name(), site.compress.effort[*codec as usize]?)));
    let effort: Vec<String> = effort.collect();
    say(
        "compress.effort",
        "compress.effort",
        if effort.is_empty() { "settled".to_owned() } else { effort.join(", ") },
    );
    of_log(site).into_iter().for_each(|(key, value)| say(key, key, value));
    for (status, page) in &site.error_pages.by_status {
        all.set(&format!("error_pages.{status}"), page.value.clone(), &Place::from(&page.span));
    }
    for (class, page) in &site.error_pages.by_class {
        all.set(&format!("error_pages.{class}xx"), page.value.clone(), &Place::from(&page.span));
    }
    all.settings
}

struct Collected<'c> {
    config: &'c Config,
    id: SiteId,
    settings: Vec<Setting>,
}

impl Collected<'_> {
    fn set(&mut self, name: &str, value: String, place: &Place) {
        let at = (!place.span.is_empty()).then(|| line_of(self.config, Some(self.id), place)).flatten();
        let (file, line) = at.unzip();
        let setting = Setting { name: name.to_owned(), value, file, line };
        match self.settings.iter_mut().find(|known| known.name == name) {
            Some(known) => *known = setting,
            None => self.settings.push(setting),
        }
    }

    fn by_rule(&mut self, disk: &OnDisk<'_>, place: &Place) {
        let rules = match &place.folder {
            None => self.config.site(self.id).rules.written().to_vec(),
            Some(folder) => {
                let said = said(disk, self.id, folder);
                said.map(|settings| settings.rules.written().to_vec()).unwrap_or_default()
            }
        };
        let Some(rule) = rules.iter().find(|rule| rule.place == place.span) else { return };
        for (name, value) in in_words(&rule.effects, self.config) {
            if !matches!(name.as_str(), "redirect" | "serve" | "refuse" | "gone") {
                self.set(&name, value, place);
            }
        }
    }

    fn by_folder(&mut self, disk: &OnDisk<'_>, folder: &SitePath) {
        let Some(settings) = said(disk, self.id, folder) else { return };
        let at = |span: &std::ops::Range<usize>| Place { folder: Some(folder.clone()), span: span.clone() };
        if let Some((on, span)) = &settings.listing {
            self.set("listing", on_off(*on), &at(span));
        }
        if let Some((index, span)) = &settings.index {
            self.set("index", listed(index), &at(span));
        }
        if let Some((lifetime, span)) = &settings.cache {
            self.set("cache", cached(lifetime), &at(span));
        }
        if let Some((change, span)) = &settings.compress {
            let mut compress = self.config.site(self.id).compress.clone();
            compress.change(change);
            for (key, value) in of_compress(&compress) {
                self.set(key, value, &at(span));
            }
        }
        for (name, value) in &settings.headers {
            let value = value.as_ref().map_or("taken away".to_owned(), |value| value.text().to_owned());
            let place = settings.headers_place.as_ref().map(at).unwrap_or_default();
            self.set(&format!("headers.{name}"), value, &place);
        }
        if let Some((realm, span)) = &settings.login {
            let name = self.config.realms.get(*realm).map_or(String::new(), |realm| realm.name.value.clone());
            self.set("login", name, &at(span));
        }
        if let Some((status, span)) = &settings.refuse {
            self.set("refuse", status.as_u16().to_string(), &at(span));
        }
        for (status, page) in &settings.error_pages.by_status {
            self.set(&format!("error_pages.{status}"), format!("{folder}{}", page.value), &at(&page.span));
        }
        for (class, page) in &settings.error_pages.by_class {
            self.set(&format!("error_pages.{class}xx"), format!("{folder}{}", page.value), &at(&page.span));
        }
    }
}

fn said(
    disk: &OnDisk<'_>,
    site: SiteId,
    folder: &SitePath,
) -> Option<std::sync::Arc<exedra_answering::config::FolderSettings>> {
    let question = Question { site, path: folder.clone(), want: Want::Settings };
    let Ok(Some(chain)) = disk.settings(&question) else { return None };
    chain.levels.iter().find(|level| level.folder == *folder)?.settings.clone().ok()
}

/// What a rule does, each with its word.
pub fn in_words(effects: &Effects, config: &Config) -> Vec<(String, String)> {
    use exedra_answering::rules::Answering;
    let mut words: Vec<(String, String)> = Vec::new();
    let mut say = |name: &str, value: String| words.push((name.to_owned(), value));
    if let Some(realm) = effects.login.and_then(|realm| config.realms.get(realm)) {
        say("login", realm.name.value.clone());
    }
    if let Some(limit) = &effects.limit {
        say("limit", limited(limit));
    }
    for (name, template) in &effects.headers {
        say(
            &format!("headers.{name}"),
            template.as_ref().map_or("taken away".to_owned(), |text| text.text().to_owned()),
        );
    }
    if let Some(lifetime) = &effects.cache {
        say("cache", cached(lifetime));
    }
    if let Some(change) = &effects.compress {
        fn text<T: ToString>(name: &str, values: Option<&[T]>) -> Option<String> {
            Some(format!("{name} = {}", listed(values?)))
        }
        let codecs: Option<Vec<&str>> =
            change.codecs.as_ref().map(|codecs| codecs.iter().map(|codec| codec.name()).collect());
        let at_least = change.at_least.map(|bytes| format!("at_least = {bytes} bytes"));
        let all = [
            text("codecs", codecs.as_deref()),
            text("types", change.types.as_deref()),
            at_least,
            text("not_for", change.not_for.as_deref()),
        ];
        say("compress", all.into_iter().flatten().collect::<Vec<_>>().join("; "));
    }
    if let Some(on) = effects.listing {
        say("listing", on_off(on));
    }
    if let Some(on) = effects.log {
        say("log", on_off(on));
    }
    if let Some(cors) = &effects.cors {
        say("cors", shared(cors));
    }
    if let Some(serve) = &effects.serve {
        say("serve", serve.text().to_owned());
    }
    match &effects.answer {
        Some(Answering::Redirect { target, status, drops_query }) => {
            let query = if *drops_query { ", query dropped" } else { "" };
            say("redirect", format!("{} ({}{query})", target.text(), status.as_u16()));
        }
        Some(Answering::Refuse(status)) => say("refuse", status.as_u16().to_string()),
        Some(Answering::Gone) => say("gone", "410".to_owned()),
        None => {}
    }
    words
}

fn of_compress(compress: &Compress) -> [(&'static str, String); 4] {
    let codecs: Vec<String> = compress.codecs.iter().map(|codec| codec.name().to_owned()).collect();
    [
        ("compress.codecs", listed(&codecs)),
        ("compress.types", listed(&compress.types)),
        ("compress.at_least", format!("{} bytes", compress.at_least)),
        ("compress.not_for", listed(&compress.not_for)),
    ]
}

fn of_log(site: &Site) -> Vec<(&'static str, String)> {
    let log = &site.log;
    let rotate = match log.keeping.rotate {
        Rotate::Days(1) => "1 day".to_owned(),
        Rotate::Days(days) => format!("{days} days"),
        Rotate::Size(bytes) => format!("{bytes} bytes"),
        Rotate::Never => "never".to_owned(),
    };
    vec![
        ("log.layout", if log.write { log.layout.name.clone() } else { "no log is written".to_owned() }),
        ("log.clients", if log.masks_clients { "masked" } else { "whole" }.to_owned()),
        ("log.rotate", rotate),
        ("log.keep", log.keeping.keep.map_or("forever".to_owned(), lasting)),
    ]
}

fn listed<T: ToString>(texts: &[T]) -> String {
    let texts: Vec<String> = texts.iter().map(T::to_string).collect();
    if texts.is_empty() { "none".to_owned() } else { texts.join(", ") }
}

fn on_off(on: bool) -> String {
    if on { "on" } else { "off" }.to_owned()
}

fn cached(lifetime: &Lifetime) -> String {
    match lifetime {
        Lifetime::For(time) => lasting(*time),
        Lifetime::Never => "never".to_owned(),
        Lifetime::Asking => "ask each time".to_owned(),
    }
}

fn limited(limit: &Limit) -> String {
    let requests = limit.requests.map(|rate| match rate {
        1.0.. => format!("{rate} requests a second, {} at once", limit.at_once),
        _ => format!("{} requests a minute, {} at once", (rate * 60_000.0).round() / 1000.0, limit.at_once),
    });
    let speed = limit.speed.map(|bytes| format!("{bytes} bytes a second"));
    let connections = limit.connections.map(|most| format!("{most} answers under way"));
    [requests, speed, connections].into_iter().flatten().collect::<Vec<_>>().join("; ")
}

fn shared(cors: &Cors) -> String {
    let credentials = if cors.with_credentials { ", with credentials" } else { "" };
    format!("{}{credentials}", listed(&cors.origins))
}

/// A length of time in its largest whole unit.
fn lasting(time: Duration) -> String {
    const UNITS: [(u64, &str); 5] =
        [(365 * 86_400, "year"), (86_400, "day"), (3600, "hour"), (60, "minute"), (1, "second")];
    let seconds = time.as_secs();
    let (length, unit) = UNITS
        .into_iter()
        .find(|(length, _)| seconds >= *length && seconds.is_multiple_of(*length))
        .unwrap_or((1, "second"));
    let count = seconds / length;
    format!("{count} {unit}{}", if count == 1 { "" } else { "s" })
}
