//! What lets people and programs in: one-time links, sessions, tokens. Kept only as hashes.

use crate::database::{Database, Kind, StoreError, Trouble};
use crate::grant;
use crate::schema::{accounts, secrets};
use base64::Engine;
use diesel::prelude::*;
use diesel_migrations::{EmbeddedMigrations, embed_migrations};
use exedra_common::grant::Grant;
use parking_lot::Mutex;
use rand::Rng;
use sha2::{Digest, Sha256};
use std::path::Path;
use std::time::Instant;

const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations/exedra");

/// `exedra.db`: what is in it is nowhere else.
pub const KIND: Kind = Kind { name: "exedra.db", migrations: || MIGRATIONS, is_nowhere_else: true };

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

/// What a secret is made for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    /// The account of a session; empty for whoever came by a one-time link.
    pub account: String,
    /// What a token is for.
    pub label: String,
    /// Who made a token.
    pub made_by: String,
    /// What it may do and see. Of a session with an account that is the account's, as it is then.
    pub grant: Grant,
}

impl Holder {
    /// Everything, for whoever may read the state folder.
    pub fn this_machine() -> Self {
        Holder {
            account: String::new(),
            label: THIS_MACHINE.to_owned(),
            made_by: String::new(),
            grant: Grant::ALL,
        }
    }

    /// A session of an account.
    pub fn account(name: &str) -> Self {
        Holder { account: name.to_owned(), label: String::new(), ..Holder::this_machine() }
    }

    /// A token.
    pub fn token(label: &str, made_by: &str, grant: Grant) -> Self {
        Holder { account: String::new(), label: label.to_owned(), made_by: made_by.to_owned(), grant }
    }
}

/// How the token of clients on this machine is called.
pub const THIS_MACHINE: &str = "this machine";

/// A session or a token, as those see it who may end it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IssuedSecret {
    /// What it is known by.
    pub id: String,
    /// What it is made for.
    pub made_for: Holder,
    /// When it was made, in seconds since 1970 UTC.
    pub made: i64,
    /// When it ends, in seconds since 1970 UTC.
    pub expires: i64,
    /// When it was used last, in seconds since 1970 UTC, to the minute; 0 where it never was.
    pub used: i64,
}

/// How many sessions one account may have, and how many links there may be; the oldest end.
const MOST_OF_ONE: i64 = 100;
/// How often it is noted that a secret was used, in seconds.
const NOTED: i64 = 60;

