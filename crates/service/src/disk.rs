//! The sites' folders: what stands at a place, and small files kept in memory.
//!
//! A folder is opened once and everything is opened beneath it, so that neither dots nor links lead out of
//! it: the operating system refuses. What was found is believed for [`BELIEVED`]; then a cheap look tells
//! whether it still holds. Small files stay in memory.

use crate::connections::Clock;
use crate::near::{MOST_COPIED, Near, Owner};
use bytes::Bytes;
use cap_std::ambient_authority;
use cap_std::fs::{Dir, Metadata, MetadataExt};
use exedra_core::answer::listing::{Kind, Listed};
use exedra_core::answer::{Card, Entry, FileFacts, Question, Reply, SitePath, Want};
use exedra_core::config::Config;
use exedra_core::encode::Codec;
use quick_cache::Weighter;
use quick_cache::sync::Cache;
use std::cell::RefCell;
use std::fs::File;
use std::io::{self, Read};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

/// How long what was found is believed without looking again.
const BELIEVED: Duration = Duration::from_millis(600);
/// The largest file that is kept in memory.
pub const SMALL: u64 = 256 << 10;
/// How much memory kept files may take together.
const MEMORY: u64 = 96 << 20;
/// How many entries of a folder are listed.
const MOST_NAMES: usize = 100_000;
/// How many places are remembered.
const PLACES: usize = 50_000;

/// The folders of all sites.
pub struct Disk {
    folders: Vec<Folder>,
    kept: Cache<Question, Arc<Kept>, Weight>,
    clock: Arc<Clock>,
    owner: Owner,
}

thread_local! {
    /// Copies of this thread's own, and until when they are believed.
    static NEAR: RefCell<Near<Question, (Arc<Kept>, u64)>> = RefCell::default();
}

struct Folder {
    root: PathBuf,
    inside: Dir,
}

/// Files beside one that hold it encoded, in the order of [`Codec::ALL`].
type Beside = [Option<FileFacts>; Codec::ALL.len()];

/// What was found at a place.
pub struct Kept {
    /// What stands there.
    pub entry: Entry,
    /// The card of a file.
    card: Option<Arc<Card>>,
    /// The whole of a small file.
    pub content: Option<Bytes>,
    /// What is in a folder, where that was asked for.
    names: Option<Arc<[Listed]>>,
    beside: Beside,
    /// When that was last true, by the clock.
    seen: AtomicU64,
}

impl Kept {
    /// What the core is told of it.
    pub fn reply(&self) -> Reply {
        match (&self.names, &self.card) {
            (Some(names), _) => Reply::Names(Arc::clone(names)),
            (None, Some(card)) => Reply::File(Arc::clone(card)),
            (None, None) => Reply::Entry(self.entry),
        }
    }

    /// A copy that shares nothing with this one, and its size in octets; none of what is large.
    fn copy(&self, path: &SitePath) -> Option<(Kept, usize)> {
        let content = match &self.content {
            Some(content) if content.len() > MOST_COPIED => return None,
            Some(content) => Some(Bytes::copy_from_slice(content)),
            None => None,
        };
        if self.names.is_some() {
            return None;
        }
        let octets = 1000 + content.as_ref().map_or(0, Bytes::len);
        let card = self.card.as_ref().map(|card| Arc::new(Card::new(path, card.facts)));
        let seen = AtomicU64::new(self.seen.load(Ordering::Relaxed));
        Some((Kept { entry: self.entry, card, content, names: None, beside: self.beside, seen }, octets))
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
        let folders = config.sites.iter().map(|site| {
            let root = site.folder.value.canonicalize()?;
            let inside = Dir::open_ambient_dir(&root, ambient_authority())?;
            Ok(Folder { root, inside })
        });
        let kept = Cache::with_weighter(PLACES, MEMORY, Weight);
        Ok(Disk { folders: folders.collect::<io::Result<_>>()?, kept, clock, owner: Owner::another() })
    }

