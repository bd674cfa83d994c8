//! One client's lines taken out of the logs.
//!
//! A line is overwritten where it stands, so that everything behind it keeps its place: how far a log has been read goes by octets. What
//! remains is `# erased` and spaces, which nobody reads as a request. A log is known by how it begins, so its first line keeps the hash by
//! which it is known. To do it again, as after a crash in the middle, overwrites what is left.

use super::journal::Journal;
use super::journal::generations::{ERASED, Generation, begins, generations};
use flate2::Compression;
use flate2::GzBuilder;
use flate2::read::MultiGzDecoder;
use std::fs::{File, OpenOptions};
use std::io::{self, BufRead, BufReader, BufWriter, Write};
use std::os::unix::fs::FileExt;

/// What was erased of logs.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Erased {
    /// Lines.
    pub lines: u64,
    /// Files that had any.
    pub files: u64,
}

impl Erased {
    /// The same of more logs.
    pub fn add(&mut self, other: Erased) {
        self.lines += other.lines;
        self.files += other.files;
    }
}

/// Overwrites all lines of a journal that `is_of` says of, generation by generation. It is told which generation a line is of.
pub fn erase(
    journal: &Journal,
    mut is_of: impl FnMut(&Generation, &[u8]) -> bool,
    goes_on: impl Fn() -> bool,
) -> io::Result<Erased> {
    let mut erased = Erased::default();
    for generation in generations(journal.folder(), &journal.name)? {
        // Meanwhile none of them is compressed or deleted.
        let _stays = journal.keep_files();
        if !goes_on() {
            return Err(io::ErrorKind::Interrupted.into());
        }
        let of_it = |line: &[u8]| is_of(&generation, line);
        let lines = match generation.packed {
            false if generation.path.exists() => in_place(&generation, of_it)?,
            // It was compressed between the look at the folder and now.
            false => anew(&Generation { path: generation.packed_path(), ..generation.clone() }, of_it)?,
            true => anew(&generation, of_it)?,
        };
        erased.lines += lines;
        erased.files += u64::from(lines > 0);
    }
    Ok(erased)
}

/// Overwrites lines of a file, to which more may be written at the same time.
fn in_place(generation: &Generation, mut is_of: impl FnMut(&[u8]) -> bool) -> io::Result<u64> {
    let file = OpenOptions::new().read(true).write(true).open(&generation.path)?;
    let mut reader = BufReader::with_capacity(1 << 20, File::open(&generation.path)?);
    let (mut at, mut lines, mut line) = (0u64, 0, Vec::new());
    loop {
        line.clear();
        reader.read_until(b'\n', &mut line)?;
        // What has no end is still being written.
        let Some((b'\n', text)) = line.split_last() else { break };
        if is_of(text) {
            file.write_all_at(&filler(text, at == 0), at)?;
            lines += 1;
        }
        at += line.len() as u64;
    }
    if lines > 0 {
        file.sync_all()?;
    }
    Ok(lines)
}

/// Writes a compressed file anew, if it has such lines.
fn anew(generation: &Generation, mut is_of: impl FnMut(&[u8]) -> bool) -> io::Result<u64> {
    let fresh = generation.path.with_extension("gz.new");
    let decoder = MultiGzDecoder::new(File::open(&generation.path)?);
    let date = decoder.header().map_or(0, flate2::GzHeader::mtime);
    let mut reader = BufReader::with_capacity(1 << 20, decoder);
    let builder = GzBuilder::new().mtime(date);
    let mut encoder = builder.write(BufWriter::new(File::create(&fresh)?), Compression::default());
    let (mut is_first, mut lines, mut line) = (true, 0, Vec::new());
    loop {
        line.clear();
        if reader.read_until(b'\n', &mut line)? == 0 {
            break;
        }
        let text = line.strip_suffix(b"\n").unwrap_or(&line);
        if is_of(text) {
            let length = text.len();
            let filler = filler(text, is_first);
            line[..length].copy_from_slice(&filler);
            lines += 1;
        }
        encoder.write_all(&line)?;
        is_first = false;
    }
    let mut out = encoder.finish()?;
    out.flush()?;
    let file = out.into_inner().map_err(io::IntoInnerError::into_error)?;
    if lines == 0 {
        std::fs::remove_file(&fresh)?;
        return Ok(0);
    }
    let modified = generation.path.metadata()?.modified()?;
    file.set_times(std::fs::FileTimes::new().set_modified(modified))?;
    file.sync_all()?;
    std::fs::rename(&fresh, &generation.path)?;
    Ok(lines)
}

/// What stands in the place of a line, as long as it is.
fn filler(line: &[u8], is_first: bool) -> Vec<u8> {
    let mut filler = ERASED.to_vec();
    if is_first {
        let whole = [line, b"\n"].concat();
        if let Some(known_by) = begins(&whole) {
            filler.extend_from_slice(format!("{known_by:016x}").as_bytes());
        }
    }
    filler.resize(line.len(), b' ');
    filler
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_answering::config::{Keeping, Rotate};
    use rstest::rstest;
    use std::io::Read;
    use std::path::Path;

    const LINES: &str = "192.0.2.1 - - a line that is long enough\n192.0.2.2 - - another line\n192.0.2.1 - - the last\n192.0.2.1 torn";

    fn write(path: &Path, packed: bool) {
        if !packed {
            return std::fs::write(path, LINES).unwrap();
        }
        let mut encoder =
            GzBuilder::new().mtime(77).write(File::create(path).unwrap(), Compression::default());
        encoder.write_all(LINES.as_bytes()).unwrap();
        encoder.finish().unwrap();
    }

    #[rstest]
    #[case("a.000001.log", false)]
    #[case("a.000001.log.gz", true)]
    fn what_remains_is_as_long_and_known_by_the_same_beginning(#[case] name: &str, #[case] packed: bool) {
        let folder = tempfile::tempdir().unwrap();
        write(&folder.path().join(name), packed);
        let keeping = Keeping { rotate: Rotate::Never, keep: None };
        let journal = Journal::open(folder.path(), "a", keeping, jiff::tz::TimeZone::UTC).unwrap();
        let before = generations(folder.path(), "a").unwrap()[0].clone();
        let (known_by, length) = (before.begins().unwrap(), before.length().unwrap());
        let is_of = |_: &Generation, line: &[u8]| line.starts_with(b"192.0.2.1 ");
        let erased = erase(&journal, is_of, || true).unwrap();
        // A torn line is nobody's while it is written; in a file that is closed it is a line.
        assert_eq!(erased, Erased { lines: if packed { 3 } else { 2 }, files: 1 });
        assert_eq!((before.begins().unwrap(), before.length().unwrap()), (known_by, length));
        let mut text = String::new();
        let mut file = File::open(folder.path().join(name)).unwrap();
        match packed {
            true => MultiGzDecoder::new(file).read_to_string(&mut text).unwrap(),
            false => file.read_to_string(&mut text).unwrap(),
        };
        let lines: Vec<&str> = text.lines().map(str::trim_end).collect();
        assert_eq!(lines[1], "192.0.2.2 - - another line");
        assert!(lines[0].starts_with("# erased ") && lines[2] == "# erased", "{lines:?}");
        assert_eq!(erase(&journal, is_of, || true).unwrap(), Erased::default(), "nothing is left of it");
        assert_eq!(before.begins().unwrap(), known_by);
    }
}
