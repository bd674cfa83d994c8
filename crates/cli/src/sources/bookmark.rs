//! Where the last reading stopped, so that the next one goes on there: also when logs have been rotated since.
//!
//! A file is known again by how it begins: its first octets before any compression, of which the bookmark keeps a digest.
//! So it makes no difference whether a log was renamed, copied away and emptied, or compressed. Where little was in it
//! yet, its device and inode decide. What was written between the copy and the emptying of a log is lost to everybody.

use super::found::{Found, siblings};
use super::packed::{self, Unpacked, unpacked};
use crate::failure::Failure;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// How many octets a file is known again by.
const BEGINNING: u64 = 1024;
/// With fewer than this, device and inode must be the same.
const TELLING: u64 = 64;
/// Stands for all octets of a file: it was there before, and nobody asked for it.
pub const ALL: u64 = u64::MAX;
/// How many files that are no longer there are remembered.
const MOST_GONE: usize = 200;

/// How far some logs have been read.
#[derive(Debug, Default, Serialize, Deserialize)]
pub struct Bookmark {
    /// The files, those that were read last first.
    files: Vec<Known>,
    #[serde(skip)]
    path: PathBuf,
}

/// By what one file is known again, and how far it has been read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Known {
    device: u64,
    inode: u64,
    /// How many octets the digest is of.
    beginning: u64,
    digest: String,
    /// Octets of whole lines that have been read, before compression.
    read: u64,
}

impl Known {
    /// A file as it begins now, of which nothing has been read.
    pub fn of(path: &Path) -> io::Result<Self> {
        Self::of_beginning(path, BEGINNING, 0)
    }

    fn of_beginning(path: &Path, most: u64, read: u64) -> io::Result<Self> {
        let now = look(path, most)?;
        let (device, inode) = (now.device, now.inode);
        Ok(Known { device, inode, beginning: now.octets.len() as u64, digest: digest(&now.octets), read })
    }

    /// Whether a file is the one that was known.
    pub fn is(&self, path: &Path) -> io::Result<bool> {
        Ok(look(path, BEGINNING)?.is(self))
    }
}

/// A file to be read from some octet on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Begun {
    /// The file.
    pub file: Found,
    /// Octets, before compression, that have been read already.
    pub read: u64,
}

impl Bookmark {
    /// Opens a bookmark by its name; one that is not there yet is empty.
    pub fn open(name: &str) -> Result<Self, Failure> {
        let is_plain = |letter: char| letter.is_alphanumeric() || "-_.".contains(letter);
        if name.is_empty() || name.starts_with('.') || !name.chars().all(is_plain) {
            return Err(Failure(format!(
                "a bookmark cannot be called `{name}`: letters, digits, `-`, `_` and `.` make a name"
            )));
        }
        let path = folder()?.join(format!("{name}.json"));
        let mut bookmark = match std::fs::read(&path) {
            Ok(text) => serde_json::from_slice(&text).map_err(|error| {
                Failure(format!(
                    "the bookmark {} cannot be understood: {error}; delete it to begin anew",
                    path.display()
                ))
            })?,
            Err(error) if error.kind() == io::ErrorKind::NotFound => Bookmark::default(),
            Err(error) => return Err(Failure(format!("{} cannot be read: {error}", path.display()))),
        };
        bookmark.path = path;
        Ok(bookmark)
    }

    /// What is still to be read of some files: those named, and what has become of those that were being read.
    pub fn begin(&self, named: Vec<Found>) -> Result<Vec<Begun>, Failure> {
        let is_first = self.files.is_empty();
        let mut files: Vec<(Found, bool)> = Vec::new();
        let is_named = |path: &Path| named.iter().any(|found| found.path.as_deref() == Some(path));
        for found in &named {
            let Some(path) = &found.path else {
                return Err(Failure("standard input cannot be taken up again: name a file".to_owned()));
            };
            for path in siblings(path)?.into_iter().filter(|path| !is_named(path)) {
                let sibling = Found::file(path, true);
                files.push((sibling, is_first));
            }
            files.push((found.clone(), false));
        }
        let mut left = self.files.clone();
        let mut begun = Vec::new();
        for (file, passed_over) in files {
            let now = match &file.path {
                Some(path) => look(path, BEGINNING),
                None => continue,
            };
            let now = now.map_err(|error| Failure(format!("{} cannot be read: {error}", file.name)))?;
            let known = left.iter().position(|known| now.is(known));
            let read = known.map_or(if passed_over { ALL } else { 0 }, |nth| left.remove(nth).read);
            begun.push(Begun { file, read });
        }
        Ok(begun)
    }

    /// Remembers how far files have been read.
    pub fn keep(mut self, read: &[(PathBuf, u64)]) -> Result<(), Failure> {
        let failed = |path: &Path, error: io::Error| {
            Failure(format!("the bookmark {} cannot be kept: {error}", path.display()))
        };
        let mut files = Vec::new();
        for (path, octets) in read {
            let known = Known::of_beginning(path, BEGINNING.min(*octets), *octets);
            files.push(known.map_err(|error| failed(path, error))?);
        }
        let is_new = |known: &Known| {
            !files.iter().any(|file| file.digest == known.digest && file.beginning == known.beginning)
        };
        let gone: Vec<Known> = self.files.into_iter().filter(is_new).take(MOST_GONE).collect();
        files.extend(gone);
        self.files = files;
        let text = serde_json::to_vec_pretty(&self)?;
        let folder = self.path.parent().unwrap_or(Path::new("."));
        std::fs::create_dir_all(folder).map_err(|error| failed(&self.path, error))?;
        let fresh = self.path.with_extension("new");
        std::fs::write(&fresh, text).map_err(|error| failed(&self.path, error))?;
        std::fs::rename(&fresh, &self.path).map_err(|error| failed(&self.path, error))
    }
}

