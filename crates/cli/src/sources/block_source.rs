//! All sources as one stream of blocks, taken by whichever thread is free.
//!
//! Opening, finding the layout, unpacking and reading happen when a thread asks for its next block, one thread at a time. So a
//! compressed log is unpacked by one thread while the others read lines, and no thread does nothing but wait.

use super::asked::{Asked, Source};
use super::beginning::{Beginning, before};
use super::blocks::Blocks;
use super::bookmark::{ALL, Begun, open_from};
use super::packed::{Unpacked, no_text, unpacked};
use super::progress::Progress;
use exedra_common::Projection;
use exedra_common::columns::Unit;
use exedra_reading::errors::{Likeness, likeness};
use exedra_reading::logs::detect::{Understood, understand};
use exedra_reading::logs::layout::Hints;
use exedra_reading::logs::search::roles::Confidence;
use exedra_reading::logs::search::{Found, Given, Recognised, search};
use exedra_reading::logs::{Layout, LineReader, escape};
use std::borrow::Borrow;
use std::io;
use std::path::PathBuf;
use std::sync::Arc;

/// How many lines are looked at to find the layout.
const SAMPLE: usize = 200;
/// How many lines of a log that cannot be read are shown.
const SHOWN: usize = 3;

/// A block of whole lines, and what must be known to read them.
pub struct Block {
    /// Place of its source in their order.
    pub source: usize,
    /// Its place in the source, from 0.
    pub number: u64,
    /// Lines that stand before it and say something about its own.
    pub directives: Arc<[Vec<u8>]>,
    /// The layouts of its source, the one that fits best first.
    pub layouts: Arc<[Layout]>,
    /// The lines.
    pub octets: Vec<u8>,
    /// How far the source has been read with them: octets from its beginning, before compression.
    pub until: u64,
}

/// What has been read, and what is left.
///
/// What is asked for and the progress are borrowed, or shared where nobody waits for the end.
pub struct BlockSource<A, P> {
    asked: A,
    progress: P,
    /// The next file to be opened, by its place.
    next: usize,
    open: Option<Open>,
    /// The sources that could be read.
    pub sources: Vec<Source>,
    /// What was wrong with the others.
    pub failures: Vec<String>,
    /// Files of a folder that are no logs.
    pub passed_over: Vec<String>,
    /// Which files were read, and how far, in octets before compression.
    pub read: Vec<(Option<PathBuf>, u64)>,
}

/// The source at hand.
struct Open {
    begun: Begun,
    input: Unpacked<'static>,
    blocks: Blocks,
    layouts: Arc<[Layout]>,
    next: u64,
}

impl<A: Borrow<Asked>, P: Borrow<Progress>> BlockSource<A, P> {
    /// Begins with the first source.
    pub fn new(asked: A, progress: P) -> Self {
        BlockSource {
            asked,
            progress,
            next: 0,
            open: None,
            sources: Vec::new(),
            failures: Vec::new(),
            passed_over: Vec::new(),
            read: Vec::new(),
        }
    }

    /// The next block, in memory that was used before; `None` when all has been read.
    pub fn next(&mut self, spare: Vec<u8>) -> Option<Block> {
        let mut spare = spare;
        loop {
            if self.open.is_none() {
                let begun = self.asked.borrow().files.get(self.next)?.clone();
                self.next += 1;
                if begun.read == ALL {
                    continue;
                }
                match self.begin(&begun) {
                    Ok(Some(block)) => return Some(block),
                    Ok(None) => continue,
                    Err(words) if begun.file.incidental => {
                        let name = &begun.file.name;
                        // Of a few kinds it is said what they are, of the rest that they are no logs of requests.
                        let kind = ["error log", "ZIP archive", "tar archive", "binary file"];
                        let kind = kind.iter().find(|kind| words.contains(**kind));
                        self.passed_over.push(kind.map_or(name.clone(), |kind| format!("{name} ({kind})")));
                    }
                    Err(words) => self.failures.push(words),
                }
                continue;
            }
            match self.go_on(std::mem::take(&mut spare)) {
                Some(block) => return Some(block),
                None => continue,
            }
        }
    }

