//! A report as a page for the terminal: its head, and the tables of each question, no wider than it must be.

use super::when::when;
use crate::out::{QUIET, STRONG};
use crate::show::cells::change;
use crate::show::fit::shorten;
use crate::show::text::Drawing;
use crate::sources::Source;
use exedra_common::figures::{bytes, grouped, several, share};
use exedra_common::tables::{Cell, Table};
use exedra_reading::survey::Report;
use exedra_reading::survey::report::{Lines, OtherPeriod, sections};
use jiff::tz::TimeZone;
use unicode_width::UnicodeWidthStr;

/// Width of the rule beside the name of a question.
const RULE: usize = 60;
/// How many rows a table has that does not lead its question, where nobody asked for anything in particular.
const SHORT: usize = 5;

/// The page. Tables that do not lead their question are shortened where that is wanted.
pub fn page(report: &Report, sources: &[Source], shortens: bool, width: usize) -> String {
    let zone = TimeZone::get(&report.time_zone).unwrap_or(TimeZone::UTC);
    let mut page = Page { out: String::new(), width, zone };
    page.head(report, sources);
    if report.total("requests") > 0 {
        for question in &report.questions {
            page.question(&question.title, |page| {
                // Days and hours are a picture of their own.
                let draws = |name: &str| question.tables.iter().any(|table| table == name);
                if (draws("days") || draws("hours")) && !report.table("days").is_empty() {
                    page.out.push_str(&when(report.table("days"), report.table("hours"), page.width));
                }
                for name in question.tables.iter().filter(|name| !matches!(&***name, "days" | "hours")) {
                    let leads = sections::named(name).is_some_and(|section| section.leads);
                    let more = if shortens && !leads { format!("--show {name}") } else { "--top".to_owned() };
                    let rows = if shortens && !leads { SHORT } else { usize::MAX };
                    let drawing = Drawing { width: page.width, zone: &page.zone, rows, more: &more };
                    let drawn = drawing.table(report.table(name));
                    page.out.push_str(&drawn);
                    if leads && shortens && !drawn.is_empty() {
                        page.narrower(report.table(name));
                    }
                }
            });
        }
        page.caveats(report);
    }
    if let Some(lines) = &report.lines {
        page.unread(lines);
    }
    page.out
}

struct Page {
    out: String,
    width: usize,
    zone: TimeZone,
}

impl Page {
    fn line(&mut self, line: impl AsRef<str>) {
        self.out.push_str(line.as_ref().trim_end());
        self.out.push('\n');
    }

    /// What answers one question, under its name; nothing where there is nothing to say.
    fn question(&mut self, title: &str, fill: impl FnOnce(&mut Page)) {
        let before = std::mem::take(&mut self.out);
        fill(self);
        let filled = std::mem::replace(&mut self.out, before);
        if !filled.is_empty() {
            let rule = "─".repeat(self.width.min(RULE).saturating_sub(title.width() + 1));
            self.line("");
            self.line(format!("{STRONG}{title}{STRONG:#} {QUIET}{rule}{QUIET:#}"));
            self.out.push_str(&filled);
        }
    }

    /// How to see more of the first row: the filter that narrows to it.
    fn narrower(&mut self, table: &Table) {
        let filtered =
            table.columns.iter().zip(table.rows.first().into_iter().flatten()).find_map(|(column, cell)| {
                let value = match cell {
                    Cell::Text(text) => text.clone(),
                    Cell::Number(number) => number.to_string(),
                    _ => return None,
                };
                // What the shell or the grammar of filters would take for something else is no good example.
                let is_plain = |letter: char| letter.is_ascii_alphanumeric() || "/._-:".contains(letter);
                let filter = column.filter.as_ref().filter(|_| value.chars().all(is_plain))?;
                Some(format!("{filter}={value}"))
            });
        if let Some(filter) = filtered {
            let said = format!("--only {filter} narrows to the first, and exedra requests lists them");
            self.line(format!(
                "  {QUIET}{:>10}  {}{QUIET:#}",
                "",
                shorten(&said, self.width.saturating_sub(14))
            ));
        }
    }

