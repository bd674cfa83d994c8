//! The sites' folders: what stands at a place, and small files kept in memory.
//!
//! Where the system tells of changes, what was found is believed until it does; elsewhere, and for a while
//! after every change, for [`BELIEVED`] only; then a cheap look tells whether it still holds. Small files stay
//! in memory.
//!
//! - [`folder`]: one site's folder, out of which nothing leads
//! - [`watching`]: being told of changes in it

mod folder;
mod watching;

use crate::content::thread_cache::{CacheOwner, MOST_COPIED, ThreadCache};
use crate::system::Clock;
use bytes::Bytes;
use cap_std::fs::Metadata;
use exedra_answering::answer::listing::Listed;
use exedra_answering::answer::{Entry, FileFacts, FileMetadata, Found, Question, Want};
use exedra_answering::config::{Config, SiteId};
use exedra_answering::encode::Codec;
use exedra_answering::media_types::MediaTypes;
use folder::{Folder, entry_of, entry_of_error, facts_of, no_open_folders};
use quick_cache::Weighter;
use quick_cache::sync::Cache;
use std::cell::RefCell;
use std::fs::File;
use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

/// How long what was found is believed without looking again.
const BELIEVED: Duration = Duration::from_millis(600);
/// The largest file that is kept in memory.
pub const SMALL: u64 = 256 << 10;
/// How much memory kept files may take together.
const MEMORY: u64 = 96 << 20;
/// The longest path of which it is remembered that there is nothing.
const LONGEST_MISSING: usize = 256;
/// How many places are remembered.
const PLACES: usize = 50_000;

/// How long it is believed where the system tells of changes: some ways of changing a file it does not see.
const BELIEVED_WATCHED: Duration = Duration::from_secs(20);
/// How long after a change nothing is taken for unchanged: a new folder is not watched at once.
const UNREST: Duration = Duration::from_secs(2);

/// The folders of all sites.
pub struct Disk {
    folders: Vec<Option<Arc<Folder>>>,
    types: Vec<Arc<MediaTypes>>,
    kept: Cache<Question, Arc<Kept>, Weight>,
    clock: Arc<Clock>,
    owner: CacheOwner,
}

/// When something was found, so that it can be told for how long it may be believed.
#[derive(Debug)]
pub struct Belief {
    /// When it was last true, by the clock.
    seen: u64,
    /// How often the folder had changed by then.
    changes: u64,
}

impl Belief {
    /// The same belief, of a copy.
    pub fn copy(&self) -> Belief {
        Belief { seen: self.seen, changes: self.changes }
    }
}

thread_local! {
    /// Copies of this thread's own.
    static LOCAL: RefCell<ThreadCache<Question, Arc<Kept>>> = RefCell::default();
}

/// Files beside one that hold it encoded, in the order of [`Codec::ALL`].
type Beside = [Option<FileFacts>; Codec::ALL.len()];

/// What was found at a place.
pub struct Kept {
    /// What stands there.
    pub entry: Entry,
    /// The metadata of a file.
    file_metadata: Option<Arc<FileMetadata>>,
    /// The whole of a small file.
    pub content: Option<Bytes>,
    /// What is in a folder, where that was asked for.
    names: Option<Arc<[Listed]>>,
    beside: Beside,
    /// When that was last true, by the clock.
    seen: AtomicU64,
    /// How often the folder had changed by then.
    changes: AtomicU64,
}

impl Kept {
    /// That the disk does not say.
    fn failed(seen: u64, changes: u64) -> Self {
        Kept {
            entry: Entry::Failed,
            file_metadata: None,
            content: None,
            names: None,
            beside: Beside::default(),
            seen: AtomicU64::new(seen),
            changes: AtomicU64::new(changes),
        }
    }

    /// What stands there, for whoever decides.
    pub fn found(&self) -> Found {
        match &self.file_metadata {
            Some(metadata) => Found::File(Arc::clone(metadata)),
            None => Found::Entry(self.entry),
        }
    }

    /// What is in the folder there, where that was asked for; what stands there where that is none.
    pub fn names(&self) -> Result<Arc<[Listed]>, Entry> {
        self.names.clone().ok_or(self.entry)
    }

