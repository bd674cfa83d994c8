//! A log that may grow: read on as more is written to it, also when it is rotated meanwhile.
//!
//! A log that is renamed is read to its end before the new one of its name is begun; one that is emptied begins anew. Whether a log
//! has grown is asked a few times a second by whoever follows it: what tells it sooner is not there on every file system that logs lie
//! on.

use super::Asked;
use super::beginning::before;
use super::block_source::layouts_for;
use super::packed::is_packed;
use exedra_common::{Dictionaries, Projection, RequestBatch};
use exedra_reading::logs::LineReader;
use exedra_reading::logs::search::Given;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;
use std::time::Duration;

/// How often logs are looked at.
pub const EVERY: Duration = Duration::from_millis(200);
/// How much is read at a time.
const MOST: usize = 1 << 20;

/// A log that may grow.
pub struct Growing {
    path: PathBuf,
    /// The file as it was opened, whatever it is called by now.
    file: Option<File>,
    read: u64,
    /// Lines that have begun.
    rest: Vec<u8>,
    reader: Option<LineReader>,
    /// Whether reading begins in the middle of a line, which is nobody's.
    begins_within: bool,
    told: Option<String>,
}

impl Growing {
    /// A log that has been read up to an octet. `None` where it is compressed: nobody writes on to such a one.
    pub fn open(path: PathBuf, read: u64) -> Option<Self> {
        let mut file = File::open(&path).ok();
        let is_packed = file.as_mut().is_some_and(|file| is_packed(file).unwrap_or(false));
        let begins_within = false;
        (!is_packed).then_some(Growing {
            path,
            file,
            read,
            rest: Vec::new(),
            reader: None,
            begins_within,
            told: None,
        })
    }

    /// The same, from so many octets before its end on.
    pub fn near_its_end(path: PathBuf, octets: u64) -> Option<Self> {
        let length = std::fs::metadata(&path).map_or(0, |found| found.len());
        let read = length.saturating_sub(octets);
        Some(Growing { begins_within: read > 0, ..Growing::open(path, read)? })
    }

    /// Reads lines that have come in, and hands them on batch by batch: whether there were any. The first that cannot be read is
    /// told of.
    pub fn read_batches(
        &mut self,
        asked: &Asked,
        projection: Projection,
        texts: &mut Dictionaries,
        mut each: impl FnMut(RequestBatch, &mut Dictionaries),
    ) -> bool {
        let mut lines = self.lines();
        if std::mem::take(&mut self.begins_within) {
            match memchr::memchr(b'\n', &lines) {
                Some(end) => drop(lines.drain(..=end)),
                None => self.begins_within = lines.is_empty(),
            }
        }
        if lines.is_empty() {
            return false;
        }
        if self.reader.is_none() {
            self.reader = self.reader(asked, &lines, projection);
        }
        let Some(reader) = &mut self.reader else { return true };
        let unread = reader.unread.lines();
        let (mut at, mut line) = (0, 0);
        while at < lines.len() {
            let mut batch = RequestBatch::default();
            at += reader.read_block(&lines[at..], 0, &mut line, &mut batch, texts);
            each(batch, texts);
        }
        if unread == 0 && reader.unread.lines() > 0 {
            let example = reader.unread.examples.values().flatten().next();
            let example = example.map_or(String::new(), |example| format!(", as this one: {}", example.text));
            self.told =
                Some(format!("{}: there are lines that cannot be read{example}", self.path.display()));
        }
        true
    }

    /// What there is to say of its lines, once.
    pub fn remark(&mut self) -> Option<String> {
        self.told.take()
    }

    /// What reads the log: its layouts are found by how it begins, or by these lines where it has only begun.
    fn reader(&self, asked: &Asked, lines: &[u8], projection: Projection) -> Option<LineReader> {
        let begins = self.read.saturating_sub((self.rest.len() + lines.len()) as u64);
        let beginning = before(&self.path, begins).unwrap_or_default();
        let near = Some(jiff::Timestamp::now().as_millisecond());
        let given = Given { near, durations: asked.durations };
        let name = self.path.display().to_string();
        let found = [&beginning.first[..], lines]
            .into_iter()
            .filter(|lines| !lines.is_empty())
            .find_map(|lines| layouts_for(&name, &asked.layouts, lines, &given).ok());
        let mut reader = LineReader::new(&found?.0, projection);
        beginning.directives.iter().for_each(|line| reader.directive(line));
        Some(reader)
    }

    /// Whole lines that have come in.
    fn lines(&mut self) -> Vec<u8> {
        let mut octets = std::mem::take(&mut self.rest);
        let before = octets.len();
        let is_all = self.read_on(&mut octets);
        if is_all && octets.len() == before {
            self.look_for_another(&mut octets);
        }
        let whole = memchr::memrchr(b'\n', &octets).map_or(0, |last| last + 1);
        self.rest = octets.split_off(whole);
        // A line without an end is nobody's, and does not grow for ever.
        if self.rest.len() > MOST {
            self.rest.clear();
        }
        octets
    }

    /// The file has been read to its end: perhaps another has its name now, or it was emptied.
    fn look_for_another(&mut self, octets: &mut Vec<u8>) {
        let other = std::fs::metadata(&self.path).ok().map(|found| (found.dev(), found.ino(), found.len()));
        let own =
            self.file.as_ref().and_then(|file| file.metadata().ok()).map(|found| (found.dev(), found.ino()));
        match (own, other) {
            // What was left of the old one is a line of its own.
            (own, Some((device, inode, _))) if own != Some((device, inode)) && !octets.is_empty() => {
                octets.push(b'\n');
            }
            (own, Some((device, inode, _))) if own != Some((device, inode)) => {
                (self.file, self.read, self.reader) = (File::open(&self.path).ok(), 0, None);
                self.read_on(octets);
            }
            (Some(_), Some((_, _, length))) if length < self.read => {
                (self.read, self.reader) = (0, None);
                octets.clear();
                self.read_on(octets);
            }
            _ => {}
        }
    }

    /// Reads what has come in, so much at a time; says whether that was all.
    fn read_on(&mut self, octets: &mut Vec<u8>) -> bool {
        let Some(file) = &mut self.file else { return true };
        let before = octets.len();
        if file.seek(SeekFrom::Start(self.read)).is_ok() {
            let _ = file.take(MOST as u64).read_to_end(octets);
        }
        let read = octets.len() - before;
        self.read += read as u64;
        read < MOST
    }
}
