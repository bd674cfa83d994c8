//! The settings in effect at a place, and where each was decided: by nobody, the defaults, the site, a rule, a folder.

use super::line_of;
use crate::control::on_disk::OnDisk;
use exedra_answering::answer::trace::Place;
use exedra_answering::answer::{Folder, Question, SitePath, Step, Trace, Want};
use exedra_answering::config::{Compress, Config, Https, Rotate, Site, SiteId};
use exedra_answering::encode::Codec;
use exedra_answering::rules::Effects;
use exedra_answering::rules::effects::{listed, on_off};
use exedra_api::explaining::Setting;
use exedra_common::{figures, units};

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
    say("https_only", "https_only", site.https_only.map_or("off".to_owned(), units::in_words));
    say("allowance", "allowance", site.allowance.map_or("none".to_owned(), figures::bytes));
    say("at_allowance", "at_allowance", site.at_allowance.to_string());
    say("index", "index", listed(&site.index));
    say("listing", "listing", on_off(site.listing).to_owned());
    say("folder_settings", "folder_settings", on_off(site.folder_settings).to_owned());
    say("folder_host_headers", "folder_host_headers", on_off(site.folder_host_headers).to_owned());
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
        let at = |key: &str| Place {
            folder: Some(folder.clone()),
            span: settings.places.get(key).cloned().unwrap_or_default(),
        };
        if let Some(index) = &settings.index {
            self.set("index", listed(index), &at("index"));
        }
        for effect in settings.effects.in_words(|realm| name_of(self.config, realm)) {
            let place = at(effect.name);
            self.set(&effect.to_string(), effect.value, &place);
        }
        let at = |span: &std::ops::Range<usize>| Place { folder: Some(folder.clone()), span: span.clone() };
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
    let words = effects.in_words(|realm| name_of(config, realm));
    words.into_iter().map(|effect| (effect.to_string(), effect.value)).collect()
}

fn name_of(config: &Config, realm: usize) -> String {
    config.realms.get(realm).map_or(String::new(), |realm| realm.name.value.clone())
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
        ("log.keep", log.keeping.keep.map_or("forever".to_owned(), units::in_words)),
    ]
}
