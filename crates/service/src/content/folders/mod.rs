//! What folders say of themselves: their `.exedra.toml`, read, understood and remembered, for each folder together
//! with those on the way to it.
//!
//! It is believed for as long as what stands in the folder is: a change shows within a second.
//!
//! - [`walk`]: looking for settings in all folders of a site

pub mod walk;

use crate::content::disk::{Belief, Disk, Kept};
use crate::content::thread_cache::{CacheOwner, ThreadCache};
use exedra_answering::answer::listing::Kind;
use exedra_answering::answer::{
    Broken, Entry, FileFacts, FolderChain, FolderLevel, Question, SitePath, Want,
};
use exedra_answering::config::folder::{FILE_NAME, MOST_OCTETS};
use exedra_answering::config::{Config, FolderSettings, SiteId};
use parking_lot::Mutex;
use quick_cache::Weighter;
use quick_cache::sync::Cache;
use std::cell::RefCell;
use std::collections::BTreeSet;
use std::sync::Arc;

/// How many folders are remembered, and what they and their settings may take in memory, about.
const FOLDERS: usize = 20_000;
const MEMORY: u64 = 32 << 20;
/// How many folders with something wrong are told of.
const MOST_TOLD: usize = 100;
/// How much more settings take than their text.
const UNDERSTOOD: usize = 10;

/// What the folders of all sites say, by one configuration: its realms are what they name.
pub struct Folders {
    chains: Cache<Key, Arc<Known>, Weight>,
    /// Files that have been understood, as they were at some time.
    understood: Cache<Key, (FileFacts, Said), Weight>,
    /// Folders whose settings could not be understood when somebody last looked.
    broken: Mutex<BTreeSet<Key>>,
    /// Files with settings in folders where no address leads.
    unreachable: Mutex<Vec<String>>,
    owner: CacheOwner,
}

type Key = (SiteId, SitePath);
type Said = Result<Arc<FolderSettings>, Broken>;

/// What is known of a folder.
pub struct Known {
    /// What it and those on the way say.
    pub chain: Option<Arc<FolderChain>>,
    belief: Belief,
    /// What it takes in memory, without what others hold as well.
    octets: usize,
}

#[derive(Clone)]
struct Weight;

impl Weighter<Key, Arc<Known>> for Weight {
    fn weight(&self, (_, folder): &Key, known: &Arc<Known>) -> u64 {
        (200 + 2 * folder.as_str().len() + known.octets) as u64
    }
}

impl Weighter<Key, (FileFacts, Said)> for Weight {
    fn weight(&self, (_, folder): &Key, (facts, _): &(FileFacts, Said)) -> u64 {
        (200 + 2 * folder.as_str().len() + settings_octets(facts.size)) as u64
    }
}

/// What the settings of a file of so many octets take in memory, about.
fn settings_octets(size: u64) -> usize {
    UNDERSTOOD * size.min(MOST_OCTETS) as usize
}

thread_local! {
    /// Copies of this thread's own.
    static LOCAL: RefCell<ThreadCache<Key, Arc<Known>>> = RefCell::default();
}

impl Folders {
    /// Nothing is known yet.
    pub fn new() -> Self {
        Folders {
            chains: Cache::with_weighter(FOLDERS, MEMORY, Weight),
            understood: Cache::with_weighter(FOLDERS, MEMORY, Weight),
            broken: Mutex::default(),
            unreachable: Mutex::default(),
            owner: CacheOwner::another(),
        }
    }

    /// Looks into all folders of all sites for settings that cannot be understood, or that nothing leads to. Blocks.
    pub fn look_at_all(&self, disk: &Disk, config: &Config) {
        let mut unreachable = Vec::new();
        for (number, site) in config.sites.iter().enumerate().filter(|(_, site)| site.folder_settings) {
            let Some(root) = site.root() else { continue };
            for file in walk::walk(root).settings {
                match walk::place_of(&file) {
                    Some(folder) => _ = self.said(SiteId(number), &folder, disk, config),
                    None if unreachable.len() < MOST_TOLD => unreachable.push(format!(
                        "{} is unreachable: no URL leads into its folder",
                        root.join(file).display()
                    )),
                    None => {}
                }
            }
        }
        *self.unreachable.lock() = unreachable;
    }

    /// Looks what is in a folder, without the folders in it that let nobody in by what they say of themselves, or of which
    /// that cannot be understood: nobody is shown a link to them. Blocks.
    pub fn look_listed(&self, question: &Question, disk: &Disk, config: &Config) -> Arc<Kept> {
        let (site, has_settings) = (question.site, config.site(question.site).folder_settings);
        disk.look_for(question, |entry| {
            entry.kind == Kind::File || !has_settings || {
                let said = self.said(site, &question.path.join(&entry.name), disk, config);
                said.is_none_or(|(_, said)| said.is_ok_and(|settings| settings.effects.answer.is_none()))
            }
        })
    }

