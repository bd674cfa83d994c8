//! Descriptors: how many the system gives this process, and who may have them.
//!
//! Everything open takes one: connections, files on their way, logs, databases. Whoever can have all of them keeps everybody
//! out. So what the service itself needs is set aside first, the console has a share of its own, and what is left is divided
//! between connections and files; of the files no client has more than half.

use crate::access::limits::network;
use foldhash::fast::RandomState;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

/// How many connections the console may have.
pub const CONSOLE: usize = 64;
/// The fewest connections that are worth starting for.
const FEWEST: usize = 16;
/// How many folders stay open, of however many sites.
pub const MOST_OPEN: usize = 64;
/// Databases, sockets, the watcher, the folders that stay open, what a library opens in passing.
const OWN: usize = 64 + MOST_OPEN;
/// Files that a worker's threads look at.
const OF_WORKER: usize = 32;
/// A site's log, and the one before it until its last line is read.
const OF_SITE: usize = 2;

/// How descriptors are divided.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Division {
    /// All there are.
    pub all: usize,
    /// Connections of the sites.
    pub connections: usize,
    /// Files that are sent.
    pub files: usize,
}

/// Divides them. The error says how many are needed at least.
pub fn divide(all: usize, sites: usize, workers: usize, connections: usize) -> Result<Division, usize> {
    let set_aside = OWN + CONSOLE + OF_WORKER * workers + OF_SITE * sites;
    let left = all.saturating_sub(set_aside);
    let files = left / 4;
    if left - files < FEWEST {
        return Err(set_aside + FEWEST + FEWEST.div_ceil(3));
    }
    let connections = connections.min(left - files);
    // What connections do not need, files may have.
    Ok(Division { all, connections, files: (left - connections).min(1 << 20) })
}

/// How many the system gives this process.
pub fn available() -> usize {
    let limit = rustix::process::getrlimit(rustix::process::Resource::Nofile).current;
    limit.map_or(usize::MAX, |limit| usize::try_from(limit).unwrap_or(usize::MAX))
}

/// Files that are open to be sent.
#[derive(Debug, Default)]
pub struct OpenFiles {
    state: Mutex<State>,
}

#[derive(Debug, Default)]
struct State {
    most: usize,
    open: usize,
    of: HashMap<IpAddr, usize, RandomState>,
    refused: u64,
}

/// Leave to have one file open.
#[derive(Debug)]
pub struct FilePermit {
    files: Arc<OpenFiles>,
    client: IpAddr,
}

impl OpenFiles {
    /// From now on so many may be open.
    pub fn allow(&self, most: usize) {
        self.state.lock().most = most;
    }

    /// Leave for a client to have one more open.
    pub fn permit(self: &Arc<Self>, client: IpAddr) -> Option<FilePermit> {
        let client = network(client);
        let mut state = self.state.lock();
        let most = state.most;
        let open = state.open;
        let of_client = state.of.get(&client).copied().unwrap_or_default();
        if open >= most || of_client >= most.div_ceil(2) {
            state.refused += 1;
            if state.refused.is_power_of_two() {
                tracing::warn!(%client, "{open} of {most} files are open, {of_client} by this client: it has to come again ({} times so far)", state.refused);
            }
            return None;
        }
        state.open += 1;
        *state.of.entry(client).or_default() += 1;
        Some(FilePermit { files: Arc::clone(self), client })
    }

    /// How many are open, and how many may be.
    pub fn count(&self) -> (usize, usize) {
        let state = self.state.lock();
        (state.open, state.most)
    }
}

impl Drop for FilePermit {
    fn drop(&mut self) {
        let mut state = self.files.state.lock();
        state.open -= 1;
        if let Some(count) = state.of.get_mut(&self.client) {
            *count -= 1;
            if *count == 0 {
                state.of.remove(&self.client);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_set_aside_comes_first_and_too_few_are_an_error_with_the_number() {
        let plenty = divide(1_000_000, 3, 2, 20_000).unwrap();
        assert_eq!((plenty.connections, plenty.files > 900_000), (20_000, true));
        let tight = divide(512, 2, 2, 20_000).unwrap();
        assert!(tight.connections + tight.files + OWN + CONSOLE <= 512 && tight.files > 50, "{tight:?}");
        let needed = divide(100, 2, 2, 20_000).unwrap_err();
        assert!(
            divide(needed, 2, 2, 20_000).is_ok() && divide(needed - 2, 2, 2, 20_000).is_err(),
            "{needed}"
        );
        // Sites add what they need and no more.
        assert_eq!(
            divide(100, 300, 2, 20_000).unwrap_err() - divide(100, 0, 2, 20_000).unwrap_err(),
            300 * OF_SITE
        );
    }

    #[test]
    fn one_client_leaves_half_of_the_files_to_the_others() {
        let files = Arc::new(OpenFiles::default());
        files.allow(10);
        let (greedy, other) = ("192.0.2.1".parse().unwrap(), "192.0.2.2".parse().unwrap());
        let held: Vec<_> = std::iter::from_fn(|| files.permit(greedy)).collect();
        assert_eq!(held.len(), 5);
        assert!(files.permit(other).is_some());
        drop(held);
        assert!(files.permit(greedy).is_some() && files.count() == (0, 10));
    }
}