    fn head(&mut self, report: &Report, sources: &[Source]) {
        let names = match sources {
            [one] => one.name.clone(),
            [first, rest @ ..] => format!("{} and {} more", first.name, rest.len()),
            [] => "nothing".to_owned(),
        };
        let mut layouts: Vec<&str> = sources.iter().map(|source| source.layout.as_str()).collect();
        layouts.retain(|layout| !layout.is_empty());
        // A template has lines of its own, below.
        layouts
            .iter_mut()
            .filter(|layout| layout.contains('{'))
            .for_each(|layout| *layout = "found by its parts");
        layouts.sort_unstable();
        layouts.dedup();
        let (names, beside) = match &report.lines {
            Some(lines) => {
                let lines = several(lines.read, "line", "lines");
                let layouts = if layouts.is_empty() {
                    String::new()
                } else {
                    format!(", layout {}", layouts.join(" and "))
                };
                (names, format!("{lines}{layouts}"))
            }
            None => ("records of the running service".to_owned(), String::new()),
        };
        let names = shorten(&names, self.width.saturating_sub(beside.width() + 2));
        self.line(format!("{STRONG}{names}{STRONG:#}  {QUIET}{beside}{QUIET:#}"));
        if let (Some(first), Some(last)) = (&report.first, &report.last) {
            let local = |text: &str| {
                let stamp = text.parse::<jiff::Timestamp>().unwrap_or_default();
                stamp.to_zoned(self.zone.clone()).strftime("%a %-d %b %Y %H:%M").to_string()
            };
            let (first, last) = (local(first), local(last));
            let zone = &report.time_zone;
            self.line(format!("{QUIET}{first} to {last}, days and hours of {zone}{QUIET:#}"));
        }
        let mut remarks: Vec<&str> =
            sources.iter().flat_map(|source| &source.remarks).map(String::as_str).collect();
        remarks.sort_unstable();
        remarks.dedup();
        for remark in remarks {
            for line in wrapped(remark, self.width) {
                self.line(format!("{QUIET}{line}{QUIET:#}"));
            }
        }
        if let Some(other) = &report.against {
            self.line(format!("{QUIET}beside {}{QUIET:#}", other_period(other, &report.time_zone)));
        }
        let totals = report.table("totals");
        let total = |name: &str| report.total(name);
        let known = |name: &str, figure: fn(u64) -> String| {
            report.known_total(name).map_or("not known:".to_owned(), figure)
        };
        let figures = [
            (grouped(total("requests")), "requests"),
            (known("visitors", grouped), "visitors"),
            (known("bytes", bytes), "sent"),
            (share(total("errors"), total("requests")), "answered 4xx or 5xx"),
        ];
        let figures = figures.map(|(figure, what)| format!("{STRONG}{figure}{STRONG:#} {what}"));
        self.line("");
        self.line(figures.join("     "));
        if total("requests") == 0 {
            let words = match &report.lines {
                Some(lines) if lines.read > 0 => {
                    let all = several(lines.read, "request is", "requests are");
                    format!("Of what was read, {all} outside the period or the filters that were asked for.")
                }
                Some(lines) if lines.unread > 0 => "Not a line of it is a request.".to_owned(),
                Some(_) => "There is no line to read in it.".to_owned(),
                None => "The records have no request within the period and the filters that were asked for."
                    .to_owned(),
            };
            self.line("");
            wrapped(&words, self.width).iter().for_each(|line| self.line(line));
        }
        if report.against.is_some() {
            let changed = ["requests", "visitors", "bytes"].map(|name| {
                let changed = totals.place(name).and_then(|place| totals.change(0, place));
                format!("{name} {}", changed.map_or(String::new(), |changed| change(&changed)))
            });
            self.line(format!("{QUIET}since then: {}{QUIET:#}", changed.join(", ")));
        }
    }

    fn caveats(&mut self, report: &Report) {
        if !report.caveats.is_empty() {
            self.line("");
        }
        for caveat in &report.caveats {
            self.line(format!("  {QUIET}{caveat}{QUIET:#}"));
        }
    }

