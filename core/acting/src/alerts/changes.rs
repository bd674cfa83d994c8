//! What there is to be told of an alert: the changes since it was looked at last, each of them once.
//!
//! Whoever watches remembers a [`Told`] for each alert, and nothing else. The past may meanwhile have become another (lines came late, a
//! log was imported): then what is told is how the alert is, and never that it is over twice.

use super::Episode;

/// What has been told of an alert.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Told {
    /// The first minute that was not looked at yet.
    pub until: i64,
    /// The minute with which it began to be raised, where the last that was told is that it is.
    pub raised: Option<i64>,
}

/// Something to be told.
#[derive(Debug, Clone, PartialEq)]
pub enum Change {
    /// It is raised.
    Raised(Episode),
    /// It was told to be raised, and is over.
    Over(Episode),
    /// It was raised and is over, both since it was looked at last.
    Passed(Episode),
    /// It was told to be raised, from this minute on, and the requests that raised it are not in the records any longer.
    Withdrawn(i64),
}

/// What there is to be told at the beginning of a minute, `until`, and what has been told then. Of an alert of which nothing has been told
/// yet, the past is not told.
pub fn changes(told: Option<Told>, found: &[Episode], until: i64) -> (Vec<Change>, Told) {
    let mut all = Vec::new();
    let current = found.last().filter(|episode| episode.ended.is_none());
    let seen_until = told.map_or(until, |told| told.until);
    let raised = told.and_then(|told| told.raised);
    // Where it is still raised, it goes on for whoever was told, however the past has changed.
    let goes_on = raised.is_some() && current.is_some_and(|current| current.began < seen_until);
    if let Some(began) = raised.filter(|_| !goes_on) {
        let known = found.iter().rev().find(|one| one.ended.is_some() && one.began < seen_until);
        let known = known.filter(|one| one.ended.is_some_and(|ended| ended >= began));
        all.push(known.map_or(Change::Withdrawn(began), |known| Change::Over(known.clone())));
    }
    for episode in found {
        match episode.ended {
            Some(_) if episode.began >= seen_until => all.push(Change::Passed(episode.clone())),
            None if !goes_on => all.push(Change::Raised(episode.clone())),
            _ => {}
        }
    }
    let raised = match (goes_on, current) {
        (true, _) => raised,
        (false, current) => current.map(|current| current.began),
    };
    (all, Told { until, raised })
}
