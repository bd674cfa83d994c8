//! What every part of the page is made of: lines, titles, rows with a bar, and what a list leaves out.

use super::{CHART, Page, QUIET, SHORT, STRONG};
use crate::figures::{bytes, grouped, several, share, shorten};
use crate::report::columns::bar;
use crate::report::sections::Shown;
use exedra_core::survey::report::{Change, Changes, Rest, SurveyReport};
use unicode_width::UnicodeWidthStr;

/// The figures of one row.
pub struct Figures<'c> {
    pub requests: u64,
    /// What its share is of.
    pub all: u64,
    /// What fills the bar.
    pub most: u64,
    pub bytes: String,
    pub changes: &'c Changes,
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
        self.title(title, beside);
        let all = list.entries.iter().map(|entry| entry.requests).sum::<u64>() + list.more_requests;
        let most = list.entries[0].requests;
        let length = if shown.shortens { SHORT } else { list.entries.len() };
        for entry in list.entries.iter().take(length) {
            let bytes =
                if name.ends_with("_pages") && entry.bytes == 0 { String::new() } else { bytes(entry.bytes) };
            let figures = Figures { requests: entry.requests, all, most, bytes, changes: &entry.changes };
            self.row(&figures, &entry.value);
        }
        let left = list.entries.iter().skip(length);
        let rest = Rest {
            entries: list.more + left.len() as u64,
            requests: list.more_requests + left.clone().map(|entry| entry.requests).sum::<u64>(),
            bytes: 0,
        };
        if rest.entries > 0 {
            let how = if shown.shortens { format!("--show {name}") } else { "--top".to_owned() };
            let line = format!(
                "  {QUIET}{:>10}  in {} more: {how} shows further{QUIET:#}",
                grouped(rest.requests),
                grouped(rest.entries)
            );
            self.line(line);
        }
    }

    pub(super) fn row(&mut self, figures: &Figures, name: &str) {
        let bar = bar(figures.requests, figures.most, 12);
        let pad = " ".repeat(12 - bar.width().min(12));
        let change = match self.compares {
            true => format!("{QUIET}{:>8}{QUIET:#}  ", change(figures.changes)),
            false => String::new(),
        };
        let room = self.width.saturating_sub(if self.compares { 57 } else { 47 });
        let name = if name.contains('\u{1b}') { name.to_owned() } else { shorten(name, room) };
        let line = format!(
            "  {:>10}  {QUIET}{:>7}{QUIET:#}  {change}{CHART}{bar}{CHART:#}{pad}  {:>8}  {name}",
            grouped(figures.requests),
            share(figures.requests, figures.all),
            figures.bytes,
        );
        self.line(line);
    }

    pub(super) fn rest(&mut self, rest: Option<&Rest>, one: &str, many: &str) {
        if let Some(rest) = rest.filter(|rest| rest.entries > 0) {
            let what = several(rest.entries, one, many);
            let line = format!(
                "  {QUIET}{:>10}  in {what} more: --top shows further{QUIET:#}",
                grouped(rest.requests)
            );
            self.line(line);
        }
    }
}

/// The change of requests since the other period, in percent.
pub fn change(changes: &Changes) -> String {
    match changes.get("requests").or_else(|| changes.get("visits")) {
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
