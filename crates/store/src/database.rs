//! Opening a database: write-ahead log, foreign keys, migrations.

use diesel::connection::SimpleConnection;
use diesel::{Connection, SqliteConnection};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness};
use std::path::{Path, PathBuf};
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
    /// What came out is not what was put in.
    #[error("segment {segment}, column {column}, is damaged")]
    Damaged {
        /// Number of the segment.
        segment: i32,
        /// Its column.
        column: &'static str,
    },
}

/// Opens a database, making it when there is none, and brings its tables up to date.
pub fn open(path: &Path, migrations: EmbeddedMigrations) -> Result<SqliteConnection, StoreError> {
    let mut connection = connect(path)?;
    connection.run_pending_migrations(migrations).map_err(|error| failed(path, &error))?;
    Ok(connection)
}

/// A further connection to a database that has been opened.
pub fn connect(path: &Path) -> Result<SqliteConnection, StoreError> {
    let name = path.to_string_lossy();
    let mut connection = SqliteConnection::establish(&name).map_err(|error| failed(path, &error))?;
    connection
        .batch_execute(
            "PRAGMA busy_timeout = 5000; PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL; \
             PRAGMA foreign_keys = ON;",
        )
        .map_err(|error| failed(path, &error))?;
    Ok(connection)
}

fn failed(path: &Path, error: &dyn std::fmt::Display) -> StoreError {
    StoreError::Open { path: path.to_owned(), reason: error.to_string() }
}
