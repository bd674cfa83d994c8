//! The files of a journal, one after the other: `NAME.000001.log`, and `NAME.000001.log.gz` once compressed.

use flate2::read::MultiGzDecoder;
use siphasher::sip::SipHasher13;
use std::collections::HashMap;
use std::fs::{File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

/// How a torn line is ended: its last number may have lost digits, and must not be believed.
pub const TORN: &[u8] = b" (torn)\n";
/// How what remains of an erased line begins; in the first line of a log, the hash by which it is known follows.
pub const ERASED: &[u8] = b"# erased ";
/// How much of the first line counts.
const FIRST_LINE: u64 = 4096;
/// What is added to the name of a compressed one.
const PACKED: &str = ".gz";

/// One file of a journal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Generation {
    /// Which one.
    pub number: u64,
    /// Its name as it was written, compressed or not.
    pub name: String,
    /// Where it lies now.
    pub path: PathBuf,
    /// Whether it is compressed.
    pub packed: bool,
}

impl Generation {
    /// Its length in bytes before any compression. A compressed file states it modulo 2³² (RFC 1952 §2.3.1).
    pub fn length(&self) -> io::Result<u64> {
        let mut file = File::open(&self.path)?;
        if !self.packed {
            return Ok(file.metadata()?.len());
        }
        let mut stated = [0; 4];
        file.seek(SeekFrom::End(-4))?;
        file.read_exact(&mut stated)?;
        Ok(u64::from(u32::from_le_bytes(stated)))
    }

    /// How it begins: a hash of its first line, as far as that counts; nothing while there is none. It stays the same when
    /// the log grows, is compressed or moved.
    pub fn begins(&self) -> io::Result<Option<u64>> {
        let mut beginning = Vec::new();
        let file = File::open(&self.path)?;
        match self.packed {
            true => MultiGzDecoder::new(file).take(FIRST_LINE).read_to_end(&mut beginning)?,
            false => file.take(FIRST_LINE).read_to_end(&mut beginning)?,
        };
        Ok(begins(&beginning))
    }

    /// Whether so many octets are all of it.
    pub fn is_whole(&self, octets: u64) -> bool {
        self.length().is_ok_and(|length| match self.packed {
            true => octets % (1 << 32) == length,
            false => octets >= length,
        })
    }

    /// Where it lies once it is compressed.
    pub fn packed_path(&self) -> PathBuf {
        self.path.with_file_name(format!("{}{PACKED}", self.name))
    }
}

/// How a log begins of which these are the first octets: see [`Generation::begins`].
pub fn begins(octets: &[u8]) -> Option<u64> {
    let octets = &octets[..octets.len().min(FIRST_LINE as usize)];
    let end = memchr::memchr(b'\n', octets);
    let kept = octets.strip_prefix(ERASED).and_then(|rest| std::str::from_utf8(rest.get(..16)?).ok());
    if let Some(known_by) = kept.and_then(|hash| u64::from_str_radix(hash, 16).ok()) {
        return Some(known_by);
    }
    let is_known = end.is_some() || octets.len() as u64 == FIRST_LINE;
    // The key is the same in every process: what comes out is kept.
    is_known.then(|| SipHasher13::new().hash(&octets[..end.unwrap_or(octets.len())]))
}

/// The name of a file.
pub fn file_name(journal: &str, number: u64) -> String {
    format!("{journal}.{number:06}.log")
}

/// The files of all journals in a folder, by one look at it.
#[derive(Debug, Default)]
pub struct Listing(HashMap<String, Vec<Generation>>);

impl Listing {
    /// Looks at a folder.
    pub fn of(folder: &Path) -> io::Result<Self> {
        let mut found: HashMap<String, Vec<Generation>> = HashMap::new();
        for entry in std::fs::read_dir(folder)? {
            let path = entry?.path();
            let Some(file) = path.file_name().and_then(|name| name.to_str()) else { continue };
            let name = file.strip_suffix(PACKED).unwrap_or(file);
            let Some((journal, number)) = name.strip_suffix(".log").and_then(|name| name.rsplit_once('.'))
            else {
                continue;
            };
            let Some(number) =
                Some(number).filter(|number| number.len() >= 6).and_then(|text| text.parse().ok())
            else {
                continue;
            };
            let (name, packed, journal) = (name.to_owned(), name.len() < file.len(), journal.to_owned());
            found.entry(journal).or_default().push(Generation { number, name, packed, path });
        }
        for generations in found.values_mut() {
            generations.sort_by_key(|generation| (generation.number, generation.packed));
            generations.dedup_by_key(|generation| generation.number);
        }
        Ok(Listing(found))
    }

