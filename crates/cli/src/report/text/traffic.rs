//! How much and when, and what it cost.

use super::lines::{Entry, percent};
use super::{CHART, HEIGHT, HOURS, Page, QUIET, STRONG};
use crate::figures::{bytes, duration, grouped, share, shorten};
use crate::report::columns::columns;
use crate::report::sections::Shown;
use exedra_core::survey::Measure;
use exedra_core::survey::report::{DayCount, Measured, SurveyReport};
use jiff::civil::Date;

impl Page {
    pub(super) fn when(&mut self, report: &SurveyReport) {
        let room = self.width - HOURS - 2;
        let (days, each) = calendar_days(&report.by_day, room);
        self.title("When", "requests");
        let stretch = (room / days.len().max(1)).clamp(1, 3);
        let left = columns(&days.iter().flat_map(|day| vec![day.1; stretch]).collect::<Vec<_>>(), HEIGHT);
        let hours: Vec<u64> = report.by_hour.iter().map(|hour| hour.requests).collect();
        let right = columns(&hours, HEIGHT);
        let unit = if each == 1 { "by day".to_owned() } else { format!("by {each} days") };
        let peak = days.iter().map(|day| day.1).max().unwrap_or(0);
        let note = format!("{unit}, at most {}", grouped(peak));
        let drawn = days.len() * stretch;
        let wide = drawn.max(note.len());
        for (left, right) in left.iter().zip(&right) {
            let gap = " ".repeat(wide - drawn + 4);
            let line = format!("  {CHART}{left}{CHART:#}{gap}{CHART}{right}{CHART:#}");
            self.line(line);
        }
        let date = |date: Option<&(Date, u64)>| {
            date.map_or(String::new(), |(date, _)| date.strftime("%-d %b").to_string())
        };
        let (first, last) = (date(days.first()), date(days.last()));
        let axis = match drawn > first.len() + last.len() + 1 {
            true => format!("{first}{last:>rest$}", rest = drawn - first.len()),
            false => first,
        };
        let busiest = hours.iter().copied().max().unwrap_or(0);
        let line = format!("  {QUIET}{axis:<wide$}    0     6     12    18   23{QUIET:#}");
        self.line(line);
        let line = format!("  {QUIET}{note:<wide$}    by hour, at most {}{QUIET:#}", grouped(busiest));
        self.line(line);
    }

    pub(super) fn traffic(&mut self, report: &SurveyReport, shown: &Shown) {
        if shown.has("days") || shown.has("hours") {
            self.when(report);
        }
        if shown.has("months") {
            self.title("By month", "requests, visitors, bytes sent");
            for month in &report.by_month {
                self.plain(month.requests, month.visitors, month.bytes, &month.month);
            }
        }
        if shown.has("weekdays") {
            self.title("By day of the week", "requests, share, bytes sent");
            let most = report.by_weekday.iter().map(|day| day.requests).max().unwrap_or(0);
            for day in &report.by_weekday {
                let (measured, changes) = (Measured::default(), &day.changes);
                let entry = Entry { requests: day.requests, bytes: day.bytes, measured, changes };
                let all = report.totals.requests;
                self.row(&entry.figures(Measure::Requests, all, most), &day.weekday);
            }
        }
        let visits = &report.visits;
        if shown.has("visits") && visits.visits > 0 {
            self.title("Visits of people", "requests with no gap over half an hour");
            let pages = visits.pages as f64 / visits.visits as f64;
            let changed = match visits.changes.get("visits") {
                Some(change) => format!("{QUIET}{:>8}{QUIET:#}  ", percent(change)),
                None => String::new(),
            };
            let line = format!(
                "  {STRONG}{:>10}{STRONG:#}  {changed}of {pages:.1} pages; {} saw one page or none",
                grouped(visits.visits),
                share(visits.short, visits.visits),
            );
            self.line(line);
            let (mean, middle) = (duration(visits.seconds), duration(visits.middle_seconds));
            let line = format!("  {:>10}  {QUIET}they took {mean} on average, median {middle}{QUIET:#}", "");
            self.line(line);
        }
        for (name, title) in [("sites", "By site"), ("servers", "By server")] {
            let length = report.lists.get(name).map_or(0, |list| list.entries.len());
            if length > 1 || !shown.shortens {
                self.list(report, shown, name, title, "requests, share, bytes sent");
            }
        }
        if shown.has("paths") {
            self.list_title("What was asked for", "requests, share, bytes sent");
            self.rows(report.paths.iter().map(|path| (Entry::from(path), &*path.path)));
            self.rest(report.rest.get("paths"), "path", "paths");
        }
        self.list(report, shown, "kinds", "Of which kind", "requests, share, bytes sent");
        self.list(report, shown, "first_pages", "Where visits begin", "visits of people");
        self.list(report, shown, "last_pages", "Where visits end", "visits of people");
        let movers = report.against.as_ref().map_or(&[][..], |other| &other.movers);
        if shown.has("movers") && !movers.is_empty() {
            self.title("What changed most", "requests before, now");
            for mover in movers {
                let path = shorten(&mover.path, self.width - 29);
                let line = format!("  {:>10}  {:>10}  {path}", grouped(mover.before), grouped(mover.now));
                self.line(line);
            }
        }
    }

    pub(super) fn transfer(&mut self, report: &SurveyReport, shown: &Shown) {
        self.list(report, shown, "extensions", "Extensions", "requests, share, bytes sent");
        if shown.has("encodings") && !report.encodings.is_empty() {
            self.title("Compressed", "requests, bytes sent, bytes saved");
            for coding in &report.encodings {
                let (sent, saved) = (bytes(coding.bytes), bytes(coding.saved));
                let name = shorten(&coding.encoding, self.width.saturating_sub(34));
                let line = format!("  {:>10}  {sent:>8}  {saved:>8}  {name}", grouped(coding.requests));
                self.line(line);
            }
        }
        self.list(
            report,
            shown,
            "embedding_sites",
            "Sites whose pages load files from here",
            "requests, share, bytes sent",
        );
    }
}

/// Days from the first to the last, those without requests too; several together where room is short.
pub(super) fn calendar_days(by_day: &[DayCount], room: usize) -> (Vec<(Date, u64)>, usize) {
    let date = |day: &DayCount| day.day.parse::<Date>().unwrap_or_default();
    let (Some(first), Some(last)) = (by_day.first().map(date), by_day.last().map(date)) else {
        return (Vec::new(), 1);
    };
    let length = (last - first).get_days() as usize + 1;
    let each = length.div_ceil(room.max(1));
    let mut days: Vec<(Date, u64)> = (0..length.div_ceil(each))
        .map(|column| (first.saturating_add(jiff::Span::new().days((column * each) as i64)), 0))
        .collect();
    for day in by_day {
        days[(date(day) - first).get_days() as usize / each].1 += day.requests;
    }
    (days, each)
}
