//! Files that are put in place as a whole: whoever reads them meanwhile reads what was there, or what is.

use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, BufWriter, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

/// Who may read a file that is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mode {
    /// Whoever could read the one that was there; a new one, whoever the system lets.
    Kept,
    /// Its owner alone.
    Private,
}

/// Writes a file as a whole, or leaves what is there as it is. A link stays one, a pipe or device is written to.
pub fn replace(path: &Path, octets: &[u8], mode: Mode) -> io::Result<()> {
    let mut file = NewFile::begin(path, mode)?;
    file.write_all(octets)?;
    file.finish()
}

/// A file that is written bit by bit, and in place once it is whole. A link stays one, a pipe or device is written to.
#[derive(Debug)]
pub struct NewFile {
    file: BufWriter<File>,
    /// The name that it is written under, and the one that it gets; neither for a pipe or a device.
    names: Option<(PathBuf, PathBuf)>,
}

impl NewFile {
    /// Begins one.
    pub fn begin(path: &Path, mode: Mode) -> io::Result<Self> {
        let target = if path.is_symlink() { path.canonicalize()? } else { path.to_owned() };
        let there = match fs::metadata(&target) {
            Ok(there) if !there.is_file() => {
                let file = File::options().write(true).open(&target)?;
                return Ok(NewFile { file: BufWriter::new(file), names: None });
            }
            Ok(there) => Some(there),
            Err(error) if error.kind() == io::ErrorKind::NotFound => None,
            Err(error) => return Err(error),
        };
        sweep(&target);
        let aside = aside(&target);
        let mut options = OpenOptions::new();
        options.write(true).create_new(true);
        if mode == Mode::Private {
            options.mode(0o600);
        }
        let file = options.open(&aside)?;
        // Whoever finds it unlocked knows that nobody writes it any more; where there are no locks, it is told by its process.
        let _ = file.try_lock();
        let new = NewFile { file: BufWriter::new(file), names: Some((aside, target)) };
        if let Some(there) = there.filter(|_| mode == Mode::Kept) {
            new.file.get_ref().set_permissions(there.permissions())?;
        }
        Ok(new)
    }

    /// Puts it in place.
    pub fn finish(mut self) -> io::Result<()> {
        self.file.flush()?;
        if let Some((aside, target)) = &self.names {
            self.file.get_ref().sync_all()?;
            fs::rename(aside, target)?;
        }
        self.names = None;
        Ok(())
    }
}

impl Write for NewFile {
    fn write(&mut self, octets: &[u8]) -> io::Result<usize> {
        self.file.write(octets)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

/// What is half written is nobody's.
impl Drop for NewFile {
    fn drop(&mut self) {
        if let Some((aside, _)) = &self.names {
            let _ = fs::remove_file(aside);
        }
    }
}

/// The same for what is its owner's alone.
pub fn write_private(path: &Path, text: &str) -> io::Result<()> {
    replace(path, text.as_bytes(), Mode::Private)
}

/// Makes a folder that is its owner's alone, with those on the way.
pub fn make_private_folder(path: &Path) -> io::Result<()> {
    DirBuilder::new().recursive(true).mode(0o700).create(path)
}

/// Removes what a process has left of this file that was killed while it wrote it.
fn sweep(target: &Path) {
    let Some(name) = target.file_name().map(|name| name.to_string_lossy().into_owned()) else { return };
    let folder = target.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let is_left = |entry: &fs::DirEntry| {
        let entry_name = entry.file_name();
        let process = entry_name.to_str().and_then(|text| {
            let rest = text.strip_prefix('.')?.strip_prefix(&name)?.strip_prefix('.')?;
            let (process, random) = rest.strip_suffix(".new")?.split_once('.')?;
            let is_ours = random.len() == 8 && random.bytes().all(|octet| octet.is_ascii_hexdigit());
            process.parse::<u32>().ok().filter(|_| is_ours)
        });
        let has_ended = |process: u32| !Path::new("/proc").join(process.to_string()).exists();
        process.is_some_and(has_ended) && File::open(entry.path()).is_ok_and(|file| file.try_lock().is_ok())
    };
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    for entry in entries.filter(is_left) {
        let _ = fs::remove_file(entry.path());
    }
}

/// A name that no other process, and no other thread of this one, takes.
fn aside(target: &Path) -> PathBuf {
    let name = target.file_name().unwrap_or_default().to_string_lossy();
    target.with_file_name(format!(".{name}.{}.{:08x}.new", std::process::id(), rand::random::<u32>()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::{PermissionsExt, symlink};

    #[test]
    fn what_a_killed_process_has_left_is_removed_and_nothing_else() {
        let folder = tempfile::tempdir().unwrap();
        let named = |name: &str| folder.path().join(name);
        // No process has so large a number.
        let (left, written) = (".r.txt.4194305.0000abcd.new", ".r.txt.4194305.0000abce.new");
        let others = [".r.txt.4194305.new", ".s.txt.4194305.0000abcd.new", ".r.txt.4194305.0000abcd.txt"];
        let ours = format!(".r.txt.{}.0000abcd.new", std::process::id());
        for name in others.into_iter().chain([left, written, &ours]) {
            fs::write(named(name), "half").unwrap();
        }
        let lock = File::open(named(written)).unwrap();
        lock.try_lock().unwrap();
        replace(&named("r.txt"), b"new", Mode::Kept).unwrap();
        assert!(!named(left).exists());
        for name in others.into_iter().chain([written, &ours, "r.txt"]) {
            assert!(named(name).exists(), "{name}");
        }
    }

    #[test]
    fn a_file_is_replaced_as_a_whole_with_its_mode_and_behind_its_link() {
        let folder = tempfile::tempdir().unwrap();
        let (file, link) = (folder.path().join("r.txt"), folder.path().join("link.txt"));
        let mode = || fs::metadata(&file).unwrap().permissions().mode() & 0o777;
        fs::write(&file, "old").unwrap();
        fs::set_permissions(&file, fs::Permissions::from_mode(0o640)).unwrap();
        symlink("r.txt", &link).unwrap();
        assert!(replace(&link, b"new", Mode::Kept).is_ok());
        assert_eq!((fs::read(&file).unwrap(), mode()), (b"new".to_vec(), 0o640));
        assert!(write_private(&link, "mine").is_ok());
        assert_eq!((fs::read(&file).unwrap(), mode()), (b"mine".to_vec(), 0o600));
        assert!(link.is_symlink());
        assert!(replace(&folder.path().join("none/r.txt"), b"new", Mode::Kept).is_err());
        let mut begun = NewFile::begin(&file, Mode::Kept).unwrap();
        begun.write_all(b"half").unwrap();
        drop(begun);
        assert_eq!(fs::read(&file).unwrap(), b"mine", "what is not finished changes nothing");
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2, "nothing is left aside");
        let mut device = NewFile::begin(Path::new("/dev/null"), Mode::Kept).unwrap();
        device.write_all(b"gone").unwrap();
        device.finish().unwrap();
        assert!(!fs::metadata("/dev/null").unwrap().is_file(), "a device stays one");
    }
}
