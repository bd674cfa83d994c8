//! What every part of the page is made of: lines, titles, rows with a bar, and what a list leaves out.

use super::trouble::milliseconds;
use super::{CHART, Page, QUIET, SHORT, STRONG};
use crate::figures::{bytes, grouped, several, share, shorten};
use crate::report::columns::bar;
use crate::report::sections::Shown;
use exedra_core::survey::Measure;
use exedra_core::survey::report::lists::ListEntry;
use exedra_core::survey::report::{
    Change, Changes, ClientCount, Measured, MissingPage, PathCount, Rest, SurveyReport,
};
use unicode_width::UnicodeWidthStr;

/// The figures of one row.
pub struct Figures {
    /// What rows are ranked by, and how that is written.
    pub value: u64,
    pub written: String,
    /// What its share is of.
    pub all: u64,
    /// What fills the bar.
    pub most: u64,
    /// Another figure, beside it.
    pub beside: String,
    pub change: String,
}

/// An entry of a list, by all measures.
#[derive(Clone, Copy)]
pub struct Entry<'e> {
    pub requests: u64,
    pub bytes: u64,
    pub measured: Measured,
    pub changes: &'e Changes,
}

/// Whatever reports call the entries of their lists, these figures are in it.
macro_rules! entries {
    ($($kind:ident),+) => {$(
        impl<'e> From<&'e $kind> for Entry<'e> {
            fn from($kind { requests, bytes, measured, changes, .. }: &'e $kind) -> Self {
                Entry { requests: *requests, bytes: *bytes, measured: *measured, changes }
            }
        }
    )+};
}

entries!(ListEntry, PathCount, ClientCount, MissingPage);

impl Entry<'_> {
    /// By one measure; time in microseconds.
    pub fn value(&self, by: Measure) -> u64 {
        match by {
            Measure::Requests => self.requests,
            Measure::Bytes => self.bytes,
            Measure::Visitors => self.measured.visitors.unwrap_or(0),
            Measure::Time => microseconds(self.measured.time_ms),
        }
    }

    /// The same, as it is written.
    pub fn written(&self, by: Measure) -> String {
        match by {
            Measure::Requests => grouped(self.requests),
            Measure::Bytes => bytes(self.bytes),
            Measure::Visitors => grouped(self.measured.visitors.unwrap_or(0)),
            Measure::Time => long_time(self.measured.time_ms.unwrap_or(0.0)),
        }
    }

    /// The figures of its row, by one measure, with a share of `all`.
    pub fn figures(&self, by: Measure, all: u64, most: u64) -> Figures {
        let beside = match by {
            Measure::Requests => bytes(self.bytes),
            _ => grouped(self.requests),
        };
        let (value, written) = (self.value(by), self.written(by));
        Figures { value, written, all, most, beside, change: change(self.changes, by) }
    }
}

impl Page {
    pub(super) fn line(&mut self, line: impl AsRef<str>) {
        self.out.push_str(line.as_ref().trim_end());
        self.out.push('\n');
    }

    pub(super) fn title(&mut self, title: &str, beside: &str) {
        let compared;
        let beside = match beside.strip_prefix("requests, share") {
            Some(rest) if self.compares => {
                compared = format!("requests, share, change{rest}");
                &compared
            }
            _ => beside,
        };
        self.titled(title, beside);
    }

    /// The title of a list that is ranked by the measure that was asked for.
    pub(super) fn list_title(&mut self, title: &str, beside: &str) {
        let change = if self.compares { ", change" } else { "" };
        let by = measure_name(self.by);
        match (self.by, beside) {
            (Measure::Requests, _) => self.title(title, beside),
            (_, "") => self.titled(title, &format!("by {by}")),
            (_, beside) if beside.starts_with("requests, share") => {
                self.titled(title, &format!("{by}, share{change}, requests"));
            }
            (_, beside) => self.titled(title, &format!("{beside}, by {by}")),
        }
    }

    fn titled(&mut self, title: &str, beside: &str) {
        self.line("");
        let line = match beside {
            "" => format!("{STRONG}{title}{STRONG:#}"),
            beside if title.width() + beside.width() + 2 <= self.width => {
                format!("{STRONG}{title}{STRONG:#}  {QUIET}{beside}{QUIET:#}")
            }
            beside => format!("{STRONG}{title}{STRONG:#}\n{QUIET}{}{QUIET:#}", shorten(beside, self.width)),
        };
        self.line(line);
    }

    pub(super) fn plain(&mut self, requests: u64, visitors: u64, sent: u64, name: &str) {
        let line =
            format!("  {:>10}  {:>10}  {:>8}  {name}", grouped(requests), grouped(visitors), bytes(sent));
        self.line(line);
    }