    /// A copy that shares nothing with this one, and its size in octets; none of what is large.
    fn copy(&self) -> Option<(Kept, usize)> {
        let content = match &self.content {
            Some(content) if content.len() > MOST_COPIED => return None,
            Some(content) => Some(Bytes::copy_from_slice(content)),
            None => None,
        };
        if self.names.is_some() {
            return None;
        }
        let octets = 1000 + content.as_ref().map_or(0, Bytes::len);
        let file_metadata = self.file_metadata.as_ref().map(|file_metadata| Arc::new(file_metadata.copy()));
        let seen = AtomicU64::new(self.seen.load(Ordering::Relaxed));
        let changes = AtomicU64::new(self.changes.load(Ordering::Relaxed));
        Some((
            Kept {
                entry: self.entry,
                file_metadata,
                content,
                names: None,
                beside: self.beside,
                seen,
                changes,
            },
            octets,
        ))
    }

    /// The file beside it that was encoded beforehand, where there is one and it is not older.
    pub fn ready(&self, codec: Codec) -> Option<FileFacts> {
        self.beside[codec as usize]
    }
}

#[derive(Clone)]
struct Weight;

impl Weighter<Question, Arc<Kept>> for Weight {
    fn weight(&self, question: &Question, kept: &Arc<Kept>) -> u64 {
        let names = kept.names.as_ref().map_or(0, |names| 100 * names.len() as u64);
        200 + names
            + question.path.as_str().len() as u64
            + kept.content.as_ref().map_or(0, |body| body.len() as u64)
    }
}

impl Disk {
    /// Opens the folders of a configuration.
    pub fn open(config: &Config, clock: Arc<Clock>) -> io::Result<Self> {
        let open = no_open_folders();
        let folders = config.sites.iter().enumerate();
        let folders = folders.map(|(number, site)| {
            let Some(root) = site.root() else { return Ok(None) };
            Folder::open(root, number, &open).map(|folder| Some(Arc::new(folder)))
        });
        let folders = folders.collect::<io::Result<_>>()?;
        let types = config.sites.iter().map(|site| Arc::clone(&site.media_types)).collect();
        let kept = Cache::with_weighter(PLACES, MEMORY, Weight);
        Ok(Disk { folders, types, kept, clock, owner: CacheOwner::another() })
    }

    /// Who keeps copies of what was found here.
    pub fn owner(&self) -> CacheOwner {
        self.owner
    }

    /// Has the system tell of changes, on a thread of its own that ends when this is dropped.
    pub fn watch(&self) -> io::Result<()> {
        watching::watch(self.folders.iter().flatten(), &self.clock)
    }

    /// A site's folder. One that has none is asked about by nobody.
    fn folder(&self, site: SiteId) -> io::Result<&Arc<Folder>> {
        let folder = self.folders.get(site.0).and_then(Option::as_ref);
        folder.ok_or_else(|| io::Error::other("the site has no folder"))
    }

    /// What is known of a place and may still be believed.
    pub fn remembered(&self, question: &Question) -> Option<Arc<Kept>> {
        LOCAL.with_borrow_mut(|cache| {
            if let Some(kept) = cache.get(self.owner, question)
                && self.believes(question, kept)
            {
                return Some(Arc::clone(kept));
            }
            let kept = self.kept.get(question).filter(|kept| self.believes(question, kept))?;
            let Some((copy, octets)) = kept.copy() else { return Some(kept) };
            let octets = octets + 2 * question.path.as_str().len();
            let copy = Arc::new(copy);
            cache.keep(self.owner, question.clone(), Arc::clone(&copy), octets);
            Some(copy)
        })
    }

    /// Whether what was found may still be believed.
    pub fn believes(&self, question: &Question, kept: &Kept) -> bool {
        let (now, seen) = (self.now(), kept.seen.load(Ordering::Relaxed));
        let within = |time: Duration, since: u64| now.saturating_sub(since) < time.as_millis() as u64;
        if within(BELIEVED, seen) {
            return true;
        }
        // What is not there yet may come in ways that nobody tells of.
        let Ok(folder) = self.folder(question.site) else { return false };
        let quiet = folder.quiet_since(kept.changes.load(Ordering::Relaxed));
        matches!(kept.entry, Entry::File(_))
            && within(BELIEVED_WATCHED, seen)
            && quiet.is_some_and(|since| !within(UNREST, since))
    }

