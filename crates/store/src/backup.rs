//! Both databases as they are at one moment, in a folder of their own; and back from there.
//!
//! A backup is made while the service runs, by SQLite itself, and is whole or not there: it has its name only when everything in it
//! has been written, with a list of what it holds and the checksum of each file. `requests.db` comes first: what is brought in
//! between the two is then brought again, and not counted twice.

use crate::database::{self, StoreError};
use crate::{records, secrets};
use diesel::prelude::*;
use diesel::sql_types::Text;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::fs::{DirBuilder, File};
use std::io::{self, Read};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};
use thiserror::Error;

/// The databases, in the order in which they are copied.
const DATABASES: [&str; 2] = [records::KIND.name, secrets::KIND.name];
/// The list of what a backup holds.
const LIST: &str = "backup.json";

/// Why there is no backup, or nothing could be restored.
#[derive(Debug, Error)]
pub enum BackupError {
    /// There is something in the way.
    #[error("{} exists already: name a new folder", .0.display())]
    InTheWay(PathBuf),
    /// A file cannot be read or written.
    #[error("{}: {reason}", path.display())]
    File {
        /// Which.
        path: PathBuf,
        /// What the system says.
        reason: String,
    },
    /// It is no backup, or none that this program understands.
    #[error("{} is not an Exedra backup: {reason}", folder.display())]
    NoBackup {
        /// The folder.
        folder: PathBuf,
        /// Why.
        reason: String,
    },
    /// A file of it is not what was written.
    #[error("{} is damaged: its checksum is not the one in the backup", .0.display())]
    Damaged(PathBuf),
    /// A database could not be copied.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// What a backup holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Backup {
    /// The version of this list.
    version: u32,
    /// When it was made (RFC 3339).
    pub made: String,
    /// Its files.
    pub files: Vec<BackedUp>,
}

/// A file of a backup.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BackedUp {
    /// Its name.
    pub name: String,
    /// How long it is.
    pub octets: u64,
    /// SHA-256 of it, in hexadecimal digits.
    sha256: String,
}

/// Copies both databases of a state folder into a folder that is made.
pub fn back_up(state: &Path, into: &Path, now: jiff::Timestamp) -> Result<Backup, BackupError> {
    if into.exists() {
        return Err(BackupError::InTheWay(into.to_owned()));
    }
    let mut unfinished = into.as_os_str().to_owned();
    unfinished.push(".unfinished");
    let unfinished = PathBuf::from(unfinished);
    // What an earlier try has left.
    let _ = std::fs::remove_dir_all(&unfinished);
    let done = copy_into(state, &unfinished, now).and_then(|backup| {
        std::fs::rename(&unfinished, into).map_err(failed(into))?;
        let parent = into.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
        File::open(parent).and_then(|folder| folder.sync_all()).map_err(failed(parent))?;
        Ok(backup)
    });
    if done.is_err() {
        let _ = std::fs::remove_dir_all(&unfinished);
    }
    done
}

fn copy_into(state: &Path, folder: &Path, now: jiff::Timestamp) -> Result<Backup, BackupError> {
    // There are hashes of passwords in it.
    DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(failed(folder))?;
    let mut files = Vec::new();
    for name in DATABASES {
        let (from, to) = (state.join(name), folder.join(name));
        let mut connection = database::connect(&from, false)?;
        diesel::sql_query("VACUUM INTO ?")
            .bind::<Text, _>(to.to_string_lossy())
            .execute(&mut connection)
            .map_err(StoreError::from)?;
        let (octets, sha256) = digest(&to)?;
        files.push(BackedUp { name: name.to_owned(), octets, sha256 });
    }
    let backup = Backup { version: 1, made: format!("{now:.0}"), files };
    let list = folder.join(LIST);
    let text = serde_json::to_string_pretty(&backup).unwrap_or_default() + "\n";
    std::fs::write(&list, text).map_err(failed(&list))?;
    for path in DATABASES.into_iter().chain([LIST]).map(|name| folder.join(name)).chain([folder.to_owned()]) {
        File::open(&path).and_then(|file| file.sync_all()).map_err(failed(&path))?;
    }
    Ok(backup)
}

/// Checks that a backup is complete and undamaged.
pub fn verify(folder: &Path) -> Result<Backup, BackupError> {
    let no_backup = |reason: String| BackupError::NoBackup { folder: folder.to_owned(), reason };
    let text =
        std::fs::read_to_string(folder.join(LIST)).map_err(|error| no_backup(format!("{LIST}: {error}")))?;
    let backup: Backup =
        serde_json::from_str(&text).map_err(|error| no_backup(format!("{LIST}: {error}")))?;
    if backup.version != 1 {
        return Err(no_backup(format!("its version is {}, and this program knows 1", backup.version)));
    }
    for name in DATABASES {
        let file = backup.files.iter().find(|file| file.name == name);
        let file = file.ok_or_else(|| no_backup(format!("{name} is not in it")))?;
        let path = folder.join(name);
        if digest(&path)? != (file.octets, file.sha256.clone()) {
            return Err(BackupError::Damaged(path));
        }
    }
    Ok(backup)
}

/// Puts a backup into the place of the databases of a state folder that no service uses. What was there is kept beside it: says
/// under which names.
pub fn restore(folder: &Path, state: &Path) -> Result<Vec<PathBuf>, BackupError> {
    verify(folder)?;
    // All copies are there before anything is put away.
    for name in DATABASES {
        let (from, fresh) = (folder.join(name), state.join(format!("{name}.restoring")));
        std::fs::copy(&from, &fresh).map_err(failed(&fresh))?;
        File::open(&fresh).and_then(|file| file.sync_all()).map_err(failed(&fresh))?;
    }
    let mut aside = Vec::new();
    for name in DATABASES {
        let path = state.join(name);
        if path.exists() {
            let kept = (1..).map(|number| state.join(name.replace(".db", &format!(".before-{number}.db"))));
            let Some(kept) = kept.into_iter().find(|kept| !kept.exists()) else { continue };
            std::fs::rename(&path, &kept).map_err(failed(&kept))?;
            for end in ["-wal", "-shm"] {
                let of = |path: &Path| PathBuf::from(format!("{}{end}", path.display()));
                if of(&path).exists() {
                    std::fs::rename(of(&path), of(&kept)).map_err(failed(&kept))?;
                }
            }
            aside.push(kept);
        }
        std::fs::rename(state.join(format!("{name}.restoring")), &path).map_err(failed(&path))?;
    }
    File::open(state).and_then(|folder| folder.sync_all()).map_err(failed(state))?;
    Ok(aside)
}

/// How long a file is, and its SHA-256.
fn digest(path: &Path) -> Result<(u64, String), BackupError> {
    let mut file = File::open(path).map_err(failed(path))?;
    let mut digest = Sha256::new();
    let (mut block, mut octets) = (vec![0; 1 << 20], 0);
    loop {
        let read = file.read(&mut block).map_err(failed(path))?;
        if read == 0 {
            break;
        }
        octets += read as u64;
        digest.update(&block[..read]);
    }
    Ok((octets, digest.finalize().iter().map(|octet| format!("{octet:02x}")).collect()))
}

fn failed(path: &Path) -> impl FnOnce(io::Error) -> BackupError {
    let path = path.to_owned();
    move |error| BackupError::File { path, reason: error.to_string() }
}
