//! Files in blocks of whole lines, over threads.
//!
//! The main thread reads, and unpacks what is compressed; the others each have a [`LineReader`] and a [`SurveyWorker`] of their own, and
//! meet once, at the end. Blocks travel round between them, so that memory stays the same however long the
//! logs are.

use super::progress::Progress;
use crate::Failure;
use crate::sources::bookmark::{ALL, Begun, open_from};
use crate::sources::packed::unpacked;
use crate::sources::{Block, Blocks};
use exedra_core::logs::detect::detect;
use exedra_core::logs::{Layout, LineReader, Unread, escape};
use exedra_core::survey::report::{Lines, UnreadLine, UnreadReason};
use exedra_core::survey::{Survey, SurveyPlan, SurveyWorker};
use serde::Serialize;
use std::collections::BTreeMap;
use std::io;
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, Sender, SyncSender, channel, sync_channel};
use std::sync::{Mutex, PoisonError};

/// How many lines are looked at to find the layout.
const SAMPLE: usize = 200;
/// How many lines of a log that cannot be read are shown.
const SHOWN: usize = 3;

/// A source, as it was understood.
#[derive(Debug, Serialize)]
pub struct Source {
    /// Its name as it was given.
    pub name: String,
    /// The layout that was found.
    pub layout: String,
}

/// Everything that was read.
pub struct ReadAll {
    /// The survey.
    pub survey: Survey,
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

/// What one thread brings home.
#[derive(Default)]
struct Share {
    survey: Survey,
    read: u64,
    unread: BTreeMap<usize, Unread>,
    /// Lines of each block, to number the unread ones.
    lengths: BTreeMap<(usize, u64), u64>,
}

/// What is to be read, and how.
pub struct Asked {
    /// The files, each from an octet on (before compression).
    pub files: Vec<Begun>,
    /// Layouts of which one is to be found; with just one, no other is tried.
    pub layouts: Vec<Layout>,
    /// Whether a last line without its end is left for later.
    pub leaves_open_line: bool,
    /// How many threads read.
    pub threads: usize,
}

/// Reads all sources. One that cannot be read does not keep the others from it, unless it is the only one.
pub fn read(asked: &Asked, plan: &SurveyPlan, progress: &Progress) -> Result<ReadAll, Failure> {
    let layouts: Mutex<Vec<Vec<Layout>>> = Mutex::new(Vec::new());
    let (full, blocks) = sync_channel::<Block>(asked.threads);
    let (empty, spare) = channel::<Vec<u8>>();
    let blocks = Mutex::new(blocks);
    let (mut sources, mut failures, mut passed_over, mut read) =
        (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    let shares: Vec<Share> = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..asked.threads)
            .map(|_| {
                let empty = empty.clone();
                let (blocks, layouts) = (&blocks, &layouts);
                scope.spawn(move || work(blocks, &empty, layouts, plan))
            })
            .collect();
        for begun in asked.files.iter().filter(|begun| begun.read != ALL) {
            let name = &begun.file.name;
            let known = |found: Vec<Layout>| {
                let mut all = layouts.lock().unwrap_or_else(PoisonError::into_inner);
                sources.push(Source {
                    name: name.clone(),
                    layout: found.first().map_or(String::new(), |layout| layout.name.clone()),
                });
                all.push(found);
                all.len() - 1
            };
            match read_source(begun, asked, known, &full, &spare, progress) {
                Ok(octets) => read.push((begun.file.path.clone(), begun.read + octets)),
                Err(_) if begun.file.incidental => passed_over.push(name.clone()),
                Err(words) => failures.push(words),
            }
        }
        drop(full);
        workers.into_iter().filter_map(|worker| worker.join().ok()).collect()
    });
    if sources.is_empty() && !(failures.is_empty() && passed_over.is_empty()) {
        let mut words = failures;
        if !passed_over.is_empty() {
            words.push(format!("no layout fits any of {}", passed_over.join(", ")));
        }
        return Err(Failure(words.join("\n")));
    }
    Ok(ReadAll { passed_over, read, ..join(shares, sources, failures) })
}