    fn unread(&mut self, lines: &Lines) {
        if lines.unread == 0 {
            return;
        }
        let of =
            format!("{} of {}", several(lines.unread, "line", "lines"), grouped(lines.read + lines.unread));
        self.line("");
        self.line(format!("{STRONG}Not read{STRONG:#}  {QUIET}{of}{QUIET:#}"));
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

/// A sentence in lines no wider than that, parted at its spaces.
fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split_inclusive(' ') {
        if lines.last().is_some_and(|line| !line.is_empty() && line.width() + word.trim_end().width() > width)
        {
            lines.push(String::new());
        }
        if let Some(line) = lines.last_mut() {
            line.push_str(word);
        }
    }
    lines
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
    use super::*;
    use exedra_common::{Dictionaries, RequestBatch};
    use exedra_reading::logs::{Layout, LineReader};
    use exedra_reading::survey::report::{Against, Shown};
    use exedra_reading::survey::{ReportOptions, Survey, SurveyPlan, Surveyor, VisitorKey};

    /// What was asked for on some days, so many times: a path, a status, a referrer and an agent.
    const ASKED: [(u8, u32, &str, u16, &str, &str); 7] = [
        (19, 9, "/tides/today.html", 200, "-", BROWSER),
        (19, 2, "/tides.css", 200, "https://harbour.lindry.example/tides/today.html", BROWSER),
        (21, 4, "/tides/today.html", 200, "-", "LeafTurner/2 (+https://leaf.example/)"),
        (21, 3, "/mariners/berthing.html", 404, "https://pilots.saltwater.example/links", BROWSER),
        (21, 1, "/mariners/berthing.html", 404, "-", BROWSER),
        (21, 1, "/tides/today.html", 503, "-", BROWSER),
        (22, 1, LONG, 200, "-", BROWSER),
    ];
    const BROWSER: &str = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0";
    const LONG: &str = "/notices/2026/of-a-length-that-no-terminal-has-room-for/nor-any-person-the-patience/to-mariners.html";

    fn survey(plan: &SurveyPlan, days: std::ops::Range<u8>) -> Survey {
        let mut log = String::new();
        for (day, times, path, status, referrer, agent) in
            ASKED.into_iter().filter(|asked| days.contains(&asked.0))
        {
            for nth in 0..times {
                log.push_str(&format!(
                    "192.0.2.{} - - [{day}/Oct/2026:{:02}:10:00 +0100] \"GET {path} HTTP/1.1\" {status} {} \"{referrer}\" \"{agent}\"\n",
                    nth % 3,
                    8 + nth,
                    1200 * (nth + 1),
                ));
            }
        }
        let layouts = [Layout::understand("combined").unwrap()];
        let mut reader = LineReader::new(&layouts, plan.projection());
        let (mut batch, mut texts) = (RequestBatch::default(), Dictionaries::default());
        reader.read_block(log.as_bytes(), 0, &mut 0, &mut batch, &mut texts);
        let mut surveyor = Surveyor::new(plan.clone());
        surveyor.add(&mut batch, &texts, 0);
        surveyor.into_survey(&texts)
    }

    fn report(compares: bool, days: std::ops::Range<u8>) -> Report {
        let zone = TimeZone::get("Atlantic/Faroe").unwrap();
        let plan = SurveyPlan::new(Default::default(), zone, VisitorKey([1, 2]));
        let shown = Shown::understand::<&str>(&[]).unwrap();
        let options = ReportOptions { shown, top: 10, referrers: 2, ..ReportOptions::default() };
        let (now, before) = (survey(&plan, days), survey(&plan, 19..20));
        let against = compares.then_some(Against { scope: &plan.scope, survey: &before });
        let mut report = Report::new(&now, &plan, &options, against);
        let text = "what is \u{1b}[2J this".to_owned();
        let example = UnreadLine { source: "access.log".into(), line: 17, column: 5, text };
        let reason =
            UnreadReason { reason: "does not fit the layout".into(), lines: 2, examples: vec![example] };
        report.lines = Some(Lines { read: 21, unread: 2, reasons: vec![reason] });
        report
    }

    fn drawn(report: &Report, name: &str, width: usize) -> String {
        let source = Source {
            name: name.into(),
            layout: "combined".into(),
            remarks: Vec::new(),
            site: None,
            server: None,
            requests: 0,
            bytes: 0,
        };
        let page = crate::out::shown(&page(report, &[source], true, width), false);
        assert!(page.lines().all(|line| line.width() <= width), "{page}");
        page
    }

    use exedra_reading::survey::report::{UnreadLine, UnreadReason};

    #[test]
    fn a_page_for_the_terminal() {
        insta::assert_snapshot!(drawn(&report(false, 19..23), "access.log", 100));
    }

    #[test]
    fn another_period_stands_beside() {
        insta::assert_snapshot!(drawn(&report(true, 21..23), "access.log", 100));
    }

    /// That there is nothing is said, and why.
    #[rstest::rstest]
    #[case::left_out(21, 0, "21 requests are outside the period or the filters")]
    #[case::no_request(0, 3, "Not a line of it is a request.")]
    #[case::empty(0, 0, "There is no line to read in it.")]
    fn nothing_is_no_riddle(#[case] read: u64, #[case] unread: u64, #[case] words: &str) {
        let mut report = report(false, 1..2);
        report.lines = Some(Lines { read, unread, reasons: Vec::new() });
        let page = drawn(&report, "access.log", 80);
        assert!(page.replace('\n', " ").contains(words), "{page}");
    }

    #[test]
    fn a_narrow_terminal_is_kept_to() {
        drawn(
            &report(true, 19..23),
            "a-rather-long-name-of-a-log-file-somewhere-on-a-machine-of-the-town.log",
            80,
        );
    }

    #[test]
    fn nothing_read_says_so_and_no_more() {
        let page = drawn(&report(false, 1..2), "access.log", 100);
        assert!(page.contains("0 requests") && !page.contains("When"), "{page}");
    }
}
