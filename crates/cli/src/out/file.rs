//! Files that a command writes: made aside and put in place as a whole, and never over what is being read.

use crate::Failure;
use std::fs::{self, File};
use std::io::{self, Write};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// Refuses to write to a file that is read.
pub fn refuse_to_overwrite<'p>(
    to: &Path,
    sources: impl IntoIterator<Item = &'p Path>,
) -> Result<(), Failure> {
    let Ok(target) = fs::metadata(to) else { return Ok(()) };
    let is_read = |source: &Path| {
        fs::metadata(source).is_ok_and(|source| (source.dev(), source.ino()) == (target.dev(), target.ino()))
    };
    match sources.into_iter().find(|source| is_read(source)) {
        None => Ok(()),
        Some(source) => Err(Failure(format!(
            "{} is read, and would be overwritten: name another file with --to",
            source.display()
        ))),
    }
}

/// Writes a file as a whole, or leaves what is there as it is. A link stays one, a pipe or device is written to.
pub fn replace(path: &Path, octets: &[u8]) -> Result<(), Failure> {
    let write = || -> io::Result<()> {
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
            let mut file = File::create_new(&aside)?;
            if let Some(there) = there {
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
    };
    write().map_err(|error| Failure(format!("{} cannot be written: {error}", path.display())))
}

fn aside(target: &Path) -> PathBuf {
    let name = target.file_name().unwrap_or_default().to_string_lossy();
    target.with_file_name(format!(".{name}.{}.new", std::process::id()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::{PermissionsExt, symlink};

    #[test]
    fn a_file_is_replaced_as_a_whole_with_its_mode_and_behind_its_link() {
        let folder = tempfile::tempdir().unwrap();
        let (file, link) = (folder.path().join("r.txt"), folder.path().join("link.txt"));
        fs::write(&file, "old").unwrap();
        fs::set_permissions(&file, fs::Permissions::from_mode(0o640)).unwrap();
        symlink("r.txt", &link).unwrap();
        assert!(replace(&link, b"new").is_ok());
        assert_eq!(fs::read(&file).unwrap(), b"new");
        assert!(link.is_symlink() && fs::metadata(&file).unwrap().permissions().mode() & 0o777 == 0o640);
        assert!(replace(&folder.path().join("none/r.txt"), b"new").is_err());
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2, "nothing is left aside");
    }

    #[test]
    fn what_is_read_is_not_overwritten_by_any_name() {
        let folder = tempfile::tempdir().unwrap();
        let (file, link) = (folder.path().join("a.log"), folder.path().join("link.log"));
        fs::write(&file, "x").unwrap();
        symlink("a.log", &link).unwrap();
        assert!(refuse_to_overwrite(&link, [file.as_path()]).is_err());
        assert!(refuse_to_overwrite(&folder.path().join("b.log"), [file.as_path()]).is_ok());
    }
}
