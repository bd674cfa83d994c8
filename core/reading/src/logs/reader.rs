//! Lines into batches, each by the layout that fits, counting what could not be read.
//!
//! A reading never fails on a bad line: it is counted by reason, and the first of each kind are kept to be
//! shown. One file may hold several layouts in turn (a server was reconfigured): each line is read by the first that
//! fits. They are always tried in the same order, so that it makes no difference where a log is cut into blocks.
//!
//! ```
//! use exedra_common::{Dictionaries, RequestBatch};
//! use exedra_reading::logs::{Layout, LineReader};
//! let log = "192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] \"GET / HTTP/1.1\" 200 512\nfog\n";
//! let mut reader = LineReader::new(&Layout::all_named(), exedra_common::Projection::everything());
//! let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
//! reader.read_block(log.as_bytes(), 0, &mut 0, &mut batch, &mut texts);
//! assert_eq!(batch.rows(), 1);
//! assert_eq!(reader.unread.lines(), 1);
//! ```

use super::codes::{Shared, TOGETHER, add_codes};
use super::cut::{Cut, Reason, Stop};
use super::cutter::Cutter;
use super::escape;
use super::layout::Layout;
use super::line_filter::LineFilter;
use super::marks::Marks;
use exedra_common::batch::{BATCH_ROWS, RequestBatch};
use exedra_common::columns::Projection;
use exedra_common::{Dictionaries, Origin};
use std::borrow::Cow;
use std::collections::BTreeMap;

/// The longest line that is looked at, in octets.
pub const LONGEST_LINE: usize = 64 << 10;
/// How many lines of each reason are kept to be shown.
const MOST_EXAMPLES: usize = 3;
/// How much of an unread line is kept to be shown, in octets.
const EXAMPLE_LENGTH: usize = 200;

/// A line that could not be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Example {
    /// Which block of the source it stands in, counted from 0.
    pub block: u64,
    /// Its place within that block, counted from 0.
    pub line: u64,
    /// Where reading stopped, in octets from its beginning.
    pub at: usize,
    /// The line, or its beginning, made safe to show.
    pub text: String,
}

/// The lines that could not be read.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Unread {
    /// How many, by reason.
    pub counts: BTreeMap<Reason, u64>,
    /// The first of each kind.
    pub examples: BTreeMap<Reason, Vec<Example>>,
}

impl Unread {
    /// How many in all.
    pub fn lines(&self) -> u64 {
        self.counts.values().sum()
    }

    /// Takes in what another reader of the same source could not read.
    pub fn merge(&mut self, other: Unread) {
        for (reason, count) in other.counts {
            *self.counts.entry(reason).or_default() += count;
        }
        for (reason, examples) in other.examples {
            let ours = self.examples.entry(reason).or_default();
            ours.extend(examples);
            ours.sort_by_key(|example| (example.block, example.line));
            ours.truncate(MOST_EXAMPLES);
        }
    }

    fn count(&mut self, stop: Stop, block: u64, line: u64, text: &[u8]) {
        *self.counts.entry(stop.reason).or_default() += 1;
        let examples = self.examples.entry(stop.reason).or_default();
        if examples.len() < MOST_EXAMPLES {
            let mut shown = Vec::new();
            if !text.is_empty() {
                escape::write(&text[..text.len().min(EXAMPLE_LENGTH)], false, &mut shown);
            }
            let text = String::from_utf8_lossy(&shown).replace("\\\"", "\"");
            examples.push(Example { block, line, at: stop.at, text });
        }
    }
}

/// Reads lines into a batch.
#[derive(Debug)]
pub struct LineReader {
    cutters: Vec<Cutter>,
    /// Whether some layout has a line that names its columns.
    has_heading: bool,
    projection: Projection,
    marks: Marks,
    /// Whether cutters leave requests for whoever looks into them.
    puts_off_requests: bool,
    shared: Shared,
    /// Lines that became requests.
    pub read: u64,
    /// Lines that did not.
    pub unread: Unread,
    /// Lines that say something about the log itself: those beginning with `#`.
    pub directives: u64,
}

