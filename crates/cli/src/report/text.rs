//! A survey as a page for the terminal: grouped by the questions people have, no wider than it must be.

use super::columns::{bar, columns};
use super::sections::Shown;
use crate::figures::{bytes, duration, grouped, several, share, shorten};
use crate::sources::Source;
use anstyle::{AnsiColor, Effects, Style};
use exedra_core::survey::report::{
    Change, Changes, DayCount, Lines, MissingPage, Origins, OtherPeriod, Rest, SurveyReport,
};
use jiff::civil::Date;
use unicode_width::UnicodeWidthStr;

const STRONG: Style = Style::new().effects(Effects::BOLD);
const QUIET: Style = Style::new().effects(Effects::DIMMED);
const CHART: Style = AnsiColor::Cyan.on_default();
const TROUBLE: Style = AnsiColor::Red.on_default();

/// Height of the charts in letters.
const HEIGHT: usize = 6;
/// Width of the chart of hours, with the space before it.
const HOURS: usize = 24 + 4;

/// The page, with the sections that are to be shown.
pub fn page(report: &SurveyReport, sources: &[Source], shown: &Shown, width: usize) -> String {
    let mut page = Page { out: String::new(), width, compares: report.against.is_some() };
    page.head(report, sources);
    if report.totals.requests > 0 {
        page.traffic(report, shown);
        page.people(report, shown);
        page.trouble(report, shown);
        page.transfer(report, shown);
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
}

impl Page {
    fn line(&mut self, line: impl AsRef<str>) {
        self.out.push_str(line.as_ref().trim_end());
        self.out.push('\n');
    }

    fn title(&mut self, title: &str, beside: &str) {
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

    fn when(&mut self, report: &SurveyReport) {
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

    fn traffic(&mut self, report: &SurveyReport, shown: &Shown) {
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
                let (all, changes) = (report.totals.requests, &Changes::new());
                let bytes = bytes(day.bytes);
                self.row(&Figures { requests: day.requests, all, most, bytes, changes }, &day.weekday);
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
            let line =
                format!("  {:>10}  {QUIET}they took {mean} on average, the middle one {middle}{QUIET:#}", "");
            self.line(line);
        }
        for (name, title) in [("sites", "By site"), ("servers", "By server")] {
            let length = report.lists.get(name).map_or(0, |list| list.entries.len());
            if length > 1 || !shown.shortens {
                self.list(report, shown, name, title, "requests, share, bytes sent");
            }
        }
        if shown.has("paths") {
            self.title("What was asked for", "requests, share, bytes sent");
            let most = report.paths.first().map_or(0, |path| path.requests);
            for path in &report.paths {
                let (all, bytes) = (report.totals.requests, bytes(path.bytes));
                let figures = Figures { requests: path.requests, all, most, bytes, changes: &path.changes };
                self.row(&figures, &path.path);
            }
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

    fn plain(&mut self, requests: u64, visitors: u64, sent: u64, name: &str) {
        let line =
            format!("  {:>10}  {:>10}  {:>8}  {name}", grouped(requests), grouped(visitors), bytes(sent));
        self.line(line);
    }

    fn people(&mut self, report: &SurveyReport, shown: &Shown) {
        let apart = &report.apart;
        if shown.has("clients") || shown.has("crawlers") {
            let named = [
                (apart.people, "by people"),
                (apart.crawlers, "by programs"),
                (apart.unnamed, "without a name"),
            ];
            let parts = named.iter().filter(|(requests, _)| *requests > 0);
            let parts: Vec<String> = parts
                .map(|(requests, who)| format!("{} {who}", share(*requests, report.totals.requests)))
                .collect();
            self.title("Who asked", &parts.join(", "));
        }
        if shown.has("clients") {
            let most = report.clients.first().map_or(0, |client| client.requests);
            for client in &report.clients {
                let (all, bytes) = (report.totals.requests, bytes(client.bytes));
                let figures =
                    Figures { requests: client.requests, all, most, bytes, changes: &client.changes };
                self.row(&figures, &client.client);
            }
            self.rest(report.rest.get("clients"), "client", "clients");
        }
        self.list(report, shown, "users", "Who signed in", "names");
        self.list(report, shown, "countries", "Where they are", "countries of addresses");
        self.list(report, shown, "crawlers", "Programs", "that ask by themselves");
        self.list(report, shown, "browsers", "Browsers", "of people");
        self.list(report, shown, "systems", "Systems", "of people");
        self.list(report, shown, "devices", "Devices", "of people");
        self.list(report, shown, "agents", "Agents", "as they call themselves");
        let own = match &report.own_hosts[..] {
            [] => String::new(),
            [one] => format!("links from {one} left out"),
            own => format!("links from {} own hosts left out", own.len()),
        };
        self.list(report, shown, "referring_sites", "Sites that link here", &own);
        self.list(report, shown, "referring_pages", "Pages that link here, or show files from here", &own);
        self.list(report, shown, "search_phrases", "Searched for", "by those who came from elsewhere");
    }

    /// A list of values, unless there are none.
    fn list(&mut self, report: &SurveyReport, shown: &Shown, name: &str, title: &str, beside: &str) {
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

    fn transfer(&mut self, report: &SurveyReport, shown: &Shown) {
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

    fn caveats(&mut self, report: &SurveyReport) {
        if !report.caveats.is_empty() {
            self.line("");
        }
        for caveat in &report.caveats {
            let line = format!("  {QUIET}{caveat}{QUIET:#}");
            self.line(line);
        }
    }

    fn trouble(&mut self, report: &SurveyReport, shown: &Shown) {
        if shown.has("statuses") {
            self.answered(report);
        }
        if !report.missing.is_empty() && shown.has("missing") {
            self.title("Missing pages", &origins(&report.missing_origins));
            for page in &report.missing {
                self.missing(page);
            }
            self.rest(report.rest.get("missing"), "missing page", "missing pages");
        }
        self.slow(report, shown);
    }

    fn slow(&mut self, report: &SurveyReport, shown: &Shown) {
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

    fn answered(&mut self, report: &SurveyReport) {
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
            let (all, bytes) = (report.totals.requests, bytes(entry.bytes));
            let figures = Figures { requests: entry.requests, all, most, bytes, changes: &entry.changes };
            self.row(&figures, &name);
        }
    }

    fn missing(&mut self, page: &MissingPage) {
        let room = self.width - 14;
        let path = shorten(&page.path, if self.compares { room - 10 } else { room });
        let changed = match self.compares {
            true => format!("{QUIET}{:>8}{QUIET:#}  ", change(&page.changes)),
            false => String::new(),
        };
        let line = format!("  {:>10}  {changed}{path}", grouped(page.requests));
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

    fn row(&mut self, figures: &Figures, name: &str) {
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

    fn rest(&mut self, rest: Option<&Rest>, one: &str, many: &str) {
        if let Some(rest) = rest.filter(|rest| rest.entries > 0) {
            let what = several(rest.entries, one, many);
            let line = format!(
                "  {QUIET}{:>10}  in {what} more: --top shows further{QUIET:#}",
                grouped(rest.requests)
            );
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

/// Days from the first to the last, those without requests too; several together where room is short.
fn calendar_days(by_day: &[DayCount], room: usize) -> (Vec<(Date, u64)>, usize) {
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
fn milliseconds(milliseconds: f64) -> String {
    match milliseconds {
        short if short < 0.9995 => format!("{:.0} µs", short * 1000.0),
        some if some < 9.995 => format!("{some:.2} ms"),
        some if some < 99.95 => format!("{some:.1} ms"),
        some if some < 999.5 => format!("{some:.0} ms"),
        some if some < 99_950.0 => format!("{:.1} s", some / 1000.0),
        long => duration(long / 1000.0),
    }
}

/// The figures of one row.
struct Figures<'c> {
    requests: u64,
    /// What its share is of.
    all: u64,
    /// What fills the bar.
    most: u64,
    bytes: String,
    changes: &'c Changes,
}

/// The change of requests since the other period, in percent.
fn change(changes: &Changes) -> String {
    match changes.get("requests").or_else(|| changes.get("visits")) {
        None => String::new(),
        Some(change) => percent(change),
    }
}

/// A change as a part of what was before.
fn percent(change: &Change) -> String {
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

fn http_reason(status: u16) -> &'static str {
    http::StatusCode::from_u16(status).ok().and_then(|status| status.canonical_reason()).unwrap_or("")
}

#[cfg(test)]
mod tests {
    use super::*;

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
        let page = anstream::adapter::strip_str(&page(&survey(), &sources, &usual(), 100)).to_string();
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
        let page = anstream::adapter::strip_str(&page(&survey(), &sources, &usual(), 80)).to_string();
        assert!(page.lines().all(|line| line.width() <= 80), "{page}");
    }

    #[test]
    fn nothing_read_says_so_and_no_more() {
        let mut nothing = survey();
        nothing.totals = Default::default();
        let page = anstream::adapter::strip_str(&page(&nothing, &[], &usual(), 100)).to_string();
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
