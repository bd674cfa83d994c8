//! Sign-ins that failed: each makes the next one of the same client for the same user wait twice as long, up to a few seconds. They are
//! forgotten after a while. Addresses of one IPv6 network are one client.

use crate::access::limits::network;
use foldhash::fast::RandomState;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::hash::BuildHasher;
use std::net::IpAddr;
use std::sync::OnceLock;
use std::time::{Duration, Instant};

/// What the first try that failed costs the second.
const FIRST: Duration = Duration::from_millis(250);
/// The longest wait.
const LONGEST: Duration = Duration::from_secs(8);
/// After how long without another one tries are forgotten.
const FORGOTTEN: Duration = Duration::from_secs(15 * 60);
/// How many clients are known.
const MOST: usize = 50_000;

/// Who tries: a client, and the user it tries to be. So an office behind one address is not kept out by one of its members.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Who {
    /// The client, or the network it is one of.
    pub client: IpAddr,
    /// The user, as a hash with a key of this process; nothing where there is no such user.
    user: u64,
}

impl Who {
    /// A client, and the user of a realm.
    pub fn new(client: IpAddr, user: Option<(usize, &String)>) -> Self {
        static KEY: OnceLock<RandomState> = OnceLock::new();
        let key = KEY.get_or_init(RandomState::default);
        Who { client: network(client), user: user.map_or(0, |user| key.hash_one(user) | 1) }
    }
}

/// Sign-ins that failed, and how long the next one has to wait.
#[derive(Default)]
pub struct LoginThrottle {
    failed: Mutex<HashMap<Who, (u32, Instant), RandomState>>,
}

impl LoginThrottle {
    /// How long a client waits before its next try.
    pub fn delay(&self, who: Who, now: Instant) -> Duration {
        match self.failed.lock().get(&who) {
            Some((times, last)) if now.saturating_duration_since(*last) < FORGOTTEN => {
                FIRST.saturating_mul(1 << (*times - 1).min(10)).min(LONGEST)
            }
            _ => Duration::ZERO,
        }
    }

    /// A try has failed.
    pub fn failed(&self, who: Who, now: Instant) {
        let mut known = self.failed.lock();
        if known.len() >= MOST {
            known.retain(|_, (_, last)| now.saturating_duration_since(*last) < FORGOTTEN);
        }
        if known.len() < MOST || known.contains_key(&who) {
            let (times, last) = known.entry(who).or_insert((0, now));
            let again = now.saturating_duration_since(*last) < FORGOTTEN;
            (*times, *last) = (if again { *times + 1 } else { 1 }, now);
        }
    }

    /// Somebody has got it right.
    pub fn forgive(&self, who: Who) {
        self.failed.lock().remove(&who);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_failure_doubles_the_wait_until_it_is_forgiven_or_forgotten() {
        let tries = LoginThrottle::default();
        let at = |client: &str| Who::new(client.parse().unwrap(), None);
        let (client, other) = (at("192.0.2.1"), at("192.0.2.2"));
        let begin = Instant::now();
        assert_eq!(tries.delay(client, begin), Duration::ZERO);
        let waits: Vec<u128> = (0..7)
            .map(|_| {
                tries.failed(client, begin);
                tries.delay(client, begin).as_millis()
            })
            .collect();
        assert_eq!(waits, [250, 500, 1000, 2000, 4000, 8000, 8000]);
        assert_eq!(tries.delay(other, begin), Duration::ZERO);
        assert_eq!(tries.delay(client, begin + FORGOTTEN), Duration::ZERO);
        tries.forgive(client);
        assert_eq!(tries.delay(client, begin), Duration::ZERO);
        tries.failed(at("2001:db8::1"), begin);
        assert_eq!(tries.delay(at("2001:db8::2:1"), begin), FIRST, "its other addresses");
        assert_eq!(tries.delay(at("2001:db8:0:1::1"), begin), Duration::ZERO);
        let anna = Who::new("2001:db8::1".parse().unwrap(), Some((0, &"anna".to_owned())));
        assert_eq!(tries.delay(anna, begin), Duration::ZERO, "another user from there");
    }
}