impl LineReader {
    /// A reader for lines in any of these layouts; the first is tried first.
    pub fn new(layouts: &[Layout], projection: Projection) -> Self {
        let cutters = layouts.iter().map(|layout| Cutter::for_columns(layout, projection)).collect();
        let shared = Default::default();
        let has_heading = layouts.iter().any(|layout| layout.hints.heading.is_some());
        LineReader {
            has_heading,
            cutters,
            projection,
            marks: Marks::default(),
            puts_off_requests: false,
            shared,
            read: 0,
            unread: Unread::default(),
            directives: 0,
        }
    }

    /// The same, for lines of this source.
    pub fn of(mut self, origin: &Origin) -> Self {
        for column in Origin::columns() {
            self.shared[column.index()] = origin.value(column).map(Box::from);
        }
        self
    }

    /// Takes note of a line that begins with `#` and stands before the block that will be read next.
    pub fn directive(&mut self, line: &[u8]) {
        self.cutters.iter_mut().for_each(|cutter| cutter.directive(line));
    }

    /// From now on lines that no layout reads are also tried by this one, until [`LineReader::forget`].
    pub fn try_also(&mut self, layout: &Layout) {
        self.cutters.push(Cutter::for_columns(layout, self.projection));
    }

    /// From now on only the first so many layouts are tried.
    pub fn forget(&mut self, layouts: usize) {
        self.cutters.truncate(layouts);
    }

    /// Whether one of the layouts reads a line; nothing is counted.
    pub fn reads(&mut self, line: &[u8]) -> bool {
        let is_alone = self.cutters.len() == 1;
        line.is_empty()
            || line.starts_with(b"#")
            || self
                .cutters
                .iter_mut()
                .filter(|cutter| is_alone || cutter.applies())
                .any(|cutter| cutter.is_heading(line) || cutter.run(&cutter.unwrapped(line)).is_ok())
    }

    /// Reads whole lines until the block ends or the batch is full, and says how many octets that took.
    ///
    /// `block` and `line` number the first line, for the examples of unread ones. A last line without its
    /// end is read too: whoever follows a growing file must not hand it over.
    pub fn read_block(
        &mut self,
        octets: &[u8],
        block: u64,
        line: &mut u64,
        batch: &mut RequestBatch,
        dictionaries: &mut Dictionaries,
    ) -> usize {
        self.read_lines(octets, (block, line), None, batch, dictionaries)
    }

    /// The same, taking only what a filter keeps into the batch. What it looks at must be among the columns that are read.
    pub fn read_matching(
        &mut self,
        octets: &[u8],
        block: u64,
        line: &mut u64,
        filter: &mut LineFilter,
        batch: &mut RequestBatch,
        dictionaries: &mut Dictionaries,
    ) -> usize {
        self.puts_off_requests = true;
        self.cutters.iter_mut().for_each(Cutter::put_off_requests);
        self.read_lines(octets, (block, line), Some(filter), batch, dictionaries)
    }

