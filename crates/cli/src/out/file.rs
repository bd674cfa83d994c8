//! Files that a command writes: made aside and put in place as a whole, and never over what is being read.

use crate::failure::Failure;
use exedra_service::system::whole::{self, Mode};
use std::fs;
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

/// Writes a file as a whole, or leaves what is there as it is.
pub fn replace(path: &Path, octets: &[u8]) -> Result<(), Failure> {
    let written = whole::replace(path, octets, Mode::Kept);
    written.map_err(|error| Failure(format!("{} cannot be written: {error}", path.display())))
}

/// A file that is written bit by bit, and in place once it is whole.
pub struct NewFile {
    path: PathBuf,
    file: whole::NewFile,
}

impl NewFile {
    /// Begins one.
    pub fn begin(path: &Path) -> Result<Self, Failure> {
        let begun = whole::NewFile::begin(path, Mode::Kept);
        let file =
            begun.map_err(|error| Failure(format!("{} cannot be written: {error}", path.display())))?;
        Ok(NewFile { path: path.to_owned(), file })
    }

    /// Puts it in place.
    pub fn finish(self) -> Result<(), Failure> {
        let NewFile { path, file } = self;
        file.finish().map_err(|error| Failure(format!("{} cannot be written: {error}", path.display())))
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

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;

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
