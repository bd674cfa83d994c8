//! Which files are weighed: all of them, or where there are many a fair sample of each type.

use super::Size;
use exedra_answering::encode::weighing::Weighing;
use exedra_answering::media_types::media_type;
use std::collections::BTreeMap;
use std::fs::File;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io::{self, Read};
use std::path::{Path, PathBuf};

/// A file to encode.
pub struct Sample {
    /// Its type, without parameters.
    pub essence: String,
    /// What is in it; of a very large one, its beginning.
    pub octets: Vec<u8>,
}

/// A file that was found.
struct Found {
    path: PathBuf,
    bytes: u64,
}

/// Takes note of all files that a site would serve from a folder, and reads as many as may be encoded.
pub fn choose(folder: &Path, size: Size) -> io::Result<(Weighing, Vec<Sample>)> {
    let mut by_type: BTreeMap<String, Vec<Found>> = BTreeMap::new();
    walk(folder, &mut by_type).map_err(|error| {
        io::Error::new(error.kind(), format!("{} cannot be read: {error}", folder.display()))
    })?;
    let mut weighing = Weighing::default();
    for (essence, files) in &by_type {
        files.iter().for_each(|file| weighing.file(essence, file.bytes));
    }
    // Types with little to read leave their room to the others.
    let total = |files: &[Found]| files.iter().map(|file| file.bytes.min(size.of_each)).sum::<u64>();
    let mut types: Vec<(String, Vec<Found>)> = by_type.into_iter().collect();
    types.sort_by_key(|(_, files)| total(files));
    let (mut room, mut left) = (size.sample, types.len() as u64);
    let mut samples = Vec::new();
    for (essence, mut files) in types {
        let share = room / left.max(1);
        left -= 1;
        // A random order that is the same each time, so that two weighings can be compared.
        files.sort_by_key(|file| {
            let mut hasher = DefaultHasher::new();
            file.path.strip_prefix(folder).unwrap_or(&file.path).hash(&mut hasher);
            hasher.finish()
        });
        let mut taken = 0;
        for file in files {
            let bytes = file.bytes.min(size.of_each);
            if taken > 0 && taken + bytes > share {
                continue;
            }
            let mut octets = Vec::new();
            // A file that went away, or may not be read, is not weighed; the others stand for it.
            let read = File::open(&file.path).and_then(|open| open.take(bytes).read_to_end(&mut octets));
            if read.is_ok() && !octets.is_empty() {
                taken += octets.len() as u64;
                weighing.sampled(&essence, octets.len() as u64);
                samples.push(Sample { essence: essence.clone(), octets });
            }
        }
        room = room.saturating_sub(taken);
    }
    Ok((weighing, samples))
}

fn walk(folder: &Path, by_type: &mut BTreeMap<String, Vec<Found>>) -> io::Result<()> {
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let name = entry.file_name();
        let Some(name) = name.to_str().filter(|name| !name.starts_with('.')) else { continue };
        let found = entry.file_type()?;
        if found.is_dir() {
            walk(&entry.path(), by_type)?;
        } else if found.is_file() {
            let bytes = entry.metadata()?.len();
            let files = by_type.entry(media_type(name).essence.to_string()).or_default();
            files.push(Found { path: entry.path(), bytes });
        }
    }
    Ok(())
}