    fn read_lines(
        &mut self,
        octets: &[u8],
        (block, line): (u64, &mut u64),
        mut filter: Option<&mut LineFilter>,
        batch: &mut RequestBatch,
        dictionaries: &mut Dictionaries,
    ) -> usize {
        let mut at = 0;
        self.marks.clear();
        let mut lines: Vec<Cow<'_, [u8]>> = Vec::with_capacity(TOGETHER);
        // As many as there are lines; what is behind them is room.
        let mut cuts: Vec<Cut> = vec![Cut::default(); TOGETHER];
        while at < octets.len() && !batch.is_full() {
            let room = TOGETHER.min(BATCH_ROWS - batch.rows());
            let mut read = 0;
            while at < octets.len() && lines.len() < room {
                let cut = &mut cuts[lines.len()];
                *line += 1;
                let text = if let Some(text) = self.cut_ahead(octets, at, cut) {
                    at += text.len();
                    at += if octets[at] == b'\r' { 2 } else { 1 };
                    Cow::Borrowed(text)
                } else {
                    let end = memchr::memchr(b'\n', &octets[at..]).map_or(octets.len(), |length| at + length);
                    let text = &octets[at..end];
                    at = (end + 1).min(octets.len());
                    let text = text.strip_suffix(b"\r").unwrap_or(text);
                    let Some(text) = self.cut(text, block, *line - 1, cut) else { continue };
                    text
                };
                read += 1;
                if let Some(filter) = &mut filter
                    && !filter.may_keep(&text, cut, &self.shared)
                {
                    continue;
                }
                lines.push(text);
            }
            self.read += read;
            match &mut filter {
                Some(filter) => filter.retain(&mut lines, &mut cuts, &self.shared, dictionaries),
                None if self.puts_off_requests => {
                    lines.iter().zip(&mut cuts).for_each(|(line, cut)| cut.look_into_request(line));
                }
                None => {}
            }
            let said = &cuts[..lines.len()];
            batch.time.extend(said.iter().map(|cut| cut.time));
            for column in self.projection.numbers() {
                batch.numbers_mut(column).extend(said.iter().map(|cut| cut.numbers[column.index()]));
            }
            for column in self.projection.texts() {
                add_codes(column, &lines, said, &self.shared, batch, dictionaries);
            }
            lines.clear();
        }
        at
    }

