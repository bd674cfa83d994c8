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

use super::cut::{Cut, Reason, Stop};
use super::layout::Hints;
use super::moment::{TimeForm, TimeReader, forms, number};
use super::numbers;
use super::template::{self, Field};
use super::values;
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
    /// When the request came in or how long it took, whichever the value is.
    RequestTime,
    /// The addresses that a request was handed on by, the client's first (`X-Forwarded-For`).
    Forwarded,
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
    (&["requesttime"], Meaning::RequestTime),
    (&["xforwardedfor", "forwardedfor", "httpxforwardedfor"], Meaning::Forwarded),
    (
        &["target", "uri", "url", "requesturi", "requesturl", "requesttarget", "urloriginal", "urlfull"],
        Meaning::Target,
    ),
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
        let mut plain = [0; 32];
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

    /// What the value of a key means that stands in objects under other keys: with the last of them it may be a word that we know
    /// (`{"event": {"duration": …}}`, `response.status`). What a request itself was long is not what was sent.
    pub fn of_path(path: &[&[u8]], key: &[u8]) -> Option<Meaning> {
        let (above, last) = match memchr::memrchr(b'.', key) {
            Some(dot) => (&key[..dot], &key[dot + 1..]),
            None => (path.last().copied().unwrap_or_default(), key),
        };
        let parent = above.rsplit(|octet| *octet == b'.').next().unwrap_or_default();
        let together = || {
            let mut both = [0; 32];
            let length = parent.len() + last.len();
            both.get_mut(..parent.len())?.copy_from_slice(parent);
            both.get_mut(parent.len()..length)?.copy_from_slice(last);
            Meaning::of_key(&both[..length])
        };
        let found = if parent.is_empty() { None } else { together() }.or_else(|| Meaning::of_key(last))?;
        let is_size = matches!(found, Meaning::Number(NumberColumn::Bytes | NumberColumn::FullBytes, _));
        let is_request = |part: &[u8]| matches!(part, b"request" | b"req" | b"Request");
        let is_of_request = || {
            path.iter().any(|part| part.split(|octet| *octet == b'.').any(is_request))
                || above.split(|octet| *octet == b'.').any(is_request)
        };
        (!is_size || !is_of_request()).then_some(found)
    }

    /// What the place of a template means for a value that stands under a key of its own.
    fn of_place(place: &str) -> Option<(Meaning, Option<TimeForm>)> {
        Some(match template::place(place).ok()? {
            Field::Text(column) => (Meaning::Text(column), None),
            Field::Number(column, unit) => (Meaning::Number(column, unit), None),
            Field::Target | Field::Url => (Meaning::Target, None),
            Field::Request => (Meaning::Request, None),
            Field::Time(form) => (Meaning::Time, Some(form)),
            Field::Date(_) => (Meaning::Date, None),
            Field::Clock(_) => (Meaning::Time, None),
            Field::Skip | Field::Json | Field::Pairs => return None,
        })
    }

    /// What a value under an identifier of the W3C draft means, if it is anything we know: one of the draft's own, or a
    /// prefix of its grammar with a word that JSON has for it too (`x-full-bytes`).
    pub fn of_identifier(identifier: &str) -> Option<Meaning> {
        let small = identifier.to_ascii_lowercase();
        let column = Column::kept().find(|column| column.declaration().w3c.contains(&small.as_str()));
        if let Some(column) = column {
            let unit = match column.declaration().kind {
                // The draft counts time in seconds; many write whole milliseconds.
                Kind::Duration => Unit::None,
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

/// What keys mean: our own list, and before it what somebody has said of theirs.
#[derive(Debug, Clone)]
pub struct Keys {
    own: Vec<(Box<[u8]>, Meaning)>,
}

impl Keys {
    /// With the keys of one's own.
    pub fn new(hints: &Hints) -> Self {
        let own =
            |(key, place): &(String, String)| Some((key.as_bytes().into(), Meaning::of_place(place)?.0));
        Keys { own: hints.keys.iter().filter_map(own).collect() }
    }

    /// What the value of a key means that stands in objects under other keys.
    pub fn meaning(&self, path: &[&[u8]], key: &[u8]) -> Option<Meaning> {
        // A key of one's own is written as it is, or with all above it and dots between.
        let is_this = |own: &[u8]| match own.strip_suffix(key) {
            Some([]) => true,
            Some(above) if !path.is_empty() => {
                let above = above.strip_suffix(b".").unwrap_or(b"?");
                above.split(|octet| *octet == b'.').eq(path.iter().copied())
            }
            _ => false,
        };
        match self.own.iter().find(|(own, _)| is_this(own)) {
            Some((_, meaning)) => Some(*meaning),
            None => Meaning::of_path(path, key),
        }
    }
}

/// Puts named values of one line together.
#[derive(Debug, Clone)]
pub struct Gatherer {
    projection: Projection,
    /// What durations count that do not say it.
    durations: Unit,
    /// What reads times under a key of one's own.
    own: Option<TimeReader>,
    near: Option<i64>,
    rfc3339: TimeReader,
    classic: TimeReader,
    apart: TimeReader,
    joined: Vec<u8>,
    time: Range<usize>,
    date: Range<usize>,
    /// The client that is named by whoever handed the request on.
    forwarded: Range<usize>,
    /// Values of the line at hand whose meaning was known.
    pub known: usize,
}

impl Gatherer {
    /// For lines of which only some columns are wanted.
    pub fn new(projection: Projection, hints: &Hints) -> Self {
        let form = hints.keys.iter().find_map(|(_, place)| Meaning::of_place(place)?.1);
        Gatherer {
            projection,
            durations: hints.durations.unwrap_or(Unit::None),
            own: form.map(|form| TimeReader::new(form).near(hints.near)),
            near: hints.near,
            rfc3339: TimeReader::new(TimeForm::Rfc3339),
            classic: TimeReader::new(TimeForm::Classic),
            apart: TimeReader::new(TimeForm::Codes("%Y-%m-%d %H:%M:%S%.f".to_owned())),
            joined: Vec::new(),
            time: 0..0,
            date: 0..0,
            forwarded: 0..0,
            known: 0,
        }
    }

    /// A new line begins.
    pub fn begin(&mut self) {
        (self.time, self.date, self.forwarded, self.known) = (0..0, 0..0, 0..0, 0);
    }

    /// Takes a value. Of several with one meaning the first counts.
    pub fn take(
        &mut self,
        meaning: Meaning,
        line: &[u8],
        value: Range<usize>,
        cut: &mut Cut,
    ) -> Result<(), Stop> {
        let text = &line[value.clone()];
        let meaning = match meaning {
            // A time has its parts parted; a duration is one number, perhaps with a unit.
            Meaning::RequestTime if text.iter().any(|octet| matches!(octet, b':' | b'/')) => Meaning::Time,
            Meaning::RequestTime => Meaning::Number(NumberColumn::Duration, Unit::None),
            meaning => meaning,
        };
        self.known += 1;
        let bad = Stop { at: value.start, reason: Reason::BadNumber };
        match meaning {
            Meaning::Time if self.time.is_empty() => self.time = value,
            Meaning::Date if self.date.is_empty() => self.date = value,
            Meaning::Time | Meaning::Date | Meaning::RequestTime => {}
            Meaning::Forwarded => {
                if let Some(client) = values::client(text).filter(|_| text != b"-") {
                    self.forwarded = value.start + client.start..value.start + client.end;
                }
            }
            Meaning::Text(TextColumn::Path) if text.contains(&b'?') => {
                cut.set_target(line, value.start, value.end)
            }
            Meaning::Text(TextColumn::Client) => match values::client(text) {
                Some(client) if cut.text(line, TextColumn::Client).is_none() => {
                    let (from, until) = (value.start + client.start, value.start + client.end);
                    cut.set(TextColumn::Client, line, from, until);
                }
                Some(_) => {}
                // Something else goes by that name: the client is perhaps named by another.
                None => self.known -= 1,
            },
            Meaning::Text(column) => {
                if cut.text(line, column).is_none() && self.wants(column) {
                    let inner = match column {
                        TextColumn::Host => values::host(text),
                        _ => None,
                    };
                    let inner = inner.unwrap_or(0..text.len());
                    cut.set(column, line, value.start + inner.start, value.start + inner.end);
                }
            }
            // Many call by that name what was asked for alone.
            Meaning::Request if memchr::memchr(b' ', text).is_none() => cut.set_url(line, value),
            Meaning::Request => cut.set_request(line, value.start, value.end, true),
            Meaning::Target => cut.set_url(line, value),
            Meaning::Number(column, unit) => {
                let is_open = column == NumberColumn::Duration && unit == Unit::None;
                let unit = if is_open { self.durations } else { unit };
                let number = match numbers::with_unit(text, column, unit) {
                    Some(number) => number,
                    // A word of many meanings.
                    None if is_open => {
                        self.known -= 1;
                        NO_NUMBER
                    }
                    None => return Err(bad),
                };
                let known = &mut cut.numbers[column.index()];
                if *known == NO_NUMBER {
                    *known = number;
                }
            }
        }
        Ok(())
    }

    /// The line has ended: works its time out. `day` is what holds where the line itself names none, and `has_time` says
    /// whether it has its time elsewhere.
    pub fn finish(&mut self, line: &[u8], day: &[u8], cut: &mut Cut, has_time: bool) -> Result<(), Stop> {
        // Only whoever stands before us may say on whose behalf.
        if !self.forwarded.is_empty() && cut.text(line, TextColumn::Client).is_none_or(values::is_internal) {
            cut.set(TextColumn::Client, line, self.forwarded.start, self.forwarded.end);
        }
        let stop = Stop { at: self.time.start, reason: Reason::BadTime };
        if !self.time.is_empty() || !has_time {
            cut.time = self.time_of(&line[self.time.clone()], line, day).ok_or(stop)?;
        }
        // Something that has a time and nothing else we know is another kind of log.
        let says_something = cut.number(NumberColumn::Status).is_some()
            || [TextColumn::Path, TextColumn::Client].iter().any(|text| cut.text(line, *text).is_some());
        if says_something { Ok(()) } else { Err(Stop { at: 0, reason: Reason::Misfit }) }
    }

    fn time_of(&mut self, time: &[u8], line: &[u8], day: &[u8]) -> Option<i64> {
        if let Some(own) = &mut self.own {
            return own.read(time);
        }
        let whole = self.rfc3339.read(time).or_else(|| self.classic.read(time)).or_else(|| counted(time));
        whole
            .or_else(|| {
                let date = if self.date.is_empty() { day } else { &line[self.date.clone()] };
                self.joined.clear();
                self.joined.extend_from_slice(date);
                self.joined.push(b' ');
                self.joined.extend_from_slice(time);
                self.apart.read(&self.joined)
            })
            // As many ways to write a time as there are programs.
            .or_else(|| TimeReader::new(forms::whole(time)?).near(self.near).read(time))
    }

    fn wants(&self, column: TextColumn) -> bool {
        // A path is what tells a log of requests from others.
        self.projection.has(column) || column == TextColumn::Path
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
