//! A database that is there again by itself: opened, brought up to date, set aside when it is damaged, opened anew when it
//! was taken away, and out of order for as long as the disk does not let it be.
//!
//! The sites never wait for a database, so nothing here keeps the service from starting: what cannot be opened now is tried
//! again with the next thing that is asked of it.

use crate::salvage;
use diesel::connection::SimpleConnection;
use diesel::{Connection, SqliteConnection};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness};
use parking_lot::Mutex;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use thiserror::Error;

/// What can go wrong with what is kept.
#[derive(Debug, Error)]
pub enum StoreError {
    /// The file cannot be opened or made.
    #[error("the database {} cannot be opened: {reason}", path.display())]
    Open {
        /// The file.
        path: PathBuf,
        /// What SQLite says.
        reason: String,
    },
    /// Something that was asked of SQLite failed.
    #[error("the database refused: {0}")]
    Database(#[from] diesel::result::Error),
    /// Requests cannot be packed.
    #[error("requests cannot be packed: {0}")]
    Packing(std::io::Error),
    /// The database was replaced, and what is in it is not known yet.
    #[error("the database was damaged or taken away and is being made again: ask again in a moment")]
    Behind,
}

impl StoreError {
    /// Whether the file itself is damaged, so that trying again is of no use.
    fn is_damage(&self) -> bool {
        let words = match self {
            StoreError::Open { reason, .. } => reason.clone(),
            StoreError::Database(error) => error.to_string(),
            StoreError::Packing(_) | StoreError::Behind => return false,
        };
        ["not a database", "malformed"].iter().any(|sign| words.contains(sign))
    }
}

/// One of the databases.
#[derive(Clone, Copy)]
pub struct Kind {
    /// Name of its file.
    pub name: &'static str,
    /// What brings it up to date.
    pub migrations: fn() -> EmbeddedMigrations,
    /// Whether it holds what is nowhere else, so that all rows are brought over from a damaged file as soon as it is set aside.
    pub is_nowhere_else: bool,
}

/// A database, and what is the matter with it.
pub struct Database {
    path: PathBuf,
    kind: Kind,
    /// Whether it belongs to this process, which makes it, brings it up to date and sets it aside.
    is_ours: bool,
    held: Mutex<Option<Held>>,
    /// How often it was opened.
    openings: AtomicU64,
    trouble: Mutex<Trouble>,
    /// What was set aside, and is to be brought over into the next one.
    latest: Mutex<Option<PathBuf>>,
}

/// An open connection, and which file it is to.
struct Held {
    connection: SqliteConnection,
    file: Option<Identity>,
}

/// The file and its write-ahead log, by what no other file is.
type Identity = ((u64, u64), Option<(u64, u64)>);

/// What is the matter with a database.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Trouble {
    /// Damaged files that were set aside, the latest last.
    pub set_aside: Vec<PathBuf>,
    /// Why it cannot be used at the moment.
    pub unusable: Option<String>,
}

impl Database {
    /// A database in a state folder that belongs to this process, made where there is none. Never fails: see
    /// [`Database::trouble`].
    pub fn of_ours(state: &Path, kind: Kind) -> Self {
        let database = Self::new(state, kind, true);
        database.trouble.lock().set_aside = set_aside_before(&database.path);
        // What is wrong has been noted.
        let _ = database.run(|_| Ok(()));
        database
    }

    /// One that belongs to a service: it is neither made nor changed in its form, and never set aside.
    pub fn of_another(state: &Path, kind: Kind) -> Self {
        Self::new(state, kind, false)
    }

