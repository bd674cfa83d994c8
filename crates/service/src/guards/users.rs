//! The users of a realm: a file of lines as `exedra password` prints them, `anna = "$argon2id$…"`.
//!
//! The file is looked at again when somebody signs in, at most once a second; a broken one keeps those in who were in.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime};

/// How long the file is believed.
const BELIEVED: Duration = Duration::from_secs(1);

/// The users of one realm.
pub struct Users {
    path: PathBuf,
    known: Mutex<Known>,
}

#[derive(Default)]
struct Known {
    passwords: HashMap<String, Arc<str>>,
    changed: Option<(SystemTime, u64)>,
    looked: Option<Instant>,
}

impl Users {
    /// The users of a file, which is read when somebody wants in.
    pub fn of(path: &Path) -> Self {
        Users { path: path.to_owned(), known: Mutex::default() }
    }

    /// How the password of a user is kept.
    pub fn password_of(&self, user: &str) -> Option<Arc<str>> {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if known.looked.is_none_or(|looked| looked.elapsed() > BELIEVED) {
            known.looked = Some(Instant::now());
            let changed =
                std::fs::metadata(&self.path).and_then(|found| Ok((found.modified()?, found.len()))).ok();
            if changed != known.changed {
                known.changed = changed;
                match read(&self.path) {
                    Ok(passwords) => known.passwords = passwords,
                    Err(reason) => {
                        tracing::warn!(users = %self.path.display(), "cannot be understood, and stay as they were: {reason}");
                    }
                }
            }
        }
        known.passwords.get(user).cloned()
    }
}

/// Reads a file of users. The error is for people.
pub fn read(path: &Path) -> Result<HashMap<String, Arc<str>>, String> {
    let text = std::fs::read_to_string(path).map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => "there is no such file".to_owned(),
        _ => error.to_string(),
    })?;
    let table: HashMap<String, String> =
        toml::from_str(&text).map_err(|error| error.message().replace('\n', ", "))?;
    table
        .into_iter()
        .map(|(user, kept)| match argon2::password_hash::phc::PasswordHash::new(&kept) {
            Ok(_) if user.contains(':') => {
                Err(format!("the name `{user}` has a colon, which no login can send"))
            }
            Ok(_) => Ok((user, kept.into())),
            Err(_) => Err(format!("the password of `{user}` is not as `exedra password` prints it")),
        })
        .collect()
}
