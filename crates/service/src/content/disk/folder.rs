//! One site's folder. Everything is opened beneath it, so that neither dots nor links lead out of it: the operating
//! system refuses. When another folder takes its place (as happens when a site is published by renaming, or by pointing a
//! link elsewhere), that one is opened instead. Of many sites' folders only those asked for last stay open.

use super::{Beside, SMALL};
use crate::access::descriptors::MOST_OPEN;
use bytes::Bytes;
use cap_std::ambient_authority;
use cap_std::fs::{Dir, Metadata, MetadataExt, OpenOptions, OpenOptionsExt};
use exedra_answering::answer::listing::{Kind, Listed, MOST_LISTED};
use exedra_answering::answer::path::is_hidden;
use exedra_answering::answer::{Entry, FileFacts, Question};
use exedra_answering::encode::Codec;
use exedra_answering::media_types::LOOKED_AT;
use parking_lot::RwLock;
use quick_cache::sync::{Cache, DefaultLifecycle};
use quick_cache::{DefaultHashBuilder, OptionsBuilder, UnitWeighter};
use rustix::fs::{Access, AtFlags, Mode, OFlags, ResolveFlags, accessat, openat2};
use rustix::io::Errno;
use std::borrow::Cow;
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

/// How often a file is read that keeps changing.
const MOST_TRIES: usize = 5;

/// Folders that are open, by their number.
pub type OpenFolders = Cache<usize, Arc<Opened>>;

/// None yet.
pub fn no_open_folders() -> Arc<OpenFolders> {
    let mut options = OptionsBuilder::new();
    let options = options.estimated_items_capacity(MOST_OPEN).weight_capacity(MOST_OPEN as u64).shards(1);
    match options.build() {
        Ok(options) => {
            let hash = DefaultHashBuilder::default();
            Arc::new(Cache::with_options(options, UnitWeighter, hash, DefaultLifecycle::default()))
        }
        Err(_) => Arc::new(Cache::new(MOST_OPEN)),
    }
}

/// A site's folder.
pub struct Folder {
    configured: PathBuf,
    number: usize,
    open: Arc<OpenFolders>,
    /// Which folder it was when somebody last looked, and where that lies.
    known: RwLock<(Identity, PathBuf)>,
    /// How often something in it has changed, as far as anybody told.
    changes: AtomicU64,
    /// When that was last, by the clock.
    changed: AtomicU64,
    /// Whether changes are told of.
    watched: AtomicBool,
}

/// What no other folder has: device and number.
type Identity = (u64, u64);

/// A folder that has been opened.
pub struct Opened {
    /// Where it lies, all links followed.
    root: PathBuf,
    inside: Dir,
    identity: Identity,
}

impl Folder {
    /// Opens a folder, the first of that number among the open ones.
    pub fn open(configured: &Path, number: usize, open: &Arc<OpenFolders>) -> io::Result<Self> {
        let opened = Arc::new(Opened::open(configured)?);
        let known = RwLock::new((opened.identity, opened.root.clone()));
        open.insert(number, opened);
        Ok(Folder {
            configured: configured.to_owned(),
            number,
            open: Arc::clone(open),
            known,
            changes: AtomicU64::new(0),
            changed: AtomicU64::new(0),
            watched: AtomicBool::new(false),
        })
    }

    /// Where the configuration says it is.
    pub fn configured(&self) -> &Path {
        &self.configured
    }

    /// The folder as it was when somebody last looked, or as it is now where it had to be opened again.
    pub fn opened(&self) -> io::Result<Arc<Opened>> {
        self.open.get_or_insert_with(&self.number, || Opened::open(&self.configured).map(Arc::new))
    }

    /// Where it lies, all links followed.
    pub fn root(&self) -> PathBuf {
        self.known.read().1.clone()
    }

    /// Opens the folder that has taken its place, if one has.
    pub fn replaced(&self) -> io::Result<bool> {
        let there = std::fs::metadata(&self.configured)?;
        if identity(&there) == self.known.read().0 {
            return Ok(false);
        }
        let fresh = Arc::new(Opened::open(&self.configured)?);
        *self.known.write() = (fresh.identity, fresh.root.clone());
        self.open.insert(self.number, fresh);
        Ok(true)
    }

    /// How often something has changed.
    pub fn changes(&self) -> u64 {
        self.changes.load(Ordering::SeqCst)
    }

    /// Takes note of a change at some time.
    pub fn note_change(&self, now: u64) {
        self.changed.store(now, Ordering::SeqCst);
        self.changes.fetch_add(1, Ordering::SeqCst);
    }

    /// Takes note whether changes are told of from now on.
    pub fn set_watched(&self, watched: bool, now: u64) {
        self.note_change(now);
        self.watched.store(watched, Ordering::SeqCst);
    }

