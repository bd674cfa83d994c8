//! Hours of the week, which come again every week: `Mon 8`, `Mon-Fri 8-17`, `22-5`, `Sat,Sun`.
//!
//! Hours are whole ones and both ends are meant, as in conditions of rules: `8-17` ends when the clock strikes 18. A stretch may go past
//! midnight, or past Sunday.
//!
//! ```
//! use exedra_common::scope::WeekHours;
//! use jiff::tz::TimeZone;
//! let office = WeekHours::understand(&["Mon-Fri 8-17", "Sat 9"], &TimeZone::UTC).unwrap();
//! // 2026-09-14 was a Monday.
//! let at = |time: &str| office.clone().has(time.parse::<jiff::Timestamp>().unwrap().as_millisecond());
//! assert!(at("2026-09-14T17:59:59Z") && !at("2026-09-14T18:00:00Z") && at("2026-09-19T09:30:00Z") && !at("2026-09-20T09:30:00Z"));
//! ```

use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::fmt;
use thiserror::Error;

/// Milliseconds in a quarter of an hour: zones differ from UTC by whole ones.
const QUARTER: i64 = 15 * 60 * 1000;
const DAYS: [&str; 7] = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

/// Words that are no hours of the week.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error(
    "`{0}` is no hour of the week: write it like \"Mon 8\", \"Mon-Fri 8-17\", \"22-5\" or \"Sat,Sun\", with hours from 0 to 23"
)]
pub struct NoHours(String);

/// Hours of the week in a zone.
#[derive(Debug, Clone)]
pub struct WeekHours {
    /// Of each day a bit for each hour.
    days: [u32; 7],
    zone: TimeZone,
    /// The quarter that was asked about last, and whether it belongs.
    last: (i64, bool),
}

impl PartialEq for WeekHours {
    fn eq(&self, other: &Self) -> bool {
        self.days == other.days && self.zone == other.zone
    }
}

impl WeekHours {
    /// Understands words, any of which may hold.
    ///
    /// # Errors
    /// [`NoHours`], with the words.
    pub fn understand(words: &[impl AsRef<str>], zone: &TimeZone) -> Result<Self, NoHours> {
        let mut days = [0; 7];
        for words in words.iter().map(AsRef::as_ref) {
            let wrong = || NoHours(words.to_owned());
            let mut parts = words.split_whitespace();
            let first = parts.next().ok_or_else(wrong)?;
            let (named, hours) = match first.starts_with(|letter: char| letter.is_ascii_digit()) {
                true => (vec![true; 7], first),
                false => (ranges(first, 7, day).ok_or_else(wrong)?, parts.next().unwrap_or("0-23")),
            };
            let hours = ranges(hours, 24, |hour| hour.parse().ok()).ok_or_else(wrong)?;
            if parts.next().is_some() {
                return Err(wrong());
            }
            let bits = hours.iter().enumerate().filter(|(_, is_meant)| **is_meant);
            let bits = bits.fold(0, |bits, (hour, _)| bits | 1 << hour);
            days.iter_mut().zip(named).filter(|(_, is_meant)| *is_meant).for_each(|(day, _)| *day |= bits);
        }
        Ok(WeekHours { days, zone: zone.clone(), last: (i64::MIN, false) })
    }

    /// Whether an instant (milliseconds since 1970 UTC) belongs.
    pub fn has(&mut self, time: i64) -> bool {
        let quarter = time.div_euclid(QUARTER);
        if self.last.0 != quarter {
            let zoned = Timestamp::from_millisecond(time).unwrap_or_default().to_zoned(self.zone.clone());
            let day = usize::try_from(zoned.weekday().to_monday_zero_offset()).unwrap_or(0);
            self.last = (quarter, self.days[day] >> zoned.hour() & 1 == 1);
        }
        self.last.1
    }
}

impl fmt::Display for WeekHours {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut first = true;
        for (name, bits) in DAYS.iter().zip(self.days).filter(|(_, bits)| *bits != 0) {
            let hours: Vec<String> =
                (0..24).filter(|hour| bits >> hour & 1 == 1).map(|hour| hour.to_string()).collect();
            write!(out, "{}{name} {}", if first { "" } else { "; " }, hours.join(","))?;
            first = false;
        }
        Ok(())
    }
}

/// Single places and stretches of them, by commas; a stretch may go round the end.
fn ranges(words: &str, length: usize, place: impl Fn(&str) -> Option<usize>) -> Option<Vec<bool>> {
    let place = |word: &str| place(word).filter(|place| *place < length);
    let mut meant = vec![false; length];
    for word in words.split(',') {
        let (from, to) = match word.split_once('-') {
            Some((from, to)) => (place(from)?, place(to)?),
            None => (place(word)?, place(word)?),
        };
        let count = (to + length - from) % length;
        (from..=from + count).for_each(|place| meant[place % length] = true);
    }
    Some(meant)
}

/// A day of the week by its first three letters or more, from 0 for Monday.
fn day(word: &str) -> Option<usize> {
    let names = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];
    let word = word.to_ascii_lowercase();
    names.iter().position(|name| word.len() >= 3 && name.starts_with(&word))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Mon 8", "Mon 8")]
    #[case("saturday,Sun 22-1", "Sat 0,1,22,23; Sun 0,1,22,23")]
    #[case("Sat-Mon 3", "Mon 3; Sat 3; Sun 3")]
    #[case("23-0", "Mon 0,23; Tue 0,23; Wed 0,23; Thu 0,23; Fri 0,23; Sat 0,23; Sun 0,23")]
    fn words_are_understood(#[case] words: &str, #[case] whole: &str) {
        assert_eq!(WeekHours::understand(&[words], &TimeZone::UTC).unwrap().to_string(), whole);
    }

    #[rstest]
    #[case("")]
    #[case("Mo 8")]
    #[case("24")]
    #[case("Mon 8 9")]
    #[case("8:00")]
    #[case("noon")]
    #[case("Mon-")]
    fn others_are_refused(#[case] words: &str) {
        let error = WeekHours::understand(&[words], &TimeZone::UTC).unwrap_err().to_string();
        assert!(error.contains("Mon-Fri 8-17"), "{error}");
    }

    #[test]
    fn hours_are_those_of_the_zone() {
        let zone = TimeZone::get("Asia/Kathmandu").unwrap();
        let mut monday = WeekHours::understand(&["Mon 0"], &zone).unwrap();
        // 5:45 ahead: Monday begins at 18:15 on Sunday.
        let at = |time: &str| time.parse::<Timestamp>().unwrap().as_millisecond();
        assert!(!monday.has(at("2026-09-13T18:14:59Z")) && monday.has(at("2026-09-13T18:15:00Z")));
        assert!(monday.has(at("2026-09-13T19:14:59Z")) && !monday.has(at("2026-09-13T19:15:00Z")));
    }
}