/// A file as it is now.
struct Now {
    device: u64,
    inode: u64,
    octets: Vec<u8>,
}

impl Now {
    fn is(&self, known: &Known) -> bool {
        let Some(beginning) =
            usize::try_from(known.beginning).ok().and_then(|length| self.octets.get(..length))
        else {
            return false;
        };
        let same_place = (self.device, self.inode) == (known.device, known.inode);
        digest(beginning) == known.digest && (same_place || known.beginning >= TELLING)
    }
}

fn look(path: &Path, beginning: u64) -> io::Result<Now> {
    let file = File::open(path)?;
    let found = file.metadata()?;
    let mut octets = Vec::new();
    unpacked(file)?.take(beginning).read_to_end(&mut octets)?;
    Ok(Now { device: found.dev(), inode: found.ino(), octets })
}

fn digest(octets: &[u8]) -> String {
    Sha256::digest(octets).iter().take(16).map(|octet| format!("{octet:02x}")).collect()
}

/// Opens a file, unpacked, from an octet on.
pub fn open_from(path: &Path, read: u64) -> io::Result<Unpacked<'static>> {
    let mut file = File::open(path)?;
    if read == 0 {
        return unpacked(file);
    }
    if packed::is_packed(&mut file)? {
        let mut input = unpacked(file)?;
        io::copy(&mut input.by_ref().take(read), &mut io::sink())?;
        return Ok(input);
    }
    file.seek(SeekFrom::Start(read))?;
    unpacked(file)
}

/// Where bookmarks are kept: the folder for state that the XDG base directory specification names.
fn folder() -> Result<PathBuf, Failure> {
    let set = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let state = set("XDG_STATE_HOME").or_else(|| Some(set("HOME")?.join(".local/state")));
    state.map(|state| state.join("exedra/bookmarks")).ok_or_else(|| {
        Failure("nobody knows where to keep a bookmark: set HOME or XDG_STATE_HOME".to_owned())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    /// Reads what is new, as a reading does, and keeps the bookmark.
    fn read(folder: &Path, names: &[&str]) -> String {
        let path = folder.join("mark.json");
        let mut bookmark: Bookmark = fs::read(&path)
            .map_or_else(|_| Bookmark::default(), |text| serde_json::from_slice(&text).unwrap());
        bookmark.path = path;
        let named = names.iter().map(|name| folder.join(name));
        let named = named.map(|path| Found::file(path, false));
        let begun = bookmark.begin(named.collect()).ok().unwrap();
        let (mut text, mut kept) = (String::new(), Vec::new());
        for Begun { file, read } in begun {
            let path = file.path.unwrap();
            if read == ALL {
                kept.push((path, ALL));
                continue;
            }
            let new = io::read_to_string(open_from(&path, read).unwrap()).unwrap();
            kept.push((path, read + new.len() as u64));
            text.push_str(&new);
        }
        assert!(bookmark.keep(&kept).is_ok());
        text
    }

    fn lines(numbers: std::ops::Range<u32>) -> String {
        numbers.map(|number| format!("line number {number}\n")).collect()
    }

    #[test]
    fn every_line_is_read_once_however_logs_are_rotated() {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name);
        let read = |names: &[&str]| read(folder.path(), names);
        fs::write(path("a.log.1"), lines(900..950)).unwrap();
        fs::write(path("a.log"), lines(0..10)).unwrap();
        assert_eq!(read(&["a.log"]), lines(0..10), "what was rotated before is not asked for");
        assert_eq!(read(&["a.log"]), "");
        fs::write(path("a.log"), lines(0..20)).unwrap();
        assert_eq!(read(&["a.log"]), lines(10..20));

        // Renamed, twice in between, and the older one compressed.
        let mut gzip = flate2::write::GzEncoder::new(
            fs::File::create(path("a.log.2.gz")).unwrap(),
            flate2::Compression::fast(),
        );
        io::Write::write_all(&mut gzip, lines(0..30).as_bytes()).unwrap();
        gzip.finish().unwrap();
        fs::rename(path("a.log.1"), path("a.log.3")).unwrap();
        fs::write(path("a.log.1"), lines(30..50)).unwrap();
        fs::remove_file(path("a.log")).unwrap();
        fs::write(path("a.log"), lines(50..60)).unwrap();
        let mut new: Vec<String> = read(&["a.log"]).lines().map(str::to_owned).collect();
        new.sort();
        assert_eq!(new, lines(20..60).lines().map(str::to_owned).collect::<Vec<_>>());

        // Copied away and emptied: the same inode with other lines.
        fs::write(path("a.log"), lines(50..70)).unwrap();
        fs::copy(path("a.log"), path("a.log.0")).unwrap();
        fs::write(path("a.log"), "").unwrap();
        assert_eq!(read(&["a.log"]), lines(60..70));
        fs::write(path("a.log"), lines(70..80)).unwrap();
        assert_eq!(read(&["a.log"]), lines(70..80));
        assert_eq!(read(&["a.log"]), "");
    }
}