    /// Opens a source and gives its first block, if it has any lines.
    fn begin(&mut self, begun: &Begun) -> Result<Option<Block>, String> {
        let asked = self.asked.borrow();
        let name = &begun.file.name;
        let failed = |error: io::Error| format!("{name} cannot be read: {error}");
        let mut input = match &begun.file.path {
            Some(path) => open_from(path, begun.read),
            None => unpacked(io::stdin()),
        }
        .map_err(failed)?;
        let before = match &begun.file.path {
            Some(path) => before(path, begun.read).map_err(failed)?,
            None => Beginning::default(),
        };
        let mut blocks = Blocks::new(asked.leaves_open_line).behind(&before.directives);
        let Some(first) = blocks.next(&mut input, Vec::new()).map_err(failed)? else {
            // Of an emptied log nothing is said when it was read before.
            let only = Some(&asked.layouts).filter(|layouts| layouts.len() == 1);
            let layout = only.map_or(String::new(), |layouts| layouts[0].name.clone());
            self.sources.push(source(begun, layout));
            self.read.push((begun.file.path.clone(), begun.read));
            return Ok(None);
        };
        if let Some(words) = no_text(&first) {
            return Err(format!("{name} {words}"));
        }
        let given = Given { near: begun.file.written(), durations: asked.durations };
        // Of a log that is read on it is known how it begins.
        let sample = if before.first.is_empty() { &first } else { &before.first };
        let (layouts, remarks) = layouts_for(name, &asked.layouts, sample, &given)?;
        let layout = layouts.first().map_or(String::new(), |layout| layout.name.clone());
        self.sources.push(Source { remarks, ..source(begun, layout) });
        self.open = Some(Open { begun: begun.clone(), input, blocks, layouts: layouts.into(), next: 0 });
        Ok(self.hand_over(first))
    }

    /// The next block of the source at hand; at its end it is put away.
    fn go_on(&mut self, spare: Vec<u8>) -> Option<Block> {
        let open = self.open.as_mut()?;
        match open.blocks.next(&mut open.input, spare) {
            Ok(Some(octets)) => return self.hand_over(octets),
            Ok(None) => {
                let read = open.begun.read + open.blocks.octets;
                self.read.push((open.begun.file.path.clone(), read));
                if let (Some(damage), Some(source)) = (open.input.damage(), self.sources.last_mut()) {
                    source.remarks.push(format!(
                        "{} ends before its end ({damage}): what stands before that was read",
                        source.name
                    ));
                }
            }
            Err(error) => self.failures.push(format!("{} cannot be read: {error}", open.begun.file.name)),
        }
        self.open = None;
        None
    }

    fn hand_over(&mut self, octets: Vec<u8>) -> Option<Block> {
        let source = self.sources.len() - 1;
        let open = self.open.as_mut()?;
        let directives = open.blocks.directives();
        // Whoever reads no such lines need not look for them.
        if open.layouts.iter().any(Layout::is_extended) {
            open.blocks.note(&octets);
        }
        self.progress.borrow().read(octets.len() as u64);
        let number = open.next;
        open.next += 1;
        let until = open.begun.read + open.blocks.octets;
        Some(Block { source, number, directives, layouts: Arc::clone(&open.layouts), octets, until })
    }
}

fn source(begun: &Begun, layout: String) -> Source {
    let file = &begun.file;
    Source {
        name: file.name.clone(),
        layout,
        site: file.site.clone(),
        server: file.server.clone(),
        remarks: Vec::new(),
        requests: 0,
        bytes: 0,
    }
}

/// The lines of a block, without their ends and those that are empty.
pub fn lines(block: &[u8]) -> impl Iterator<Item = &[u8]> {
    let block = block.strip_prefix(b"\xef\xbb\xbf").unwrap_or(block);
    let lines = block.split(|octet| *octet == b'\n').map(|line| line.strip_suffix(b"\r").unwrap_or(line));
    lines.filter(|line| !line.is_empty())
}

