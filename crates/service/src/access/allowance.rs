//! Whether the allowance of the month is used up: downloads of a site are held back then, where the administrator wants that.

use exedra_answering::config::allowance::AtAllowance;
use exedra_answering::config::{Config, SiteId};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

/// What is known of a configuration's allowances. Somebody else finds out what was sent.
#[derive(Debug, Default)]
pub struct AllowanceGate {
    /// Each site's own.
    sites: Vec<Used>,
    /// That of all sites together.
    all: Used,
}

/// How much of an allowance is used.
#[derive(Debug, Default)]
struct Used {
    is_over: AtomicBool,
    /// Octets that were sent, and one: 0 while nobody has counted.
    sent: AtomicU64,
}

impl Used {
    fn set(&self, sent: u64, allowance: Option<u64>) {
        self.sent.store(sent.saturating_add(1), Ordering::Relaxed);
        self.is_over.store(allowance.is_some_and(|allowance| sent >= allowance), Ordering::Relaxed);
    }
}

impl AllowanceGate {
    /// Of a configuration of which nothing is known yet.
    pub fn new(config: &Config) -> Self {
        AllowanceGate { sites: config.sites.iter().map(|_| Used::default()).collect(), all: Used::default() }
    }

    /// So much was sent this month: by a site, or by all together.
    pub fn set(&self, config: &Config, site: Option<SiteId>, sent: u64) {
        match site {
            None => self.all.set(sent, config.service.allowance),
            Some(id) => {
                if let Some(used) = self.sites.get(id.0) {
                    used.set(sent, config.site(id).allowance);
                }
            }
        }
    }

    /// What was sent this month by a site, or by all together; nothing while nobody has counted.
    pub fn sent(&self, site: Option<SiteId>) -> Option<u64> {
        let used = match site {
            Some(site) => self.sites.get(site.0)?,
            None => &self.all,
        };
        used.sent.load(Ordering::Relaxed).checked_sub(1)
    }

    /// What happens to downloads of a site at the moment; the harder of the two where both its own allowance and that of all sites are used
    /// up.
    pub fn in_force(&self, config: &Config, site: SiteId) -> AtAllowance {
        let is_over = self.sites.get(site.0).is_some_and(|used| used.is_over.load(Ordering::Relaxed));
        let own = if is_over { config.site(site).at_allowance } else { AtAllowance::Tell };
        let of_all = self.all.is_over.load(Ordering::Relaxed);
        let all = if of_all { config.service.at_allowance } else { AtAllowance::Tell };
        match (own, all) {
            (AtAllowance::Refuse, _) | (_, AtAllowance::Refuse) => AtAllowance::Refuse,
            (AtAllowance::Slow(one), AtAllowance::Slow(other)) => AtAllowance::Slow(one.min(other)),
            (AtAllowance::Slow(speed), _) | (_, AtAllowance::Slow(speed)) => AtAllowance::Slow(speed),
            (AtAllowance::Tell, AtAllowance::Tell) => AtAllowance::Tell,
        }
    }
}
