//! How much each client may take, where a rule limits it.
//!
//! A client has a bucket for each limit: it holds as many requests as may come at once, and fills at the rate that is
//! allowed in the long run. Addresses of one IPv6 network (/64) are one client. What is known of clients is bounded: when
//! there are too many, those that owe nothing are forgotten first.

use exedra_answering::answer::Obligations;
use exedra_answering::rules::{Allowed, Limit};
use foldhash::fast::RandomState;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::net::{IpAddr, Ipv6Addr};
use std::sync::Arc;
use std::time::Instant;

/// How many clients are known at a time.
const MOST_CLIENTS: usize = 200_000;

type Key = (usize, IpAddr);

/// What all clients have taken lately.
#[derive(Default)]
pub struct Limits {
    buckets: Mutex<HashMap<Key, Bucket, RandomState>>,
}

/// What one client has taken of one limit.
#[derive(Debug, Clone, Copy)]
struct Bucket {
    /// Requests it may make now.
    allowed: Allowed,
    /// When that was so.
    since: Instant,
    /// Answers under way.
    under_way: u32,
}

/// Answers under way that count until they are done.
pub struct LimitPermit {
    limits: Arc<Limits>,
    counted: Vec<Key>,
    /// Bytes a second at which the answer may be sent.
    pub speed: Option<u64>,
}

/// A client that has used up what it may take.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TooMany {
    /// In how many seconds it may come again.
    pub seconds: u64,
}

impl Limits {
    /// Lets a request pass by all limits that rules oblige it to, or none of them.
    pub fn pass(
        self: &Arc<Self>,
        obligations: &Obligations,
        client: IpAddr,
        now: Instant,
    ) -> Result<Option<LimitPermit>, TooMany> {
        if obligations.limits.is_empty() {
            return Ok(None);
        }
        let client = network(client);
        let mut buckets = self.buckets.lock();
        if buckets.len() + obligations.limits.len() > MOST_CLIENTS {
            forget(&mut buckets, &obligations.limits, now);
        }
        let mut wait = None;
        for limit in &obligations.limits {
            let bucket = buckets.entry((limit.id, client)).or_insert_with(|| Bucket::full(limit, now));
            bucket.fill(limit, now);
            wait = wait.max(bucket.wait(limit));
        }
        if let Some(seconds) = wait {
            return Err(TooMany { seconds });
        }
        let mut counted = Vec::new();
        for limit in &obligations.limits {
            if let Some(bucket) = buckets.get_mut(&(limit.id, client)) {
                bucket.allowed.take();
                if limit.connections.is_some() {
                    bucket.under_way += 1;
                    counted.push((limit.id, client));
                }
            }
        }
        drop(buckets);
        let speed = obligations.limits.iter().filter_map(|limit| limit.speed).min();
        Ok(Some(LimitPermit { limits: Arc::clone(self), counted, speed }))
    }
}

impl LimitPermit {
    /// The same, or one that counts nothing, with which no more than so many bytes a second are sent.
    pub fn slowed(permit: Option<Self>, limits: &Arc<Limits>, speed: u64) -> Self {
        let mut permit = permit.unwrap_or_else(|| LimitPermit {
            limits: Arc::clone(limits),
            counted: Vec::new(),
            speed: None,
        });
        permit.speed = Some(permit.speed.map_or(speed, |known| known.min(speed)));
        permit
    }
}

impl Drop for LimitPermit {
    fn drop(&mut self) {
        if self.counted.is_empty() {
            return;
        }
        let mut buckets = self.limits.buckets.lock();
        for key in &self.counted {
            if let Some(bucket) = buckets.get_mut(key) {
                bucket.under_way = bucket.under_way.saturating_sub(1);
            }
        }
    }
}

impl Bucket {
    fn full(limit: &Limit, now: Instant) -> Self {
        Bucket { allowed: Allowed::full(limit), since: now, under_way: 0 }
    }

