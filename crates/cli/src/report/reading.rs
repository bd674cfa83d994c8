//! Files in blocks of whole lines, over threads.
//!
//! The main thread reads; the others each have a [`LineReader`] and a [`SurveyWorker`] of their own, and
//! meet once, at the end. Blocks travel round between them, so that memory stays the same however long the
//! logs are.

use crate::Failure;
use exedra_core::logs::detect::detect;
use exedra_core::logs::reader::LONGEST_LINE;
use exedra_core::logs::{Layout, LineReader, Unread, escape};
use exedra_core::survey::report::{Lines, UnreadLine, UnreadReason};
use exedra_core::survey::{Survey, SurveyPlan, SurveyWorker};
use serde::Serialize;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read};
use std::sync::mpsc::{Receiver, Sender, SyncSender, channel, sync_channel};
use std::sync::{Mutex, PoisonError};

/// How much is read at a time.
const BLOCK: usize = 1 << 20;
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
}

/// A block of whole lines.
struct Block {
    source: usize,
    number: u64,
    octets: Vec<u8>,
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

/// Reads all sources. One that cannot be read does not keep the others from it, unless it is the only one.
pub fn read(
    names: &[String],
    layout: Option<Layout>,
    plan: &SurveyPlan,
    threads: usize,
) -> Result<ReadAll, Failure> {
    let layouts: Mutex<Vec<Vec<Layout>>> = Mutex::new(Vec::new());
    let (full, blocks) = sync_channel::<Block>(threads);
    let (empty, spare) = channel::<Vec<u8>>();
    let blocks = Mutex::new(blocks);
    let (mut sources, mut failures) = (Vec::new(), Vec::new());
    let shares: Vec<Share> = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..threads)
            .map(|_| {
                let empty = empty.clone();
                let (blocks, layouts) = (&blocks, &layouts);
                scope.spawn(move || work(blocks, &empty, layouts, plan))
            })
            .collect();
        for name in names {
            let known = |found: Vec<Layout>| {
                let mut all = layouts.lock().unwrap_or_else(PoisonError::into_inner);
                sources.push(Source {
                    name: name.clone(),
                    layout: found.first().map_or(String::new(), |layout| layout.name.clone()),
                });
                all.push(found);
                all.len() - 1
            };
            if let Err(words) = read_source(name, layout.as_ref(), known, &full, &spare) {
                failures.push(words);
            }
        }
        drop(full);
        workers.into_iter().filter_map(|worker| worker.join().ok()).collect()
    });
    if sources.is_empty() && !failures.is_empty() {
        return Err(Failure(failures.join("\n")));
    }
    Ok(join(shares, sources, failures))
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
        let Ok(Block { source, number, octets }) = next else { break };
        let reader = readers.entry(source).or_insert_with(|| {
            let layouts = layouts.lock().unwrap_or_else(PoisonError::into_inner);
            LineReader::new(&layouts[source], plan.projection())
        });
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

fn read_source(
    name: &str,
    layout: Option<&Layout>,
    known: impl FnOnce(Vec<Layout>) -> usize,
    full: &SyncSender<Block>,
    spare: &Receiver<Vec<u8>>,
) -> Result<(), String> {
    let mut input = open(name)?;
    let mut blocks = Blocks { rest: Vec::new(), skipping: false };
    let failed = |error: io::Error| format!("{name} cannot be read: {error}");
    let Some(first) = blocks.next(&mut input, Vec::new()).map_err(failed)? else {
        known(layout.cloned().into_iter().collect());
        return Ok(());
    };
    let source = known(layouts_for(name, layout, &first)?);
    let mut next = Some(first);
    let mut number = 0;
    while let Some(octets) = next {
        if full.send(Block { source, number, octets }).is_err() {
            return Err(format!("{name} could not be read to its end"));
        }
        number += 1;
        next = blocks.next(&mut input, spare.try_recv().unwrap_or_default()).map_err(failed)?;
    }
    Ok(())
}

fn open(name: &str) -> Result<Box<dyn Read>, String> {
    if name == "-" {
        return Ok(Box::new(io::stdin()));
    }
    let file = File::open(name).map_err(|error| match error.kind() {
        io::ErrorKind::NotFound => format!("there is no file {name}"),
        _ => format!("{name} cannot be read: {error}"),
    })?;
    match file.metadata() {
        Ok(found) if found.is_dir() => {
            Err(format!("{name} is a folder: name the logs in it, as in {name}/*.log"))
        }
        _ => unpacked(name, file),
    }
}

