//! A survey as a page for the terminal: grouped by the questions people have, no wider than it must be.
//!
//! - [`lines`]: what every part is made of
//! - [`traffic`], [`people`], [`trouble`]: the questions

mod lines;
mod people;
mod traffic;
mod trouble;

use super::sections::Shown;
use crate::figures::{bytes, grouped, several, share, shorten};
use crate::out::{CHART, QUIET, STRONG, TROUBLE};
use crate::sources::Source;
use exedra_core::survey::Measure;
use exedra_core::survey::report::{Lines, OtherPeriod, SurveyReport, Totals};
pub use lines::Entry;
use lines::percent;
use unicode_width::UnicodeWidthStr;

/// Height of the charts in letters.
const HEIGHT: usize = 6;
/// Width of the rule beside the name of a group.
const RULE: usize = 60;
/// Width of the chart of hours, with the space before it.
const HOURS: usize = 24 + 4;

/// The page, with the sections that are to be shown.
pub fn page(report: &SurveyReport, sources: &[Source], shown: &Shown, width: usize) -> String {
    let (compares, totals) = (report.against.is_some(), report.totals.clone());
    let mut page = Page { out: String::new(), width, compares, by: report.by, totals };
    page.head(report, sources);
    if report.totals.requests > 0 {
        page.group("Traffic", |page| page.traffic(report, shown));
        page.group("People", |page| page.people(report, shown));
        page.group("Trouble", |page| page.trouble(report, shown));
        page.group("Transfer", |page| page.transfer(report, shown));
        page.caveats(report);
    }
    if let Some(lines) = &report.lines {
        page.unread(lines);
    }
    page.out
}

/// How many lines a list has that stands beside larger ones, where nobody asked for a length.
const SHORT: usize = 5;

struct Page {
    out: String,
    width: usize,
    /// Whether another period stands beside this one.
    compares: bool,
    /// What lists are ranked by, and the whole of it.
    by: Measure,
    totals: Totals,
}

impl Page {
    /// What belongs to one question, under its name; nothing where there is nothing to say.
    fn group(&mut self, name: &str, fill: impl FnOnce(&mut Page)) {
        let before = std::mem::take(&mut self.out);
        fill(self);
        let filled = std::mem::replace(&mut self.out, before);
        if !filled.is_empty() {
            let rule = "─".repeat(self.width.min(RULE).saturating_sub(name.width() + 1));
            self.line("");
            self.line(format!("{STRONG}{name}{STRONG:#} {QUIET}{rule}{QUIET:#}"));
            self.out.push_str(&filled);
        }
    }

    fn head(&mut self, report: &SurveyReport, sources: &[Source]) {
        let names = match sources {
            [one] => one.name.clone(),
            [first, rest @ ..] => format!("{} and {} more", first.name, rest.len()),
            [] => "nothing".to_owned(),
        };
        let mut layouts: Vec<&str> = sources.iter().map(|source| source.layout.as_str()).collect();
        layouts.retain(|layout| !layout.is_empty());
        layouts.sort_unstable();
        layouts.dedup();
        let lines = report.lines.as_ref().map_or(0, |lines| lines.read);
        let beside = format!("{}, layout {}", several(lines, "line", "lines"), layouts.join(" and "));
        let names = shorten(&names, self.width.saturating_sub(beside.width() + 2));
        let line = format!("{STRONG}{names}{STRONG:#}  {QUIET}{beside}{QUIET:#}");
        self.line(line);
        if let (Some(first), Some(last)) = (&report.first, &report.last) {
            let zone = zone_of(report);
            let local = |text: &str| {
                let stamp = text.parse::<jiff::Timestamp>().unwrap_or_default();
                stamp.to_zoned(zone.clone()).strftime("%a %-d %b %Y %H:%M").to_string()
            };
            let line = format!(
                "{QUIET}{} to {}, days and hours of {}{QUIET:#}",
                local(first),
                local(last),
                report.time_zone
            );
            self.line(line);
        }
        if let Some(other) = &report.against {
            let line = format!("{QUIET}beside {}{QUIET:#}", other_period(other, &report.time_zone));
            self.line(line);
        }
        let totals = &report.totals;
        let errors: u64 =
            report.by_status.iter().filter(|entry| entry.status >= 400).map(|entry| entry.requests).sum();
        let figures = [
            (grouped(totals.requests), "requests"),
            (grouped(totals.visitors), "visitors"),
            (bytes(totals.bytes), "sent"),
            (share(errors, totals.requests), "answered 4xx or 5xx"),
        ];
        let figures = figures.map(|(figure, what)| format!("{STRONG}{figure}{STRONG:#} {what}"));
        self.line("");
        self.line(figures.join("     "));
        if report.against.is_some() {
            let of = |name: &str| totals.changes.get(name).map_or(String::new(), percent);
            let changed = ["requests", "visitors", "bytes"].map(|name| format!("{name} {}", of(name)));
            let line = format!("{QUIET}since then: {}{QUIET:#}", changed.join(", "));
            self.line(line);
        }
    }

