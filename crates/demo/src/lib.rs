//! Port Lindry, a made-up small harbour town: three sites, five weeks of past traffic, and a little more.
//!
//! Everything is invented: hosts below `.example` (RFC 2606), addresses of the documentation and
//! benchmarking ranges (RFC 5737, RFC 3849, RFC 2544). The past is made by a seeded generator and ends at
//! the moment it is asked for; there are stories in it worth finding (see [`past`]).
//!
//! - [`town`]: the sites' files; [`tides`], [`drawing`], [`sound`], [`paper`] make what no hand wrote
//! - [`countries`]: where they ask from
//! - [`people`]: who asks, with what
//! - [`past`]: the traffic of the last weeks, as logs
//! - [`live`]: a gentle stream of requests against the running service

pub mod countries;
pub mod drawing;
pub mod live;
pub mod paper;
pub mod past;
pub mod people;
pub mod sound;
pub mod tides;
pub mod town;

use std::io;
use std::path::{Path, PathBuf};
use thiserror::Error;

/// A file whose presence says that a folder was made by the demo and may be made anew.
const MARK: &str = ".port-lindry";

/// Why the town could not be built.
#[derive(Debug, Error)]
pub enum DemoError {
    /// The folder holds something that is not ours.
    #[error("{} is not empty and was not made by the demo: name another folder", .0.display())]
    NotOurs(PathBuf),
    /// The disk refused.
    #[error("{} cannot be written: {error}", path.display())]
    Disk {
        /// Where.
        path: PathBuf,
        /// What the system says.
        error: io::Error,
    },
}

/// Addresses that the town answers on.
#[derive(Debug, Clone, Copy)]
pub struct Addresses<'a> {
    /// The sites.
    pub sites: &'a str,
    /// The sites by HTTPS.
    pub secured: &'a str,
    /// The console.
    pub console: &'a str,
}

/// Makes the town in a folder, its past ending `now` (milliseconds since 1970 UTC), and gives the
/// configuration. What an earlier demo left in the folder goes. `staff` is the line that lets somebody in.
pub fn build(folder: &Path, now: i64, addresses: Addresses<'_>, staff: &str) -> Result<PathBuf, DemoError> {
    let disk = |path: &Path| {
        let path = path.to_owned();
        move |error| DemoError::Disk { path, error }
    };
    if folder.read_dir().is_ok_and(|mut entries| entries.next().is_some()) {
        if !folder.join(MARK).exists() {
            return Err(DemoError::NotOurs(folder.to_owned()));
        }
        for old in ["sites", "state", "exedra.toml", "countries.mmdb", "staff.toml"] {
            let old = folder.join(old);
            let gone = if old.is_dir() { std::fs::remove_dir_all(&old) } else { std::fs::remove_file(&old) };
            match gone {
                Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(disk(&old)(error)),
                _ => {}
            }
        }
    }
    std::fs::create_dir_all(folder).map_err(disk(folder))?;
    std::fs::write(folder.join(MARK), "Made by `exedra demo`, which may make it anew.\n")
        .map_err(disk(folder))?;
    town::write(&folder.join("sites"), now).map_err(disk(folder))?;
    let logs = folder.join("state/logs");
    std::fs::create_dir_all(&logs).map_err(disk(&logs))?;
    past::write(&folder.join("sites"), &logs, now).map_err(disk(&logs))?;
    let config = folder.join("exedra.toml");
    let Addresses { sites, secured, console } = addresses;
    let text = town::configuration();
    let text = text.replace("{sites}", sites).replace("{secured}", secured).replace("{console}", console);
    std::fs::write(&config, text).map_err(disk(&config))?;
    let countries = folder.join("countries.mmdb");
    std::fs::write(&countries, countries::made(&countries::RANGES)).map_err(disk(&countries))?;
    let users = folder.join("staff.toml");
    std::fs::write(&users, format!("{staff}\n")).map_err(disk(&users))?;
    Ok(config)
}
