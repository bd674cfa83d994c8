//! How much one client may still take of what a rule limits: a bucket that holds as many requests as may come at once, and fills at
//! the rate that is allowed in the long run.
//!
//! ```
//! use exedra_answering::rules::{Allowed, Limit};
//! let limit = Limit { requests: Some(2.0), at_once: 3, ..Limit::default() };
//! let mut allowed = Allowed::full(&limit);
//! (0..3).for_each(|_| allowed.take());
//! assert_eq!(allowed.wait(&limit), Some(1), "the next may come within a second");
//! allowed.pass(&limit, 0.5);
//! assert_eq!(allowed.wait(&limit), None);
//! ```

use super::Limit;

/// Requests that a client may make now, by one limit.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Allowed(f64);

impl Allowed {
    /// As much as may come at once.
    pub fn full(limit: &Limit) -> Self {
        Allowed(f64::from(limit.at_once))
    }

    /// So many seconds have passed.
    pub fn pass(&mut self, limit: &Limit, seconds: f64) {
        let rate = limit.requests.unwrap_or(f64::INFINITY);
        let fresh = seconds.max(0.0) * rate;
        let most = f64::from(limit.at_once);
        self.0 = if fresh.is_nan() || rate.is_infinite() { most } else { (self.0 + fresh).min(most) };
    }

    /// In how many seconds the next request may come, if not now.
    pub fn wait(&self, limit: &Limit) -> Option<u64> {
        let rate = limit.requests.filter(|_| self.0 < 1.0)?;
        Some(((1.0 - self.0) / rate).ceil().clamp(1.0, 86_400.0) as u64)
    }

    /// A request is made.
    pub fn take(&mut self) {
        self.0 -= 1.0;
    }
}
