//! One service to a state folder: two would both record every line, for good.

use rustix::fs::{FlockOperation, flock};
use rustix::io::Errno;
use std::fs::{File, OpenOptions};
use std::io::{self, Read, Seek, Write};
use std::path::Path;

/// Name of the file that is locked. It stays; only the lock counts, which ends with the process, however that ends.
pub const FILE: &str = "lock";

/// The lock on a state folder, for as long as this is held.
#[derive(Debug)]
pub struct StateLock {
    _file: File,
}

/// Why there is none.
#[derive(Debug)]
pub enum NoLock {
    /// Another service has it: the number of its process, where that is known.
    Taken(String),
    /// The system refuses.
    Failed(io::Error),
}

impl StateLock {
    /// Locks a state folder, at once or not at all.
    pub fn of(state: &Path) -> Result<Self, NoLock> {
        let opened =
            OpenOptions::new().read(true).write(true).create(true).truncate(false).open(state.join(FILE));
        let mut file = opened.map_err(NoLock::Failed)?;
        match flock(&file, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => {}
            Err(Errno::WOULDBLOCK) => {
                let mut holder = String::new();
                // Who it is, is said for the person who looks for it; not knowing it changes nothing.
                let _ = file.read_to_string(&mut holder);
                return Err(NoLock::Taken(holder.trim().to_owned()));
            }
            Err(error) => return Err(NoLock::Failed(error.into())),
        }
        let mut name = || -> io::Result<()> {
            file.set_len(0)?;
            file.rewind()?;
            writeln!(file, "{}", std::process::id())
        };
        // On a full disk the lock holds without a name.
        if let Err(error) = name() {
            tracing::debug!("the number of the process is not in the lock's file: {error}");
        }
        Ok(StateLock { _file: file })
    }
}
