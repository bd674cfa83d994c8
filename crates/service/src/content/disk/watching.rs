//! Being told of changes in the sites' folders, where the system does that.
//!
//! It does not for folders that lie on other machines, nor past some number of folders. Nothing depends on it:
//! without it files are looked at more often. One watcher serves all sites.

use super::folder::Folder;
use crate::system::Clock;
use crate::system::threads::keep_on;
use notify::{Event, EventKind, RecommendedWatcher, RecursiveMode, Watcher};
use parking_lot::Mutex;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Weak};
use std::time::Duration;

/// How often somebody looks whether another folder has taken a folder's place.
const EVERY: Duration = Duration::from_millis(500);

/// Folders that are watched, by where they lie.
type Roots = Arc<Mutex<Vec<(PathBuf, Weak<Folder>)>>>;

/// Watches some folders on a thread of its own, until they are dropped.
pub fn watch<'f>(folders: impl Iterator<Item = &'f Arc<Folder>>, clock: &Arc<Clock>) -> io::Result<()> {
    let folders: Vec<Weak<Folder>> = folders.map(Arc::downgrade).collect();
    let clock = Arc::clone(clock);
    keep_on("watching", move || {
        let mut watcher = Watching::new(&clock);
        let mut begun = false;
        while folders.iter().any(|folder| folder.strong_count() > 0) {
            for folder in &folders {
                let Some(folder) = folder.upgrade() else { continue };
                // A folder that is not there for the moment stays as it was.
                if folder.replaced().unwrap_or(false) || !begun {
                    let is_watched = watcher.as_mut().is_some_and(|watcher| watcher.begin(&folder));
                    clock.tick();
                    folder.set_watched(is_watched, clock.now());
                }
            }
            begun = true;
            std::thread::sleep(EVERY);
        }
    })?;
    Ok(())
}

/// The watcher of all folders.
struct Watching {
    watcher: RecommendedWatcher,
    roots: Roots,
}

impl Watching {
    fn new(clock: &Arc<Clock>) -> Option<Self> {
        let roots = Roots::default();
        let (known, clock) = (Arc::clone(&roots), Arc::clone(clock));
        let told = move |event: notify::Result<Event>| {
            let paths = match event {
                Ok(event) if event.need_rescan() => Vec::new(),
                Ok(event) if matches!(event.kind, EventKind::Access(_)) => return,
                Ok(event) => event.paths,
                Err(error) => error.paths,
            };
            clock.tick();
            let roots = known.lock();
            // Where it is not said what has changed, everything may have.
            let is_meant = |root: &Path| paths.is_empty() || paths.iter().any(|path| path.starts_with(root));
            for folder in
                roots.iter().filter(|(root, _)| is_meant(root)).filter_map(|(_, folder)| folder.upgrade())
            {
                folder.note_change(clock.now());
            }
        };
        match notify::recommended_watcher(told) {
            Ok(watcher) => Some(Watching { watcher, roots }),
            Err(error) => {
                tracing::info!("changes are not told of, so files are looked at more often: {error}");
                None
            }
        }
    }

    /// Watches a folder with all below it, from where it lies now and no longer from where it lay.
    fn begin(&mut self, folder: &Arc<Folder>) -> bool {
        let root = folder.root();
        let mut roots = self.roots.lock();
        let own = Arc::downgrade(folder);
        let before =
            roots.iter().position(|(_, known)| known.ptr_eq(&own)).map(|nth| roots.swap_remove(nth).0);
        let others: Vec<PathBuf> = roots.iter().map(|(root, _)| root.clone()).collect();
        roots.push((root.clone(), own));
        // Not while it is held: whoever is told of a change waits for it.
        drop(roots);
        if let Some(before) = before {
            // What is gone is no longer watched anyway.
            let _ = self.watcher.unwatch(&before);
            // Sites may lie in each other.
            for other in others.iter().filter(|other| other.starts_with(&before)) {
                let _ = self.watcher.watch(other, RecursiveMode::Recursive);
            }
        }
        if !is_local(&root) {
            return false;
        }
        match self.watcher.watch(&root, RecursiveMode::Recursive) {
            Ok(()) => true,
            Err(error) => {
                tracing::info!(folder = %root.display(), "changes are not told of, so files are looked at more often: {error}");
                false
            }
        }
    }
}

/// Whether a folder lies on a file system of this machine, whose every change passes through its kernel.
fn is_local(folder: &Path) -> bool {
    // Numbers from the kernel's list: ext2 to ext4, XFS, Btrfs, F2FS, tmpfs, overlay, ZFS.
    const LOCAL: [u64; 7] =
        [0xef53, 0x5846_5342, 0x9123_683e, 0xf2f5_2010, 0x0102_1994, 0x794c_7630, 0x2fc1_2fc1];
    rustix::fs::statfs(folder).is_ok_and(|found| LOCAL.contains(&(found.f_type as u64)))
}
