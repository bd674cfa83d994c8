//! The files a configuration is written in, laid end to end: a place in any of them is a range of octets of all.
//!
//! The first is the configuration itself; the others are those that it includes.
//!
//! ```
//! use exedra_answering::config::{Companions, Sources};
//! let mut sources = Sources::one("exedra.toml", "[service]\n");
//! let begins = sources.add("sites.d/harbour.toml", std::sync::Arc::new("# one\n[[site]]\n".to_owned()));
//! assert_eq!(sources.line(&(begins + 6..begins + 14)), Some(("sites.d/harbour.toml", 2)));
//! assert!(().read(std::path::Path::new("x")).is_err(), "nobody reads other files here");
//! ```

use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// All files, in the order in which they were read.
#[derive(Debug, Clone, Default)]
pub struct Sources {
    files: Vec<Source>,
}

/// One file.
#[derive(Debug, Clone)]
pub struct Source {
    /// Its name, as people know it.
    pub name: String,
    /// What is written in it.
    pub text: Arc<String>,
    /// Where it begins among all.
    pub begins: usize,
}

/// Whoever reads the files that a configuration names.
pub trait Companions {
    /// The text of a file. The error is for people.
    fn read(&self, path: &Path) -> Result<Arc<String>, String>;

    /// Files that fit a path whose last part may have wildcards, in the order of their names.
    fn matching(&self, pattern: &Path) -> Result<Vec<PathBuf>, String>;
}

/// Nobody: a configuration that names no other files.
impl Companions for () {
    fn read(&self, _: &Path) -> Result<Arc<String>, String> {
        Err("nothing is read beside the configuration here".to_owned())
    }

    fn matching(&self, _: &Path) -> Result<Vec<PathBuf>, String> {
        Ok(Vec::new())
    }
}

impl Sources {
    /// One file alone.
    pub fn one(name: &str, text: &str) -> Self {
        let mut sources = Sources::default();
        sources.add(name, Arc::new(text.to_owned()));
        sources
    }

    /// Adds a file, and says where it begins.
    pub fn add(&mut self, name: &str, text: Arc<String>) -> usize {
        // One octet more than there are, so that the end of one file is not the beginning of the next.
        let begins = self.files.last().map_or(0, |last| last.begins + last.text.len() + 1);
        self.files.push(Source { name: name.to_owned(), text, begins });
        begins
    }

    /// The files.
    pub fn files(&self) -> &[Source] {
        &self.files
    }

    /// The file that a place is in, and the place within its text.
    pub fn find(&self, place: &Range<usize>) -> Option<(&Source, Range<usize>)> {
        let file = self.files.iter().rev().find(|file| file.begins <= place.start)?;
        let within = |at: usize| at.saturating_sub(file.begins).min(file.text.len());
        Some((file, within(place.start)..within(place.end).max(within(place.start))))
    }

    /// The name of the file that a place is in, and the number of its line, counted from 1.
    pub fn line(&self, place: &Range<usize>) -> Option<(&str, usize)> {
        let (file, within) = self.find(place)?;
        Some((&file.name, 1 + memchr::memchr_iter(b'\n', &file.text.as_bytes()[..within.start]).count()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_found_again() {
        let mut sources = Sources::one("a.toml", "one\ntwo\n");
        let begins = sources.add("b.toml", Arc::new("three\nfour".to_owned()));
        assert_eq!(sources.line(&(4..7)), Some(("a.toml", 2)));
        assert_eq!(sources.line(&(begins..begins)), Some(("b.toml", 1)));
        assert_eq!(sources.line(&(begins + 6..begins + 10)), Some(("b.toml", 2)));
        let (file, within) = sources.find(&(begins + 6..begins + 10)).unwrap();
        assert_eq!(&file.text[within], "four");
        assert!(Sources::default().find(&(0..1)).is_none());
    }
}
