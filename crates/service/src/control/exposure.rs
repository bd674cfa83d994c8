//! Walking a site as a stranger would: what could be reached, and should not.
//!
//! Every file and folder of the site is put to the very decision that would answer a request for it, with the
//! disk as the service sees it. Only what would be sent counts.

use crate::control::on_disk::OnDisk;
use exedra_answering::answer::path::{encoded, resolve};
use exedra_answering::answer::{Body, answer};
use exedra_answering::audit;
use exedra_answering::audit::Kind;
use exedra_answering::config::{Config, Https, SiteId};
use exedra_answering::facts::{Facts, Fields, Known, Scheme};
use http::HeaderMap;
use serde::Serialize;
use std::io::Read;
use std::path::{Path, PathBuf};
use utoipa::ToSchema;

/// Something that a stranger can reach and should not.
#[derive(Debug, Serialize, ToSchema)]
pub struct Exposure {
    /// Its address.
    pub address: String,
    /// Which kind of thing it is.
    pub kind: &'static str,
    /// Why it should not be reached.
    pub reason: &'static str,
    /// What to do about it.
    pub remedy: &'static str,
}

/// What a walk has found.
#[derive(Debug, Default)]
pub struct Walked {
    /// How many files can be reached.
    pub files: u64,
    /// What should not be.
    pub found: Vec<Exposure>,
    /// Files that can be reached, as far as there is room.
    pub seen: Vec<Reachable>,
    /// Whether there were more.
    pub is_cut: bool,
}

/// A file that a stranger can reach.
#[derive(Debug)]
pub struct Reachable {
    /// Its address from the site's root, as a client would write it.
    pub address: String,
    /// Its path within the site's folder.
    pub path: String,
    /// Where it lies.
    pub place: PathBuf,
    /// Its length in octets.
    pub bytes: u64,
}

/// How many files are told one by one.
const MOST_TOLD: usize = 50_000;

/// Whether a folder is one of those that lead to it.
fn leads_back(folder: &Path, from: &Path) -> bool {
    let (Ok(folder), Ok(from)) = (folder.canonicalize(), from.canonicalize()) else { return true };
    from.starts_with(folder)
}

/// Walks a site, for as long as it goes on. Folders that cannot be read are nobody's to reach.
pub fn walk(disk: &OnDisk<'_>, id: SiteId, goes_on: &dyn Fn() -> bool) -> Walked {
    let mut walk = Walk { config: disk.config, id, disk, goes_on, walked: Walked::default() };
    walk.folder("");
    walk.walked
}

struct Walk<'c> {
    config: &'c Config,
    id: SiteId,
    disk: &'c OnDisk<'c>,
    goes_on: &'c dyn Fn() -> bool,
    walked: Walked,
}

impl Walk<'_> {
    /// Looks at a folder and everything below. Its path has no slash at either end.
    fn folder(&mut self, path: &str) {
        if !(self.goes_on)() {
            return;
        }
        let slash = if path.is_empty() { "/".to_owned() } else { format!("/{path}/") };
        if let Some(Body::Page(_) | Body::PageEncoded(..)) = self.sent(&slash) {
            self.expose(&slash, &audit::LISTING);
        }
        let Some(root) = self.config.site(self.id).root() else { return };
        let folder = root.join(path);
        let Ok(entries) = std::fs::read_dir(&folder) else { return };
        let mut names: Vec<_> = entries.filter_map(Result::ok).collect();
        names.sort_by_key(std::fs::DirEntry::file_name);
        for entry in names {
            let Ok(name) = entry.file_name().into_string() else { continue };
            let below = if path.is_empty() { name } else { format!("{path}/{name}") };
            let file = folder.join(entry.file_name());
            // A link is looked at for what it leads to. One that leads to a folder on the way to it leads in a circle.
            match file.metadata() {
                Ok(found) if found.is_dir() && !leads_back(&file, &folder) => self.folder(&below),
                Ok(found) if found.is_dir() => {}
                _ => self.file(&below, &file),
            }
        }
    }

    fn file(&mut self, path: &str, file: &Path) {
        let address = format!("/{path}");
        if !matches!(self.sent(&address), Some(Body::File { .. })) {
            return;
        }
        self.walked.files += 1;
        match self.walked.seen.len() < MOST_TOLD {
            true => self.walked.seen.push(Reachable {
                address: encoded(&address),
                path: path.to_owned(),
                place: file.to_owned(),
                bytes: file.metadata().map_or(0, |found| found.len()),
            }),
            false => self.walked.is_cut = true,
        }
        let mut beginning = Vec::new();
        // Only what would be sent is opened, and that is a file.
        if let Ok(opened) = std::fs::File::open(file) {
            // A file that cannot be read here is judged by its name.
            let _ = opened.take(audit::LOOKED_AT as u64).read_to_end(&mut beginning);
        }
        let root = self.config.site(self.id).root();
        let target = file.canonicalize().ok();
        let target = target.as_deref().zip(root.and_then(|root| root.canonicalize().ok()));
        let target = target.and_then(|(target, root)| target.strip_prefix(root).ok()?.to_str());
        let kind = audit::exposure(path, &beginning).or_else(|| audit::exposure(target?, &beginning));
        if let Some(kind) = kind {
            self.expose(&address, kind);
        }
    }

    /// The body that a stranger would be sent for a decoded path, where the answer is 200.
    fn sent(&self, path: &str) -> Option<Body> {
        let address = encoded(path);
        resolve(&address).ok()?;
        let site = self.config.site(self.id);
        let host = site.main_host.as_ref().or(site.hosts.first())?;
        let fields = HeaderMap::new();
        let facts = Facts {
            scheme: Known::Is(self.scheme()),
            host: Known::Is(&host.value),
            port: Known::Absent,
            method: Known::Is("GET"),
            path: Known::Is(&address),
            query: Known::Absent,
            fields: Fields::All(&fields),
            ..Facts::UNKNOWN
        };
        let Ok((answer, ())) = answer(self.config, facts).by(self.disk);
        (answer.status == 200).then_some(answer.body)
    }

    /// How a stranger would come: as the site wants everybody to.
    fn scheme(&self) -> Scheme {
        match self.config.site(self.id).https.value {
            Https::Required => Scheme::Https,
            Https::Offered => Scheme::Http,
        }
    }

    fn expose(&mut self, path: &str, kind: &'static Kind) {
        let site = self.config.site(self.id);
        let host = site.main_host.as_ref().or(site.hosts.first()).map_or("", |host| &host.value);
        let address = format!("{}://{host}{}", self.scheme().as_str(), encoded(path));
        self.walked.found.push(Exposure {
            address,
            kind: kind.name,
            reason: kind.reason,
            remedy: kind.remedy,
        });
    }
}
