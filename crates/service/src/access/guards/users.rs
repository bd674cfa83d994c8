//! The users of a realm: a file of lines as `exedra password` prints them, `anna = "$argon2id$…"`.
//!
//! The file is looked at again when somebody signs in, at most once a second; a broken one keeps those in who were in.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

/// How long the file is believed.
const BELIEVED: Duration = Duration::from_secs(1);

/// The users of one realm.
pub struct Users {
    path: PathBuf,
    known: Mutex<Known>,
    /// What the file was when it was last read. Held by whoever looks at it.
    seen: Mutex<Option<(SystemTime, u64)>>,
}

#[derive(Default)]
struct Known {
    passwords: HashMap<String, Arc<str>>,
    looked: Option<Instant>,
}

impl Users {
    /// The users of a file, which is read when somebody wants in.
    pub fn of(path: &Path) -> Self {
        Users { path: path.to_owned(), known: Mutex::default(), seen: Mutex::default() }
    }

    /// How the password of a user is kept, by what is known of the file.
    pub fn password_of(&self, user: &str) -> Option<Arc<str>> {
        self.known.lock().passwords.get(user).cloned()
    }

    /// Whether the file has been looked at lately.
    pub fn is_believed(&self) -> bool {
        self.known.lock().looked.is_some_and(|looked| looked.elapsed() <= BELIEVED)
    }

    /// Looks at the file where that was long ago. Blocks; whoever only wants to know who is in does not wait for it.
    pub fn look(&self) {
        let mut seen = self.seen.lock();
        if self.is_believed() {
            return;
        }
        let now = Instant::now();
        let changed =
            std::fs::metadata(&self.path).and_then(|found| Ok((found.modified()?, found.len()))).ok();
        let fresh = (changed != *seen).then(|| read(&self.path));
        *seen = changed;
        let mut known = self.known.lock();
        known.looked = Some(now);
        match fresh {
            Some(Ok(passwords)) => known.passwords = passwords,
            Some(Err(reason)) => {
                tracing::warn!(users = %self.path.display(), "cannot be understood, and stay as they were: {reason}");
            }
            None => {}
        }
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

#[cfg(test)]
mod tests {
    use super::*;

    /// Whoever only asks reads no file: it may lie where reading takes its time.
    #[test]
    fn a_file_is_read_by_those_who_look_and_nobody_else() {
        let place = tempfile::tempdir().unwrap();
        let path = place.path().join("staff.toml");
        let kept = super::super::hash("tide").unwrap();
        std::fs::write(&path, format!("anna = {kept:?}\n")).unwrap();
        let users = Users::of(&path);
        assert!(users.password_of("anna").is_none() && !users.is_believed());
        users.look();
        assert!(users.password_of("anna").is_some() && users.is_believed());
        // A broken file keeps those in who were in.
        std::fs::write(&path, "anna = broken").unwrap();
        users.known.lock().looked = None;
        users.look();
        assert!(users.password_of("anna").is_some());
        std::fs::write(&path, format!("bera = {kept:?}\n")).unwrap();
        users.known.lock().looked = None;
        users.look();
        assert!(users.password_of("anna").is_none() && users.password_of("bera").is_some());
    }
}