    /// Since when nothing has changed: nothing where that is not told of, or where something has changed
    /// since there had been so many changes.
    pub fn quiet_since(&self, changes: u64) -> Option<u64> {
        let quiet = self.watched.load(Ordering::Relaxed) && self.changes.load(Ordering::Relaxed) == changes;
        quiet.then(|| self.changed.load(Ordering::Relaxed))
    }
}

fn identity(found: &std::fs::Metadata) -> Identity {
    use std::os::unix::fs::MetadataExt;
    (found.dev(), found.ino())
}

impl Opened {
    fn open(configured: &Path) -> io::Result<Self> {
        let root = configured.canonicalize()?;
        let inside = Dir::open_ambient_dir(&root, ambient_authority())?;
        let identity = identity(&inside.try_clone()?.into_std_file().metadata()?);
        Ok(Opened { root, inside, identity })
    }
}

impl Opened {
    /// What stands at a place.
    pub fn metadata(&self, question: &Question) -> io::Result<Metadata> {
        match question.path.as_str() {
            "" => self.inside.dir_metadata(),
            place => self.inside.metadata(self.led_to(place)?),
        }
    }

    /// The place that is meant by one on whose way there may be links: the same where there are none. Links that lead out
    /// of the folder lead nowhere, and so do those that lead to what is hidden: it stays so by any name.
    pub fn led_to<'p>(&self, place: &'p str) -> io::Result<Cow<'p, Path>> {
        let flags = OFlags::PATH | OFlags::CLOEXEC;
        let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
        match openat2(&self.inside, place, flags, Mode::empty(), resolve) {
            Ok(_) => return Ok(Path::new(place).into()),
            // There are links; or the system cannot say.
            Err(Errno::LOOP | Errno::NOSYS | Errno::PERM | Errno::AGAIN) => {}
            Err(error) => return Err(error.into()),
        }
        let target = self.root.join(place).canonicalize()?;
        let inside = target.strip_prefix(&self.root).map_err(|_| io::ErrorKind::NotFound)?;
        let mut names = inside.components().map(|name| name.as_os_str().to_string_lossy()).enumerate();
        if names.any(|(depth, name)| is_hidden(depth, &name)) {
            return Err(io::ErrorKind::NotFound.into());
        }
        match inside.as_os_str().is_empty() {
            true => Ok(Path::new(".").into()),
            false => Ok(inside.to_owned().into()),
        }
    }

    /// Opens a file, without waiting for anybody where it is none after all.
    fn open_without_waiting(&self, place: &str) -> io::Result<cap_std::fs::File> {
        let mut options = OpenOptions::new();
        options.read(true).custom_flags(OFlags::NONBLOCK.bits().cast_signed());
        let opened = self.inside.open_with(self.led_to(place)?, &options)?;
        match opened.metadata()?.is_file() {
            true => Ok(opened),
            // Sockets, pipes and devices are nobody's business.
            false => Err(io::ErrorKind::NotFound.into()),
        }
    }

    /// The files beside one that hold it encoded and are not older than it is, in whole seconds: whoever copies files often
    /// keeps no more of their times.
    pub fn beside(&self, question: &Question, facts: FileFacts) -> Beside {
        let second = |facts: FileFacts| facts.modified.div_euclid(1_000_000_000);
        Codec::ALL.map(|codec| {
            let place = question.path.with_extension(codec.extension()?);
            match entry_of(&self.inside.metadata(self.led_to(place.as_str()).ok()?).ok()?) {
                Entry::File(beside) if second(beside) >= second(facts) => Some(beside),
                _ => None,
            }
        })
    }

    /// What a stranger may know of a folder: no hidden names, nothing that leads out of the site.
    pub fn names(&self, question: &Question) -> io::Result<Vec<Listed>> {
        let opened = match question.path.as_str() {
            "" => self.inside.try_clone()?,
            place => self.inside.open_dir(self.led_to(place)?)?,
        };
        let mut names = Vec::new();
        for entry in opened.entries()?.take(MOST_LISTED) {
            let entry = entry?;
            let Ok(name) = entry.file_name().into_string() else { continue };
            // By such names nothing can be asked for.
            if name.starts_with('.') || name.contains('\\') {
                continue;
            }
            let found = match entry.file_type()?.is_symlink() {
                true => {
                    let below = Question { path: question.path.join(&name), ..question.clone() };
                    self.metadata(&below)
                }
                false => entry.metadata(),
            };
            let Ok(found) = found else { continue };
            let (kind, needed) = match entry_of(&found) {
                Entry::File(_) => (Kind::File, Access::READ_OK),
                Entry::Folder => (Kind::Folder, Access::EXEC_OK),
                _ => continue,
            };
            if accessat(&opened, name.as_str(), needed, AtFlags::EACCESS).is_err() {
                continue;
            }
            names.push(Listed { name, kind, bytes: found.len(), changed: found.mtime() });
        }
        Ok(names)
    }

    /// The beginning of a file, as far as its type is looked for in it; nothing where it cannot be read.
    pub fn beginning(&self, question: &Question) -> Vec<u8> {
        let mut beginning = Vec::new();
        if let Ok(file) = self.open_file(question) {
            // What was read of it is looked at, be it all or not.
            let _ = file.take(LOOKED_AT as u64).read_to_end(&mut beginning);
        }
        beginning
    }

    /// Opens a file.
    pub fn open_file(&self, question: &Question) -> io::Result<File> {
        Ok(self.open_without_waiting(question.path.as_str())?.into_std())
    }

    /// Reads a file and what it is in one go: a file that changes meanwhile is read again. One that does not
    /// stop changing, or is no longer small, is there without its content.
    pub fn read_small(&self, question: &Question) -> (Entry, Option<Bytes>) {
        let mut entry = Entry::Failed;
        for _ in 0..MOST_TRIES {
            let read = || -> io::Result<(FileFacts, Option<Bytes>)> {
                let file = self.open_file(question)?;
                let found = Metadata::from_file(&file)?;
                let before = facts_of(&found);
                if before.size > SMALL {
                    return Ok((before, None));
                }
                let mut content = Vec::with_capacity(before.size as usize + 1);
                (&file).take(SMALL + 1).read_to_end(&mut content)?;
                let after = Metadata::from_file(&file)?;
                let is_same = content.len() as u64 == before.size && is_unwritten(&found, &after);
                Ok((before, is_same.then(|| content.into())))
            };
            match read() {
                Err(error) => return (entry_of_error(&error), None),
                Ok((facts, content)) => {
                    entry = Entry::File(facts);
                    if content.is_some() || facts.size > SMALL {
                        return (entry, content);
                    }
                }
            }
        }
        (entry, None)
    }
}

