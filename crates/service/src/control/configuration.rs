//! Reading a configuration with all the files it names.

use exedra_answering::config::{Companions, Config, Diagnostic, Sources, understand_with};
use exedra_common::text::Wildcard;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use thiserror::Error;

/// Why a configuration cannot come into force.
#[derive(Debug, Error)]
pub enum Refused {
    /// Its file cannot be read.
    #[error("{}", unreadable(path, error))]
    Unreadable {
        /// The file.
        path: PathBuf,
        /// What the system says.
        error: std::io::Error,
    },
    /// There are mistakes in it.
    #[error("the configuration has {} and does not come into force", count(found))]
    Mistaken {
        /// These, remarks included.
        found: Vec<Diagnostic>,
        /// The files they are in.
        sources: Sources,
    },
}

/// Why a configuration cannot be read, without what to do about it.
fn unreadable(path: &Path, error: &std::io::Error) -> String {
    match error.kind() {
        std::io::ErrorKind::NotFound => format!("there is no configuration {}", path.display()),
        _ => format!("the configuration {} cannot be read: {error}", path.display()),
    }
}

fn count(found: &[Diagnostic]) -> String {
    match found.iter().filter(|diagnostic| diagnostic.is_error()).count() {
        1 => "one mistake".to_owned(),
        count => format!("{count} mistakes"),
    }
}

/// Reads and understands a configuration.
pub fn read(path: &Path) -> Result<Config, Refused> {
    let text = std::fs::read_to_string(path)
        .map_err(|error| Refused::Unreadable { path: path.to_owned(), error })?;
    understood(path, &text)
}

/// Understands a text as if it were written in a file.
pub fn understood(path: &Path, text: &str) -> Result<Config, Refused> {
    let base = path.parent().unwrap_or(Path::new(""));
    understand_with(&path.display().to_string(), text, base, &OnDisk)
        .map_err(|(found, sources)| Refused::Mistaken { found, sources })
}

/// Understands a configuration as it was kept, with its files as they were then. What still is as it was is shared with the
/// one that is.
pub fn kept(files: &[(String, Arc<str>)], now: &Config) -> Option<Config> {
    let (name, text) = files.first()?;
    let base = Path::new(name).parent().unwrap_or(Path::new(""));
    understand_with(name, text, base, &Kept { files, now }).ok()
}

/// Understands a configuration with some of its files as they might be, by their whole paths.
pub fn drafted(path: &Path, texts: &HashMap<PathBuf, String>) -> Result<Config, Refused> {
    let text = match texts.get(path) {
        Some(text) => text.clone(),
        None => std::fs::read_to_string(path)
            .map_err(|error| Refused::Unreadable { path: path.to_owned(), error })?,
    };
    let base = path.parent().unwrap_or(Path::new(""));
    understand_with(&path.display().to_string(), &text, base, &Drafted(texts))
        .map_err(|(found, sources)| Refused::Mistaken { found, sources })
}

/// By what a text is known: another one has another.
pub fn version(text: &str) -> String {
    use sha2::{Digest, Sha256};
    Sha256::digest(text.as_bytes()).iter().take(16).map(|octet| format!("{octet:02x}")).collect()
}

/// The disk, with some files as they might be.
struct Drafted<'d>(&'d HashMap<PathBuf, String>);

impl Companions for Drafted<'_> {
    fn read(&self, path: &Path) -> Result<Arc<String>, String> {
        let whole = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        self.0.get(&whole).map_or_else(|| OnDisk.read(path), |text| Ok(Arc::new(text.clone())))
    }

    fn matching(&self, pattern: &Path) -> Result<Vec<PathBuf>, String> {
        OnDisk.matching(pattern)
    }
}

struct Kept<'k> {
    files: &'k [(String, Arc<str>)],
    now: &'k Config,
}

impl Companions for Kept<'_> {
    fn read(&self, path: &Path) -> Result<Arc<String>, String> {
        let Some((_, text)) = self.files.iter().find(|(name, _)| Path::new(name) == path) else {
            return OnDisk.read(path);
        };
        let same = self.now.sources.files().iter().find(|file| file.text.as_str() == &**text);
        Ok(same.map_or_else(|| Arc::new(text.to_string()), |file| Arc::clone(&file.text)))
    }

    fn matching(&self, pattern: &Path) -> Result<Vec<PathBuf>, String> {
        OnDisk.matching(pattern)
    }
}

/// The files of the disk.
struct OnDisk;

impl Companions for OnDisk {
    fn read(&self, path: &Path) -> Result<Arc<String>, String> {
        std::fs::read_to_string(path).map(Arc::new).map_err(|error| match error.kind() {
            std::io::ErrorKind::NotFound => "there is no such file".to_owned(),
            _ => error.to_string(),
        })
    }

    fn matching(&self, pattern: &Path) -> Result<Vec<PathBuf>, String> {
        let name = pattern.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let folder = pattern.parent().unwrap_or(Path::new(""));
        if folder.to_string_lossy().contains('*') {
            return Err("`*` may only stand in a file's name".to_owned());
        }
        let name = Wildcard::new(&name);
        if name.as_text().is_some() {
            return Ok(Some(pattern.to_owned()).filter(|path| path.is_file()).into_iter().collect());
        }
        let entries = match std::fs::read_dir(folder) {
            Ok(entries) => entries,
            // A folder that is not there has no files.
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(format!("{}: {error}", folder.display())),
        };
        let fits = |path: &PathBuf| {
            let found = path.file_name().map(|name| name.to_string_lossy()).unwrap_or_default();
            name.fits(&found) && !found.starts_with('.') && path.is_file()
        };
        let mut paths: Vec<PathBuf> =
            entries.filter_map(|entry| Some(entry.ok()?.path())).filter(fits).collect();
        paths.sort();
        Ok(paths)
    }
}
