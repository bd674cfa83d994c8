//! The access logs into the records, the way anybody's logs are read.
//!
//! One thread follows the logs of all sites. What it has read is in the tail at once; from time to time the
//! tail becomes segments, together with how far each log was read. It only ever takes whole lines, so after
//! a crash reading goes on exactly where the segments end.

use crate::access_log::{AccessLog, generations};
use exedra_core::logs::{BATCH_ROWS, Dictionaries, Layout, LineReader, Projection, RequestBatch};
use exedra_store::{Checkpoint, Records, StoreError};
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::time::{Duration, Instant};

/// How much is read at a time.
const BLOCK: usize = 4 << 20;
/// The most requests the tail holds. When it cannot be committed, the rest waits where it is safe: in the logs.
const MOST_IN_TAIL: usize = 8 * BATCH_ROWS;
/// How long news are gathered before the logs are looked at.
const GATHERING: Duration = Duration::from_millis(40);
/// How long requests stay in the tail only.
const TAIL_TIME: Duration = Duration::from_secs(5);

/// A log that is followed.
struct Followed {
    site: Arc<str>,
    name: String,
    path: PathBuf,
    file: Option<File>,
    layout: Layout,
}

/// The thread's work.
pub struct Ingest {
    records: Arc<Records>,
    followed: Vec<Followed>,
    stop: Arc<AtomicBool>,
}

impl Ingest {
    /// Follows all generations of the logs of these sites.
    pub fn new(
        records: Arc<Records>,
        folder: &Path,
        logs: &[(Arc<AccessLog>, Layout)],
        stop: Arc<AtomicBool>,
    ) -> io::Result<Self> {
        let mut followed = Vec::new();
        for (log, layout) in logs {
            for path in generations(folder, &log.site)? {
                let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
                let (site, layout) = (Arc::clone(&log.site), layout.clone());
                followed.push(Followed { site, name, path, file: None, layout });
            }
        }
        Ok(Ingest { records, followed, stop })
    }

    /// Follows until told to stop; `written` tells when there is something new.
    pub fn run(mut self, written: &Receiver<()>) {
        let mut committed = Instant::now();
        loop {
            let stopping = self.stop.load(Ordering::SeqCst);
            let mut idle = true;
            let room = self.records.tail_requests() < MOST_IN_TAIL;
            for followed in self.followed.iter_mut().filter(|_| room) {
                match followed.read_on(&self.records) {
                    Ok(more) => idle &= !more,
                    Err(error) => tracing::error!(log = %followed.path.display(), "cannot be read: {error}"),
                }
            }
            let tail = self.records.tail_requests();
            if tail >= BATCH_ROWS || stopping || (tail > 0 && committed.elapsed() >= TAIL_TIME) {
                if let Err(error) = self.commit() {
                    tracing::error!(
                        "requests could not be recorded and stay in memory and in the logs: {error}"
                    );
                }
                committed = Instant::now();
            } else if tail == 0 {
                committed = Instant::now();
            }
            if !idle {
                continue;
            }
            if stopping {
                return;
            }
            match written.recv_timeout(Duration::from_secs(1)) {
                Ok(()) => std::thread::sleep(GATHERING),
                Err(RecvTimeoutError::Timeout) => {}
                // All writers have ended: whatever they wrote is read in the last round.
                Err(RecvTimeoutError::Disconnected) => self.stop.store(true, Ordering::SeqCst),
            }
        }
    }

    fn commit(&self) -> Result<(), StoreError> {
        self.records.commit()?;
        self.records.merge()?;
        Ok(())
    }
}

impl Followed {
    /// Takes in one block of whole lines; says whether there may be more.
    fn read_on(&mut self, records: &Records) -> io::Result<bool> {
        let file = match &self.file {
            Some(file) => file,
            None => self.file.insert(File::open(&self.path)?),
        };
        let mut checkpoint = records.checkpoint(&self.name);
        let length = file.metadata()?.len();
        if length < checkpoint.octets {
            tracing::warn!(log = %self.path.display(), "is shorter than it was: read from its beginning again");
            checkpoint = Checkpoint::default();
        }
        let mut block = vec![0; BLOCK.min((length - checkpoint.octets) as usize)];
        let read = read_at_most(file, &mut block, checkpoint.octets)?;
        // A line without its end is still being written.
        let Some(last) = memchr::memrchr(b'\n', &block[..read]) else { return Ok(false) };
        let lines = &block[..=last];
        let mut reader = LineReader::new(std::slice::from_ref(&self.layout), Projection::everything());
        let mut at = 0;
        while at < lines.len() {
            let (mut batch, mut texts) = (RequestBatch::default(), Dictionaries::default());
            let (lines_before, unread_before) = (reader.read, reader.unread.lines());
            let took = reader.read_block(&lines[at..], 0, &mut 0, &mut batch, &mut texts);
            at += took;
            checkpoint.octets += took as u64;
            checkpoint.lines += reader.read - lines_before;
            checkpoint.unread += reader.unread.lines() - unread_before;
            records.append(&self.site, &self.name, batch, texts, checkpoint);
        }
        Ok(read == BLOCK)
    }
}

fn read_at_most(file: &File, block: &mut [u8], offset: u64) -> io::Result<usize> {
    let mut filled = 0;
    while filled < block.len() {
        match file.read_at(&mut block[filled..], offset + filled as u64)? {
            0 => break,
            read => filled += read,
        }
    }
    Ok(filled)
}
