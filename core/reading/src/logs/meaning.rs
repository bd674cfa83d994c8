//! What a named value means, for logs that name their values: objects of JSON, and the W3C extended format.
//!
//! JSON has no standard names for these things, so each goes by several: our columns', the meta-variables of RFC 3875,
//! header fields, and plain words. The W3C Extended Log File Format has a grammar of identifiers (`c-ip`, `sc-status`,
//! `cs(User-Agent)`).
//!
//! ```
//! use exedra_common::TextColumn;
//! use exedra_reading::logs::meaning::Meaning;
//! assert_eq!(Meaning::of_key(b"clientIp"), Meaning::of_identifier("c-ip"));
//! assert_eq!(Meaning::of_key(b"weather"), None);
//! ```

use super::moment::{CLASSIC, TimeForm, TimeReader, number};
use super::plan::{self, Cut, Reason, Stop};
use exedra_common::batch::NO_NUMBER;
use exedra_common::columns::{Column, Kind, NumberColumn, Projection, TextColumn, Unit};
use std::collections::HashMap;
use std::ops::Range;
use std::sync::LazyLock;

/// What a named value means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Meaning {
    /// A text that goes into a column as it is.
    Text(TextColumn),
    /// Method, target and protocol in one.
    Request,
    /// Path and query in one, perhaps with scheme and host before it.
    Target,
    /// A number that goes into a column, and what it counts where the value itself has no unit.
    Number(NumberColumn, Unit),
    /// When the request came in, or its time of day where the day stands apart.
    Time,
    /// The day on which it came in.
    Date,
}

/// What stands for several columns, or for a part of one: names of JSON keys, written small and without anything but letters
/// and digits.
const OTHERS: &[(&[&str], Meaning)] = &[
    (&["date", "day"], Meaning::Date),
    (&["request", "requestline"], Meaning::Request),
    (&["target", "uri", "url", "requesturi", "requesturl", "requesttarget"], Meaning::Target),
];

/// What values under the names of a column mean.
fn of_column(column: Column, unit: Unit) -> Option<Meaning> {
    match column {
        Column::Time => Some(Meaning::Time),
        Column::Text(text) => Some(Meaning::Text(text)),
        Column::Number(number) => Some(Meaning::Number(number, unit)),
        Column::Derived(_) => None,
    }
}

impl Meaning {
    /// What the value of a JSON key means, if it is anything we know.
    pub fn of_key(key: &[u8]) -> Option<Meaning> {
        let mut plain = [0; 24];
        let mut length = 0;
        for octet in key.iter().filter(|octet| octet.is_ascii_alphanumeric()) {
            *plain.get_mut(length)? = octet.to_ascii_lowercase();
            length += 1;
        }
        let plain = &plain[..length];
        static KEYS: LazyLock<HashMap<&'static [u8], Meaning>> = LazyLock::new(|| {
            let others =
                OTHERS.iter().flat_map(|(names, meaning)| names.iter().map(|name| (*name, *meaning)));
            let columns = Column::kept().flat_map(|column| {
                let names = column.declaration().json.iter();
                let each = names.flat_map(|(unit, names)| names.iter().map(|name| (*name, *unit)));
                each.filter_map(move |(name, unit)| Some((name, of_column(column, unit)?)))
            });
            others.chain(columns).map(|(name, meaning)| (name.as_bytes(), meaning)).collect()
        });
        KEYS.get(plain).copied()
    }

    /// What a value under an identifier of the W3C draft means, if it is anything we know: one of the draft's own, or a
    /// prefix of its grammar with a word that JSON has for it too (`x-full-bytes`).
    pub fn of_identifier(identifier: &str) -> Option<Meaning> {
        let small = identifier.to_ascii_lowercase();
        let column = Column::kept().find(|column| column.declaration().w3c.contains(&small.as_str()));
        if let Some(column) = column {
            // The draft counts time in seconds.
            let unit = match column.declaration().kind {
                Kind::Duration => Unit::Seconds,
                _ => column.declaration().unit,
            };
            return of_column(column, unit);
        }
        match small.as_str() {
            "date" => Some(Meaning::Date),
            "cs-uri" => Some(Meaning::Target),
            _ => {
                let header =
                    ["cs(", "sc("].iter().find_map(|begin| small.strip_prefix(begin)?.strip_suffix(')'));
                let word = || ["cs-", "sc-", "c-", "x-"].iter().find_map(|prefix| small.strip_prefix(prefix));
                let known = Meaning::of_key(header.or_else(word)?.as_bytes());
                known.filter(|known| !matches!(known, Meaning::Time | Meaning::Date))
            }
        }
    }
}

/// Puts named values of one line together.
#[derive(Debug, Clone)]
pub struct Gatherer {
    projection: Projection,
    rfc3339: TimeReader,
    classic: TimeReader,
    apart: TimeReader,
    joined: Vec<u8>,
    time: Range<usize>,
    date: Range<usize>,
    /// Values of the line at hand whose meaning was known.
    pub known: usize,
}