    fn caveats(&mut self, report: &SurveyReport) {
        if !report.caveats.is_empty() {
            self.line("");
        }
        for caveat in &report.caveats {
            let line = format!("  {QUIET}{caveat}{QUIET:#}");
            self.line(line);
        }
    }

    fn unread(&mut self, lines: &Lines) {
        if lines.unread == 0 {
            return;
        }
        self.title(
            "Not read",
            &format!("{} of {}", several(lines.unread, "line", "lines"), grouped(lines.read + lines.unread)),
        );
        for reason in &lines.reasons {
            let line = format!("  {:>10}  {}", grouped(reason.lines), reason.reason);
            self.line(line);
            for example in &reason.examples {
                let place = format!("{} line {} column {}", example.source, example.line, example.column);
                let line = format!("  {:>10}  {QUIET}{}{QUIET:#}", "", shorten(&place, self.width - 14));
                self.line(line);
                if !example.text.is_empty() {
                    let line = format!(
                        "  {:>10}  {QUIET}  {}{QUIET:#}",
                        "",
                        shorten(&example.text, self.width - 16)
                    );
                    self.line(line);
                }
            }
        }
    }
}

fn zone_of(report: &SurveyReport) -> jiff::tz::TimeZone {
    jiff::tz::TimeZone::get(&report.time_zone).unwrap_or(jiff::tz::TimeZone::UTC)
}

