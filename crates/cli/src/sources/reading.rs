//! Lines of all sources, over threads.
//!
//! Each thread takes blocks from one [`BlockSource`], cuts them by a [`LineReader`] of its own and hands the requests to a
//! [`Sink`] of its own, so that memory stays the same however long the logs are.

use super::asked::{Asked, Source};
use super::block_source::{Block, BlockSource, found_layout};
use super::load::stand_back_when_high;
use super::progress::Progress;
use crate::failure::Failure;
use exedra_common::columns::Unit;
use exedra_common::{Dictionaries, Projection, RequestBatch};
use exedra_reading::logs::search::{Given, search};
use exedra_reading::logs::{Layout, LineReader, Unread};
use exedra_reading::survey::SurveyWorker;
use exedra_reading::survey::report::{Lines, UnreadLine, UnreadReason};
use exedra_reading::trail::Place;
use parking_lot::Mutex;
use std::borrow::Borrow;
use std::collections::{BTreeMap, BTreeSet};
use std::panic::resume_unwind;
use std::path::PathBuf;

/// Whoever wants the requests of one thread.
pub trait Sink: Send {
    /// What it has made of them.
    type Made: Send;

    /// Takes what `read` puts into an empty batch. `place` is where the first of the lines stands.
    fn take(
        &mut self,
        place: Place,
        read: impl FnOnce(&mut RequestBatch, &mut Dictionaries) -> usize,
    ) -> usize;

    /// Everything has been taken of a source up to this octet, before compression, but for so many lines of it that could not
    /// be read in all.
    fn has_read(&mut self, _until: u64, _unread: u64) {}

    /// Ends, on the same thread.
    fn finish(self) -> Self::Made;
}

impl Sink for SurveyWorker<'_> {
    type Made = ();

    fn take(
        &mut self,
        place: Place,
        read: impl FnOnce(&mut RequestBatch, &mut Dictionaries) -> usize,
    ) -> usize {
        self.fill_from(place.source, read)
    }

    fn finish(self) {
        SurveyWorker::finish(self);
    }
}

/// Everything that was read.
pub struct ReadAll<M> {
    /// What each thread has made.
    pub made: Vec<M>,
    /// Lines read and unread.
    pub lines: Lines,
    /// The sources that could be read.
    pub sources: Vec<Source>,
    /// What was wrong with the others.
    pub failures: Vec<String>,
    /// Files of a folder that are no logs.
    pub passed_over: Vec<String>,
    /// Which files were read, and how far, in octets before compression.
    pub read: Vec<(Option<PathBuf>, u64)>,
}

impl<M> ReadAll<M> {
    /// Says what was passed over, and fails where a source could not be read: the last thing a command does.
    pub fn own_up(&self) -> Result<(), Failure> {
        if !self.passed_over.is_empty() {
            crate::out::note!("Skipped, not access logs: {}.", self.passed_over.join(", "));
        }
        let is_cut = |remark: &&String| remark.contains(" ends before its end ");
        for remark in self.sources.iter().flat_map(|source| &source.remarks).filter(is_cut) {
            crate::out::note!("{remark}.");
        }
        match self.failures.is_empty() {
            true => Ok(()),
            false => Err(Failure(self.failures.join("\n"))),
        }
    }
}

/// What one thread knows of its lines.
#[derive(Default)]
pub struct LineCounts {
    read: u64,
    unread: BTreeMap<usize, Unread>,
    /// Layouts that were made for blocks in the middle of a source, in words.
    found: BTreeMap<usize, BTreeSet<String>>,
    /// Lines of each block, to number the unread ones.
    lengths: BTreeMap<(usize, u64), u64>,
}

/// Reads all sources. One that cannot be read does not keep the others from it, unless it is the only one.
pub fn read<T: Sink>(
    asked: &Asked,
    projection: Projection,
    progress: &Progress,
    taker: impl Fn() -> T + Sync,
) -> Result<ReadAll<T::Made>, Failure> {
    stand_back_when_high();
    let feed = Mutex::new(BlockSource::new(asked, progress));
    let done: Vec<(T::Made, LineCounts)> = std::thread::scope(|scope| {
        let work = || work(&feed, asked, projection, taker());
        let workers: Vec<_> = (1..asked.threads).map(|_| scope.spawn(work)).collect();
        let own = work();
        workers
            .into_iter()
            .map(|worker| worker.join().unwrap_or_else(|panic| resume_unwind(panic)))
            .chain([own])
            .collect()
    });
    let (made, counts) = done.into_iter().unzip();
    ended(feed.into_inner(), made, counts)
}