    fn new(state: &Path, kind: Kind, is_ours: bool) -> Self {
        Database {
            path: state.join(kind.name),
            kind,
            is_ours,
            held: Mutex::default(),
            openings: AtomicU64::new(0),
            trouble: Mutex::default(),
            latest: Mutex::default(),
        }
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// How often it has been opened: whoever remembers what is in it has to look again when that has changed.
    pub fn openings(&self) -> u64 {
        self.openings.load(Ordering::SeqCst)
    }

    /// What is the matter with it.
    pub fn trouble(&self) -> Trouble {
        self.trouble.lock().clone()
    }

    /// Does something with the database, which is opened first where it has to be. A damaged one is set aside and made
    /// again, and then what was asked for has failed.
    pub fn run<T>(
        &self,
        run: impl FnOnce(&mut SqliteConnection) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        let mut held = self.held.lock();
        let result = self.connection(&mut held).and_then(run);
        if let Err(error) = &result
            && error.is_damage()
        {
            *held = None;
            self.set_aside(error);
        }
        let unusable = result.as_ref().err().map(ToString::to_string);
        let mut trouble = self.trouble.lock();
        if unusable.is_some() != trouble.unusable.is_some() {
            match &unusable {
                Some(words) => tracing::error!(database = %self.path.display(), "cannot be used: {words}"),
                None => tracing::info!(database = %self.path.display(), "can be used again"),
            }
        }
        trouble.unusable = unusable;
        result
    }

    /// Something that was asked of a connection of its own, to the file of one opening, has failed. Where that is
    /// because the file is damaged, it is set aside as [`Database::run`] does.
    pub fn has_failed(&self, error: &StoreError, opening: u64) {
        let mut held = self.held.lock();
        if error.is_damage() && opening == self.openings() && held.is_some() {
            *held = None;
            self.set_aside(error);
        }
    }

    /// The connection, if it still is one to the file that is there.
    fn connection<'h>(&self, held: &'h mut Option<Held>) -> Result<&'h mut SqliteConnection, StoreError> {
        let there = identity(&self.path);
        if held.as_ref().is_some_and(|held| held.file != there) {
            tracing::warn!(database = %self.path.display(), "was taken away or replaced while it was in use, and is opened anew");
            *held = None;
        }
        let held = match held {
            Some(held) => held,
            None => {
                let connection = match self.open() {
                    Err(error) if error.is_damage() && self.is_ours => {
                        self.set_aside(&error);
                        self.open()?
                    }
                    opened => opened?,
                };
                self.openings.fetch_add(1, Ordering::SeqCst);
                held.insert(Held { connection, file: identity(&self.path) })
            }
        };
        Ok(&mut held.connection)
    }

    fn open(&self) -> Result<SqliteConnection, StoreError> {
        if !self.is_ours {
            return connect(&self.path, false);
        }
        let mut connection = open(&self.path, (self.kind.migrations)())?;
        let latest = self.latest.lock().take();
        if let Some(aside) = latest.filter(|_| self.kind.is_nowhere_else) {
            match salvage::bring_over(&aside, &mut connection) {
                Ok(rows) => tracing::warn!(
                    "{rows} rows that are undamaged were brought over from {}",
                    aside.display()
                ),
                Err(error) => {
                    tracing::warn!("nothing could be brought over from {}: {error}", aside.display())
                }
            }
        }
        Ok(connection)
    }

    /// Gives a damaged file another name. Its write-ahead log goes with it.
    fn set_aside(&self, error: &StoreError) {
        if !self.is_ours {
            return;
        }
        let aside = (1..).map(|number| aside_of(&self.path, number)).find(|aside| !aside.exists());
        let Some(aside) = aside else { return };
        match std::fs::rename(&self.path, &aside) {
            Ok(()) => {
                tracing::error!(database = %self.path.display(), "is damaged ({error}), and was set aside as {}", aside.display());
                for end in ["-wal", "-shm"] {
                    // Where there is none, there is nothing to go with it.
                    let _ = std::fs::rename(with(&self.path, end), with(&aside, end));
                }
                *self.latest.lock() = Some(aside.clone());
                self.trouble.lock().set_aside.push(aside);
            }
            Err(reason) => {
                tracing::error!(database = %self.path.display(), "is damaged ({error}), and cannot be set aside: {reason}");
            }
        }
    }
}

