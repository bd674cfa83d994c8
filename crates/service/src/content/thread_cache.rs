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
pub struct CacheOwner(u64);

impl CacheOwner {
    /// One that nobody else is.
    pub fn another() -> Self {
        static NEXT: AtomicU64 = AtomicU64::new(1);
        CacheOwner(NEXT.fetch_add(1, Ordering::Relaxed))
    }
}

/// A thread's own copies.
#[derive(Debug)]
pub struct ThreadCache<K, V> {
    owner: CacheOwner,
    copies: HashMap<K, V, RandomState>,
    octets: usize,
}

impl<K, V> Default for ThreadCache<K, V> {
    /// None yet.
    fn default() -> Self {
        ThreadCache { owner: CacheOwner(0), copies: HashMap::default(), octets: 0 }
    }
}

impl<K: Hash + Eq, V> ThreadCache<K, V> {
    /// The copy of something.
    pub fn get<Q: Hash + Eq + ?Sized>(&self, owner: CacheOwner, key: &Q) -> Option<&V>
    where
        K: Borrow<Q>,
    {
        if self.owner == owner { self.copies.get(key) } else { None }
    }

    /// Keeps a copy that takes about so many octets.
    pub fn keep(&mut self, owner: CacheOwner, key: K, copy: V, octets: usize) {
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
        let (mine, others) = (CacheOwner::another(), CacheOwner::another());
        let mut cache = ThreadCache::default();
        cache.keep(mine, "a", 1, 10);
        assert_eq!((cache.get(mine, &"a"), cache.get(others, &"a")), (Some(&1), None));
        cache.keep(others, "b", 2, MOST_OCTETS + 1);
        assert_eq!((cache.get(mine, &"a"), cache.get(others, &"b")), (None, Some(&2)));
        cache.keep(others, "c", 3, 10);
        assert_eq!((cache.get(others, &"b"), cache.get(others, &"c")), (None, Some(&3)));
        cache.forget(&"c");
        assert_eq!(cache.get(others, &"c"), None);
    }
}
