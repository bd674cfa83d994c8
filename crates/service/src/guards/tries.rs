//! Tries that failed: each makes the next one of the same client wait twice as long, up to a few seconds. They are
//! forgotten after a while. Addresses of one IPv6 network are one client.

use crate::limits::network;
use foldhash::fast::RandomState;
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// What the first try that failed costs the second.
const FIRST: Duration = Duration::from_millis(250);
/// The longest wait.
const LONGEST: Duration = Duration::from_secs(8);
/// After how long without another one tries are forgotten.
const FORGOTTEN: Duration = Duration::from_secs(15 * 60);
/// How many clients are known.
const MOST: usize = 50_000;

/// Tries that failed, by client.
#[derive(Default)]
pub struct Tries {
    failed: Mutex<HashMap<IpAddr, (u32, Instant), RandomState>>,
}

impl Tries {
    /// How long a client waits before its next try.
    pub fn delay(&self, client: IpAddr, now: Instant) -> Duration {
        match self.known().get(&network(client)) {
            Some((times, last)) if now.saturating_duration_since(*last) < FORGOTTEN => {
                FIRST.saturating_mul(1 << (*times - 1).min(10)).min(LONGEST)
            }
            _ => Duration::ZERO,
        }
    }

    /// A try has failed.
    pub fn failed(&self, client: IpAddr, now: Instant) {
        let client = network(client);
        let mut known = self.known();
        if known.len() >= MOST {
            known.retain(|_, (_, last)| now.saturating_duration_since(*last) < FORGOTTEN);
        }
        if known.len() < MOST || known.contains_key(&client) {
            let (times, last) = known.entry(client).or_insert((0, now));
            let again = now.saturating_duration_since(*last) < FORGOTTEN;
            (*times, *last) = (if again { *times + 1 } else { 1 }, now);
        }
    }

    /// A client has got it right.
    pub fn forgive(&self, client: IpAddr) {
        self.known().remove(&network(client));
    }

    fn known(&self) -> MutexGuard<'_, HashMap<IpAddr, (u32, Instant), RandomState>> {
        self.failed.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_failure_doubles_the_wait_until_it_is_forgiven_or_forgotten() {
        let tries = Tries::default();
        let (client, other) = ("192.0.2.1".parse().unwrap(), "192.0.2.2".parse().unwrap());
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
        tries.failed("2001:db8::1".parse().unwrap(), begin);
        assert_eq!(tries.delay("2001:db8::2:1".parse().unwrap(), begin), FIRST, "its other addresses");
        assert_eq!(tries.delay("2001:db8:0:1::1".parse().unwrap(), begin), Duration::ZERO);
    }
}