    fn fill(&mut self, limit: &Limit, now: Instant) {
        self.allowed.pass(limit, now.saturating_duration_since(self.since).as_secs_f64());
        self.since = now;
    }

    /// In how many seconds the next request may come, if not now.
    fn wait(&self, limit: &Limit) -> Option<u64> {
        let busy = limit.connections.filter(|most| self.under_way >= *most).map(|_| 1);
        busy.max(self.allowed.wait(limit))
    }
}

/// Forgets clients that owe nothing; when all do, those that have been away longest.
fn forget(buckets: &mut HashMap<Key, Bucket, RandomState>, limits: &[Limit], now: Instant) {
    let slowest = limits.iter().filter_map(|limit| limit.requests).fold(1.0, f64::min);
    let mut patience = 60.0 / slowest;
    while buckets.len() + limits.len() > MOST_CLIENTS && patience > 0.01 {
        buckets.retain(|_, bucket| {
            bucket.under_way > 0 || now.saturating_duration_since(bucket.since).as_secs_f64() < patience
        });
        patience /= 4.0;
    }
}

/// The client that an address belongs to: addresses of one IPv6 network (/64) are one.
pub fn network(address: IpAddr) -> IpAddr {
    match address {
        IpAddr::V4(_) => address,
        IpAddr::V6(address) => {
            let high = u128::from(address) & !u128::from(u64::MAX);
            IpAddr::V6(Ipv6Addr::from(high))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    fn obligations(limit: Limit) -> Obligations {
        Obligations { limits: [limit].into_iter().collect(), ..Obligations::default() }
    }

    #[test]
    fn a_client_may_take_some_at_once_and_then_so_many_a_second() {
        let limits = Arc::new(Limits::default());
        let obligations = obligations(Limit { id: 3, requests: Some(0.5), at_once: 2, ..Limit::default() });
        let (client, other) = ("192.0.2.1".parse().unwrap(), "192.0.2.2".parse().unwrap());
        let begin = Instant::now();
        let pass = |client, seconds| {
            limits
                .pass(&obligations, client, begin + Duration::from_secs(seconds))
                .map(|_| ())
                .map_err(|too| too.seconds)
        };
        assert_eq!(
            [pass(client, 0), pass(client, 0), pass(client, 0), pass(other, 0)],
            [Ok(()), Ok(()), Err(2), Ok(())]
        );
        assert_eq!([pass(client, 1), pass(client, 2), pass(client, 3)], [Err(1), Ok(()), Err(1)]);
        assert_eq!([pass(client, 1000), pass(client, 1000), pass(client, 1000)], [Ok(()), Ok(()), Err(2)]);
    }

    #[test]
    fn answers_under_way_count_until_they_are_done_and_a_network_is_one_client() {
        let limits = Arc::new(Limits::default());
        let obligations =
            obligations(Limit { connections: Some(1), at_once: 10, speed: Some(1000), ..Limit::default() });
        let now = Instant::now();
        let permit = limits.pass(&obligations, "2001:db8::1".parse().unwrap(), now).ok().flatten().unwrap();
        assert_eq!(permit.speed, Some(1000));
        assert!(limits.pass(&obligations, "2001:db8::2".parse().unwrap(), now).is_err());
        assert!(limits.pass(&obligations, "2001:db8:1::2".parse().unwrap(), now).is_ok());
        drop(permit);
        assert!(limits.pass(&obligations, "2001:db8::2".parse().unwrap(), now).is_ok());
    }

    #[test]
    fn what_is_known_of_clients_is_bounded() {
        let limits = Arc::new(Limits::default());
        let obligations = obligations(Limit { requests: Some(1.0), at_once: 2, ..Limit::default() });
        let begin = Instant::now();
        for number in 0..(MOST_CLIENTS as u32 + 1000) {
            let client = IpAddr::V4(number.into());
            assert!(
                limits.pass(&obligations, client, begin + Duration::from_millis(u64::from(number))).is_ok()
            );
        }
        assert!(limits.buckets.lock().len() <= MOST_CLIENTS);
    }
}
