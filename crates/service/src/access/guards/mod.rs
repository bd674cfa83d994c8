//! Who may go where a name and a password are asked for.
//!
//! - [`users`]: the users of a realm, from their file
//! - [`password_check`]: how many passwords are checked at a time, and who waits
//! - [`login_throttle`]: sign-ins that failed, and how they slow the next ones down
//!
//! Passwords are kept as PHC strings (Argon2), which are slow to check on purpose. So a pair that was right is remembered
//! for a few minutes, as a keyed hash; and only a few are checked at a time.

pub mod login_throttle;
pub mod password_check;
pub mod users;

use argon2::Argon2;
use argon2::password_hash::{PasswordHasher, PasswordVerifier, phc::PasswordHash};
use exedra_answering::answer::{Credentials, Password};
use exedra_answering::config::Config;
use foldhash::fast::RandomState;
use login_throttle::{LoginThrottle, Who};
use parking_lot::Mutex;
use password_check::{Checked, PasswordCheck};
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};
use users::Users;

/// How long a pair that was right is remembered.
const REMEMBERED: Duration = Duration::from_secs(5 * 60);
/// How many pairs are.
const MOST_REMEMBERED: usize = 4096;

/// The guards of all realms.
pub struct Guards {
    realms: Vec<Users>,
    right: Mutex<HashMap<[u8; 32], Instant, RandomState>>,
    key: [u8; 32],
    check: PasswordCheck,
}

impl Guards {
    /// The guards of a configuration. Sign-ins that failed under an earlier one still count.
    pub fn new(config: &Config, throttle: Arc<LoginThrottle>) -> Self {
        Guards {
            realms: config.realms.iter().map(|realm| Users::of(&realm.users.value)).collect(),
            right: Mutex::default(),
            key: rand::random(),
            check: PasswordCheck::new(throttle),
        }
    }

    /// Whether name and password have been right a short while ago, and still are, as far as the file of users has been
    /// looked at lately.
    pub fn remembers(&self, credentials: &Credentials) -> bool {
        let users = self.realms.get(credentials.realm).filter(|users| users.is_believed());
        let Some(kept) = users.and_then(|users| users.password_of(&credentials.user)) else {
            return false;
        };
        let mark = self.mark(credentials, &kept);
        self.right.lock().get(&mark).is_some_and(|until| *until > Instant::now())
    }

    /// Whether name and password are right. Whoever has failed lately, for the same user and from the same address, waits
    /// first. Where too many wait already, in all or of this client, nobody looks.
    pub async fn judge(self: &Arc<Self>, credentials: &Credentials, client: IpAddr) -> Password {
        let (guards, realm) = (Arc::clone(self), credentials.realm);
        let look = move || guards.realms.get(realm).map(Users::look);
        if tokio::task::spawn_blocking(look).await.is_ok() && self.remembers(credentials) {
            return Password::Right;
        }
        let who = self.who(credentials, client);
        let (guards, asked) = (Arc::clone(self), credentials.clone());
        match self.check.check(who, move || guards.is_right(&asked)).await {
            Checked::Right => Password::Right,
            Checked::Wrong => false.into(),
            Checked::Later { seconds } => Password::Unchecked { seconds },
        }
    }

    /// Who tries: all names that there are not count as one.
    fn who(&self, Credentials { realm, user, .. }: &Credentials, client: IpAddr) -> Who {
        let is_known = self.realms.get(*realm).is_some_and(|users| users.password_of(user).is_some());
        Who::new(client, is_known.then_some((*realm, user)))
    }

    /// Whether name and password are right. Takes its time, on purpose.
    pub fn is_right(&self, credentials: &Credentials) -> bool {
        self.realms.get(credentials.realm).map(Users::look);
        let kept = self.realms.get(credentials.realm).and_then(|users| users.password_of(&credentials.user));
        let is_known = kept.is_some();
        let kept = kept.unwrap_or_else(|| nobody().into());
        let is_right = verify(&credentials.password, &kept) && is_known;
        if is_right {
            let mark = self.mark(credentials, &kept);
            let mut right = self.right.lock();
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
}

/// What is checked where there is no such user, so that it takes as long.
pub fn nobody() -> &'static str {
    static KEPT: OnceLock<String> = OnceLock::new();
    KEPT.get_or_init(|| hash("nobody").unwrap_or_default())
}

/// A password as it is kept (Argon2id, as a PHC string).
pub fn hash(password: &str) -> Option<String> {
    Argon2::default().hash_password(password.as_bytes()).ok().map(|hash| hash.to_string())
}

/// Whether a password is the one that is kept. Takes its time, on purpose.
pub fn verify(password: &str, kept: &str) -> bool {
    PasswordHash::new(kept)
        .is_ok_and(|kept| Argon2::default().verify_password(password.as_bytes(), &kept).is_ok())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_guesses_at_one_user_keeps_no_other_out() {
        let place = tempfile::tempdir().unwrap();
        let file = place.path().join("staff.toml");
        let known = |name: &str| format!("{name} = {:?}\n", hash("tide").unwrap());
        std::fs::write(&file, known("anna") + &known("bera")).unwrap();
        let text = format!(
            "[[listener]]\naddress = \"127.0.0.1:0\"\n[[realm]]\nname = \"staff\"\nusers = {file:?}\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \".\"\n"
        );
        let config = exedra_answering::config::understand(&text, place.path()).unwrap();
        let guards = Arc::new(Guards::new(&config, Arc::default()));
        let client: IpAddr = "192.0.2.1".parse().unwrap();
        let asks = |user: &str, password: &str| Credentials {
            realm: 0,
            user: user.into(),
            password: password.into(),
        };
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            // Somebody guesses so often that all places for one user are taken, and for users that there are not.
            let mut guesses = Vec::new();
            for guess in 0..20 {
                for user in ["anna", &format!("nobody{guess}")] {
                    let (guards, asked) = (Arc::clone(&guards), asks(user, "wrong"));
                    guesses.push(tokio::spawn(async move { guards.judge(&asked, client).await }));
                }
            }
            let anna = guards.who(&asks("anna", ""), client);
            let nobody = guards.who(&asks("guess", ""), client);
            let are_taken = |who| guards.check.waiting(who) == password_check::MOST_OF_ONE;
            while !are_taken(anna) || !are_taken(nobody) {
                tokio::time::sleep(Duration::from_millis(1)).await;
            }
            assert!(matches!(
                guards.judge(&asks("anna", "tide"), client).await,
                Password::Unchecked { seconds: 1.. }
            ));
            assert_eq!(guards.judge(&asks("bera", "tide"), client).await, Password::Right);
            guesses.iter().for_each(tokio::task::JoinHandle::abort);
        });
    }
}