    /// The files of a journal, oldest first. One that is there twice, compressed and not, counts once, as it was before:
    /// its compression was interrupted.
    pub fn of_journal(&self, journal: &str) -> &[Generation] {
        self.0.get(journal).map(Vec::as_slice).unwrap_or_default()
    }

    /// The number of the generation to write to: the last one, or the one after it if that is compressed.
    pub fn newest(&self, journal: &str) -> u64 {
        match self.of_journal(journal).last() {
            None => 1,
            Some(last) => last.number + u64::from(last.packed),
        }
    }
}

/// The files of one journal: see [`Listing::of_journal`].
pub fn generations(folder: &Path, journal: &str) -> io::Result<Vec<Generation>> {
    Ok(Listing::of(folder)?.of_journal(journal).to_vec())
}

/// The number of the generation to write to, where one is known that it was before.
pub fn newest_from(folder: &Path, journal: &str, known: u64) -> u64 {
    let is_there = |number: u64| folder.join(file_name(journal, number)).exists();
    let is_packed = |number: u64| folder.join(format!("{}{PACKED}", file_name(journal, number))).exists();
    let mut newest = known;
    while is_there(newest + 1) || is_packed(newest + 1) {
        newest += 1;
    }
    newest + u64::from(is_packed(newest) && !is_there(newest))
}

/// Opens a file to append to it, its last line ended.
pub fn open(path: &Path) -> io::Result<File> {
    let mut file = OpenOptions::new().read(true).append(true).create(true).open(path)?;
    if file.metadata()?.len() > 0 {
        let mut last = [0];
        file.seek(SeekFrom::End(-1))?;
        file.read_exact(&mut last)?;
        if last != *b"\n" {
            file.write_all(TORN)?;
        }
    }
    Ok(file)
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::Projection;
    use exedra_reading::logs::{Layout, LineReader};

    #[test]
    fn files_in_order_each_once() {
        let folder = tempfile::tempdir().unwrap();
        for name in [
            "a.000002.log",
            "a.000001.log.gz",
            "a.000003.log",
            "a.000003.log.gz",
            "b.000009.log",
            "a.log",
            "a.1.log",
            "a.000010.log.old",
            "a.1234567.log",
        ] {
            std::fs::write(folder.path().join(name), "").unwrap();
        }
        let found = generations(folder.path(), "a").unwrap();
        let found: Vec<_> = found.iter().map(|file| (file.number, file.packed)).collect();
        assert_eq!(found, [(1, true), (2, false), (3, false), (1_234_567, false)]);
        let listing = Listing::of(folder.path()).unwrap();
        assert_eq!((listing.newest("a"), listing.newest("b"), listing.newest("c")), (1_234_567, 9, 1));
        let from = |known| newest_from(folder.path(), "a", known);
        assert_eq!((from(1), from(3), from(7)), (3, 3, 7));
        std::fs::remove_file(folder.path().join("a.000003.log")).unwrap();
        assert_eq!(from(1), 4, "what is compressed gets no more lines");
    }

    #[test]
    fn a_log_is_known_by_its_first_line_however_it_is_kept() {
        let folder = tempfile::tempdir().unwrap();
        let one = |name: &str, content: &[u8], packed: bool| {
            let path = folder.path().join(name);
            std::fs::write(&path, content).unwrap();
            Generation { number: 1, name: name.to_owned(), path, packed }.begins().unwrap()
        };
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(b"first\nsecond\nthird\n").unwrap();
        let begins = one("a", b"first\nsecond\n", false);
        assert!(begins.is_some() && begins == one("b.gz", &encoder.finish().unwrap(), true));
        assert_ne!(begins, one("c", b"other\nsecond\n", false));
        assert_eq!(one("d", b"fir", false), None);
    }

    #[test]
    fn a_torn_line_is_ended_and_never_read_as_a_whole_one() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.000001.log");
        let line = br#"192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] "GET / HTTP/1.1" 200 5 "-" "x" http a.example 9 - 5 "-" 1794633160000"#;
        for cut in 1..=line.len() {
            std::fs::write(&path, &line[..cut]).unwrap();
            let mut file = open(&path).unwrap();
            file.write_all(line).unwrap();
            file.write_all(b"\n").unwrap();
            let mut reader =
                LineReader::new(&[Layout::understand("full").unwrap()], Projection::everything());
            let (mut batch, mut texts) = Default::default();
            reader.read_block(&std::fs::read(&path).unwrap(), 0, &mut 0, &mut batch, &mut texts);
            assert_eq!((reader.read, reader.unread.lines()), (1, 1), "cut at {cut}");
        }
    }
}
