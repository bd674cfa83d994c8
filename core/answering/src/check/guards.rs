//! Guards that guard nothing: a login, a refusal or a limit whose path is no file and no folder of the site. Whoever wrote
//! it believes a place to be protected that is open.
//!
//! The paths that exist are asked for from the disk, folder by folder, below what a pattern begins with. Where there are too
//! many to look at, nothing is said.

use super::{Disk, Spoken};
use crate::answer::listing::Kind;
use crate::answer::path::tidy;
use crate::answer::{Entry, Question, SitePath, Want};
use crate::config::{Config, Diagnostic, SiteId};
use crate::rules::{Answering, Pattern, Rule, Seen};
use exedra_common::text::nearest;
use std::ops::Range;

/// How many files and folders are looked at for one rule.
const MOST_ENTRIES: usize = 50_000;

/// Finds them among the rules of sites and of folders.
pub fn check(config: &Config, disk: &Disk<'_>, folders: &[Spoken]) -> Vec<Diagnostic> {
    let mut found = Vec::new();
    for (number, site) in config.sites.iter().enumerate() {
        let tree = Tree { site: SiteId(number), prefix: SitePath::root(), disk };
        tree.guards(site.rules.written(), None, &mut found);
    }
    for spoken in folders {
        let tree = Tree { site: spoken.site, prefix: spoken.folder.clone(), disk };
        let place = config.site(spoken.site).folder_place().clone();
        tree.guards(spoken.settings.rules.written(), Some((&spoken.folder, place)), &mut found);
    }
    found
}

/// What is below the folder in which rules stand.
struct Tree<'t> {
    site: SiteId,
    prefix: SitePath,
    disk: &'t Disk<'t>,
}

/// What a guard's pattern comes to.
enum Guarded {
    /// Something, or nobody can tell.
    Something,
    /// A folder's own page, and nothing in it.
    FolderAlone(String),
    /// Nothing; what was perhaps meant.
    Nothing(Option<String>),
}

