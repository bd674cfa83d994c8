//! What failed, for whom, and how long it took.

use super::lines::{Entry, change};
use super::{Page, QUIET, SHORT, TROUBLE, zone_of};
use crate::figures::{duration, grouped, shorten};
use crate::report::sections::Shown;
use exedra_core::survey::Measure;
use exedra_core::survey::report::{Measured, MissingPage, Origins, SurveyReport};

impl Page {
    pub(super) fn trouble(&mut self, report: &SurveyReport, shown: &Shown) {
        if shown.has("statuses") {
            self.answered(report);
        }
        if !report.missing.is_empty() && shown.has("missing") {
            self.list_title("Missing pages", &origins(&report.missing_origins));
            for page in &report.missing {
                self.missing(page);
            }
            self.rest(report.rest.get("missing"), "missing page", "missing pages");
        }
        self.slow(report, shown);
    }

    pub(super) fn slow(&mut self, report: &SurveyReport, shown: &Shown) {
        let slow = &report.slow;
        if slow.measured == 0 || !(shown.has("slow") || shown.has("slow_minutes")) {
            return;
        }
        let (threshold, many) = (milliseconds(slow.threshold_ms), grouped(slow.slow));
        self.title(
            "How long it took",
            &format!("{many} of {} took over {threshold}", grouped(slow.measured)),
        );
        if shown.has("slow") {
            let line = format!(
                "  {QUIET}{:>10}  {:>8}  {:>8}  {:>8}  {:>8}{QUIET:#}",
                "requests", "slow", "half in", "90 % in", "99 % in"
            );
            self.line(line);
            let all = (slow.measured, slow.slow, slow.p50_ms, slow.p90_ms, slow.p99_ms, "everything");
            let paths = slow.paths.iter().take(if shown.shortens { SHORT } else { usize::MAX });
            let paths = paths
                .map(|path| (path.requests, path.slow, path.p50_ms, path.p90_ms, path.p99_ms, &*path.path));
            for (requests, slow, p50, p90, p99, name) in [all].into_iter().chain(paths) {
                let [p50, p90, p99] = [p50, p90, p99].map(milliseconds);
                let name = shorten(name, self.width.saturating_sub(54));
                let line = format!(
                    "  {:>10}  {:>8}  {p50:>8}  {p90:>8}  {p99:>8}  {name}",
                    grouped(requests),
                    grouped(slow)
                );
                self.line(line);
            }
        }
        if shown.has("slow_minutes") {
            let zone = zone_of(report);
            for minute in &slow.minutes {
                let stamp = minute.minute.parse::<jiff::Timestamp>().unwrap_or_default();
                let name = stamp.to_zoned(zone.clone()).strftime("%a %-d %b %Y %H:%M").to_string();
                let line = format!("  {:>10}  slow at {name}", grouped(minute.slow));
                self.line(line);
            }
        }
    }

    pub(super) fn answered(&mut self, report: &SurveyReport) {
        self.title("How it was answered", "");
        let most = report.by_status.iter().map(|entry| entry.requests).max().unwrap_or(0);
        for entry in &report.by_status {
            let name = match entry.status {
                0 => "no status".to_owned(),
                status => {
                    let reason = http_reason(status);
                    match status >= 500 {
                        true => format!("{TROUBLE}{status} {reason}{TROUBLE:#}"),
                        false => format!("{status} {reason}"),
                    }
                }
            };
            let (measured, changes) = (Measured::default(), &entry.changes);
            let entry = Entry { requests: entry.requests, bytes: entry.bytes, measured, changes };
            let all = report.totals.requests;
            self.row(&entry.figures(Measure::Requests, all, most), &name);
        }
    }

    pub(super) fn missing(&mut self, page: &MissingPage) {
        let room = self.width - 14;
        let path = shorten(&page.path, if self.compares { room - 10 } else { room });
        let changed = match self.compares {
            true => format!("{QUIET}{:>8}{QUIET:#}  ", change(&page.changes, self.by)),
            false => String::new(),
        };
        let line = format!("  {:>10}  {changed}{path}", Entry::from(page).written(self.by));
        self.line(line);
        for from in &page.referrers {
            let line = format!(
                "  {:>10}  {QUIET}{:>8} from {}{}{QUIET:#}",
                "",
                grouped(from.requests),
                if from.own { "our own " } else { "" },
                shorten(&from.referrer, room - 22)
            );
            self.line(line);
        }
        let named: u64 = page.referrers.iter().map(|from| from.requests).sum();
        let other = page.requests - page.without_referrer - named;
        let parts = [
            (other, "from other pages"),
            (page.origins.typed, "typed or kept"),
            (page.origins.probing, "probing"),
        ];
        for (count, words) in parts {
            if count > 0 {
                let line = format!("  {:>10}  {QUIET}{:>8} {words}{QUIET:#}", "", grouped(count));
                self.line(line);
            }
        }
    }
}

/// Where requests for missing pages came from, the most frequent first.
fn origins(origins: &Origins) -> String {
    let mut parts = [
        (origins.own, "by own links"),
        (origins.others, "by links elsewhere"),
        (origins.typed, "typed or kept"),
        (origins.probing, "probing"),
    ];
    parts.sort_by_key(|part| std::cmp::Reverse(part.0));
    let parts = parts.iter().filter(|(requests, _)| *requests > 0);
    let parts: Vec<String> =
        parts.map(|(requests, words)| format!("{} {words}", grouped(*requests))).collect();
    format!("answered 404: {}", parts.join(", "))
}

/// A short length of time: three digits.
pub fn milliseconds(milliseconds: f64) -> String {
    match milliseconds {
        short if short < 0.9995 => format!("{:.0} µs", short * 1000.0),
        some if some < 9.995 => format!("{some:.2} ms"),
        some if some < 99.95 => format!("{some:.1} ms"),
        some if some < 999.5 => format!("{some:.0} ms"),
        some if some < 99_950.0 => format!("{:.1} s", some / 1000.0),
        long => duration(long / 1000.0),
    }
}

fn http_reason(status: u16) -> &'static str {
    http::StatusCode::from_u16(status).ok().and_then(|status| status.canonical_reason()).unwrap_or("")
}