    /// What is about to be found out in a site's folder is believed from now on.
    pub fn belief(&self, site: SiteId) -> Belief {
        self.clock.tick();
        Belief { seen: self.now(), changes: self.folder(site).map_or(0, |folder| folder.changes()) }
    }

    /// Whether what was found, be it there or missing, may still be believed.
    pub fn still_holds(&self, site: SiteId, belief: &Belief) -> bool {
        let now = self.now();
        let within = |time: Duration, since: u64| now.saturating_sub(since) < time.as_millis() as u64;
        within(BELIEVED, belief.seen)
            || within(BELIEVED_WATCHED, belief.seen)
                && self
                    .folder(site)
                    .ok()
                    .and_then(|folder| folder.quiet_since(belief.changes))
                    .is_some_and(|since| !within(UNREST, since))
    }

    /// Whether these are the folders of a configuration, in its order, and the types of what is in them.
    pub fn is_of(&self, config: &Config) -> bool {
        let folders = self.folders.iter().map(|folder| folder.as_ref().map(|folder| folder.configured()));
        folders.eq(config.sites.iter().map(|site| site.root()))
            && self.types.iter().eq(config.sites.iter().map(|site| &site.media_types))
    }

    /// Looks at a place. Blocks.
    pub fn look(&self, question: &Question) -> Arc<Kept> {
        self.look_for(question, |_| true)
    }

    /// The same; of what is in a folder only what may be listed. Blocks.
    pub fn look_for(&self, question: &Question, may_be_listed: impl Fn(&Listed) -> bool) -> Arc<Kept> {
        self.clock.tick();
        let Ok(folder) = self.folder(question.site) else { return Arc::new(Kept::failed(self.now(), 0)) };
        let (now, changes) = (self.now(), folder.changes());
        let folder = match folder.opened() {
            Ok(folder) => folder,
            Err(error) => {
                tracing::warn!(folder = %folder.configured().display(), "a site's folder cannot be opened: {error}");
                return Arc::new(Kept::failed(now, changes));
            }
        };
        let found = folder.metadata(question);
        let entry = found.as_ref().map_or_else(entry_of_error, entry_of);
        let beside = match entry {
            Entry::File(facts) => folder.beside(question, facts),
            _ => Beside::default(),
        };
        if question.want == Want::Entry
            && let Some(kept) = self.kept.get(question)
            && kept.entry == entry
            && kept.beside == beside
        {
            kept.seen.store(now, Ordering::Relaxed);
            kept.changes.store(changes, Ordering::Relaxed);
            return kept;
        }
        let fresh = match entry {
            Entry::File(facts) if facts.size <= SMALL => folder.read_small(question),
            entry => (entry, None),
        };
        let names = match (question.want, entry) {
            (Want::Names, Entry::Folder) => {
                folder.names(question).ok().map(|names| names.into_iter().filter(may_be_listed).collect())
            }
            _ => None,
        };
        let entry = if question.want == Want::Names && names.is_none() { Entry::Failed } else { fresh.0 };
        let file_metadata = match entry {
            Entry::File(facts) => {
                let types = &self.types[question.site.0];
                let beginning = match &fresh.1 {
                    None if types.depends_on_content(question.path.as_str()) => folder.beginning(question),
                    _ => Vec::new(),
                };
                let content = fresh.1.as_deref();
                Some(Arc::new(FileMetadata::new(&question.path, facts, content, &beginning, types)))
            }
            _ => None,
        };
        let (seen, changes) = (AtomicU64::new(now), AtomicU64::new(changes));
        let kept = Arc::new(Kept { entry, file_metadata, content: fresh.1, names, beside, seen, changes });
        // Long paths of nothing are made up by strangers, and come once.
        if entry != Entry::Missing || question.path.as_str().len() <= LONGEST_MISSING {
            self.kept.insert(question.clone(), Arc::clone(&kept));
        }
        kept
    }

    /// Opens a file to send it, and says what it is now. Blocks.
    pub fn open_file(&self, question: &Question) -> io::Result<(File, FileFacts)> {
        let file = self.folder(question.site)?.opened()?.open_file(question)?;
        let facts = facts_of(&Metadata::from_file(&file)?);
        Ok((file, facts))
    }