/// The other period in words: its days, or its instants.
fn other_period(other: &OtherPeriod, zone: &str) -> String {
    let zone = jiff::tz::TimeZone::get(zone).unwrap_or(jiff::tz::TimeZone::UTC);
    let at = |text: &Option<String>, format: &str| {
        let stamp = text.as_ref().and_then(|text| text.parse::<jiff::Timestamp>().ok());
        stamp.map_or(String::new(), |stamp| stamp.to_zoned(zone.clone()).strftime(format).to_string())
    };
    let format = "%a %-d %b %Y %H:%M";
    match (&other.first, &other.last) {
        (Some(_), Some(_)) => format!("{} to {}", at(&other.first, format), at(&other.last, format)),
        _ => {
            format!("{} to {}, when nothing was recorded", at(&other.from, format), at(&other.until, format))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::traffic::calendar_days;
    use super::*;
    use exedra_core::survey::report::DayCount;

    fn usual() -> Shown {
        Shown::understand(&[]).ok().unwrap()
    }

    fn survey() -> SurveyReport {
        let json = serde_json::json!({
            "version": 1, "time_zone": "Atlantic/Faroe",
            "first": "2026-10-19T05:00:00Z", "last": "2026-10-21T21:30:00Z",
            "lines": { "read": 1234, "unread": 2, "reasons": [{ "reason": "does not fit the layout", "lines": 2, "examples": [
                { "source": "access.log", "line": 17, "column": 5, "text": "what is \u{1b}[2J this" }] }] },
            "totals": { "requests": 1234, "visitors": 56, "bytes": 7_890_123 },
            "by_class": [],
            "by_status": [{ "status": 200, "requests": 1200, "bytes": 7_890_000 }, { "status": 404, "requests": 30, "bytes": 123 }, { "status": 500, "requests": 4, "bytes": 0 }],
            "by_day": [{ "day": "2026-10-19", "requests": 1000, "visitors": 50, "bytes": 1, "errors": 0 }, { "day": "2026-10-21", "requests": 234, "visitors": 6, "bytes": 1, "errors": 34 }],
            "by_hour": (0..24).map(|hour| serde_json::json!({ "hour": hour, "requests": hour * hour, "bytes": 0 })).collect::<Vec<_>>(),
            "timeline": [],
            "paths": [{ "path": "/tides/today.html", "requests": 900, "bytes": 5_000_000 }, { "path": format!("/notices/{}/end.html", "long/".repeat(30)), "requests": 3, "bytes": 1_500 }],
            "missing": [{ "path": "/mariners/berthing.html", "requests": 30, "without_referrer": 4, "referrers": [{ "referrer": "https://pilots.saltwater.example/links", "requests": 20 }], "origins": { "own": 6, "others": 20, "typed": 3, "probing": 1 } }],
            "missing_origins": { "own": 6, "others": 20, "typed": 3, "probing": 1 },
            "slow": { "threshold_ms": 500.0, "measured": 1234, "slow": 7, "p50_ms": 0.35, "p90_ms": 12.0, "p99_ms": 1250.0, "minutes": [],
                "paths": [{ "path": "/tides/today.html", "requests": 900, "slow": 7, "p50_ms": 0.41, "p90_ms": 99.96, "p99_ms": 90_000.0, "total_ms": 9000.0 }] },
            "encodings": [{ "encoding": "br", "requests": 800, "bytes": 3_000_000, "saved": 9_000_000 }],
            "clients": [{ "client": "2001:db8::7", "requests": 800, "bytes": 4_000_000 }],
            "apart": { "people": 934, "people_bytes": 5_000_000, "crawlers": 300, "crawler_bytes": 2_890_123, "unnamed": 0 },
            "visits": { "visits": 60, "short": 15, "pages": 150, "seconds": 195.4, "middle_seconds": 41.0, "by_crawlers": 3 },
            "own_hosts": ["harbour.lindry.example"],
            "lists": {
                "kinds": { "entries": [{ "value": "page", "requests": 1200, "bytes": 7_890_000 }, { "value": "asset", "requests": 34, "bytes": 123 }], "more": 0, "more_requests": 0, "more_bytes": 0 },
                "crawlers": { "entries": [{ "value": "LeafTurner", "requests": 300, "bytes": 2_890_123 }], "more": 2, "more_requests": 7, "more_bytes": 0 },
                "first_pages": { "entries": [{ "value": "/", "requests": 40, "bytes": 0 }], "more": 0, "more_requests": 0, "more_bytes": 0 },
                "embedding_sites": { "entries": [{ "value": "forum.example", "requests": 20, "bytes": 2_000_000 }], "more": 0, "more_requests": 0, "more_bytes": 0 },
            },
            "rest": { "paths": { "entries": 12, "requests": 331, "bytes": 1 }, "clients": { "entries": 1, "requests": 434, "bytes": 1 } },
            "caveats": [],
        });
        serde_json::from_value(json).unwrap()
    }

    #[test]
    fn a_page_for_the_terminal() {
        let sources = [Source {
            name: "access.log".into(),
            layout: "combined".into(),
            site: None,
            server: None,
            requests: 0,
            bytes: 0,
        }];
        let page = crate::out::shown(&page(&survey(), &sources, &usual(), 100), false);
        assert!(page.lines().all(|line| line.width() <= 100), "{page}");
        insta::assert_snapshot!(page);
    }

    #[test]
    fn a_narrow_terminal_is_kept_to() {
        let sources = [Source {
            name: "a-rather-long-name-of-a-log-file-somewhere.log".into(),
            layout: "full".into(),
            site: None,
            server: None,
            requests: 0,
            bytes: 0,
        }];
        let page = crate::out::shown(&page(&survey(), &sources, &usual(), 80), false);
        assert!(page.lines().all(|line| line.width() <= 80), "{page}");
    }

    #[test]
    fn nothing_read_says_so_and_no_more() {
        let mut nothing = survey();
        nothing.totals = Default::default();
        let page = crate::out::shown(&page(&nothing, &[], &usual(), 100), false);
        assert!(page.contains("0 requests") && !page.contains("When"), "{page}");
    }

    #[test]
    fn days_without_requests_stand_too() {
        let day = |day: &str, requests| DayCount {
            day: day.into(),
            requests,
            visitors: 0,
            bytes: 0,
            errors: 0,
            visits: 0,
        };
        let (days, each) = calendar_days(&[day("2026-02-27", 3), day("2026-03-02", 5)], 10);
        assert_eq!(days.iter().map(|day| day.1).collect::<Vec<_>>(), [3, 0, 0, 5]);
        assert_eq!(each, 1);
        let (days, each) = calendar_days(&[day("2026-01-01", 3), day("2026-12-31", 5)], 50);
        assert_eq!((days.len(), each), (46, 8));
    }
}