    /// What is known of a place and may still be believed.
    pub fn remembered(&self, question: &Question) -> Option<Arc<Kept>> {
        let now = self.now();
        NEAR.with_borrow_mut(|near| {
            if let Some((kept, until)) = near.get(self.owner, question)
                && now < *until
            {
                return Some(Arc::clone(kept));
            }
            let kept = self.kept.get(question)?;
            let until = kept.seen.load(Ordering::Relaxed) + BELIEVED.as_millis() as u64;
            if now >= until {
                return None;
            }
            let Some((copy, octets)) = kept.copy(&question.path) else { return Some(kept) };
            let copy = Arc::new(copy);
            near.keep(self.owner, question.clone(), (Arc::clone(&copy), until), octets);
            Some(copy)
        })
    }

    /// Looks at a place. Blocks.
    pub fn look(&self, question: &Question) -> Arc<Kept> {
        let folder = &self.folders[question.site.0];
        self.clock.tick();
        let now = self.now();
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
            return kept;
        }
        let fresh = match entry {
            Entry::File(facts) if facts.size <= SMALL => folder.read_small(question),
            entry => (entry, None),
        };
        let names = match (question.want, entry) {
            (Want::Names, Entry::Folder) => folder.names(question).ok(),
            _ => None,
        };
        let entry = if question.want == Want::Names && names.is_none() { Entry::Failed } else { fresh.0 };
        let card = match entry {
            Entry::File(facts) => Some(Arc::new(Card::new(&question.path, facts))),
            _ => None,
        };
        let kept = Arc::new(Kept { entry, card, content: fresh.1, names, beside, seen: AtomicU64::new(now) });
        self.kept.insert(question.clone(), Arc::clone(&kept));
        kept
    }

    /// Opens a file to send it, and says what it is now. Blocks.
    pub fn open_file(&self, question: &Question) -> io::Result<(File, FileFacts)> {
        let file = self.folders[question.site.0].open(question)?;
        let facts = facts_of(&Metadata::from_file(&file)?);
        Ok((file, facts))
    }

    /// Forgets what was known of a place, so that it is looked at anew: by this thread at once, by the others
    /// when they no longer believe it.
    pub fn forget(&self, question: &Question) {
        NEAR.with_borrow_mut(|near| near.forget(question));
        self.kept.remove(question);
    }

    fn now(&self) -> u64 {
        self.clock.now()
    }
}

impl Folder {
    fn metadata(&self, question: &Question) -> io::Result<Metadata> {
        match question.path.as_str() {
            "" => self.inside.dir_metadata(),
            place => match self.inside.metadata(place) {
                Ok(found) => Ok(found),
                Err(error) => self.inside.metadata(self.led_back(place).ok_or(error)?),
            },
        }
    }

    /// The files beside one that hold it encoded and are not older than it is.
    fn beside(&self, question: &Question, facts: FileFacts) -> Beside {
        Codec::ALL.map(|codec| {
            let place = question.path.with_extension(codec.extension()?);
            match entry_of(&self.inside.metadata(place.as_str()).ok()?) {
                Entry::File(beside) if beside.modified >= facts.modified => Some(beside),
                _ => None,
            }
        })
    }

    /// What a stranger may know of a folder: no hidden names, nothing that leads out of the site.
    fn names(&self, question: &Question) -> io::Result<Arc<[Listed]>> {
        let opened = match question.path.as_str() {
            "" => self.inside.try_clone()?,
            place => match self.inside.open_dir(place) {
                Ok(opened) => opened,
                Err(error) => self.inside.open_dir(self.led_back(place).ok_or(error)?)?,
            },
        };
        let mut names = Vec::new();
        for entry in opened.entries()?.take(MOST_NAMES) {
            let entry = entry?;
            let Ok(name) = entry.file_name().into_string() else { continue };
            if name.starts_with('.') {
                continue;
            }
            let found =
                if entry.file_type()?.is_symlink() { opened.metadata(&name) } else { entry.metadata() };
            let Ok(found) = found else { continue };
            let kind = match entry_of(&found) {
                Entry::File(_) => Kind::File,
                Entry::Folder => Kind::Folder,
                _ => continue,
            };
            names.push(Listed { name, kind, bytes: found.len(), changed: found.mtime() });
        }
        Ok(names.into())
    }