    /// Forgets what was known of a place, so that it is looked at anew: by this thread at once, by the others
    /// when they no longer believe it.
    pub fn forget(&self, question: &Question) {
        LOCAL.with_borrow_mut(|cache| cache.forget(question));
        self.kept.remove(question);
    }

    fn now(&self) -> u64 {
        self.clock.now()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_answering::answer::path::resolve;
    use std::os::unix::fs::symlink;

    #[test]
    fn links_lead_within_the_folder_only() {
        let place = tempfile::tempdir().unwrap();
        let site = place.path().join("site");
        std::fs::create_dir_all(site.join("deep")).unwrap();
        std::fs::write(site.join("in.txt"), "in").unwrap();
        std::fs::write(place.path().join("out.txt"), "out").unwrap();
        symlink(place.path().join("out.txt"), site.join("absolute-out.txt")).unwrap();
        symlink("../out.txt", site.join("relative-out.txt")).unwrap();
        symlink("..", site.join("deep/up")).unwrap();
        symlink("../..", site.join("deep/upup")).unwrap();
        symlink(site.canonicalize().unwrap().join("in.txt"), site.join("absolute-in.txt")).unwrap();
        symlink("loop", site.join("loop")).unwrap();
        std::fs::create_dir(site.join(".git")).unwrap();
        std::fs::write(site.join(".git/config"), "secret").unwrap();
        std::fs::write(site.join(".env"), "secret").unwrap();
        symlink(".env", site.join("env.txt")).unwrap();
        symlink("env.txt", site.join("again.txt")).unwrap();
        symlink(".git", site.join("history")).unwrap();
        symlink(site.canonicalize().unwrap().join(".env"), site.join("deep/env.txt")).unwrap();
        symlink("deep", site.join("shallow")).unwrap();
        std::fs::write(site.join("deep/d.txt"), "d").unwrap();
        rustix::fs::mknodat(
            rustix::fs::CWD,
            site.join("pipe.txt"),
            rustix::fs::FileType::Fifo,
            rustix::fs::Mode::RUSR,
            0,
        )
        .unwrap();
        let text = format!(
            "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = {site:?}\n"
        );
        let disk =
            Disk::open(&exedra_answering::config::understand(&text, place.path()).unwrap(), Clock::new())
                .unwrap();
        let look = |path: &str| {
            let question =
                Question { site: SiteId(0), path: resolve(path).unwrap().place, want: Want::Entry };
            disk.look(&question).content.clone().map(|content| String::from_utf8(content.to_vec()).unwrap())
        };
        assert_eq!(look("/in.txt").as_deref(), Some("in"));
        assert_eq!(look("/absolute-in.txt").as_deref(), Some("in"));
        assert_eq!(look("/deep/up/in.txt").as_deref(), Some("in"));
        assert_eq!(look("/shallow/d.txt").as_deref(), Some("d"));
        let names = Question { site: SiteId(0), path: resolve("/").unwrap().place, want: Want::Names };
        let names = disk.look(&names).names().unwrap();
        let mut names: Vec<&str> = names.iter().map(|listed| listed.name.as_str()).collect();
        names.sort_unstable();
        assert_eq!(names, ["absolute-in.txt", "deep", "in.txt", "shallow"], "hidden by any name");
        for hidden in
            ["/env.txt", "/again.txt", "/history/config", "/deep/env.txt", "/shallow/env.txt", "/pipe.txt"]
        {
            let question =
                Question { site: SiteId(0), path: resolve(hidden).unwrap().place, want: Want::Entry };
            assert_eq!(disk.look(&question).entry, Entry::Missing, "{hidden}");
            assert!(disk.open_file(&question).is_err(), "{hidden}");
        }
        for outside in ["/absolute-out.txt", "/relative-out.txt", "/deep/upup/out.txt", "/loop", "/in.txt/x"]
        {
            let question =
                Question { site: SiteId(0), path: resolve(outside).unwrap().place, want: Want::Entry };
            assert_eq!(disk.look(&question).entry, Entry::Missing, "{outside}");
            assert!(disk.open_file(&question).is_err(), "{outside}");
        }
    }
}
