//! Passwords are slow to check on purpose, so they are checked a few at a time, each client and each name having its share of the
//! places that wait; and whoever has failed lately waits longer.

use super::login_throttle::{LoginThrottle, Who};
use foldhash::fast::RandomState;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;
use tokio::sync::Semaphore;

/// How many passwords are checked at a time.
const AT_A_TIME: usize = 2;
/// How many may wait for that, and how many of them may be of one client: otherwise one alone could keep all others out.
const MOST_WAITING: usize = 1024;
const MOST_OF_CLIENT: usize = 64;
/// How many of them may be of one client and for one user, so that whoever guesses at one leaves room for the others.
pub(super) const MOST_OF_ONE: usize = 4;

/// What came of checking a password.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Checked {
    /// It is right.
    Right,
    /// It is wrong.
    Wrong,
    /// Too many wait: nobody looked.
    Later {
        /// After how many seconds to try again.
        seconds: u64,
    },
}

/// The places where passwords are checked.
pub struct PasswordCheck {
    throttle: Arc<LoginThrottle>,
    busy: Semaphore,
    /// How many of each are waiting.
    waiting: Mutex<HashMap<Who, usize, RandomState>>,
}

/// A place among those that wait; it is free again when this is dropped.
struct Place<'a> {
    check: &'a PasswordCheck,
    who: Who,
}

impl Drop for Place<'_> {
    fn drop(&mut self) {
        let mut waiting = self.check.waiting.lock();
        if let Some(count) = waiting.get_mut(&self.who) {
            *count -= 1;
            if *count == 0 {
                waiting.remove(&self.who);
            }
        }
    }
}

impl PasswordCheck {
    /// Nobody waits yet. Sign-ins that failed are known to `throttle`.
    pub fn new(throttle: Arc<LoginThrottle>) -> Self {
        PasswordCheck { throttle, busy: Semaphore::new(AT_A_TIME), waiting: Mutex::default() }
    }

    /// Has a password checked, by what takes its time. Whoever has failed lately, for the same user and from the same address,
    /// waits first. Where too many wait already, in all or of this client, nobody looks.
    pub async fn check(&self, who: Who, is_right: impl FnOnce() -> bool + Send + 'static) -> Checked {
        let delay = self.throttle.delay(who, Instant::now());
        let later = Checked::Later { seconds: delay.as_secs().max(1) };
        let Some(_place) = self.place(who) else { return later };
        tokio::time::sleep(delay).await;
        let Ok(_busy) = self.busy.acquire().await else { return later };
        match tokio::task::spawn_blocking(is_right).await {
            Err(_) => later,
            Ok(true) => {
                self.throttle.forgive(who);
                Checked::Right
            }
            Ok(false) => {
                self.throttle.failed(who, Instant::now());
                Checked::Wrong
            }
        }
    }

    /// A place among those that wait, if there is one.
    fn place(&self, who: Who) -> Option<Place<'_>> {
        let mut waiting = self.waiting.lock();
        // Each that waits has its turn with Argon2; those who may wait at all are few enough to be counted.
        let all: usize = waiting.values().sum();
        let of_client: usize =
            waiting.iter().filter(|(other, _)| other.client == who.client).map(|(_, count)| count).sum();
        let of_one = waiting.get(&who).copied().unwrap_or_default();
        if all >= MOST_WAITING || of_client >= MOST_OF_CLIENT || of_one >= MOST_OF_ONE {
            return None;
        }
        *waiting.entry(who).or_default() += 1;
        Some(Place { check: self, who })
    }

    /// How many wait that are this one.
    #[cfg(test)]
    pub(super) fn waiting(&self, who: Who) -> usize {
        self.waiting.lock().get(&who).copied().unwrap_or_default()
    }
}
