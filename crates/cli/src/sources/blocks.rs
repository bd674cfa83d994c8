//! Blocks of whole lines, in memory that is used again.
//!
//! Lines that say something about the lines after them (`#Fields:`, `#Date:` of the extended format) travel with each
//! block that they hold for, so that blocks can be read by whichever thread is free.

use exedra_reading::logs::reader::LONGEST_LINE;
use exedra_reading::logs::w3c::{DATE, FIELDS};
use std::io::{self, ErrorKind, Read};
use std::sync::Arc;

/// How much is read at a time.
pub const BLOCK: usize = 1 << 20;

/// Cuts what comes into blocks.
pub struct Blocks {
    rest: Vec<u8>,
    skipping: bool,
    /// Whether a last line without its end is left for later: somebody is still writing it.
    leaves_open_line: bool,
    /// The last line that listed fields, and the last that said a day.
    directives: [Vec<u8>; 2],
    known: Arc<[Vec<u8>]>,
    /// Octets of whole lines that have been handed over.
    pub octets: u64,
}

impl Blocks {
    /// Begins with nothing.
    pub fn new(leaves_open_line: bool) -> Self {
        Blocks {
            rest: Vec::new(),
            skipping: false,
            leaves_open_line,
            directives: [Vec::new(), Vec::new()],
            known: Arc::new([]),
            octets: 0,
        }
    }

    /// The same, behind lines that say something about what follows them.
    pub fn behind(mut self, directives: &[Vec<u8>]) -> Self {
        directives.iter().for_each(|line| self.note(line));
        self
    }

    /// What stands before the next block and says something about its lines.
    pub fn directives(&self) -> Arc<[Vec<u8>]> {
        Arc::clone(&self.known)
    }

    /// Takes note of what a block, which has been handed over, says about those after it.
    pub fn note(&mut self, block: &[u8]) {
        let mut changed = false;
        // There are few of these in any log, so that to look for them is quicker than to look for ends of lines.
        let signs = memchr::memchr_iter(b'#', block);
        for at in signs.filter(|at| *at == 0 || block[*at - 1] == b'\n') {
            let Some(place) = [FIELDS, DATE].iter().position(|begin| block[at..].starts_with(begin)) else {
                continue;
            };
            let end = memchr::memchr(b'\n', &block[at..]).map_or(block.len(), |length| at + length);
            self.directives[place] = block[at..end].trim_ascii_end().to_vec();
            changed = true;
        }
        if changed {
            self.known = self.directives.iter().filter(|line| !line.is_empty()).cloned().collect();
        }
    }

    /// The next block, in memory that was used before; `None` at the end.
    pub fn next(&mut self, input: &mut dyn Read, mut block: Vec<u8>) -> io::Result<Option<Vec<u8>>> {
        let mut filled = self.rest.len();
        loop {
            // What the memory holds from before is written over, and not made empty first.
            let length = filled.max(BLOCK / 2) + BLOCK / 2;
            block.truncate(length);
            block.resize(length, 0);
            block[..self.rest.len()].copy_from_slice(&self.rest);
            self.rest.clear();
            let read = fill(input, &mut block[filled..])?;
            let at_end = filled + read < block.len();
            block.truncate(filled + read);
            if self.skipping {
                // The beginning of this line has been handed over and counted; the rest of it goes.
                let end = memchr::memchr(b'\n', &block).map_or(block.len(), |end| end + 1);
                self.skipping = end == block.len() && !at_end && !block.ends_with(b"\n");
                self.octets += end as u64;
                block.drain(..end);
            }
            let whole = memchr::memrchr(b'\n', &block).map(|last| last + 1);
            if at_end {
                if self.leaves_open_line {
                    block.truncate(whole.unwrap_or(0));
                }
                self.octets += block.len() as u64;
                return Ok((!block.is_empty()).then_some(block));
            }
            if let Some(whole) = whole {
                self.rest.extend_from_slice(&block[whole..]);
                block.truncate(whole);
                self.octets += block.len() as u64;
                return Ok(Some(block));
            }
            if block.len() > LONGEST_LINE {
                self.octets += block.len() as u64;
                block.truncate(LONGEST_LINE + 1);
                self.skipping = true;
                return Ok(Some(block));
            }
            filled = block.len();
        }
    }
}

fn fill(input: &mut dyn Read, block: &mut [u8]) -> io::Result<usize> {
    let mut filled = 0;
    while filled < block.len() {
        match input.read(&mut block[filled..]) {
            Ok(0) => break,
            Ok(read) => filled += read,
            Err(error) if error.kind() == ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(filled)
}