fn work<T: Sink>(
    feed: &Mutex<BlockSource<&Asked, &Progress>>,
    asked: &Asked,
    projection: Projection,
    mut taker: T,
) -> (T::Made, LineCounts) {
    let mut thread = ReadingThread::new(asked, projection);
    loop {
        let step = thread.step(feed, |place, reader, octets, lines| {
            taker.take(place, |batch, texts| reader.read_block(octets, place.block, lines, batch, texts))
        });
        match step {
            Step::Within => {}
            Step::BlockEnded { until, unread } => taker.has_read(until, unread),
            Step::AllRead => return (taker.finish(), thread.finish()),
        }
    }
}

/// Everything that was read, once all threads have come to their ends.
pub fn ended<M, A, P>(
    feed: BlockSource<A, P>,
    made: Vec<M>,
    mut counts: Vec<LineCounts>,
) -> Result<ReadAll<M>, Failure> {
    let BlockSource { mut sources, failures, passed_over, read, .. } = feed;
    if sources.is_empty() && !(failures.is_empty() && passed_over.is_empty()) {
        let mut words = failures;
        if !passed_over.is_empty() {
            words.push(format!("no layout fits any of {}", passed_over.join(", ")));
        }
        return Err(Failure(words.join("\n")));
    }
    let found = counts.iter_mut().flat_map(|counts| std::mem::take(&mut counts.found));
    for (source, remarks) in found {
        let known = &mut sources[source].remarks;
        known.extend(remarks);
        known.sort();
        known.dedup();
    }
    let lines = join(counts, &sources);
    Ok(ReadAll { made, lines, sources, failures, passed_over, read })
}

/// What one thread reads, step by step: whoever drives it decides when.
pub struct ReadingThread {
    projection: Projection,
    /// Where one layout was asked for, no other is tried.
    guesses: bool,
    durations: Option<Unit>,
    counts: LineCounts,
    readers: BTreeMap<usize, LineReader>,
    /// The block at hand, how many octets and lines of it have been read.
    at: Option<(Block, usize, u64)>,
    spare: Vec<u8>,
}

/// How far a step has come.
pub enum Step {
    /// Into a block.
    Within,
    /// To the end of a block: its source has been read up to this octet, before compression, but for so many lines that could not be
    /// read in all.
    BlockEnded {
        /// The octet.
        until: u64,
        /// The lines.
        unread: u64,
    },
    /// Nothing is left, and nothing was read.
    AllRead,
}

impl ReadingThread {
    /// Has read nothing yet.
    pub fn new(asked: &Asked, projection: Projection) -> Self {
        ReadingThread {
            projection,
            guesses: asked.layouts.len() > 1,
            durations: asked.durations,
            counts: LineCounts::default(),
            readers: BTreeMap::new(),
            at: None,
            spare: Vec::new(),
        }
    }

    /// Reads on: `read` is handed where the next line stands, the reader of its source, the rest of the block and the number of its first
    /// line, and says how many octets it took.
    pub fn step<A: Borrow<Asked>, P: Borrow<Progress>>(
        &mut self,
        feed: &Mutex<BlockSource<A, P>>,
        read: impl FnOnce(Place, &mut LineReader, &[u8], &mut u64) -> usize,
    ) -> Step {
        if self.at.is_none() && !self.next_block(feed) {
            return Step::AllRead;
        }
        let Some((block, at, lines)) = &mut self.at else { return Step::AllRead };
        let Some(reader) = self.readers.get_mut(&block.source) else { return Step::AllRead };
        let place = Place { source: block.source, block: block.number, line: *lines, row: 0 };
        *at += read(place, reader, &block.octets[*at..], lines);
        if *at < block.octets.len() {
            return Step::Within;
        }
        reader.forget(block.layouts.len());
        let step = Step::BlockEnded { until: block.until, unread: reader.unread.lines() };
        self.counts.lengths.insert((block.source, block.number), *lines);
        self.spare = self.at.take().map(|(block, ..)| block.octets).unwrap_or_default();
        step
    }

