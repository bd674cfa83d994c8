//! Lines of all sources, over threads.
//!
//! Each thread takes blocks from one [`BlockSource`], cuts them by a [`LineReader`] of its own and hands the requests to a
//! [`Sink`] of its own, so that memory stays the same however long the logs are.

use super::asked::{Asked, Source};
use super::block_source::{Block, BlockSource};
use super::load::stand_back_when_high;
use super::progress::Progress;
use crate::failure::Failure;
use exedra_common::{Dictionaries, Projection, RequestBatch};
use exedra_reading::logs::{LineReader, Unread};
use exedra_reading::survey::SurveyWorker;
use exedra_reading::survey::report::{Lines, UnreadLine, UnreadReason};
use exedra_reading::trail::Place;
use parking_lot::Mutex;
use std::collections::BTreeMap;
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
        match self.failures.is_empty() {
            true => Ok(()),
            false => Err(Failure(self.failures.join("\n"))),
        }
    }
}

/// What one thread knows of its lines.
#[derive(Default)]
struct Share {
    read: u64,
    unread: BTreeMap<usize, Unread>,
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
    let done: Vec<(T::Made, Share)> = std::thread::scope(|scope| {
        let work = || work(&feed, projection, taker());
        let workers: Vec<_> = (1..asked.threads).map(|_| scope.spawn(work)).collect();
        let own = work();
        workers
            .into_iter()
            .map(|worker| worker.join().unwrap_or_else(|panic| resume_unwind(panic)))
            .chain([own])
            .collect()
    });
    let BlockSource { sources, failures, passed_over, read, .. } = feed.into_inner();
    if sources.is_empty() && !(failures.is_empty() && passed_over.is_empty()) {
        let mut words = failures;
        if !passed_over.is_empty() {
            words.push(format!("no layout fits any of {}", passed_over.join(", ")));
        }
        return Err(Failure(words.join("\n")));
    }
    let (made, shares): (Vec<T::Made>, Vec<Share>) = done.into_iter().unzip();
    let lines = join(shares, &sources);
    Ok(ReadAll { made, lines, sources, failures, passed_over, read })
}

fn work<T: Sink>(feed: &Mutex<BlockSource>, projection: Projection, mut taker: T) -> (T::Made, Share) {
    let mut share = Share::default();
    let mut readers: BTreeMap<usize, LineReader> = BTreeMap::new();
    let mut spare = Vec::new();
    loop {
        let (next, origin) = {
            let mut feed = feed.lock();
            let next = feed.next(spare);
            let new = next.as_ref().filter(|block| !readers.contains_key(&block.source));
            let origin = new.map(|block| feed.sources[block.source].origin()).unwrap_or_default();
            (next, origin)
        };
        let Some(Block { source, number, directives, layouts, octets }) = next else { break };
        let reader = readers.entry(source);
        let reader = reader.or_insert_with(|| LineReader::new(&layouts, projection).of(&origin));
        directives.iter().for_each(|line| reader.directive(line));
        let (mut at, mut lines) = (0, 0);
        while at < octets.len() {
            let place = Place { source, block: number, line: lines, row: 0 };
            at += taker.take(place, |batch, texts| {
                reader.read_block(&octets[at..], number, &mut lines, batch, texts)
            });
        }
        share.lengths.insert((source, number), lines);
        spare = octets;
    }
    for (source, reader) in readers {
        share.read += reader.read;
        share.unread.insert(source, reader.unread);
    }
    (taker.finish(), share)
}

/// The lines of all threads, with the unread ones numbered.
fn join(shares: Vec<Share>, sources: &[Source]) -> Lines {
    let mut all = Share::default();
    for share in shares {
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
