//! Requests that come in while somebody looks: files are read on as they grow, also when they are rotated meanwhile.
//!
//! A log that is renamed is read to its end before the new one of its name is begun; one that is emptied begins anew. Whether a log
//! has grown is asked a few times a second: what tells it sooner is not there on every file system that logs lie on.

use crate::failure::Failure;
use crate::sources::Asked;
use crate::sources::beginning::before;
use crate::sources::block_source::layouts_for;
use crate::sources::bookmark::ALL;
use exedra_common::scope::RowFilter;
use exedra_common::tables::{Cell, Table};
use exedra_common::{Dictionaries, Projection, RequestBatch};
use exedra_reading::logs::LineReader;
use exedra_reading::logs::search::Given;
use exedra_reading::requests::RequestColumns;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;
use std::time::Duration;

/// How often logs are looked at.
const EVERY: Duration = Duration::from_millis(200);
/// How much is read at a time.
const MOST: usize = 1 << 20;

/// Whoever reads on.
pub struct Follower<'a> {
    asked: &'a Asked,
    projection: Projection,
    listed: RequestColumns,
    table: Table,
    filter: RowFilter,
    texts: Dictionaries,
    files: Vec<Growing>,
}

/// A log that may grow.
struct Growing {
    path: PathBuf,
    /// The file as it was opened, whatever it is called by now.
    file: Option<File>,
    read: u64,
    /// Lines that have begun.
    rest: Vec<u8>,
    reader: Option<LineReader>,
}

impl<'a> Follower<'a> {
    /// Goes on where files were read to.
    pub fn new(
        asked: &'a Asked,
        read: &[(Option<PathBuf>, u64)],
        projection: Projection,
        listed: RequestColumns,
        filter: impl Fn() -> RowFilter,
    ) -> Result<Self, Failure> {
        let mut files = Vec::new();
        for (path, read) in read.iter().filter_map(|(path, read)| Some((path.clone()?, *read))) {
            let mut file = File::open(&path).ok();
            let is_packed = match &mut file {
                Some(file) => crate::sources::packed::is_packed(file).unwrap_or(false),
                None => false,
            };
            // Nobody writes on to a log that has been compressed.
            if !is_packed && read != ALL {
                files.push(Growing { path, file, read, rest: Vec::new(), reader: None });
            }
        }
        if files.is_empty() {
            let reason =
                "none of these sources is a log that grows: standard input and compressed logs have an end";
            return Err(Failure(format!("there is nothing to follow: {reason}")));
        }
        let (table, filter, texts) = (listed.table(), filter(), Dictionaries::default());
        Ok(Follower { asked, projection, listed, table, filter, texts, files })
    }

    /// Reads on until whoever reads the output has gone.
    pub fn run(mut self, mut put: impl FnMut(&Table, &[Cell]) -> Result<(), Failure>) -> Result<(), Failure> {
        loop {
            let mut all: Vec<(i64, Vec<Cell>)> = Vec::new();
            let mut is_quiet = true;
            for place in 0..self.files.len() {
                let lines = self.files[place].lines();
                is_quiet &= lines.is_empty();
                if !lines.is_empty() {
                    self.read(place, &lines, &mut all);
                }
            }
            // Logs that grow at the same time are told in order as far as they were read together.
            all.sort_by_key(|(time, _)| *time);
            all.iter().try_for_each(|(_, cells)| put(&self.table, cells))?;
            if is_quiet {
                std::thread::sleep(EVERY);
            }
        }
    }

    fn read(&mut self, place: usize, lines: &[u8], all: &mut Vec<(i64, Vec<Cell>)>) {
        let Follower { asked, projection, listed, table, filter, texts, files } = self;
        let growing = &mut files[place];
        if growing.reader.is_none() {
            growing.reader = growing.reader(asked, lines, *projection);
        }
        let Some(reader) = &mut growing.reader else { return };
        let unread = reader.unread.lines();
        let (mut at, mut line) = (0, 0);
        while at < lines.len() {
            let mut batch = RequestBatch::default();
            at += reader.read_block(&lines[at..], 0, &mut line, &mut batch, texts);
            for row in (0..batch.rows()).filter(|row| filter.keeps(&batch, *row, texts)).collect::<Vec<_>>() {
                all.push((batch.time[row], listed.cells(table, &batch, row, texts)));
            }
        }
        if unread == 0 && reader.unread.lines() > 0 {
            let example = reader.unread.examples.values().flatten().next();
            let example = example.map_or(String::new(), |example| format!(", as this one: {}", example.text));
            crate::out::note!("{}: there are lines that cannot be read{example}", growing.path.display());
        }
        if texts.are_full() {
            *texts = Dictionaries::default();
            filter.forget();
        }
    }
}

impl Growing {
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