fn work(
    blocks: &Mutex<Receiver<Block>>,
    empty: &Sender<Vec<u8>>,
    layouts: &Mutex<Vec<Vec<Layout>>>,
    plan: &SurveyPlan,
) -> Share {
    let mut share = Share::default();
    let mut worker = SurveyWorker::new(plan.clone());
    let mut readers: BTreeMap<usize, LineReader> = BTreeMap::new();
    loop {
        let next = blocks.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(Block { source, number, directives, octets }) = next else { break };
        let reader = readers.entry(source).or_insert_with(|| {
            let layouts = layouts.lock().unwrap_or_else(PoisonError::into_inner);
            LineReader::new(&layouts[source], plan.projection())
        });
        directives.iter().for_each(|line| reader.directive(line));
        let (mut at, mut lines) = (0, 0);
        while at < octets.len() {
            at += worker
                .fill(|batch, texts| reader.read_block(&octets[at..], number, &mut lines, batch, texts));
        }
        share.lengths.insert((source, number), lines);
        // Nobody waits for the block once everything has been read.
        let _ = empty.send(octets);
    }
    for (source, reader) in readers {
        share.read += reader.read;
        share.unread.insert(source, reader.unread);
    }
    share.survey = worker.finish();
    share
}

/// Hands a source over in blocks; gives how many octets it had.
fn read_source(
    begun: &Begun,
    asked: &Asked,
    known: impl FnOnce(Vec<Layout>) -> usize,
    full: &SyncSender<Block>,
    spare: &Receiver<Vec<u8>>,
    progress: &Progress,
) -> Result<u64, String> {
    let name = &begun.file.name;
    let failed = |error: io::Error| format!("{name} cannot be read: {error}");
    let mut input = match &begun.file.path {
        Some(path) => open_from(path, begun.read),
        None => unpacked(io::stdin()),
    };
    let input = input.as_mut().map_err(|error| failed(io::Error::new(error.kind(), error.to_string())))?;
    let mut blocks = Blocks::new(asked.leaves_open_line);
    let Some(first) = blocks.next(input, Vec::new()).map_err(failed)? else {
        // Of an emptied log nothing is said when it was read before.
        known(asked.layouts.iter().take(1).filter(|_| asked.layouts.len() == 1).cloned().collect());
        return Ok(0);
    };
    let source = known(layouts_for(name, &asked.layouts, &first)?);
    let mut next = Some(first);
    let mut number = 0;
    while let Some(octets) = next {
        let directives = blocks.directives();
        blocks.note(&octets);
        progress.read(octets.len() as u64);
        if full.send(Block { source, number, directives, octets }).is_err() {
            return Err(format!("{name} could not be read to its end"));
        }
        number += 1;
        next = blocks.next(input, spare.try_recv().unwrap_or_default()).map_err(failed)?;
    }
    Ok(blocks.octets)
}

/// The layout that fits best, then all others for lines that it does not read. One that was asked for is not doubted.
fn layouts_for(name: &str, layouts: &[Layout], first: &[u8]) -> Result<Vec<Layout>, String> {
    let mut layouts = layouts.to_vec();
    if layouts.len() == 1 {
        return Ok(layouts);
    }
    let lines: Vec<&[u8]> = first
        .split(|octet| *octet == b'\n')
        .map(|line| line.strip_suffix(b"\r").unwrap_or(line))
        .filter(|line| !line.is_empty())
        .take(SAMPLE)
        .collect();
    match detect(&layouts, &lines) {
        Some(fit) => {
            let found = layouts.remove(fit.layout);
            layouts.insert(0, found);
            Ok(layouts)
        }
        None if lines.is_empty() => Ok(layouts),
        None => Err(no_layout(name, &lines, &layouts)),
    }
}

fn no_layout(name: &str, lines: &[&[u8]], layouts: &[Layout]) -> String {
    let names: Vec<&str> = layouts.iter().map(|layout| layout.name.as_str()).collect();
    let mut words = format!("{name}: no layout fits (tried {}). It begins:\n", names.join(", "));
    for line in lines.iter().take(SHOWN) {
        let mut shown = Vec::new();
        escape::write(&line[..line.len().min(90)], false, &mut shown);
        words.push_str("    ");
        words.push_str(&String::from_utf8_lossy(&shown).replace("\\\"", "\""));
        words.push_str(if line.len() > 90 { "…\n" } else { "\n" });
    }
    words.push_str(
        "Write one with --layout, as in --layout '{client} [{time}] \"{method} {target} {protocol}\" {status}', and see with \
         `exedra layout` how it reads.",
    );
    words
}

fn join(shares: Vec<Share>, sources: Vec<Source>, failures: Vec<String>) -> ReadAll {
    let mut all = Share::default();
    for share in shares {
        all.survey.merge(share.survey);
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
    let lines = Lines { read: all.read, unread: unread_lines, reasons };
    ReadAll { survey: all.survey, lines, sources, failures, passed_over: Vec::new(), read: Vec::new() }
}