    /// What is wrong with the settings of folders, as far as somebody has looked at them, in words. Blocks.
    pub fn troubles(&self, disk: &Disk, config: &Config) -> Vec<String> {
        let broken = self.broken.lock().clone();
        let still = broken.into_iter().filter_map(|(site, folder)| {
            let (_, said) = self.said(site, &folder, disk, config)?;
            let wrong = said.err()?;
            let file = config.site(site).root()?.join(folder.as_str()).join(FILE_NAME);
            Some(format!(
                "{}, line {}: {}; until it is corrected, nothing in that folder is served",
                file.display(),
                wrong.line,
                wrong.message
            ))
        });
        let mut all: Vec<String> = still.collect();
        all.extend(self.unreachable.lock().iter().cloned());
        all
    }

    /// What is known of a folder and may still be believed.
    pub fn remembered(&self, question: &Question, disk: &Disk) -> Option<Arc<Known>> {
        let key = (question.site, question.path.clone());
        LOCAL.with_borrow_mut(|cache| {
            if let Some(known) = cache.get(self.owner, &key)
                && disk.still_holds(key.0, &known.belief)
            {
                return Some(Arc::clone(known));
            }
            let known = self.chains.get(&key).filter(|known| disk.still_holds(key.0, &known.belief))?;
            let (chain, belief) = (known.chain.clone(), known.belief.copy());
            let copy = Arc::new(Known { chain, belief, octets: known.octets });
            cache.keep(self.owner, key, Arc::clone(&copy), 300 + copy.octets);
            Some(copy)
        })
    }

    /// Looks at a folder and those on the way. Blocks.
    pub fn look(&self, question: &Question, disk: &Disk, config: &Config) -> Arc<Known> {
        let site = question.site;
        let belief = disk.belief(site);
        let mut octets = 0;
        let levels: Vec<FolderLevel> = question
            .path
            .ways()
            .filter_map(|folder| {
                let (size, settings) = self.said(site, &folder, disk, config)?;
                let is_held = settings.as_ref().is_ok_and(|settings| Arc::strong_count(settings) > 2);
                octets += 100 + if is_held { 0 } else { settings_octets(size) };
                Some(FolderLevel { depth: folder.depth(), folder, settings })
            })
            .collect();
        let chain = (!levels.is_empty()).then(|| Arc::new(FolderChain { levels }));
        let known = Arc::new(Known { chain, belief, octets });
        self.chains.insert((site, question.path.clone()), Arc::clone(&known));
        known
    }

    /// What one folder says of itself, and the size of its file. That it cannot be understood is remembered.
    fn said(&self, site: SiteId, folder: &SitePath, disk: &Disk, config: &Config) -> Option<(u64, Said)> {
        let found = self.look_at(site, folder, disk, config);
        let is_broken = found.as_ref().is_some_and(|(_, said)| said.is_err());
        let mut broken = self.broken.lock();
        if is_broken && broken.len() < MOST_TOLD {
            broken.insert((site, folder.clone()));
        } else if !is_broken && !broken.is_empty() {
            broken.remove(&(site, folder.clone()));
        }
        found
    }

    fn look_at(&self, site: SiteId, folder: &SitePath, disk: &Disk, config: &Config) -> Option<(u64, Said)> {
        let question = Question { site, path: folder.join(FILE_NAME), want: Want::Entry };
        let found = disk.look(&question);
        let facts = match found.entry {
            Entry::File(facts) => facts,
            Entry::Missing | Entry::Folder => return None,
            Entry::Forbidden => return Some((0, Err(broken("the service may not read it")))),
            Entry::Failed => return Some((0, Err(broken("I/O error")))),
        };
        let key = (site, folder.clone());
        if let Some((known, said)) = self.understood.get(&key)
            && known == facts
        {
            return Some((facts.size, said));
        }
        let said = match &found.content {
            Some(content) if facts.size <= MOST_OCTETS => understand(content, config, site),
            _ => Err(broken("it is too large to be settings")),
        };
        if let Err(broken) = &said {
            let site = &config.site(site).name.value;
            tracing::warn!(%site, "the settings of {folder} cannot be understood, and nothing in it is served: line {}: {}", broken.line, broken.message);
        }
        self.understood.insert(key, (facts, said.clone()));
        Some((facts.size, said))
    }
}

impl Default for Folders {
    fn default() -> Self {
        Folders::new()
    }
}

impl Known {
    /// Whether it may still be believed.
    pub fn still_holds(&self, site: SiteId, disk: &Disk) -> bool {
        disk.still_holds(site, &self.belief)
    }
}

/// Understands the settings of a folder of a site.
pub fn understand(content: &[u8], config: &Config, site: SiteId) -> Said {
    let text = std::str::from_utf8(content).map_err(|_| broken("it is no text in UTF-8"))?;
    FolderSettings::understand(text, config, site).map(Arc::new).map_err(|found| {
        let first = found.first();
        let at = first.map_or(0, |mistake| mistake.span.start.min(text.len()));
        let line = 1 + memchr::memchr_iter(b'\n', &text.as_bytes()[..at]).count();
        let message =
            first.map_or(String::new(), |mistake| format!("{} ({})", mistake.message, mistake.reason));
        Broken { line, message }
    })
}

fn broken(message: &str) -> Broken {
    Broken { line: 1, message: message.to_owned() }
}