/// A row of the table of secrets, without its hash and its purpose.
type Row = (String, String, String, String, String, String, i64, i64, i64);

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
    pub fn make(
        &self,
        purpose: Purpose,
        made_for: &Holder,
        now: i64,
        expires: i64,
    ) -> Result<String, StoreError> {
        let secret = random(32);
        let lasts = expires - now;
        let now = self.forward(now)?;
        let row = (
            secrets::hash.eq(hash(&secret)),
            secrets::purpose.eq(purpose.as_str()),
            secrets::made.eq(now),
            secrets::expires.eq(now + lasts),
            secrets::id.eq(random(9)),
            secrets::account.eq(&made_for.account),
            secrets::label.eq(&made_for.label),
            secrets::made_by.eq(&made_for.made_by),
            secrets::role.eq(made_for.grant.role.name()),
            secrets::sites.eq(grant::sites(&made_for.grant)),
        );
        self.with(|connection| {
            diesel::delete(secrets::table.filter(secrets::expires.le(now))).execute(connection)?;
            diesel::insert_into(secrets::table).values(row).execute(connection)?;
            // Whoever signs in again and again does not fill the disk: their oldest sessions end.
            let same = secrets::purpose.eq(purpose.as_str()).and(secrets::account.eq(&made_for.account));
            let newest = secrets::table
                .filter(same)
                .select(secrets::hash)
                .order((secrets::made.desc(), secrets::expires.desc()))
                .offset(MOST_OF_ONE)
                .limit(1000);
            let oldest = newest.load::<String>(connection)?;
            let is_old = secrets::hash.eq_any(oldest).and(secrets::purpose.ne(Purpose::Token.as_str()));
            diesel::delete(secrets::table.filter(is_old)).execute(connection)
        })?;
        Ok(secret)
    }

    /// Makes the token of clients on this machine, and has the one before open nothing any longer.
    pub fn replace_own_token(&self, now: i64, expires: i64) -> Result<String, StoreError> {
        let ours = secrets::purpose.eq(Purpose::Token.as_str()).and(secrets::made_by.eq(""));
        self.with(|connection| diesel::delete(secrets::table.filter(ours)).execute(connection))?;
        self.make(Purpose::Token, &Holder::this_machine(), now, expires)
    }

    /// Has all secrets of a purpose open nothing any longer. Gives how many there were.
    pub fn revoke(&self, purpose: Purpose) -> Result<usize, StoreError> {
        self.with(|connection| {
            diesel::delete(secrets::table.filter(secrets::purpose.eq(purpose.as_str()))).execute(connection)
        })
    }

    /// What a secret is, if it still opens what it is for.
    pub fn look(&self, secret: &str, purpose: Purpose, now: i64) -> Result<Option<IssuedSecret>, StoreError> {
        let now = self.forward(now)?;
        self.with(|connection| {
            let row =
                secrets::table.filter(valid(secret, purpose, now)).select(columns()).first::<Row>(connection);
            let Some(row) = row.optional()? else { return Ok(None) };
            of_account(known(row), connection)
        })
    }

    /// As [`Secrets::look`], for whoever uses it, which is noted.
    pub fn opens(
        &self,
        secret: &str,
        purpose: Purpose,
        now: i64,
    ) -> Result<Option<IssuedSecret>, StoreError> {
        let known = self.look(secret, purpose, now)?;
        let now = self.forward(now)?;
        if let Some(known) = known.as_ref().filter(|known| now - known.used >= NOTED) {
            let used = secrets::used.eq(now);
            // That it cannot be noted keeps nobody out.
            let _ = self.with(|connection| {
                diesel::update(secrets::table.filter(secrets::id.eq(&known.id))).set(used).execute(connection)
            });
        }
        Ok(known)
    }

    /// All that have not ended, of a purpose, the newest first.
    pub fn all(&self, purpose: Purpose, now: i64) -> Result<Vec<IssuedSecret>, StoreError> {
        let now = self.forward(now)?;
        self.with(|connection| {
            let all = secrets::purpose.eq(purpose.as_str()).and(secrets::expires.gt(now));
            let rows = secrets::table.filter(all).select(columns()).order(secrets::made.desc());
            let known = rows.load::<Row>(connection)?.into_iter().map(known);
            known.filter_map(|known| of_account(known, connection).transpose()).collect()
        })
    }

    /// Ends one, by what it is known by; but not the token of clients on this machine, which would lock them out. Says whether
    /// there was one.
    pub fn end(&self, purpose: Purpose, id: &str) -> Result<bool, StoreError> {
        let is_ours = secrets::purpose.eq(Purpose::Token.as_str()).and(secrets::made_by.eq(""));
        let one =
            secrets::purpose.eq(purpose.as_str()).and(secrets::id.eq(id)).and(diesel::dsl::not(is_ours));
        let ended = self.with(|connection| diesel::delete(secrets::table.filter(one)).execute(connection))?;
        Ok(ended > 0)
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

/// So many random octets, as letters.
pub(crate) fn random(octets: usize) -> String {
    let mut random = vec![0u8; octets];
    rand::rng().fill_bytes(&mut random);
    base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(random)
}

#[diesel::dsl::auto_type(no_type_alias)]
fn columns() -> _ {
    (
        secrets::id,
        secrets::account,
        secrets::label,
        secrets::made_by,
        secrets::role,
        secrets::sites,
        secrets::made,
        secrets::expires,
        secrets::used,
    )
}

fn known((id, account, label, made_by, role, sites, made, expires, used): Row) -> IssuedSecret {
    let grant = grant::understood(&role, &sites);
    IssuedSecret { id, made_for: Holder { account, label, made_by, grant }, made, expires, used }
}

/// What belongs to an account may do and see what that may; where it is gone, nothing.
fn of_account(
    mut known: IssuedSecret,
    connection: &mut SqliteConnection,
) -> QueryResult<Option<IssuedSecret>> {
    if known.made_for.account.is_empty() {
        return Ok(Some(known));
    }
    let account = accounts::table.find(&known.made_for.account).select((accounts::role, accounts::sites));
    let found = account.first::<(String, String)>(connection).optional()?;
    Ok(found.map(|(role, sites)| {
        known.made_for.grant = grant::understood(&role, &sites);
        known
    }))
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
        let link = secrets.make(Purpose::Link, &Holder::this_machine(), 100, 200).unwrap();
        assert!(secrets.opens(&link, Purpose::Session, 150).unwrap().is_none());
        assert!(secrets.opens("guess", Purpose::Link, 150).unwrap().is_none());
        assert!(secrets.opens(&link, Purpose::Link, 190).unwrap().is_some());
        assert!(secrets.use_up(&link, Purpose::Link, 190).unwrap());
        assert!(!secrets.use_up(&link, Purpose::Link, 190).unwrap());
        let kept = std::fs::read(folder.path().join("exedra.db")).unwrap();
        let kept = [kept, std::fs::read(folder.path().join("exedra.db-wal")).unwrap_or_default()].concat();
        assert!(!kept.windows(link.len()).any(|window| window == link.as_bytes()));
        let (first, session) = (
            secrets.make(Purpose::Token, &Holder::this_machine(), 1, 900),
            secrets.make(Purpose::Session, &Holder::this_machine(), 1, 900),
        );
        let second = secrets.replace_own_token(1, 900).unwrap();
        let opens = |secret: &str, purpose| secrets.opens(secret, purpose, 2).unwrap().is_some();
        assert!(!opens(&first.unwrap(), Purpose::Token) && opens(&second, Purpose::Token));
        assert_eq!(secrets.revoke(Purpose::Token).unwrap(), 1);
        assert!(!opens(&second, Purpose::Token) && opens(&session.unwrap(), Purpose::Session));
    }
    #[test]
    fn what_has_ended_stays_ended_when_the_clock_is_put_back() {
        let folder = tempfile::tempdir().unwrap();
        let secrets = Secrets::open(folder.path());
        let session = secrets.make(Purpose::Session, &Holder::this_machine(), 1000, 2000).unwrap();
        assert!(secrets.opens(&session, Purpose::Session, 1900).unwrap().is_some());
        assert!(secrets.opens(&session, Purpose::Session, 2500).unwrap().is_none());
        assert!(secrets.opens(&session, Purpose::Session, 1500).unwrap().is_none(), "the clock was put back");
        // Neither does one last longer that is made then, nor end at once.
        let next = secrets.make(Purpose::Session, &Holder::this_machine(), 100, 200).unwrap();
        assert!(secrets.opens(&next, Purpose::Session, 100).unwrap().is_some());
        assert!(secrets.opens(&next, Purpose::Session, 2700).unwrap().is_none());
        // Nor by a start.
        let last = secrets.make(Purpose::Session, &Holder::this_machine(), 2800, 2900).unwrap();
        let secrets = Secrets::open(folder.path());
        assert!(secrets.opens(&last, Purpose::Session, 50).unwrap().is_some());
        assert!(secrets.opens(&last, Purpose::Session, 2901).unwrap().is_none());
        assert!(secrets.opens(&last, Purpose::Session, 50).unwrap().is_none());
    }
}
