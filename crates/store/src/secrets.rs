//! What lets people and programs in: one-time links, sessions, tokens. Kept only as hashes.

use crate::database::{Database, Kind, StoreError, Trouble};
use crate::schema::secrets;
use base64::Engine;
use diesel::prelude::*;
use diesel_migrations::{EmbeddedMigrations, embed_migrations};
use parking_lot::Mutex;
use rand::Rng;
use sha2::{Digest, Sha256};
use std::path::Path;
use std::time::Instant;

const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations/exedra");

/// `exedra.db`: what is in it is nowhere else.
pub const KIND: Kind =
    Kind { name: "exedra.db", migrations: || MIGRATIONS, kept: &["secrets", "contents", "revisions"] };

/// What a secret opens.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// A sign-in, once.
    Link,
    /// The console, from one browser.
    Session,
    /// The API, for a program.
    Token,
}

impl Purpose {
    fn as_str(self) -> &'static str {
        match self {
            Purpose::Link => "link",
            Purpose::Session => "session",
            Purpose::Token => "token",
        }
    }
}

/// The secrets that were given out. Times are seconds since 1970 UTC, by a clock that never goes back: what has ended stays
/// ended when the system's clock is put back.
pub struct Secrets {
    database: Database,
    clock: Mutex<Option<Clock>>,
}

/// The latest time that is known to have been.
#[derive(Clone, Copy)]
struct Clock {
    latest: i64,
    at: Instant,
}

impl Secrets {
    /// Opens `exedra.db` in the state folder, for the service that it belongs to.
    pub fn open(state: &Path) -> Self {
        Secrets { database: Database::of_ours(state, KIND), clock: Mutex::default() }
    }

    /// Opens the one of a service, for another program: see [`Database::of_another`].
    pub fn of_another(state: &Path) -> Self {
        Secrets { database: Database::of_another(state, KIND), clock: Mutex::default() }
    }

    /// What is the matter with `exedra.db`.
    pub fn trouble(&self) -> Trouble {
        self.database.trouble()
    }

    /// Makes a secret of 256 random bits. This is the only time that it can be seen.
    pub fn make(&self, purpose: Purpose, now: i64, expires: i64) -> Result<String, StoreError> {
        let mut octets = [0u8; 32];
        rand::rng().fill_bytes(&mut octets);
        let secret = base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(octets);
        let lasts = expires - now;
        let now = self.forward(now)?;
        let row = (
            secrets::hash.eq(hash(&secret)),
            secrets::purpose.eq(purpose.as_str()),
            secrets::made.eq(now),
            secrets::expires.eq(now + lasts),
        );
        self.with(|connection| {
            diesel::delete(secrets::table.filter(secrets::expires.le(now))).execute(connection)?;
            diesel::insert_into(secrets::table).values(row).execute(connection)
        })?;
        Ok(secret)
    }

    /// Makes a secret, and has all others of its purpose open nothing any longer.
    pub fn replace(&self, purpose: Purpose, now: i64, expires: i64) -> Result<String, StoreError> {
        self.revoke(purpose)?;
        self.make(purpose, now, expires)
    }

    /// Has all secrets of a purpose open nothing any longer. Gives how many there were.
    pub fn revoke(&self, purpose: Purpose) -> Result<usize, StoreError> {
        self.with(|connection| {
            diesel::delete(secrets::table.filter(secrets::purpose.eq(purpose.as_str()))).execute(connection)
        })
    }

    /// Whether a secret still opens what it is for.
    pub fn opens(&self, secret: &str, purpose: Purpose, now: i64) -> Result<bool, StoreError> {
        let now = self.forward(now)?;
        let found = self.with(|connection| {
            secrets::table.filter(valid(secret, purpose, now)).count().get_result::<i64>(connection)
        })?;
        Ok(found > 0)
    }

    /// As [`Secrets::opens`], and never again afterwards.
    pub fn use_up(&self, secret: &str, purpose: Purpose, now: i64) -> Result<bool, StoreError> {
        let now = self.forward(now)?;
        let gone = self.with(|connection| {
            diesel::delete(secrets::table.filter(valid(secret, purpose, now))).execute(connection)
        })?;
        Ok(gone > 0)
    }

