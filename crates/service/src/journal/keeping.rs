//! Past generations: compressed when the records have them, deleted after a while.

use super::Journal;
use super::generations::{Generation, generations};
use exedra_store::Records;
use flate2::Compression;
use flate2::write::GzEncoder;
use std::fs::{File, FileTimes};
use std::io::{self, BufWriter, Write};
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};

/// How often somebody looks.
const EVERY: Duration = Duration::from_secs(2);

/// A journal whose past is looked after.
#[derive(Clone)]
pub struct Kept {
    /// Which one.
    pub journal: Arc<Journal>,
    /// The records that must have read it first, where any do.
    pub records: Option<Arc<Records>>,
}

/// Looks after the past of some journals until the other end of `stop` is dropped.
pub fn look_after(all: &Mutex<Vec<Kept>>, stop: &Receiver<()>) {
    while let Err(RecvTimeoutError::Timeout) = stop.recv_timeout(EVERY) {
        let all = all.lock().unwrap_or_else(PoisonError::into_inner).clone();
        for kept in &all {
            if let Err(error) = kept.look(SystemTime::now()) {
                let folder = kept.journal.folder().display();
                tracing::warn!(%folder, "past logs of {} cannot be looked after: {error}", kept.journal.name);
            }
        }
    }
}

impl Kept {
    fn look(&self, now: SystemTime) -> io::Result<()> {
        let written = self.journal.oldest_written();
        for generation in generations(self.journal.folder(), &self.journal.name)? {
            if generation.number >= written || !self.has_been_read(&generation) {
                continue;
            }
            let changed = generation.path.metadata()?.modified()?;
            let age = now.duration_since(changed).unwrap_or_default();
            if self.journal.keeping().keep.is_some_and(|keep| age > keep) {
                std::fs::remove_file(&generation.path)?;
            } else if !generation.packed {
                pack(&generation, changed)?;
            }
        }
        Ok(())
    }

    fn has_been_read(&self, generation: &Generation) -> bool {
        let Some(records) = &self.records else { return true };
        generation.is_whole(records.committed(&generation.name).octets)
    }
}

/// Compresses a file. It goes by its own name until it is whole, and keeps the time of its last line.
fn pack(generation: &Generation, changed: SystemTime) -> io::Result<()> {
    let packed = generation.packed_path();
    let fresh = packed.with_extension("gz.new");
    let mut encoder = GzEncoder::new(BufWriter::new(File::create(&fresh)?), Compression::default());
    io::copy(&mut File::open(&generation.path)?, &mut encoder)?;
    let mut out = encoder.finish()?;
    out.flush()?;
    let file = out.into_inner().map_err(|error| error.into_error())?;
    file.set_times(FileTimes::new().set_modified(changed))?;
    file.sync_all()?;
    std::fs::rename(&fresh, packed)?;
    std::fs::remove_file(&generation.path)
}

#[cfg(test)]
mod tests {
    use super::super::Pen;
    use super::*;
    use exedra_core::config::{Keeping, Rotate};
    use exedra_core::logs::Layout;
    use std::io::Read;
    use std::path::Path;

    fn open(folder: &Path, keeping: Keeping) -> Arc<Pen> {
        let zone = jiff::tz::TimeZone::UTC;
        Journal::open(folder, "a", keeping, zone).unwrap().pen(&Layout::bare(), None).unwrap()
    }

    #[test]
    fn past_ones_are_compressed_and_then_deleted_but_never_the_one_that_is_written() {
        let folder = tempfile::tempdir().unwrap();
        let (first, second) = (folder.path().join("a.000001.log"), folder.path().join("a.000002.log"));
        std::fs::write(&first, "one\ntwo\n").unwrap();
        std::fs::write(&second, "three\n").unwrap();
        let keeping = Keeping { rotate: Rotate::Never, keep: Some(Duration::from_secs(100)) };
        let pen = open(folder.path(), keeping);
        let kept = Kept { journal: Arc::clone(&pen.journal), records: None };
        let changed = first.metadata().unwrap().modified().unwrap();
        kept.look(changed + Duration::from_secs(50)).unwrap();
        let packed = folder.path().join("a.000001.log.gz");
        let mut text = String::new();
        flate2::read::GzDecoder::new(File::open(&packed).unwrap()).read_to_string(&mut text).unwrap();
        assert_eq!(text, "one\ntwo\n");
        assert_eq!(packed.metadata().unwrap().modified().unwrap(), changed);
        let found = generations(folder.path(), "a").unwrap();
        assert!(!first.exists() && found[0].is_whole(8) && !found[0].is_whole(7));
        kept.look(changed + Duration::from_secs(101)).unwrap();
        assert!(!packed.exists() && second.exists());
        pen.journal.close();
    }

    #[test]
    fn what_the_records_have_not_read_stays_as_it_is() {
        let folder = tempfile::tempdir().unwrap();
        let first = folder.path().join("a.000001.log");
        std::fs::write(&first, "one\n").unwrap();
        std::fs::write(folder.path().join("a.000002.log"), "").unwrap();
        let keeping = Keeping { rotate: Rotate::Never, keep: Some(Duration::ZERO) };
        let pen = open(folder.path(), keeping);
        let records = Arc::new(Records::open(folder.path()).unwrap());
        let kept = Kept { journal: Arc::clone(&pen.journal), records: Some(records) };
        kept.look(SystemTime::now() + Duration::from_secs(9)).unwrap();
        assert!(first.exists());
        pen.journal.close();
    }
}