/// The layouts of a log that begins with a block, the one that fits best first, and what was guessed. One that was asked for is the
/// only one, and must read something.
pub fn layouts_for(
    name: &str,
    layouts: &[Layout],
    first: &[u8],
    given: &Given,
) -> Result<(Vec<Layout>, Vec<String>), String> {
    if let [only] = layouts {
        let known = understand(layouts, &lines(first).take(SAMPLE).collect::<Vec<_>>(), given);
        let hints = Hints { near: given.near, durations: given.durations, ..only.hints.clone() };
        let (only, remarks) = match known {
            // Its durations are looked at, and nothing else.
            Some(known) if known.found.is_empty() => (known.layouts[0].clone(), durations_of(&known)),
            _ => (only.clone().with(hints), Vec::new()),
        };
        let mut reader = LineReader::new(std::slice::from_ref(&only), Projection::everything());
        let mut is_read = lines(first).any(|line| !line.starts_with(b"#") && reader.reads(line));
        // Lines about the log itself are none that could be read.
        is_read |= lines(first).all(|line| line.starts_with(b"#"));
        return match is_read {
            true => Ok((vec![only], remarks)),
            false => Err(no_layout(name, &lines(first).take(SHOWN).collect::<Vec<_>>(), layouts)),
        };
    }
    let lines: Vec<&[u8]> = lines(first).take(SAMPLE).collect();
    match understand(layouts, &lines, given) {
        Some(known) => {
            let mut remarks: Vec<String> =
                known.found.iter().map(|found| found_layout(&found.layout)).collect();
            remarks.extend(known.found.iter().flat_map(|found| guesses(found, name)));
            remarks.extend(durations_of(&known));
            Ok((known.layouts, remarks))
        }
        None if lines.is_empty() => Ok((layouts.to_vec(), Vec::new())),
        None if likeness(&lines) != Likeness::None => {
            Err(format!("{name} is an error log and holds no requests: `exedra errors {name}` reads it"))
        }
        None => Err(no_layout(name, &lines, layouts)),
    }
}

/// That a layout was made for a log, in words.
pub fn found_layout(layout: &Layout) -> String {
    let within =
        layout.hints.within.as_ref().map_or(String::new(), |key| format!(", within the JSON key {key}"));
    let keys: Vec<String> =
        layout.hints.keys.iter().map(|(key, place)| format!("{key} is {place}")).collect();
    let keys = if keys.is_empty() { String::new() } else { format!(", where {}", keys.join(", ")) };
    format!("layout found by its parts{within}: {}{keys}", layout.template)
}

/// What is unsure about a layout that was made, in words.
fn guesses(found: &Found, name: &str) -> Vec<String> {
    let is_guess = |place: &&Recognised| place.confidence == Confidence::Unsure && place.place != "{skip}";
    let words = |place: &Recognised| {
        format!("{} is a guess ({}): `exedra layout {name}` shows it", place.place, place.reason)
    };
    found.places.iter().filter(is_guess).map(words).collect()
}

fn durations_of(known: &Understood) -> Vec<String> {
    let words = |(unit, reason): &(Unit, String)| {
        format!("durations are read as {} ({reason}); --durations says otherwise", unit.name())
    };
    known.durations.iter().map(words).collect()
}

fn no_layout(name: &str, lines: &[&[u8]], layouts: &[Layout]) -> String {
    let names: Vec<&str> = layouts.iter().map(|layout| layout.name.as_str()).collect();
    let mut words = format!("{name}: no layout fits (tried {}). It begins:\n", names.join(", "));
    let missing = search(lines, &Given::default()).err().filter(|_| layouts.len() > 1);
    for line in lines.iter().take(SHOWN) {
        let mut shown = Vec::new();
        escape::write(&line[..line.len().min(90)], false, &mut shown);
        words.push_str("    ");
        words.push_str(&String::from_utf8_lossy(&shown).replace("\\\"", "\""));
        words.push_str(if line.len() > 90 { "…\n" } else { "\n" });
    }
    if let Some(missing) = missing {
        words.push_str(&format!("By its parts none could be made: {missing}.\n"));
    }
    words.push_str(
        "Write one with --layout, as in --layout '{client} [{time}] \"{method} {target} {protocol}\" {status}', and see with \
         `exedra layout` how it reads.",
    );
    words
}
