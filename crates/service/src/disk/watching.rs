//! Being told of changes in the sites' folders, where the system does that.
//!
//! It does not for folders that lie on other machines, nor past some number of folders. Nothing depends on it:
//! without it files are looked at more often.

use super::folder::Folder;
use crate::connections::Clock;
use notify::{Event, EventKind, RecommendedWatcher, RecursiveMode, Watcher};
use std::io;
use std::path::Path;
use std::sync::{Arc, Weak};
use std::time::Duration;

/// How often somebody looks whether another folder has taken a folder's place.
const EVERY: Duration = Duration::from_millis(500);

/// Watches some folders on a thread of its own, until they are dropped.
pub fn watch(folders: &[Arc<Folder>], clock: &Arc<Clock>) -> io::Result<()> {
    let folders: Vec<Weak<Folder>> = folders.iter().map(Arc::downgrade).collect();
    let clock = Arc::clone(clock);
    std::thread::Builder::new().name("watching".to_owned()).spawn(move || {
        let mut watchers: Vec<Option<RecommendedWatcher>> = folders.iter().map(|_| None).collect();
        let mut begun = false;
        while folders.iter().any(|folder| folder.strong_count() > 0) {
            for (folder, watcher) in folders.iter().zip(&mut watchers) {
                let Some(folder) = folder.upgrade() else { continue };
                // A folder that is not there for the moment stays open as it was.
                if folder.replaced().unwrap_or(false) || !begun {
                    *watcher = begin(&folder, &clock);
                    clock.tick();
                    folder.set_watched(watcher.is_some(), clock.now());
                }
            }
            begun = true;
            std::thread::sleep(EVERY);
        }
    })?;
    Ok(())
}

/// Watches one folder with all below it.
fn begin(folder: &Arc<Folder>, clock: &Arc<Clock>) -> Option<RecommendedWatcher> {
    let root = folder.opened().root.clone();
    if !is_local(&root) {
        return None;
    }
    let (watched, clock) = (Arc::downgrade(folder), Arc::clone(clock));
    let told = move |event: notify::Result<Event>| {
        let is_read =
            event.is_ok_and(|event| matches!(event.kind, EventKind::Access(_)) && !event.need_rescan());
        if let (false, Some(folder)) = (is_read, watched.upgrade()) {
            clock.tick();
            folder.note_change(clock.now());
        }
    };
    let watcher = notify::recommended_watcher(told).and_then(|mut watcher| {
        watcher.watch(&root, RecursiveMode::Recursive)?;
        Ok(watcher)
    });
    match watcher {
        Ok(watcher) => Some(watcher),
        Err(error) => {
            tracing::info!(folder = %root.display(), "changes are not told of, so files are looked at more often: {error}");
            None
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
