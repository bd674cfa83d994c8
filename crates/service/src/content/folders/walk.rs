//! Looking for settings in all folders of a site, and for names that nobody can ask for.

use exedra_answering::answer::SitePath;
use exedra_answering::config::folder::FILE_NAME;
use std::path::{Path, PathBuf};

/// How many folders are looked into.
pub const MOST_FOLDERS: usize = 20_000;

/// What was come across in a site's folder.
#[derive(Default)]
pub struct Walked {
    /// Files with settings, by their paths below it.
    pub settings: Vec<PathBuf>,
    /// Files and folders whose names are no text.
    pub nameless: Vec<PathBuf>,
    /// Whether there are more folders than are looked at.
    pub is_cut: bool,
}

/// Walks a folder. What cannot be read is passed over: visitors cannot read it either.
pub fn walk(root: &Path) -> Walked {
    let mut walked = Walked::default();
    let mut left = vec![PathBuf::new()];
    let mut looked = 0;
    while let Some(folder) = left.pop() {
        looked += 1;
        if looked > MOST_FOLDERS {
            walked.is_cut = true;
            break;
        }
        let Ok(entries) = std::fs::read_dir(root.join(&folder)) else { continue };
        for entry in entries.flatten() {
            let name = entry.file_name();
            let below = folder.join(&name);
            if name.to_str().is_none() {
                walked.nameless.push(below);
            } else if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                left.push(below);
            } else if name == FILE_NAME {
                walked.settings.push(below);
            }
        }
    }
    walked.settings.sort();
    walked.nameless.sort();
    walked
}

/// The place of the folder in which a file with settings lies; `None` where no address leads there.
pub fn place_of(file: &Path) -> Option<SitePath> {
    file.parent().and_then(Path::to_str).and_then(SitePath::of_names)
}
