//! The W3C Extended Log File Format (draft of 1996): a file says itself what its lines hold.
//!
//! `#Fields: date time c-ip cs-method …` lists what stands in the lines that follow it, up to the next such line;
//! `#Date: 2026-11-14 00:00:00` says on which day, where the lines name only a time of day. Values stand between spaces or
//! tabulators; those that hold some stand in quotation marks, in which two stand for one. Times are UTC. `time-taken` is in
//! seconds by the draft, and so it is read where it has a fraction; many write whole milliseconds.
//!
//! ```
//! use exedra_common::{Projection, TextColumn};
//! use exedra_reading::logs::{layout::Hints, w3c::Listed};
//! let mut listed = Listed::new(Projection::everything(), &Hints::default());
//! listed.directive(b"#Fields: date time c-ip cs-uri-stem");
//! let line = b"2026-11-14 05:12:40 192.0.2.1 /tides";
//! assert_eq!(listed.run(line).unwrap().text(line, TextColumn::Path), Some(&b"/tides"[..]));
//! ```

use super::cut::{Cut, Reason, Stop};
use super::layout::Hints;
use super::meaning::{Gatherer, Meaning};
use exedra_common::columns::Projection;

/// What a line begins with that lists fields.
pub const FIELDS: &[u8] = b"#Fields:";
/// What a line begins with that says a day.
pub const DATE: &[u8] = b"#Date:";

/// Reads lines whose fields have been listed.
#[derive(Debug, Clone)]
pub struct Listed {
    gatherer: Gatherer,
    fields: Vec<Option<Meaning>>,
    day: Vec<u8>,
    /// Whether the log itself has listed its fields.
    pub is_told: bool,
}

impl Listed {
    /// A reader for some columns. Until a line lists fields, they are those that the service itself writes.
    pub fn new(projection: Projection, hints: &Hints) -> Self {
        let mut listed = Listed {
            gatherer: Gatherer::new(projection, hints),
            fields: Vec::new(),
            day: Vec::new(),
            is_told: false,
        };
        super::layout::EXTENDED_HEADING.lines().for_each(|line| listed.directive(line.as_bytes()));
        listed.is_told = false;
        listed
    }

    /// Takes note of a line that begins with `#`.
    pub fn directive(&mut self, line: &[u8]) {
        if let Some(fields) = line.strip_prefix(FIELDS) {
            self.is_told = true;
            let words = fields.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
            self.fields = words.map(|word| Meaning::of_identifier(&String::from_utf8_lossy(word))).collect();
        } else if let Some(date) = line.strip_prefix(DATE) {
            let date = date.trim_ascii();
            self.day = date[..date.len().min(10)].to_vec();
        }
    }

    /// How many fields of a line have a meaning.
    pub fn fields(&self) -> usize {
        self.gatherer.known
    }

    /// Cuts one line, given without its line end.
    pub fn run(&mut self, line: &[u8]) -> Result<Cut, Stop> {
        if line.is_empty() {
            return Err(Stop { at: 0, reason: Reason::Empty });
        }
        self.gatherer.begin();
        let mut cut = Cut::default();
        let mut at = 0;
        for meaning in &self.fields {
            let gap = line[at..].iter().take_while(|octet| is_gap(**octet)).count();
            if at > 0 && gap == 0 || at + gap == line.len() {
                return Err(Stop { at, reason: Reason::Misfit });
            }
            at += gap;
            let (value, next) = match line[at] {
                b'"' => {
                    let end = closing(line, at + 1).ok_or(Stop { at, reason: Reason::Unquoted })?;
                    (at + 1..end, end + 1)
                }
                _ => {
                    let end = line[at..].iter().position(|octet| is_gap(*octet));
                    let end = end.map_or(line.len(), |length| at + length);
                    (at..end, end)
                }
            };
            if let Some(meaning) = meaning {
                self.gatherer.take(*meaning, line, value, &mut cut)?;
            }
            at = next;
        }
        if at + line[at..].iter().take_while(|octet| is_gap(**octet)).count() < line.len() {
            return Err(Stop { at, reason: Reason::TrailingText });
        }
        let Listed { gatherer, day, .. } = self;
        gatherer.finish(line, day, &mut cut, false)?;
        Ok(cut)
    }
}

fn is_gap(octet: u8) -> bool {
    matches!(octet, b' ' | b'\t')
}

/// Where a quoted value ends: at a quotation mark that no other follows.
fn closing(line: &[u8], from: usize) -> Option<usize> {
    let mut at = from;
    loop {
        at += memchr::memchr(b'"', &line[at..])?;
        if line.get(at + 1) != Some(&b'"') {
            return Some(at);
        }
        at += 2;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::{NumberColumn, TextColumn};

    #[test]
    fn it_is_not_tried_on_logs_of_others_that_list_no_fields() {
        let mut cutter = crate::logs::Cutter::new(&crate::logs::Layout::understand("extended").unwrap());
        assert!(!cutter.applies());
        cutter.directive(b"#Fields: date time c-ip cs-uri");
        assert!(cutter.applies());
    }

    #[test]
    fn fields_may_change_and_the_day_may_stand_apart() {
        let mut listed = Listed::new(Projection::everything(), &Hints::default());
        listed.directive(
            b"#Fields: time c-ip x-unheard-of cs-method cs-uri sc-status time-taken cs(User-Agent)",
        );
        let line = b"05:12:40\t192.0.2.1  what GET /a?b 200 0.25 \"Boat \"\"one\"\" 1\"";
        assert_eq!(listed.run(line).unwrap_err().reason, Reason::BadTime, "no day yet");
        listed.directive(b"#Date: 2026-11-14 00:00:01");
        let cut = listed.run(line).unwrap();
        let text = |column| cut.text(line, column).map(|text| std::str::from_utf8(text).unwrap());
        let numbers = [NumberColumn::Status, NumberColumn::Duration].map(|column| cut.number(column));
        assert_eq!((cut.time, numbers), (1_794_633_160_000, [Some(200), Some(250_000)]));
        assert_eq!(text(TextColumn::Agent), Some("Boat \"\"one\"\" 1"));
        assert_eq!((text(TextColumn::Path), text(TextColumn::Query)), (Some("/a"), Some("b")));

        listed.directive(b"#Fields: date time cs-uri-stem cs-uri-query");
        let line = b"2026-10-11 00:00:00 /b -";
        let cut = listed.run(line).unwrap();
        assert_eq!((cut.time, cut.text(line, TextColumn::Query)), (1_791_676_800_000, None));
        assert_eq!(
            listed.run(b"2026-10-11 00:00:00 /b").unwrap_err(),
            Stop { at: 22, reason: Reason::Misfit }
        );
        let more = listed.run(b"2026-10-11 00:00:00 /b - 7").unwrap_err();
        assert_eq!(more, Stop { at: 24, reason: Reason::TrailingText });
    }
}