impl Tree<'_> {
    fn guards(&self, rules: &[Rule], folder: Option<(&SitePath, Range<usize>)>, found: &mut Vec<Diagnostic>) {
        let is_guard = |rule: &&Rule| {
            let effects = &rule.effects;
            effects.login.is_some()
                || !effects.changes.limits.is_empty()
                || matches!(effects.answer, Some(Answering::Refuse(_)))
        };
        let mut guards = rules.iter().filter(is_guard).filter(|rule| rule.path.is_some()).peekable();
        // Where there is nothing at all, nothing lies open.
        if guards.peek().is_none() || self.names(&self.prefix).is_none_or(|names| names.is_empty()) {
            return;
        }
        for rule in guards {
            let Some(pattern) = &rule.path else { continue };
            let written = pattern.text();
            let (message, reason, remedy) = match self.guarded(pattern, rules, rule) {
                Guarded::Something => continue,
                Guarded::FolderAlone(_) if rule.effects.login.is_none() => continue,
                Guarded::FolderAlone(meant) => (
                    format!("`{}` protects only the folder's index page", rule.name),
                    format!("`{written}` is a single path; the files in the folder are not protected"),
                    format!("write \"{meant}\" for the folder with all that is in it"),
                ),
                Guarded::Nothing(near) => (
                    format!("`{}` protects nothing", rule.name),
                    format!("there is no file and no folder whose path is `{written}`"),
                    match near {
                        Some(near) => format!("write \"{near}\", or take the rule out"),
                        None => "name what is to be guarded, as in \"/staff/{*}\", or take the rule out"
                            .to_owned(),
                    },
                ),
            };
            let diagnostic = match &folder {
                None => Diagnostic::error(rule.path_place.clone(), message, reason),
                Some((folder, place)) => {
                    let reason = format!("in the settings of {folder}: {reason}");
                    Diagnostic::error(place.clone(), message, reason).of_folder()
                }
            };
            found.push(diagnostic.remedy(remedy));
        }
    }

    fn guarded(&self, pattern: &Pattern, rules: &[Rule], guard: &Rule) -> Guarded {
        if let Some(path) = pattern.exact() {
            // What another rule answers, or puts something else in place of, need not be on the disk.
            let seen = Seen::new(path.to_owned());
            let answers = |rule: &&Rule| {
                let leads = rule.effects.serve.is_some()
                    || matches!(rule.effects.answer, Some(Answering::Redirect { .. } | Answering::Gone));
                leads && rule.path.as_ref().is_none_or(|pattern| pattern.capture(&seen).is_some())
            };
            let folder = path.trim_end_matches('/');
            return match self.entry(path) {
                Some(Entry::Folder) => Guarded::FolderAlone(format!("{folder}/{{*}}")),
                Some(Entry::Missing) if rules.iter().any(|rule| answers(&rule)) => Guarded::Something,
                Some(Entry::Missing) => Guarded::Nothing(self.near(path, path.ends_with('/'))),
                _ => Guarded::Something,
            };
        }
        // Hidden files are served to nobody, guarded or not.
        if pattern.text().contains("/.")
            || guard.effects.serve.is_some()
            || guard.effects.answer.as_ref().is_some_and(|answer| !matches!(answer, Answering::Refuse(_)))
        {
            return Guarded::Something;
        }
        let begins = literal_folders(pattern);
        match self.any_fits(pattern, &begins) {
            Some(false) => Guarded::Nothing(self.near_pattern(pattern, &begins)),
            Some(true) | None => Guarded::Something,
        }
    }

    /// Whether the pattern fits anything below a folder; nothing, where there is too much to look at.
    fn any_fits(&self, pattern: &Pattern, begins: &str) -> Option<bool> {
        let fits = |path: &str| pattern.capture(&Seen::new(path.to_owned())).is_some();
        let mut left = vec![begins.to_owned()];
        let mut looked = 0;
        while let Some(folder) = left.pop() {
            let Some(names) = self.place(&folder).and_then(|place| self.names(&place)) else { continue };
            if fits(&folder) {
                return Some(true);
            }
            for listed in names.iter() {
                looked += 1;
                if looked > MOST_ENTRIES {
                    return None;
                }
                let path = format!(
                    "{folder}{}",
                    percent_encoding::utf8_percent_encode(&listed.name, percent_encoding::NON_ALPHANUMERIC)
                );
                match listed.kind {
                    Kind::Folder => left.push(format!("{path}/")),
                    Kind::File if fits(&path) => return Some(true),
                    Kind::File => {}
                }
            }
        }
        Some(false)
    }

    /// The pattern with the first folder of its beginning that is not there put right, if one like it is.
    fn near_pattern(&self, pattern: &Pattern, begins: &str) -> Option<String> {
        let near = self.near(begins, true)?;
        let near = near.strip_suffix("/{*}").unwrap_or(&near);
        let rest = pattern.text().strip_prefix(begins.trim_end_matches('/'))?;
        Some(format!("{near}{rest}"))
    }

    /// A path like this one that is there.
    fn near(&self, path: &str, as_folder: bool) -> Option<String> {
        let trimmed = path.trim_end_matches('/');
        let (parent, name) = trimmed.rsplit_once('/')?;
        let names = self.names(&self.place(&format!("{parent}/"))?)?;
        let same = names.iter().filter(|listed| !as_folder || listed.kind == Kind::Folder);
        let near = nearest(name, same.clone().map(|listed| listed.name.as_str()))?;
        let is_folder = names.iter().any(|listed| listed.name == near && listed.kind == Kind::Folder);
        Some(format!("{parent}/{near}{}", if is_folder { "/{*}" } else { "" }))
    }

    fn entry(&self, path: &str) -> Option<Entry> {
        let question = Question { site: self.site, path: self.place(path)?, want: Want::Entry };
        let Ok(found) = self.disk.entry(&question);
        Some(found.entry())
    }

    fn names(&self, folder: &SitePath) -> Option<std::sync::Arc<[crate::answer::listing::Listed]>> {
        let question = Question { site: self.site, path: folder.clone(), want: Want::Names };
        let Ok(names) = self.disk.names(&question);
        names.ok()
    }

    fn place(&self, path: &str) -> Option<SitePath> {
        Some(self.prefix.join_path(&tidy(path).ok()?.place().ok()?))
    }
}

/// The folders that a pattern begins with, up to its first place: `/a/b/` of `/a/b/{year}/x`.
fn literal_folders(pattern: &Pattern) -> String {
    let Some((segments, _)) = pattern.segments() else { return "/".to_owned() };
    let literal = segments.iter().map_while(|segment| segment.literal()).map(|part| format!("/{part}"));
    let last_is_file = pattern.segments().is_some_and(|(segments, rest)| {
        rest.is_none() && segments.iter().all(|segment| segment.literal().is_some())
    });
    let mut folders: Vec<String> = literal.collect();
    if last_is_file {
        folders.pop();
    }
    format!("{}/", folders.concat())
}