    fn open(&self, question: &Question) -> io::Result<File> {
        let place = question.path.as_str();
        let opened = match self.inside.open(place) {
            Ok(opened) => opened,
            Err(error) => self.inside.open(self.led_back(place).ok_or(error)?)?,
        };
        Ok(opened.into_std())
    }

    /// Absolute links are refused above even when they lead back inside. They are followed here by name, and
    /// where they lead is then opened beneath the folder like anything else.
    fn led_back(&self, place: &str) -> Option<PathBuf> {
        let target = self.root.join(place).canonicalize().ok()?;
        let inside = target.strip_prefix(&self.root).ok()?;
        (!inside.as_os_str().is_empty() && inside.as_os_str() != place).then(|| inside.to_owned())
    }

    /// Reads a file and what it is in one go: a file that changes meanwhile is read again.
    fn read_small(&self, question: &Question) -> (Entry, Option<Bytes>) {
        for _ in 0..3 {
            let read = || -> io::Result<(FileFacts, FileFacts, Vec<u8>)> {
                let file = self.open(question)?;
                let before = facts_of(&Metadata::from_file(&file)?);
                let mut content = Vec::with_capacity(before.size as usize + 1);
                (&file).take(SMALL + 1).read_to_end(&mut content)?;
                Ok((before, facts_of(&Metadata::from_file(&file)?), content))
            };
            match read() {
                Err(error) => return (entry_of_error(&error), None),
                Ok((before, after, content)) if before == after && content.len() as u64 == before.size => {
                    return (Entry::File(before), Some(content.into()));
                }
                Ok(_) => {}
            }
        }
        (Entry::Failed, None)
    }
}

fn entry_of(found: &Metadata) -> Entry {
    match (found.is_file(), found.is_dir()) {
        (true, _) => Entry::File(facts_of(found)),
        (_, true) => Entry::Folder,
        // Sockets, pipes and devices are nobody's business.
        _ => Entry::Missing,
    }
}

fn facts_of(found: &Metadata) -> FileFacts {
    let modified = i128::from(found.mtime()) * 1_000_000_000 + i128::from(found.mtime_nsec());
    FileFacts { size: found.len(), modified }
}

fn entry_of_error(error: &io::Error) -> Entry {
    match error.raw_os_error() {
        // A link that leads out of the folder is refused with "not permitted" by the rules of opening beneath.
        _ if error.kind() == io::ErrorKind::NotFound => Entry::Missing,
        None => Entry::Missing,
        Some(code)
            if code == ENOTDIR || code == ELOOP || code == ENAMETOOLONG || code == EXDEV || code == EPERM =>
        {
            Entry::Missing
        }
        _ if error.kind() == io::ErrorKind::PermissionDenied => Entry::Forbidden,
        _ => Entry::Failed,
    }
}

const EPERM: i32 = 1;
const EXDEV: i32 = 18;
const ENOTDIR: i32 = 20;
const ENAMETOOLONG: i32 = 36;
const ELOOP: i32 = 40;

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_core::answer::path::resolve;
    use exedra_core::config::SiteId;
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
        let text = format!(
            "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = {site:?}\n"
        );
        let disk =
            Disk::open(&exedra_core::config::understand(&text, place.path()).unwrap(), Clock::new()).unwrap();
        let look = |path: &str| {
            let question =
                Question { site: SiteId(0), path: resolve(path).unwrap().place, want: Want::Entry };
            disk.look(&question).content.clone().map(|content| String::from_utf8(content.to_vec()).unwrap())
        };
        assert_eq!(look("/in.txt").as_deref(), Some("in"));
        assert_eq!(look("/absolute-in.txt").as_deref(), Some("in"));
        assert_eq!(look("/deep/up/in.txt").as_deref(), Some("in"));
        for outside in ["/absolute-out.txt", "/relative-out.txt", "/deep/upup/out.txt", "/loop", "/in.txt/x"]
        {
            let question =
                Question { site: SiteId(0), path: resolve(outside).unwrap().place, want: Want::Entry };
            assert_eq!(disk.look(&question).entry, Entry::Missing, "{outside}");
            assert!(disk.open_file(&question).is_err(), "{outside}");
        }
    }
}
