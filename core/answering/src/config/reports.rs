//! Reports that are made by themselves: when, of what, and who is sent them, as they are configured.

use super::Located;
use exedra_common::filters::Filters;
use jiff::civil::{Time, Weekday};
use std::fmt;
use std::path::PathBuf;

/// A report that is made by itself.
#[derive(Debug, Clone)]
pub struct ScheduledReport {
    /// Its name.
    pub name: Located<String>,
    /// When it is made.
    pub every: Every,
    /// Which days it is about.
    pub of: Days,
    /// Which requests of them.
    pub scope: Filters,
    /// The sections that it has; the usual ones where there are none.
    pub show: Vec<String>,
    /// Whether addresses are cut to their networks and names left out.
    pub masked: bool,
    /// The language of its dates, as a tag (RFC 5646).
    pub language: Option<String>,
    /// The recipients that are sent it.
    pub tell: Vec<Located<String>>,
    /// The folder that a copy is put into.
    pub folder: Option<Located<PathBuf>>,
}

/// Which days something comes on, and at which time of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Every {
    /// Which days.
    pub on: On,
    /// The clock of the service's zone.
    pub at: Time,
}

/// Days that come again.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum On {
    /// Each.
    Day,
    /// One of each week.
    Weekday(Weekday),
    /// The first of each month.
    Month,
}

/// Days before the one on which a report is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Days {
    /// So many, up to the one before.
    Last(u16),
    /// The week before, from Monday to Sunday.
    LastWeek,
    /// The month before.
    LastMonth,
}

const WEEKDAYS: [(&str, Weekday); 7] = [
    ("monday", Weekday::Monday),
    ("tuesday", Weekday::Tuesday),
    ("wednesday", Weekday::Wednesday),
    ("thursday", Weekday::Thursday),
    ("friday", Weekday::Friday),
    ("saturday", Weekday::Saturday),
    ("sunday", Weekday::Sunday),
];

impl Every {
    /// Understands `day 07:00`, `monday 07:00` or `month 07:00`.
    pub fn understand(words: &str) -> Option<Self> {
        let (on, at) = words.trim().split_once(char::is_whitespace)?;
        let on = on.to_lowercase();
        let on = match on.as_str() {
            "day" => On::Day,
            "month" => On::Month,
            name => On::Weekday(WEEKDAYS.iter().find(|(known, _)| *known == name)?.1),
        };
        let (hour, minute) = at.trim().split_once(':')?;
        let is_clock =
            |text: &str| (1..=2).contains(&text.len()) && text.bytes().all(|digit| digit.is_ascii_digit());
        if !is_clock(hour) || minute.len() != 2 || !is_clock(minute) {
            return None;
        }
        let at = Time::new(hour.parse().ok()?, minute.parse().ok()?, 0, 0).ok()?;
        Some(Every { on, at })
    }

    /// The days that such a report is about where nobody says it.
    pub fn usual_days(self) -> Days {
        match self.on {
            On::Day => Days::Last(1),
            On::Weekday(Weekday::Monday) => Days::LastWeek,
            On::Weekday(_) => Days::Last(7),
            On::Month => Days::LastMonth,
        }
    }
}

impl fmt::Display for Every {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let on = match self.on {
            On::Day => "day",
            On::Month => "month",
            On::Weekday(day) => WEEKDAYS.iter().find(|(_, known)| *known == day).map_or("", |(name, _)| name),
        };
        write!(out, "{on} {:02}:{:02}", self.at.hour(), self.at.minute())
    }
}

impl Days {
    /// Understands `yesterday`, `last 7 days`, `last week` or `last month`.
    pub fn understand(words: &str) -> Option<Self> {
        match words.trim() {
            "yesterday" => Some(Days::Last(1)),
            "last week" => Some(Days::LastWeek),
            "last month" => Some(Days::LastMonth),
            words => {
                let count = words.strip_prefix("last ")?.strip_suffix(" days")?;
                count.trim().parse().ok().filter(|count| (1..=400).contains(count)).map(Days::Last)
            }
        }
    }
}

impl fmt::Display for Days {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Days::Last(1) => out.write_str("yesterday"),
            Days::Last(count) => write!(out, "last {count} days"),
            Days::LastWeek => out.write_str("last week"),
            Days::LastMonth => out.write_str("last month"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("day 07:00", Some("day 07:00"))]
    #[case(" Monday  7:05 ", Some("monday 07:05"))]
    #[case("month 00:00", Some("month 00:00"))]
    #[case("monday", None)]
    #[case("monday 24:00", None)]
    #[case("monday 7:5", None)]
    #[case("mon 07:00", None)]
    #[case("day 07:00:00", None)]
    #[case("day +7:00", None)]
    fn times_are_written_in_words(#[case] words: &str, #[case] expected: Option<&str>) {
        assert_eq!(Every::understand(words).map(|every| every.to_string()).as_deref(), expected);
    }

    #[rstest]
    #[case("yesterday", Some(Days::Last(1)))]
    #[case("last 28 days", Some(Days::Last(28)))]
    #[case("last 0 days", None)]
    #[case("last 401 days", None)]
    #[case("last week", Some(Days::LastWeek))]
    #[case("this week", None)]
    fn so_are_days(#[case] words: &str, #[case] expected: Option<Days>) {
        assert_eq!(Days::understand(words), expected);
        if let Some(days) = expected {
            assert_eq!(Days::understand(&days.to_string()), expected);
        }
    }
}
