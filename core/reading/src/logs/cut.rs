//! What one line said, as slices of it and numbers; or where reading it stopped.
//!
//! Whatever reads a line (a template, an object of JSON, pairs, listed fields) fills a [`Cut`] and allocates nothing for it.
//!
//! ```
//! use exedra_common::TextColumn;
//! use exedra_reading::logs::{Layout, cut::Reason, plan::Plan};
//! # use exedra_common::Projection;
//! # let layout = Layout::understand("{client} {status}").unwrap();
//! # let mut plan = Plan::new(&layout.pieces, Projection::everything(), &layout.hints);
//! let line = b"192.0.2.7 200";
//! assert_eq!(plan.run(line).unwrap().text(line, TextColumn::Client), Some(&b"192.0.2.7"[..]));
//! let stop = plan.run(b"192.0.2.7 fog").unwrap_err();
//! assert_eq!((stop.at, stop.reason), (10, Reason::BadNumber));
//! ```

use super::values;
use exedra_common::batch::NO_NUMBER;
use exedra_common::columns::{NumberColumn, TextColumn};
use std::ops::Range;
use thiserror::Error;

/// Why a line could not be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Error)]
pub enum Reason {
    /// Nothing stands in it.
    #[error("empty")]
    Empty,
    /// Longer than any line has reason to be.
    #[error("too long")]
    TooLong,
    /// Some text of the layout is not where it should be.
    #[error("does not fit the layout")]
    Misfit,
    /// A field in quotation marks does not end.
    #[error("a quotation mark is not closed")]
    Unquoted,
    /// The time is none.
    #[error("no time where one should be")]
    BadTime,
    /// A number is none.
    #[error("no number where one should be")]
    BadNumber,
    /// The client is none.
    #[error("no address and no host name where the client should be")]
    BadClient,
    /// The host is none.
    #[error("no host name where one should be")]
    BadHost,
    /// The line goes on after the layout has ended.
    #[error("goes on after the layout's end")]
    TrailingText,
}

/// Where reading a line stopped, and why.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stop {
    /// Octets from the beginning of the line.
    pub at: usize,
    /// What was wrong there.
    pub reason: Reason,
}

/// What one line said: slices of it, still escaped.
#[derive(Debug, Clone)]
pub struct Cut {
    /// Milliseconds since 1970 UTC, or [`NO_TIME`].
    pub time: i64,
    /// Numbers, or [`NO_NUMBER`].
    pub numbers: [u64; NumberColumn::COUNT],
    /// Begin and end of each text in the line; both 0 where there is nothing, both the greatest where there is an empty one.
    pub texts: [(u32, u32); TextColumn::COUNT],
    /// A request line that has not been looked into yet: where it begins and ends. Both 0 where there is none.
    pub(super) request: (u32, u32),
}

impl Default for Cut {
    fn default() -> Self {
        Cut {
            time: 0,
            numbers: [NO_NUMBER; NumberColumn::COUNT],
            texts: [(0, 0); TextColumn::COUNT],
            request: (0, 0),
        }
    }
}

impl Cut {
    /// The octets of a text in the line that was cut; `None` where it says nothing of that. An agent may be none at all: empty.
    pub fn text<'l>(&self, line: &'l [u8], column: TextColumn) -> Option<&'l [u8]> {
        match self.texts[column.index()] {
            NONE_SENT => Some(b""),
            (from, until) => (until > from).then(|| &line[from as usize..until as usize]),
        }
    }

    /// A number, where the line has one.
    pub fn number(&self, column: NumberColumn) -> Option<u64> {
        Some(self.numbers[column.index()]).filter(|number| *number != NO_NUMBER)
    }

    /// A text stands here; a lone dash stands for nothing. Where agents are written down, whoever sent none is a program, and where
    /// they are not, nobody knows: so that nothing is told from this.
    #[inline]
    pub(super) fn set(&mut self, column: TextColumn, line: &[u8], from: usize, until: usize) {
        self.texts[column.index()] = match &line[from..until] {
            b"-" | b"" if column == TextColumn::Agent => NONE_SENT,
            b"-" => (0, 0),
            _ => (from as u32, until as u32),
        };
    }

    /// Looks into a request line that was left for later.
    pub(super) fn look_into_request(&mut self, line: &[u8]) {
        let (from, until) = std::mem::take(&mut self.request);
        if until > 0 {
            self.set_request(line, from as usize, until as usize, false);
        }
    }

    /// A request line: method, target and protocol, if it is one.
    pub(super) fn set_request(&mut self, line: &[u8], from: usize, until: usize, is_url: bool) {
        let text = &line[from..until];
        let Some(first) = memchr::memchr(b' ', text) else { return };
        let last = memchr::memrchr(b' ', text).unwrap_or(first);
        let is_protocol = last > first && text[last + 1..].starts_with(b"HTTP/");
        let target_end = if is_protocol { last } else { text.len() };
        if first == 0 || first + 1 >= target_end {
            return;
        }
        self.set(TextColumn::Method, line, from, from + first);
        match is_url {
            true => self.set_url(line, from + first + 1..from + target_end),
            false => self.set_target(line, from + first + 1, from + target_end),
        }
        if is_protocol {
            self.set(TextColumn::Protocol, line, from + last + 1, until);
        }
    }

    /// Path and query in one.
    pub(super) fn set_target(&mut self, line: &[u8], from: usize, until: usize) {
        match memchr::memchr(b'?', &line[from..until]) {
            Some(mark) => {
                self.texts[TextColumn::Path.index()] = (from as u32, (from + mark) as u32);
                // A query may be a lone `-`, which means nothing only where a whole field is one.
                self.texts[TextColumn::Query.index()] = ((from + mark + 1) as u32, until as u32);
            }
            None => self.set(TextColumn::Path, line, from, until),
        }
    }

    /// Path and query, perhaps with scheme and host before them.
    pub(super) fn set_url(&mut self, line: &[u8], value: Range<usize>) {
        let text = &line[value.clone()];
        let scheme =
            [(&b"http://"[..], 4), (b"https://", 5)].into_iter().find(|(begin, _)| text.starts_with(begin));
        let Some((begin, length)) = scheme else {
            return self.set_target(line, value.start, value.end);
        };
        let from = value.start + begin.len();
        let path = memchr::memchr2(b'/', b'?', &line[from..value.end]).map_or(value.end, |at| from + at);
        self.set(TextColumn::Scheme, line, value.start, value.start + length);
        if let Some(host) = values::host(&line[from..path]) {
            self.set(TextColumn::Host, line, from + host.start, from + host.end);
        }
        self.set_target(line, path, value.end);
    }
}

/// Where an agent stands that is none.
const NONE_SENT: (u32, u32) = (u32::MAX, u32::MAX);
