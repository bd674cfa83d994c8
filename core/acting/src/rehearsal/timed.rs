//! What depends on when requests came: how many of a client's would be over a limit, and how many would not be made at all because a
//! browser may keep what it has.
//!
//! Requests are noted in any order, and looked at in that of their times.

use exedra_answering::rules::{Allowed, Limit};
use std::collections::HashMap;

/// How many requests are noted: 24 octets each.
const MOST: usize = 4_000_000;

/// One request that something is done about.
#[derive(Debug, Clone, Copy)]
struct Noted {
    time: i64,
    /// Whoever is meant: a client, or a client and what it asked for.
    who: u64,
    /// Which limit or lifetime.
    which: u32,
    who_is: Whose,
}

/// Whose a request is, and whether something else differs for it as well.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Whose {
    /// Whether a person made it.
    pub is_of_person: bool,
    /// Whether it is counted among what differs already.
    pub is_counted: bool,
}

/// Requests with their times.
#[derive(Debug, Default)]
pub struct Timed {
    noted: Vec<Noted>,
    let_go: u64,
}

/// What came of some of them.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Count {
    /// Requests.
    pub requests: u64,
    /// Those of people.
    pub of_people: u64,
    /// Those for which nothing else differs.
    pub alone: u64,
    /// How many different ones it happened to.
    pub clients: u64,
    /// Of those, people.
    pub people: u64,
}

impl Timed {
    /// Notes a request.
    pub fn note(&mut self, time: i64, who: u64, which: u32, who_is: Whose) {
        match self.noted.len() < MOST {
            true => self.noted.push(Noted { time, who, which, who_is }),
            false => self.let_go += 1,
        }
    }

    /// Adds those of another, whose limits or lifetimes have other numbers.
    pub fn merge(&mut self, other: Timed, number: impl Fn(u32) -> u32) {
        self.let_go += other.let_go;
        for noted in other.noted {
            self.note(noted.time, noted.who, number(noted.which), noted.who_is);
        }
    }

    /// How many could not be noted.
    pub fn let_go(&self) -> u64 {
        self.let_go
    }

    fn in_order(&mut self) {
        self.noted.sort_unstable_by_key(|noted| (noted.time, noted.who, noted.which));
    }

    /// How many requests are over each limit, were limits all that counts.
    pub fn over(&mut self, limits: &[Limit]) -> HashMap<u32, Count> {
        self.in_order();
        let mut buckets: HashMap<(u32, u64), (Allowed, i64, bool)> = HashMap::new();
        let mut over: HashMap<u32, Count> = HashMap::new();
        for noted in &self.noted {
            let Some(limit) = limits.get(noted.which as usize) else { continue };
            let (allowed, since, was_over) = buckets
                .entry((noted.which, noted.who))
                .or_insert_with(|| (Allowed::full(limit), noted.time, false));
            allowed.pass(limit, (noted.time - *since) as f64 / 1000.0);
            *since = noted.time;
            match allowed.wait(limit) {
                None => allowed.take(),
                Some(_) => over.entry(noted.which).or_default().add(noted.who_is, &mut *was_over),
            }
        }
        over
    }

    /// How many requests would not be made, were each answer kept for a lifetime in seconds. `least` are lifetimes they are kept for
    /// already.
    pub fn kept(&mut self, lifetimes: &[(u64, u64)]) -> HashMap<u32, Count> {
        self.in_order();
        let mut fetched: HashMap<(u32, u64), (i64, bool)> = HashMap::new();
        let mut kept: HashMap<u32, Count> = HashMap::new();
        for noted in &self.noted {
            let Some((_, lifetime)) = lifetimes.get(noted.which as usize) else { continue };
            let lifetime = i64::try_from(lifetime.saturating_mul(1000)).unwrap_or(i64::MAX);
            match fetched.get_mut(&(noted.which, noted.who)) {
                Some((since, was_kept)) if noted.time - *since < lifetime => {
                    kept.entry(noted.which).or_default().add(noted.who_is, was_kept);
                }
                Some((since, _)) => *since = noted.time,
                None => _ = fetched.insert((noted.which, noted.who), (noted.time, false)),
            }
        }
        kept
    }
}

impl Count {
    fn add(&mut self, Whose { is_of_person, is_counted }: Whose, was_counted: &mut bool) {
        self.requests += 1;
        self.of_people += u64::from(is_of_person);
        self.alone += u64::from(!is_counted);
        if !std::mem::replace(was_counted, true) {
            self.clients += 1;
            self.people += u64::from(is_of_person);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PERSON: Whose = Whose { is_of_person: true, is_counted: false };
    const PROGRAM: Whose = Whose { is_of_person: false, is_counted: true };

    #[test]
    fn requests_over_a_limit_are_counted_in_the_order_of_their_times() {
        let limit = Limit { requests: Some(1.0), at_once: 2, ..Limit::default() };
        let mut timed = Timed::default();
        // Four at once and one ten seconds later, noted backwards; another client stays below it.
        timed.note(10_000, 7, 0, PERSON);
        (0..4).for_each(|_| timed.note(0, 7, 0, PERSON));
        timed.note(0, 8, 0, PROGRAM);
        let over = timed.over(&[limit]);
        assert_eq!(over[&0], Count { requests: 2, of_people: 2, alone: 2, clients: 1, people: 1 });
        assert!(timed.over(&[]).is_empty(), "there is no such limit");
    }

    #[test]
    fn what_may_be_kept_is_not_fetched_again_until_that_ends() {
        let mut timed = Timed::default();
        for second in [0, 30, 59, 60, 61] {
            timed.note(second * 1000, 7, 0, PERSON);
        }
        let kept = timed.kept(&[(0, 60)]);
        assert_eq!(
            (kept[&0].requests, kept[&0].people),
            (3, 1),
            "at 30 s, 59 s, and 61 s of the second fetch"
        );
    }
}
