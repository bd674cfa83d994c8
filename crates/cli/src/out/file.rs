//! Files that a command writes: made aside and put in place as a whole, and never over what is being read.

use crate::failure::Failure;
use exedra_service::system::whole::{self, Mode};
use std::fs::{self, File};
use std::io::{self, BufWriter, Write};
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
    aside: PathBuf,
    /// Taken when it is put in place.
    file: Option<BufWriter<File>>,
}

impl NewFile {
    /// Begins one.
    pub fn begin(path: &Path) -> Result<Self, Failure> {
        let failed = |error| Failure(format!("{} cannot be written: {error}", path.display()));
        let name = path.file_name().ok_or_else(|| Failure(format!("{} is no file", path.display())))?;
        let mut own = std::ffi::OsString::from(".");
        own.push(name);
        own.push(format!(".{}", std::process::id()));
        let aside = path.with_file_name(own);
        let file = File::create(&aside).map_err(failed)?;
        Ok(NewFile { path: path.to_owned(), aside, file: Some(BufWriter::new(file)) })
    }

    /// Puts it in place.
    pub fn finish(mut self) -> Result<(), Failure> {
        let failed = |error| Failure(format!("{} cannot be written: {error}", self.path.display()));
        if let Some(mut file) = self.file.take() {
            file.flush().map_err(failed)?;
            file.get_ref().sync_all().map_err(failed)?;
            fs::rename(&self.aside, &self.path).map_err(failed)?;
        }
        Ok(())
    }
}

impl Write for NewFile {
    fn write(&mut self, octets: &[u8]) -> io::Result<usize> {
        match &mut self.file {
            Some(file) => file.write(octets),
            None => Err(io::Error::other("it is in place already")),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.as_mut().map_or(Ok(()), BufWriter::flush)
    }
}

/// What is half written is nobody's.
impl Drop for NewFile {
    fn drop(&mut self) {
        if self.file.take().is_some() {
            let _ = fs::remove_file(&self.aside);
        }
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