    /// A list of values, unless there are none.
    pub(super) fn list(
        &mut self,
        report: &SurveyReport,
        shown: &Shown,
        name: &str,
        title: &str,
        beside: &str,
    ) {
        let Some(list) = report.lists.get(name).filter(|list| shown.has(name) && !list.entries.is_empty())
        else {
            return;
        };
        // Visits are all that these lists are about.
        let is_of_visits = matches!(name, "first_pages" | "last_pages");
        let by = if is_of_visits { Measure::Requests } else { self.by };
        match is_of_visits {
            true => self.title(title, beside),
            false => self.list_title(title, beside),
        }
        let sum = |of: fn(&ListEntry) -> u64| list.entries.iter().map(of).sum::<u64>();
        let all = match by {
            Measure::Requests => sum(|entry| entry.requests) + list.more_requests,
            Measure::Bytes => sum(|entry| entry.bytes) + list.more_bytes,
            Measure::Visitors | Measure::Time => self.all(by),
        };
        let most = Entry::from(&list.entries[0]).value(by);
        let length = if shown.shortens { SHORT } else { list.entries.len() };
        for row in list.entries.iter().take(length) {
            let mut figures = Entry::from(row).figures(by, all, most);
            if is_of_visits {
                figures.beside = String::new();
            }
            self.row(&figures, &row.value);
        }
        let left = list.entries.iter().skip(length);
        let rest = Rest {
            entries: list.more + left.len() as u64,
            requests: list.more_requests + left.clone().map(|entry| entry.requests).sum::<u64>(),
            bytes: 0,
        };
        if rest.entries > 0 {
            let how = if shown.shortens { format!("--show {name}") } else { "--top".to_owned() };
            let (requests, unit) = (grouped(rest.requests), unit(by));
            let line = format!(
                "  {QUIET}{requests:>10}  {unit}in {} more: {how} shows further{QUIET:#}",
                grouped(rest.entries)
            );
            self.line(line);
        }
    }

    /// All of what lists are ranked by.
    pub(super) fn all(&self, by: Measure) -> u64 {
        match by {
            Measure::Requests => self.totals.requests,
            Measure::Bytes => self.totals.bytes,
            Measure::Visitors => self.totals.visitors,
            Measure::Time => microseconds(self.totals.time_ms),
        }
    }

    /// Entries of a list that all requests are in, with their names.
    pub(super) fn rows<'e>(&mut self, entries: impl Iterator<Item = (Entry<'e>, &'e str)> + Clone) {
        let by = self.by;
        let most = entries.clone().next().map_or(0, |(first, _)| first.value(by));
        for (entry, name) in entries {
            self.row(&entry.figures(by, self.all(by), most), name);
        }
    }

    pub(super) fn row(&mut self, figures: &Figures, name: &str) {
        let bar = bar(figures.value, figures.most, 12);
        let pad = " ".repeat(12 - bar.width().min(12));
        let change = match self.compares {
            true => format!("{QUIET}{:>8}{QUIET:#}  ", figures.change),
            false => String::new(),
        };
        let room = self.width.saturating_sub(if self.compares { 57 } else { 47 });
        let name = if name.contains('\u{1b}') { name.to_owned() } else { shorten(name, room) };
        let line = format!(
            "  {:>10}  {QUIET}{:>7}{QUIET:#}  {change}{CHART}{bar}{CHART:#}{pad}  {:>8}  {name}",
            figures.written,
            share(figures.value, figures.all),
            figures.beside,
        );
        self.line(line);
    }

    pub(super) fn rest(&mut self, rest: Option<&Rest>, one: &str, many: &str) {
        if let Some(rest) = rest.filter(|rest| rest.entries > 0) {
            let what = several(rest.entries, one, many);
            let (requests, unit) = (grouped(rest.requests), unit(self.by));
            let line = format!("  {QUIET}{requests:>10}  {unit}in {what} more: --top shows further{QUIET:#}");
            self.line(line);
        }
    }
}

/// What stands between a number of requests and what they are in, where other figures stand above it.
fn unit(by: Measure) -> &'static str {
    if by == Measure::Requests { "" } else { "requests " }
}

/// A length of time that may be long, in one unit: three digits.
fn long_time(time: f64) -> String {
    const UNITS: [(f64, &str); 3] = [(86_400e3, "d"), (3_600e3, "h"), (60e3, "min")];
    let Some((length, unit)) = UNITS.into_iter().find(|(length, _)| time >= 2.0 * length) else {
        return milliseconds(time);
    };
    match time / length {
        few if few < 9.995 => format!("{few:.2} {unit}"),
        some if some < 99.95 => format!("{some:.1} {unit}"),
        many => format!("{} {unit}", grouped(many.round() as u64)),
    }
}

fn microseconds(milliseconds: Option<f64>) -> u64 {
    (milliseconds.unwrap_or(0.0) * 1e3).round() as u64
}

fn measure_name(by: Measure) -> &'static str {
    match by {
        Measure::Requests => "requests",
        Measure::Visitors => "visitors",
        Measure::Bytes => "bytes sent",
        Measure::Time => "time",
    }
}

/// The change by a measure since the other period, in percent.
pub fn change(changes: &Changes, by: Measure) -> String {
    match changes.get(by.figure()).or_else(|| changes.get("visits")) {
        None => String::new(),
        Some(change) => percent(change),
    }
}

/// A change as a part of what was before.
pub fn percent(change: &Change) -> String {
    match change.ratio {
        None if change.difference == 0.0 => "–".to_owned(),
        None => "new".to_owned(),
        Some(ratio) if ratio.abs() < 0.0005 => "±0 %".to_owned(),
        Some(ratio) if ratio.abs() < 0.0995 => format!("{:+.1} %", ratio * 100.0),
        Some(ratio) if ratio < 9.995 => format!("{:+.0} %", ratio * 100.0),
        Some(ratio) => format!("×{:.0}", ratio + 1.0),
    }
    .replace('-', "−")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0.25, "250 µs")]
    #[case(95_700.0, "95.7 s")]
    #[case(741_000.0, "12.3 min")]
    #[case(7_200_000.0, "2.00 h")]
    #[case(400_000_000_000.0, "4,630 d")]
    fn times_keep_to_their_column(#[case] milliseconds: f64, #[case] expected: &str) {
        assert_eq!(long_time(milliseconds), expected);
        assert!(expected.len() <= 10);
    }
}