/// Whether nothing was written to an open file between two looks at it. That another took its place in the
/// folder meanwhile changes nothing about what was read.
fn is_unwritten(before: &Metadata, after: &Metadata) -> bool {
    let is_replaced = after.nlink() < before.nlink();
    let (before, after) = (facts_of(before), facts_of(after));
    before == after || is_replaced && (before.size, before.modified) == (after.size, after.modified)
}

/// What stands at a place, of what the system says.
pub fn entry_of(found: &Metadata) -> Entry {
    match (found.is_file(), found.is_dir()) {
        (true, _) => Entry::File(facts_of(found)),
        (_, true) => Entry::Folder,
        // Sockets, pipes and devices are nobody's business.
        _ => Entry::Missing,
    }
}

/// What is known of a file, of what the system says.
pub fn facts_of(found: &Metadata) -> FileFacts {
    let modified = i128::from(found.mtime()) * 1_000_000_000 + i128::from(found.mtime_nsec());
    let changed = (found.ctime() as u64).wrapping_mul(1_000_000_000).wrapping_add(found.ctime_nsec() as u64);
    let stamp = changed ^ found.ino().wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ found.dev().rotate_left(32);
    FileFacts { size: found.len(), modified, stamp }
}

/// What stands at a place that could not be looked at.
pub fn entry_of_error(error: &io::Error) -> Entry {
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
    use exedra_answering::answer::Want;
    use exedra_answering::answer::path::tidy;
    use exedra_answering::config::SiteId;
    use std::time::{Duration, SystemTime};

    #[test]
    fn a_file_encoded_beforehand_counts_unless_it_is_a_second_older() {
        let place = tempfile::tempdir().unwrap();
        let then = SystemTime::UNIX_EPOCH + Duration::new(1_794_633_160, 900_000_000);
        let write = |name: &str, time: SystemTime| {
            std::fs::write(place.path().join(name), name).unwrap();
            File::options().write(true).open(place.path().join(name)).unwrap().set_modified(time).unwrap();
        };
        write("tide.html", then);
        let folder = Folder::open(place.path(), 0, &no_open_folders()).unwrap();
        let path = tidy("/tide.html").unwrap().place().unwrap();
        let question = Question { site: SiteId(0), path, want: Want::Entry };
        let is_there = || {
            let opened = folder.opened().unwrap();
            let facts = facts_of(&opened.metadata(&question).unwrap());
            opened.beside(&question, facts)[Codec::Gzip as usize].is_some()
        };
        assert!(!is_there());
        write("tide.html.gz", then - Duration::from_millis(800));
        assert!(is_there(), "copied by whoever keeps no more than seconds");
        write("tide.html.gz", then - Duration::from_secs(1));
        assert!(!is_there());
    }
}