    /// The time, where the system's clock says this: never before what it was.
    fn forward(&self, told: i64) -> Result<i64, StoreError> {
        let known = *self.clock.lock();
        let before = match known {
            Some(clock) => clock.latest + clock.at.elapsed().as_secs() as i64,
            // What was made before the start was made in the past.
            None => {
                let made = secrets::table.select(diesel::dsl::max(secrets::made));
                self.with(|connection| made.first::<Option<i64>>(connection))?.unwrap_or(i64::MIN)
            }
        };
        let latest = told.max(before);
        let mut clock = self.clock.lock();
        // Whole seconds are counted: what is left of one goes on counting.
        if clock.is_none_or(|clock| latest > clock.latest) {
            *clock = Some(Clock { latest, at: Instant::now() });
        }
        Ok(latest)
    }

    fn with<T>(&self, run: impl FnOnce(&mut SqliteConnection) -> QueryResult<T>) -> Result<T, StoreError> {
        self.database.run(|connection| Ok(run(connection)?))
    }
}

#[diesel::dsl::auto_type(no_type_alias)]
fn valid(secret: &str, purpose: Purpose, now: i64) -> _ {
    let wanted: String = hash(secret);
    let purpose: &'static str = purpose.as_str();
    secrets::hash.eq(wanted).and(secrets::purpose.eq(purpose)).and(secrets::expires.gt(now))
}

/// A database looks up hashes, so how long it takes says nothing about the secrets behind them.
pub(crate) fn hash(secret: &str) -> String {
    Sha256::digest(secret.as_bytes()).iter().map(|octet| format!("{octet:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_open_what_they_are_for_until_they_end() {
        let folder = tempfile::tempdir().unwrap();
        let secrets = Secrets::open(folder.path());
        let link = secrets.make(Purpose::Link, 100, 200).unwrap();
        assert!(!secrets.opens(&link, Purpose::Session, 150).unwrap());
        assert!(!secrets.opens("guess", Purpose::Link, 150).unwrap());
        assert!(secrets.opens(&link, Purpose::Link, 190).unwrap());
        assert!(secrets.use_up(&link, Purpose::Link, 190).unwrap());
        assert!(!secrets.use_up(&link, Purpose::Link, 190).unwrap());
        let kept = std::fs::read(folder.path().join("exedra.db")).unwrap();
        let kept = [kept, std::fs::read(folder.path().join("exedra.db-wal")).unwrap_or_default()].concat();
        assert!(!kept.windows(link.len()).any(|window| window == link.as_bytes()));
        let (first, session) = (secrets.make(Purpose::Token, 1, 900), secrets.make(Purpose::Session, 1, 900));
        let second = secrets.replace(Purpose::Token, 1, 900).unwrap();
        let opens = |secret: &str, purpose| secrets.opens(secret, purpose, 2).unwrap();
        assert!(!opens(&first.unwrap(), Purpose::Token) && opens(&second, Purpose::Token));
        assert_eq!(secrets.revoke(Purpose::Token).unwrap(), 1);
        assert!(!opens(&second, Purpose::Token) && opens(&session.unwrap(), Purpose::Session));
    }
    #[test]
    fn what_has_ended_stays_ended_when_the_clock_is_put_back() {
        let folder = tempfile::tempdir().unwrap();
        let secrets = Secrets::open(folder.path());
        let session = secrets.make(Purpose::Session, 1000, 2000).unwrap();
        assert!(secrets.opens(&session, Purpose::Session, 1900).unwrap());
        assert!(!secrets.opens(&session, Purpose::Session, 2500).unwrap());
        assert!(!secrets.opens(&session, Purpose::Session, 1500).unwrap(), "the clock was put back");
        // Neither does one last longer that is made then, nor end at once.
        let next = secrets.make(Purpose::Session, 100, 200).unwrap();
        assert!(secrets.opens(&next, Purpose::Session, 100).unwrap());
        assert!(!secrets.opens(&next, Purpose::Session, 2700).unwrap());
        // Nor by a start.
        let last = secrets.make(Purpose::Session, 2800, 2900).unwrap();
        let secrets = Secrets::open(folder.path());
        assert!(secrets.opens(&last, Purpose::Session, 50).unwrap());
        assert!(!secrets.opens(&last, Purpose::Session, 2901).unwrap());
        assert!(!secrets.opens(&last, Purpose::Session, 50).unwrap());
    }
}
