//! Past generations: compressed when the records have them, deleted after a while.

use super::Journal;
use super::generations::{Generation, generations};
use exedra_store::Records;
use flate2::Compression;
use flate2::write::GzEncoder;
use std::collections::HashMap;
use std::fs::{File, FileTimes};
use std::io::{self, BufWriter, Write};
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime};

/// How often somebody looks.
const EVERY: Duration = Duration::from_secs(2);

/// How much of a log is deleted at once, and how long it is until the next may be.
const A_DAY: Duration = Duration::from_secs(24 * 3600);
const PAUSE: Duration = Duration::from_secs(3600);

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
    let mut steps: HashMap<Arc<str>, Step> = HashMap::new();
    while let Err(RecvTimeoutError::Timeout) = stop.recv_timeout(EVERY) {
        let all = all.lock().unwrap_or_else(PoisonError::into_inner).clone();
        for kept in &all {
            let step = steps.entry(Arc::clone(&kept.journal.name)).or_default();
            if let Err(error) = kept.look(SystemTime::now(), Instant::now(), step) {
                let folder = kept.journal.folder().display();
                tracing::warn!(%folder, "past logs of {} cannot be looked after: {error}", kept.journal.name);
            }
        }
    }
}

impl Kept {
    fn look(&self, now: SystemTime, running: Instant, step: &mut Step) -> io::Result<()> {
        let written = self.journal.oldest_written();
        for generation in generations(self.journal.folder(), &self.journal.name)? {
            if generation.number >= written || !self.has_been_read(&generation) {
                continue;
            }
            let changed = generation.path.metadata()?.modified()?;
            let age = now.duration_since(changed).unwrap_or_default();
            let is_old = self.journal.keeping().keep.is_some_and(|keep| age > keep);
            if is_old && step.allows(changed, running) {
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

/// How far deleting may go at once: a day of logs an hour. A clock that jumps ahead makes everything look old.
#[derive(Default)]
struct Step(Option<(SystemTime, Instant)>);

impl Step {
    /// Whether what last changed at some time may be deleted now, by a clock that only goes forward.
    fn allows(&mut self, changed: SystemTime, running: Instant) -> bool {
        match self.0 {
            Some((until, _)) if changed <= until => true,
            Some((_, since)) if running.duration_since(since) < PAUSE => false,
            _ => {
                self.0 = Some((changed + A_DAY, running));
                true
            }
        }
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
        let (began, mut step) = (Instant::now(), Step::default());
        kept.look(changed + Duration::from_secs(50), began, &mut step).unwrap();
        let packed = folder.path().join("a.000001.log.gz");
        let mut text = String::new();
        flate2::read::GzDecoder::new(File::open(&packed).unwrap()).read_to_string(&mut text).unwrap();
        assert_eq!(text, "one\ntwo\n");
        assert_eq!(packed.metadata().unwrap().modified().unwrap(), changed);
        let found = generations(folder.path(), "a").unwrap();
        assert!(!first.exists() && found[0].is_whole(8) && !found[0].is_whole(7));
        kept.look(changed + Duration::from_secs(101), began, &mut step).unwrap();
        assert!(!packed.exists() && second.exists());
        pen.journal.close();
    }

    #[test]
    fn a_clock_that_jumps_ahead_costs_a_day_of_logs_an_hour_and_no_more() {
        let (began, hour) = (Instant::now(), Duration::from_secs(3600));
        let day = |number: u32| SystemTime::UNIX_EPOCH + A_DAY * number;
        let mut step = Step::default();
        let mut deleted = |at: Instant| (0..90).filter(|number| step.allows(day(*number), at)).count();
        assert_eq!(
            (deleted(began), deleted(began + hour / 2)),
            (2, 2),
            "the day that was begun, and no other"
        );
        // What was deleted is asked for again here; on the disk it is gone.
        assert_eq!((deleted(began + hour), deleted(began + hour * 2)), (4, 6));
    }

    #[test]
    fn what_the_records_have_not_read_stays_as_it_is() {
        let folder = tempfile::tempdir().unwrap();
        let first = folder.path().join("a.000001.log");
        std::fs::write(&first, "one\n").unwrap();
        std::fs::write(folder.path().join("a.000002.log"), "").unwrap();
        let keeping = Keeping { rotate: Rotate::Never, keep: Some(Duration::ZERO) };
        let pen = open(folder.path(), keeping);
        let records = Arc::new(Records::open(folder.path()));
        let kept = Kept { journal: Arc::clone(&pen.journal), records: Some(records) };
        kept.look(SystemTime::now() + Duration::from_secs(9), Instant::now(), &mut Step::default()).unwrap();
        assert!(first.exists());
        pen.journal.close();
    }
}
