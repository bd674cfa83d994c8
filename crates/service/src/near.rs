//! What a thread keeps for itself: copies of what all threads share.
//!
//! Whatever several processors touch for every request, if only to count who holds it, travels between their
//! caches each time. A copy of one's own does not.

use foldhash::fast::RandomState;
use std::borrow::Borrow;
use std::collections::HashMap;
use std::hash::Hash;
use std::sync::atomic::{AtomicU64, Ordering};

/// How many octets a thread keeps of its own, roughly. Past it, it forgets everything and begins again.
const MOST_OCTETS: usize = 8 << 20;
/// The largest body that is copied.
pub const MOST_COPIED: usize = 64 << 10;

/// Whose copies they are: a thread outlives the configuration it serves by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Owner(u64);

impl Owner {
    /// One that nobody else is.
    pub fn another() -> Self {
        static NEXT: AtomicU64 = AtomicU64::new(1);
        Owner(NEXT.fetch_add(1, Ordering::Relaxed))
    }
}

/// A thread's own copies.
#[derive(Debug)]
pub struct Near<K, V> {
    owner: Owner,
    copies: HashMap<K, V, RandomState>,
    octets: usize,
}

impl<K, V> Default for Near<K, V> {
    /// None yet.
    fn default() -> Self {
        Near { owner: Owner(0), copies: HashMap::default(), octets: 0 }
    }
}

impl<K: Hash + Eq, V> Near<K, V> {
    /// The copy of something.
    pub fn get<Q: Hash + Eq + ?Sized>(&self, owner: Owner, key: &Q) -> Option<&V>
    where
        K: Borrow<Q>,
    {
        if self.owner == owner { self.copies.get(key) } else { None }
    }

    /// Keeps a copy that takes about so many octets.
    pub fn keep(&mut self, owner: Owner, key: K, copy: V, octets: usize) {
        if self.owner != owner || self.octets > MOST_OCTETS {
            self.copies.clear();
            self.octets = 0;
            self.owner = owner;
        }
        self.octets += octets;
        self.copies.insert(key, copy);
    }

    /// Forgets one.
    pub fn forget<Q: Hash + Eq + ?Sized>(&mut self, key: &Q)
    where
        K: Borrow<Q>,
    {
        self.copies.remove(key);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn copies_belong_to_one_owner_and_are_bounded() {
        let (mine, others) = (Owner::another(), Owner::another());
        let mut near = Near::default();
        near.keep(mine, "a", 1, 10);
        assert_eq!((near.get(mine, &"a"), near.get(others, &"a")), (Some(&1), None));
        near.keep(others, "b", 2, MOST_OCTETS + 1);
        assert_eq!((near.get(mine, &"a"), near.get(others, &"b")), (None, Some(&2)));
        near.keep(others, "c", 3, 10);
        assert_eq!((near.get(others, &"b"), near.get(others, &"c")), (None, Some(&3)));
        near.forget(&"c");
        assert_eq!(near.get(others, &"c"), None);
    }
}
