//! Logs as a source of requests for statements: read as the engine asks for them, by the threads it has.

use crate::failure::Failure;
use crate::sources::block_source::BlockSource;
use crate::sources::reading::{LineCounts, ReadAll, ReadingThread, Step, ended};
use crate::sources::{Asked, Progress};
use exedra_common::{Dictionaries, RequestBatch, TextColumn};
use exedra_query::{Reading, RequestReader, RequestSource, SourceError, TextsAre};
use exedra_reading::logs::LineFilter;
use parking_lot::Mutex;
use std::fmt::{self, Debug};
use std::sync::Arc;

/// Some logs, and what came of the last time that they were read.
pub struct LogRequests {
    asked: Arc<Asked>,
    progress: Arc<Progress>,
    last: Mutex<Option<LastReading>>,
}

/// What readers share.
type Blocks = Arc<Mutex<BlockSource<Arc<Asked>, Arc<Progress>>>>;
/// What readers leave when they have read.
type Counts = Arc<Mutex<Vec<LineCounts>>>;

struct LastReading {
    blocks: Blocks,
    counts: Counts,
}

impl LogRequests {
    /// Logs that nobody has read yet.
    pub fn new(asked: Asked) -> Self {
        let progress = Arc::new(Progress::of(&asked.files));
        LogRequests { asked: Arc::new(asked), progress, last: Mutex::new(None) }
    }

    /// What was read, once nobody reads any more; nothing where no statement needed any of it.
    pub fn read(&self) -> Result<Option<ReadAll<()>>, Failure> {
        let Some(LastReading { blocks, counts }) = self.last.lock().take() else { return Ok(None) };
        let counts = std::mem::take(&mut *counts.lock());
        let blocks = std::mem::replace(
            &mut *blocks.lock(),
            BlockSource::new(Arc::clone(&self.asked), Arc::clone(&self.progress)),
        );
        ended(blocks, vec![()], counts).map(Some)
    }
}

impl Debug for LogRequests {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "{} logs", self.asked.files.len())
    }
}

impl RequestSource for LogRequests {
    fn begin(&self, reading: Reading) -> Result<Vec<Box<dyn RequestReader>>, SourceError> {
        let mut last = self.last.lock();
        if last.is_some() && self.asked.files.iter().any(|begun| begun.file.path.is_none()) {
            let words = "standard input can be read once, and this statement reads the requests several times: put them in a file";
            return Err(SourceError(words.to_owned()));
        }
        let blocks: Blocks =
            Arc::new(Mutex::new(BlockSource::new(Arc::clone(&self.asked), Arc::clone(&self.progress))));
        let counts: Counts = Arc::default();
        *last = Some(LastReading { blocks: Arc::clone(&blocks), counts: Arc::clone(&counts) });
        let filter = &reading.filter;
        let reader = |_| -> Box<dyn RequestReader> {
            let filter = (!filter.lets_all_through()).then(|| LineFilter::new(filter));
            let wanted =
                filter.as_ref().map_or(reading.projection, |it| it.projection().with(reading.projection));
            Box::new(LogReader {
                thread: Some(ReadingThread::new(&self.asked, wanted)),
                blocks: Arc::clone(&blocks),
                counts: Arc::clone(&counts),
                filter,
            })
        };
        Ok((0..reading.threads).map(reader).collect())
    }
}

/// How many requests are handed over at once, or as many as there are in so many blocks: the more there are, the more often texts are
/// the same, and whoever waits for a few must not wait for all.
const ENOUGH: usize = 1 << 15;
const MOST_BLOCKS: usize = 16;

/// One thread's share of the logs.
struct LogReader {
    thread: Option<ReadingThread>,
    blocks: Blocks,
    counts: Counts,
    filter: Option<LineFilter>,
}

impl RequestReader for LogReader {
    fn read(
        &mut self,
        batch: &mut RequestBatch,
        texts: &mut Dictionaries,
    ) -> Result<Option<TextsAre>, SourceError> {
        let LogReader { thread, blocks, filter, .. } = self;
        let Some(reading) = thread else { return Ok(None) };
        if let Some(filter) = filter
            && TextColumn::ALL.iter().all(|column| texts.of(*column).is_empty())
        {
            filter.forget();
        }
        for _ in 0..MOST_BLOCKS {
            let step = reading.step(blocks, |place, reader, octets, lines| match filter {
                Some(filter) => reader.read_matching(octets, place.block, lines, filter, batch, texts),
                None => reader.read_block(octets, place.block, lines, batch, texts),
            });
            if matches!(step, Step::AllRead) {
                return Ok((batch.rows() > 0).then_some(TextsAre::Known));
            }
            if batch.rows() >= ENOUGH || texts.are_full() {
                break;
            }
        }
        Ok(Some(TextsAre::Known))
    }
}

/// Also whoever stops in the middle says what it has read.
impl Drop for LogReader {
    fn drop(&mut self) {
        if let Some(thread) = self.thread.take() {
            self.counts.lock().push(thread.finish());
        }
    }
}