fn aside_of(path: &Path, number: u32) -> PathBuf {
    let name = path.file_stem().unwrap_or_default().to_string_lossy();
    path.with_file_name(format!("{name}.damaged-{number}.db"))
}

/// What was set aside before and still is there: it is said until somebody has seen to it.
fn set_aside_before(path: &Path) -> Vec<PathBuf> {
    (1..).map(|number| aside_of(path, number)).take_while(|aside| aside.exists()).collect()
}

fn with(path: &Path, end: &str) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(end);
    name.into()
}

fn identity(path: &Path) -> Option<Identity> {
    let of = |path: &Path| path.metadata().ok().map(|found| (found.dev(), found.ino()));
    Some((of(path)?, of(&with(path, "-wal"))))
}

/// Opens a database, making it when there is none, and brings its tables up to date.
fn open(path: &Path, migrations: EmbeddedMigrations) -> Result<SqliteConnection, StoreError> {
    let mut connection = connect(path, true)?;
    connection.run_pending_migrations(migrations).map_err(|error| failed(path, &error))?;
    // So that there is a write-ahead log to know it by.
    connection.batch_execute("BEGIN IMMEDIATE; COMMIT;").map_err(|error| failed(path, &error))?;
    Ok(connection)
}

/// A connection to a database, which is made where there is none only if that is wanted.
pub fn connect(path: &Path, make: bool) -> Result<SqliteConnection, StoreError> {
    let name = path.to_string_lossy();
    let name = match make {
        true => name,
        false => {
            let escaped = name.replace('%', "%25").replace('?', "%3f").replace('#', "%23");
            format!("file:{escaped}?mode=rw").into()
        }
    };
    let mut connection = SqliteConnection::establish(&name).map_err(|error| failed(path, &error))?;
    connection
        .batch_execute(
            "PRAGMA busy_timeout = 5000; PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL; \
             PRAGMA foreign_keys = ON; PRAGMA secure_delete = ON;",
        )
        .map_err(|error| failed(path, &error))?;
    Ok(connection)
}

fn failed(path: &Path, error: &dyn std::fmt::Display) -> StoreError {
    StoreError::Open { path: path.to_owned(), reason: error.to_string() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Holder, Purpose, Secrets};

    #[test]
    fn a_database_is_there_again_after_damage_and_after_it_was_taken_away() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("exedra.db");
        std::fs::write(&path, "no database at all ".repeat(200)).unwrap();
        let secrets = Secrets::open(folder.path());
        let aside = folder.path().join("exedra.damaged-1.db");
        assert_eq!(secrets.trouble().set_aside, [aside]);
        let made = secrets.make(Purpose::Link, &Holder::this_machine(), 1, 9).unwrap();
        assert!(secrets.opens(&made, Purpose::Link, 2).unwrap().is_some());
        for end in ["", "-wal", "-shm"] {
            let _ = std::fs::remove_file(with(&path, end));
        }
        assert!(secrets.opens(&made, Purpose::Link, 2).unwrap().is_none(), "it begins anew");
        let made = secrets.make(Purpose::Link, &Holder::this_machine(), 1, 9).unwrap();
        assert!(path.is_file() && secrets.opens(&made, Purpose::Link, 2).unwrap().is_some());
        // What is set aside is said by the next one as well.
        assert_eq!(Secrets::open(folder.path()).trouble().set_aside.len(), 1);
    }

    #[test]
    fn what_cannot_be_opened_is_said_and_tried_again() {
        let folder = tempfile::tempdir().unwrap();
        let state = folder.path().join("state");
        let secrets = Secrets::open(&state);
        assert!(
            secrets.trouble().unusable.is_some()
                && secrets.make(Purpose::Link, &Holder::this_machine(), 1, 9).is_err()
        );
        std::fs::create_dir(&state).unwrap();
        assert!(secrets.make(Purpose::Link, &Holder::this_machine(), 1, 9).is_ok());
        assert_eq!(secrets.trouble(), Trouble::default());
    }
}