    /// Takes the next block and readies its reader.
    fn next_block<A: Borrow<Asked>, P: Borrow<Progress>>(&mut self, feed: &Mutex<BlockSource<A, P>>) -> bool {
        let (block, origin) = {
            let mut feed = feed.lock();
            let Some(block) = feed.next(std::mem::take(&mut self.spare)) else { return false };
            let is_new = !self.readers.contains_key(&block.source);
            let origin = if is_new { feed.sources[block.source].origin() } else { Default::default() };
            (block, origin)
        };
        let near = block.layouts.first().and_then(|layout| layout.hints.near);
        let given = Given { near, durations: self.durations };
        let reader = self.readers.entry(block.source);
        let reader = reader.or_insert_with(|| LineReader::new(&block.layouts, self.projection).of(&origin));
        block.directives.iter().for_each(|line| reader.directive(line));
        // For this block only: which thread reads which block must make no difference.
        let more = if self.guesses { another_layout(reader, &block.octets, &given) } else { None };
        if let Some(layout) = &more {
            reader.try_also(layout);
            self.counts.found.entry(block.source).or_default().insert(found_layout(layout));
        }
        self.at = Some((block, 0, 0));
        true
    }

    /// What it knows of its lines.
    pub fn finish(self) -> LineCounts {
        let mut counts = self.counts;
        for (source, reader) in self.readers {
            counts.read += reader.read;
            counts.unread.insert(source, reader.unread);
        }
        counts
    }
}

/// How many lines of a block are tried, to see whether its layouts still fit, and how many are looked at where they do not.
const TRIED: usize = 32;
const LOOKED_AT: usize = 400;
/// How many lines a layout must read to be one.
const FEWEST: usize = 3;

/// The layout of lines that those of a source do not read: a server may have been told to write another one since it began.
fn another_layout(reader: &mut LineReader, block: &[u8], given: &Given) -> Option<Layout> {
    let step = (block.len() / TRIED).max(1);
    if spread(block, step).all(|line| reader.reads(line)) {
        return None;
    }
    let step = (block.len() / LOOKED_AT).max(1);
    let unread: Vec<&[u8]> = spread(block, step).filter(|line| !reader.reads(line)).collect();
    search(&unread, given)
        .ok()
        .filter(|found| found.lines >= FEWEST && found.layout.has_time())
        .map(|found| found.layout)
}

/// Whole lines of a block, so far apart.
fn spread(block: &[u8], step: usize) -> impl Iterator<Item = &[u8]> {
    let mut at = 0;
    std::iter::from_fn(move || {
        let begin = match at {
            0 => 0,
            _ => at + memchr::memchr(b'\n', block.get(at..)?)? + 1,
        };
        let end = memchr::memchr(b'\n', block.get(begin..)?).map_or(block.len(), |length| begin + length);
        at = (begin + step).max(end);
        let line = &block[begin..end];
        (begin < block.len()).then(|| line.strip_suffix(b"\r").unwrap_or(line))
    })
}

/// The lines of all threads, with the unread ones numbered.
fn join(counts: Vec<LineCounts>, sources: &[Source]) -> Lines {
    let mut all = LineCounts::default();
    for share in counts {
        all.read += share.read;
        all.lengths.extend(share.lengths);
        for (source, unread) in share.unread {
            all.unread.entry(source).or_default().merge(unread);
        }
    }
    let mut reasons: BTreeMap<_, UnreadReason> = BTreeMap::new();
    let mut unread_lines = 0;
    for (source, unread) in all.unread {
        unread_lines += unread.lines();
        for (reason, count) in unread.counts {
            let entry = reasons.entry(reason).or_insert_with(|| UnreadReason {
                reason: reason.to_string(),
                lines: 0,
                examples: Vec::new(),
            });
            entry.lines += count;
            for example in unread.examples.get(&reason).into_iter().flatten() {
                let before: u64 =
                    all.lengths.range((source, 0)..(source, example.block)).map(|(_, lines)| lines).sum();
                entry.examples.push(UnreadLine {
                    source: sources[source].name.clone(),
                    line: before + example.line + 1,
                    column: example.at as u64 + 1,
                    text: example.text.clone(),
                });
            }
        }
    }
    let mut reasons: Vec<UnreadReason> = reasons.into_values().collect();
    reasons.sort_by_key(|reason| std::cmp::Reverse(reason.lines));
    Lines { read: all.read, unread: unread_lines, reasons }
}
