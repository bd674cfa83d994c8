//! Who may go where a name and a password are asked for.
//!
//! - [`users`]: the users of a realm, from their file
//! - [`tries`]: tries that failed, and how they slow the next ones down
//!
//! Passwords are kept as PHC strings (Argon2), which are slow to check on purpose. So a pair that was right is remembered
//! for a few minutes, as a keyed hash; and only a few are checked at a time.

pub mod tries;
pub mod users;

use crate::limits::network;
use argon2::Argon2;
use argon2::password_hash::{PasswordHasher, PasswordVerifier, phc::PasswordHash};
use exedra_core::answer::Credentials;
use exedra_core::config::Config;
use foldhash::fast::RandomState;
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::Semaphore;
use tries::Tries;
use users::Users;

/// How long a pair that was right is remembered.
const REMEMBERED: Duration = Duration::from_secs(5 * 60);
/// How many pairs are.
const MOST_REMEMBERED: usize = 4096;
/// How many passwords are checked at a time.
const AT_A_TIME: usize = 2;
/// How many may wait for that, and how many of them may be of one client: otherwise one alone could keep all others out.
const MOST_WAITING: usize = 1024;
const MOST_OF_ONE: usize = 4;

/// The guards of all realms.
pub struct Guards {
    realms: Vec<Users>,
    right: Mutex<HashMap<[u8; 32], Instant, RandomState>>,
    key: [u8; 32],
    tries: Arc<Tries>,
    busy: Semaphore,
    /// How many of each client are waiting.
    waiting: Mutex<HashMap<IpAddr, usize, RandomState>>,
}

/// A place among those that wait; it is free again when this is dropped.
struct Place<'a> {
    guards: &'a Guards,
    client: IpAddr,
}

impl Drop for Place<'_> {
    fn drop(&mut self) {
        let mut waiting = self.guards.waiting();
        if let Some(count) = waiting.get_mut(&self.client) {
            *count -= 1;
            if *count == 0 {
                waiting.remove(&self.client);
            }
        }
    }
}

impl Guards {
    /// The guards of a configuration. Tries that failed under an earlier one still count.
    pub fn new(config: &Config, tries: Arc<Tries>) -> Self {
        Guards {
            realms: config.realms.iter().map(|realm| Users::of(&realm.users.value)).collect(),
            right: Mutex::default(),
            key: rand::random(),
            tries,
            busy: Semaphore::new(AT_A_TIME),
            waiting: Mutex::default(),
        }
    }

    /// Whether name and password have been right a short while ago, and still are.
    pub fn remembers(&self, credentials: &Credentials) -> bool {
        let Some(kept) =
            self.realms.get(credentials.realm).and_then(|users| users.password_of(&credentials.user))
        else {
            return false;
        };
        let mark = self.mark(credentials, &kept);
        self.right().get(&mark).is_some_and(|until| *until > Instant::now())
    }

    /// Whether name and password are right. One who has failed lately waits first. Whoever comes when too many wait
    /// already, in all or of this client, is turned away like one who is wrong.
    pub async fn judge(self: &Arc<Self>, credentials: &Credentials, client: IpAddr) -> bool {
        let Some(_place) = self.place(network(client)) else { return false };
        tokio::time::sleep(self.tries.delay(client, Instant::now())).await;
        let Ok(_busy) = self.busy.acquire().await else { return false };
        let (guards, asked) = (Arc::clone(self), credentials.clone());
        let is_right = tokio::task::spawn_blocking(move || guards.check(&asked)).await.unwrap_or(false);
        match is_right {
            true => self.tries.forgive(client),
            false => self.tries.failed(client, Instant::now()),
        }
        is_right
    }

    /// Whether name and password are right. Takes its time, on purpose.
    pub fn check(&self, credentials: &Credentials) -> bool {
        let kept = self.realms.get(credentials.realm).and_then(|users| users.password_of(&credentials.user));
        let is_known = kept.is_some();
        let kept = kept.unwrap_or_else(|| nobody().into());
        let is_right = verify(&credentials.password, &kept) && is_known;
        if is_right {
            let mark = self.mark(credentials, &kept);
            let mut right = self.right();
            let now = Instant::now();
            if right.len() >= MOST_REMEMBERED {
                right.retain(|_, until| *until > now);
            }
            if right.len() < MOST_REMEMBERED {
                right.insert(mark, now + REMEMBERED);
            }
        }
        is_right
    }

    /// What stands for a pair that was right: nobody can tell the password from it.
    fn mark(&self, credentials: &Credentials, kept: &str) -> [u8; 32] {
        let Credentials { realm, user, password } = credentials;
        let mut digest = Sha256::new();
        digest.update(self.key);
        for part in [realm.to_string().as_str(), user, password, kept] {
            digest.update((part.len() as u64).to_le_bytes());
            digest.update(part.as_bytes());
        }
        digest.finalize().into()
    }

    /// A place among those that wait, if there is one.
    fn place(&self, client: IpAddr) -> Option<Place<'_>> {
        let mut waiting = self.waiting();
        // Each that waits has its turn with Argon2; those who may wait at all are few enough to be counted.
        let full = waiting.values().sum::<usize>() >= MOST_WAITING;
        if full || waiting.get(&client).is_some_and(|count| *count >= MOST_OF_ONE) {
            return None;
        }
        *waiting.entry(client).or_default() += 1;
        Some(Place { guards: self, client })
    }

    fn waiting(&self) -> MutexGuard<'_, HashMap<IpAddr, usize, RandomState>> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn right(&self) -> MutexGuard<'_, HashMap<[u8; 32], Instant, RandomState>> {
        self.right.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What is checked where there is no such user, so that it takes as long.
fn nobody() -> &'static str {
    static KEPT: OnceLock<String> = OnceLock::new();
    KEPT.get_or_init(|| hash("nobody").unwrap_or_default())
}

/// A password as it is kept (Argon2id, as a PHC string).
pub fn hash(password: &str) -> Option<String> {
    Argon2::default().hash_password(password.as_bytes()).ok().map(|hash| hash.to_string())
}

fn verify(password: &str, kept: &str) -> bool {
    PasswordHash::new(kept)
        .is_ok_and(|kept| Argon2::default().verify_password(password.as_bytes(), &kept).is_ok())
}