    /// Cuts the line that begins at a place, without having looked for its end, if nothing about it is unusual.
    #[inline]
    fn cut_ahead<'l>(&mut self, octets: &'l [u8], line: usize, cut: &mut Cut) -> Option<&'l [u8]> {
        let first = self.cutters.first_mut().filter(|_| !self.has_heading)?;
        let length = first.run_ahead(octets, line, &mut self.marks, cut)?;
        Some(&octets[line..line + length])
    }

    /// Cuts one line by the plan that fits, or counts it as unread.
    fn cut<'l>(&mut self, text: &'l [u8], block: u64, line: u64, cut: &mut Cut) -> Option<Cow<'l, [u8]>> {
        // What some write before the first line of a file, so that its encoding can be told (RFC 3629 §6).
        let text = match text {
            [0xef, 0xbb, 0xbf, text @ ..] => text,
            text => text,
        };
        if text.len() > LONGEST_LINE {
            let stop = Stop { at: LONGEST_LINE, reason: Reason::TooLong };
            self.unread.count(stop, block, line, text);
            return None;
        }
        let is_heading = || self.cutters.iter().any(|cutter| cutter.is_heading(text));
        if text.starts_with(b"#") || self.has_heading && is_heading() {
            self.directives += 1;
            self.directive(text);
            return None;
        }
        // What is told is where the first layout stopped whose shape the line has; otherwise where the first of all did.
        let mut told: Option<Stop> = None;
        let is_alone = self.cutters.len() == 1;
        for cutter in self.cutters.iter_mut().filter(|cutter| is_alone || cutter.applies()) {
            let text = cutter.unwrapped(text);
            match cutter.run_into(&text, cut) {
                Ok(()) => return Some(text),
                Err(stop) => {
                    let has_shape = stop.reason != Reason::Misfit;
                    if told.is_none_or(|told| told.reason == Reason::Misfit && has_shape) {
                        told = Some(stop);
                    }
                }
            }
        }
        if let Some(stop) = told {
            self.unread.count(stop, block, line, text);
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::logs::{LogTemplate, LoggedRequest};
    use exedra_common::{NumberColumn, TextColumn};
    use proptest::prelude::*;

    fn read(octets: &[u8]) -> (LineReader, RequestBatch, Dictionaries) {
        let mut reader = LineReader::new(&Layout::all_named(), Projection::everything());
        let (mut batch, mut dictionaries) = (RequestBatch::default(), Dictionaries::default());
        let mut line = 0;
        let took = reader.read_block(octets, 0, &mut line, &mut batch, &mut dictionaries);
        assert_eq!(took, octets.len());
        (reader, batch, dictionaries)
    }

    proptest! {
        #[test]
        fn any_octets_are_read_or_counted(octets in proptest::collection::vec(
            prop_oneof![Just(b'\n'), Just(b'"'), Just(b' '), Just(b'\\'), Just(b'#'), any::<u8>()], 0..400))
        {
            let lines = octets.split_inclusive(|octet| *octet == b'\n').count() as u64;
            let (reader, batch, _) = read(&octets);
            prop_assert_eq!(reader.read + reader.unread.lines() + reader.directives, lines);
            prop_assert_eq!(batch.rows() as u64, reader.read);
        }

        #[test]
        fn what_is_written_is_read_back(
            path in "/[^?\\x00]{0,30}", query in proptest::option::of("[^ \\x00]{1,20}"),
            agent in "\\PC{0,40}", referrer in proptest::collection::vec(any::<u8>(), 0..30),
            status in 100u16..600, bytes in 0u64..1 << 50, time in 0i64..4_000_000_000_000,
            layout in prop_oneof![Just("full"), Just("json"), Just("extended")],
        ) {
            let target = match &query { Some(query) => format!("{path}?{query}"), None => path.clone() };
            let request = LoggedRequest::new(time, target.as_bytes())
                .number(NumberColumn::Status, status.into())
                .number(NumberColumn::Bytes, bytes)
                .number(NumberColumn::Duration, 17)
                .text(TextColumn::Client, "2001:db8::7")
                .text(TextColumn::Method, "GET")
                .text(TextColumn::Protocol, "HTTP/1.1")
                .text(TextColumn::Referrer, &referrer)
                .text(TextColumn::Agent, &agent)
                .text(TextColumn::Scheme, "http")
                .text(TextColumn::Host, "a.example")
                .text(TextColumn::Encoding, "br");
            let mut line = Vec::new();
            let layout_written = Layout::understand(layout).unwrap();
            LogTemplate::new(&layout_written).write(&request, &mut line);
            if layout == "extended" {
                prop_assert_eq!(line.iter().filter(|octet| **octet == b'"').count(), 6);
            }
            if layout == "json" {
                let parsed: serde_json::Value = serde_json::from_slice(&line).unwrap();
                prop_assert_eq!(parsed["agent"].as_str(), Some(agent.as_str()));
            }
            prop_assert_eq!(line.iter().filter(|octet| **octet == b'\n').count(), 1);
            let (reader, batch, dictionaries) = read(&[layout_written.heading(), line.clone()].concat());
            prop_assert_eq!(reader.read, 1, "{:?} {:?}", String::from_utf8_lossy(&line), reader.unread);
            let text = |column| batch.code(column, 0).map(|code| dictionaries.of(column).text(code).to_owned());
            prop_assert_eq!(text(TextColumn::Path), Some(path));
            prop_assert_eq!(text(TextColumn::Query), query);
            // That a client sent none is something that the line says.
            prop_assert_eq!(text(TextColumn::Agent), Some(agent));
            let referrer = escape::as_text(&referrer).into_owned();
            prop_assert_eq!(text(TextColumn::Referrer), Some(referrer).filter(|text| !text.is_empty()));
            let numbers = [NumberColumn::Status, NumberColumn::Bytes].map(|column| batch.number(column, 0));
            prop_assert_eq!((batch.time[0], numbers), (time, [Some(status.into()), Some(bytes)]));
        }
    }

    #[test]
    fn layouts_may_change_within_a_file() {
        let log = "192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] \"GET /a HTTP/1.1\" 200 1\r\n\
                   192.0.2.1 - - [14/Nov/2026:05:12:41 +0000] \"GET /b HTTP/1.1\" 200 1 \"-\" \"x\"\n\
                   \n\
                   what is this\n";
        let (reader, batch, _) = read(log.as_bytes());
        assert_eq!((reader.read, batch.rows()), (2, 2));
        assert_eq!(reader.unread.counts.get(&Reason::Empty), Some(&1));
        let example = &reader.unread.examples[&Reason::Misfit][0];
        assert_eq!((example.line, example.text.as_str()), (3, "what is this"));
    }
}