impl Gatherer {
    /// For lines of which only some columns are wanted.
    pub fn new(projection: Projection) -> Self {
        Gatherer {
            projection,
            rfc3339: TimeReader::new(TimeForm::Rfc3339),
            classic: TimeReader::new(TimeForm::named(CLASSIC).unwrap_or(TimeForm::Classic)),
            apart: TimeReader::new(TimeForm::Codes("%Y-%m-%d %H:%M:%S%.f".to_owned())),
            joined: Vec::new(),
            time: 0..0,
            date: 0..0,
            known: 0,
        }
    }

    /// A new line begins.
    pub fn begin(&mut self) {
        (self.time, self.date, self.known) = (0..0, 0..0, 0);
    }

    /// Takes a value. Of several with one meaning the first counts.
    pub fn take(
        &mut self,
        meaning: Meaning,
        line: &[u8],
        value: Range<usize>,
        cut: &mut Cut,
    ) -> Result<(), Stop> {
        self.known += 1;
        let text = &line[value.clone()];
        let bad = Stop { at: value.start, reason: Reason::BadNumber };
        match meaning {
            Meaning::Time if self.time.is_empty() => self.time = value,
            Meaning::Date if self.date.is_empty() => self.date = value,
            Meaning::Time | Meaning::Date => {}
            Meaning::Text(TextColumn::Path) if text.contains(&b'?') => {
                plan::target(cut, line, value.start, value.end)
            }
            Meaning::Text(column) => {
                if cut.text(line, column).is_none() && self.wants(column) {
                    cut.set(column, line, value.start, value.end);
                }
            }
            Meaning::Request => plan::request(cut, line, value.start, value.end),
            Meaning::Target => self.target(line, value, cut),
            Meaning::Number(column, unit) => {
                let (text, unit) = with_unit(text, unit);
                let number =
                    if text.is_empty() { NO_NUMBER } else { plan::value(text, column, unit).ok_or(bad)? };
                let known = &mut cut.numbers[column.index()];
                if *known == NO_NUMBER {
                    *known = number;
                }
            }
        }
        Ok(())
    }

    /// The line has ended: works its time out. `day` is what holds where the line itself names none.
    pub fn finish(&mut self, line: &[u8], day: &[u8], cut: &mut Cut) -> Result<(), Stop> {
        let time = &line[self.time.clone()];
        let stop = Stop { at: self.time.start, reason: Reason::BadTime };
        let whole = self.rfc3339.read(time).or_else(|| self.classic.read(time)).or_else(|| counted(time));
        let apart = |gatherer: &mut Gatherer| {
            let date = if gatherer.date.is_empty() { day } else { &line[gatherer.date.clone()] };
            gatherer.joined.clear();
            gatherer.joined.extend_from_slice(date);
            gatherer.joined.push(b' ');
            gatherer.joined.extend_from_slice(time);
            gatherer.apart.read(&gatherer.joined)
        };
        cut.time = match whole {
            Some(time) => time,
            None => apart(self).ok_or(stop)?,
        };
        // Something that has a time and nothing else we know is another kind of log.
        let says_something =
            cut.number(NumberColumn::Status).is_some() || cut.texts.iter().any(|(from, until)| until > from);
        if says_something { Ok(()) } else { Err(Stop { at: 0, reason: Reason::Misfit }) }
    }

    fn wants(&self, column: TextColumn) -> bool {
        // A path is what tells a log of requests from others.
        self.projection.has(column) || column == TextColumn::Path
    }

    fn target(&self, line: &[u8], value: Range<usize>, cut: &mut Cut) {
        let text = &line[value.clone()];
        let scheme =
            [(&b"http://"[..], 4), (b"https://", 5)].into_iter().find(|(begin, _)| text.starts_with(begin));
        let Some((begin, length)) = scheme else {
            return plan::target(cut, line, value.start, value.end);
        };
        let host = value.start + begin.len();
        let path = memchr::memchr(b'/', &line[host..value.end]).map_or(value.end, |at| host + at);
        cut.set(TextColumn::Scheme, line, value.start, value.start + length);
        cut.set(TextColumn::Host, line, host, path);
        plan::target(cut, line, path, value.end);
    }
}

/// Seconds since 1970 or a part of them, by how large the number is.
fn counted(text: &[u8]) -> Option<i64> {
    let whole = memchr::memchr(b'.', text).unwrap_or(text.len());
    match number(&text[..whole])? {
        ..100_000_000_000 => TimeForm::Seconds.read(text),
        milliseconds @ ..100_000_000_000_000 => Some(milliseconds),
        microseconds @ ..100_000_000_000_000_000 => Some(microseconds / 1_000),
        nanoseconds => Some(nanoseconds / 1_000_000),
    }
}

/// A duration and its unit, which may stand behind the number.
fn with_unit(text: &[u8], unit: Unit) -> (&[u8], Unit) {
    if !Unit::OF_TIME.contains(&unit) {
        return (text, unit);
    }
    let digits = text.iter().position(|octet| !matches!(octet, b'0'..=b'9' | b'.')).unwrap_or(text.len());
    let own = match text[digits..].trim_ascii() {
        b"us" | b"\xc2\xb5s" | b"\xce\xbcs" => Unit::Microseconds,
        b"ms" => Unit::Milliseconds,
        b"s" => Unit::Seconds,
        _ => return (text, unit),
    };
    (&text[..digits], own)
}