/// A file as it was before it was compressed, found by how it begins and not by its name.
fn unpacked(name: &str, mut file: File) -> Result<Box<dyn Read>, String> {
    let failed = |error: io::Error| format!("{name} cannot be read: {error}");
    let mut beginning = Vec::new();
    file.by_ref().take(4).read_to_end(&mut beginning).map_err(failed)?;
    let whole = io::Cursor::new(beginning.clone()).chain(file);
    Ok(match beginning[..] {
        [0x1f, 0x8b, ..] => Box::new(flate2::read::MultiGzDecoder::new(whole)),
        [0x28, 0xb5, 0x2f, 0xfd] => Box::new(zstd::Decoder::new(whole).map_err(failed)?),
        _ => Box::new(whole),
    })
}

/// The layout that fits best, then all others for lines that it does not read.
fn layouts_for(name: &str, given: Option<&Layout>, first: &[u8]) -> Result<Vec<Layout>, String> {
    if let Some(layout) = given {
        return Ok(vec![layout.clone()]);
    }
    let mut layouts = Layout::all_named();
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
        None => Err(no_layout(name, first, &lines, &layouts)),
    }
}

fn no_layout(name: &str, first: &[u8], lines: &[&[u8]], layouts: &[Layout]) -> String {
    let names: Vec<&str> = layouts.iter().map(|layout| layout.name.as_str()).collect();
    let mut words = format!("{name}: no layout fits (tried {}). It begins:\n", names.join(", "));
    for line in lines.iter().take(SHOWN) {
        let mut shown = Vec::new();
        escape::write(&line[..line.len().min(90)], false, &mut shown);
        words.push_str("    ");
        words.push_str(&String::from_utf8_lossy(&shown).replace("\\\"", "\""));
        words.push_str(if line.len() > 90 { "…\n" } else { "\n" });
    }
    let packed = [(&b"BZh"[..], "bzip2"), (b"\xfd7zXZ", "xz")];
    match packed.iter().find(|(magic, _)| first.starts_with(magic)) {
        Some((_, codec)) => {
            words.push_str(&format!("It is compressed with {codec}: unpack it first, as in `{codec} -dc FILE | exedra report -`."));
        }
        None => words.push_str("Write one with --layout, as in --layout '{client} [{time}] \"{method} {target} {protocol}\" {status}'."),
    }
    words
}

/// Cuts what comes into blocks of whole lines.
struct Blocks {
    rest: Vec<u8>,
    skipping: bool,
}

impl Blocks {
    /// The next block, in memory that was used before; `None` at the end.
    fn next(&mut self, input: &mut dyn Read, mut block: Vec<u8>) -> io::Result<Option<Vec<u8>>> {
        block.clear();
        block.append(&mut self.rest);
        loop {
            let filled = block.len();
            block.resize(filled.max(BLOCK / 2) + BLOCK / 2, 0);
            let read = fill(input, &mut block[filled..])?;
            let at_end = filled + read < block.len();
            block.truncate(filled + read);
            if self.skipping {
                // The beginning of this line has been handed over and counted; the rest of it goes.
                let end = memchr::memchr(b'\n', &block).map_or(block.len(), |end| end + 1);
                self.skipping = end == block.len() && !at_end && !block.ends_with(b"\n");
                block.drain(..end);
            }
            if at_end {
                return Ok((!block.is_empty()).then_some(block));
            }
            if let Some(last) = memchr::memrchr(b'\n', &block) {
                self.rest.extend_from_slice(&block[last + 1..]);
                block.truncate(last + 1);
                return Ok(Some(block));
            }
            if block.len() > LONGEST_LINE {
                block.truncate(LONGEST_LINE + 1);
                self.skipping = true;
                return Ok(Some(block));
            }
        }
    }
}

fn fill(input: &mut dyn Read, block: &mut [u8]) -> io::Result<usize> {
    let mut filled = 0;
    while filled < block.len() {
        match input.read(&mut block[filled..]) {
            Ok(0) => break,
            Ok(read) => filled += read,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(filled)
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
    ReadAll { survey: all.survey, lines, sources, failures }
}
