//! Files that are put in place as a whole: whoever reads them meanwhile reads what was there, or what is.

use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, Write};
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
    let target = if path.is_symlink() { path.canonicalize()? } else { path.to_owned() };
    let there = match fs::metadata(&target) {
        Ok(there) if !there.is_file() => {
            return File::options().write(true).open(&target)?.write_all(octets);
        }
        Ok(there) => Some(there),
        Err(error) if error.kind() == io::ErrorKind::NotFound => None,
        Err(error) => return Err(error),
    };
    let aside = aside(&target);
    let written = (|| {
        let mut options = OpenOptions::new();
        options.write(true).create_new(true);
        if mode == Mode::Private {
            options.mode(0o600);
        }
        let mut file = options.open(&aside)?;
        if let Some(there) = there.filter(|_| mode == Mode::Kept) {
            file.set_permissions(there.permissions())?;
        }
        file.write_all(octets)?;
        file.sync_all()?;
        fs::rename(&aside, &target)
    })();
    if written.is_err() {
        // What is half written is nobody's.
        let _ = fs::remove_file(&aside);
    }
    written
}

/// The same for what is its owner's alone.
pub fn write_private(path: &Path, text: &str) -> io::Result<()> {
    replace(path, text.as_bytes(), Mode::Private)
}

/// Makes a folder that is its owner's alone, with those on the way.
pub fn make_private_folder(path: &Path) -> io::Result<()> {
    DirBuilder::new().recursive(true).mode(0o700).create(path)
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
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2, "nothing is left aside");
    }
}
