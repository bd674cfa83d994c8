//! A report in some lines: its figures beside those of the days before, and the pages that changed most.

use exedra_common::figures::{bytes, grouped};
use exedra_common::text::clean_value;
use exedra_reading::classify::paths::{Kind, kind};
use exedra_reading::survey::Report;

/// How many pages are named.
const FEW: usize = 3;

/// The lines. `now` has the sections `totals` and `movers`, `before` has `totals`.
pub fn digest(now: &Report, before: &Report) -> Vec<String> {
    let of = |report: &Report, name: &str| report.known_total(name);
    let requests = of(now, "requests").unwrap_or(0);
    if requests == 0 {
        let then = of(before, "requests").unwrap_or(0);
        let before = if then == 0 { "none before either" } else { "" };
        let before = if then > 0 { format!("{} before", grouped(then)) } else { before.to_owned() };
        return vec![format!("No requests; {before}.")];
    }
    let has_before = of(before, "requests").is_some_and(|then| then > 0);
    let figure = |name: &str, words: &dyn Fn(u64) -> String, (more, fewer): (&str, &str)| {
        let here = of(now, name)?;
        let then = of(before, name).filter(|_| has_before);
        let change = then.map_or(String::new(), |then| format!(" ({})", changed(here, then, more, fewer)));
        Some(format!("{}{change}", words(here)))
    };
    let figures = [
        figure("requests", &|count| format!("{} requests", grouped(count)), ("more", "fewer")),
        figure("visitors", &|count| format!("{} visitors", grouped(count)), ("more", "fewer")),
        figure("bytes", &|size| format!("{} sent", bytes(size)), ("more", "less")),
    ];
    let share = |report: &Report| {
        let all = of(report, "requests").filter(|all| *all > 0)?;
        Some(100.0 * of(report, "errors")? as f64 / all as f64)
    };
    let failed = share(now).map(|here| match share(before).filter(|_| has_before) {
        Some(then) => format!("{here:.1} % answered 4xx or 5xx ({then:.1} % before)"),
        None => format!("{here:.1} % answered 4xx or 5xx"),
    });
    let mut lines =
        vec![format!("{}.", figures.into_iter().chain([failed]).flatten().collect::<Vec<_>>().join(", "))];
    let movers = now.table("movers");
    if let Some(path) = movers.place("path").filter(|_| has_before && !movers.rows.is_empty()) {
        lines.push("What changed most:".to_owned());
        // What pages load changes as they do, and says nothing of its own.
        let is_own = |row: &usize| kind(movers.rows[*row][path].as_text().unwrap_or_default()) != Kind::Asset;
        for row in (0..movers.rows.len()).filter(is_own).take(FEW) {
            let path = clean_value(movers.rows[row][path].as_text().unwrap_or_default()).into_owned();
            let (here, then) = (movers.number(row, "now"), movers.number(row, "then"));
            lines.push(format!("  {path}: {} requests, {} before", grouped(here), grouped(then)));
        }
    }
    lines
}

/// How a figure has changed, in words.
fn changed(here: u64, then: u64, more: &str, fewer: &str) -> String {
    if then == 0 {
        return "none before".to_owned();
    }
    let change = (here as f64 - then as f64) / then as f64;
    match change.abs() {
        change if change < 0.005 => "as before".to_owned(),
        size if size >= 2.0 => format!(
            "{:.1} times as {}",
            change + 1.0,
            if more == "more" && fewer == "fewer" { "many" } else { "much" }
        ),
        size => format!("{:.0} % {}", size * 100.0, if change > 0.0 { more } else { fewer }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::tables::{Cell, Table, TableColumn};
    use std::collections::BTreeMap;

    fn report(figures: [u64; 4], movers: &[(&str, u64, u64)]) -> Report {
        let names = ["requests", "visitors", "bytes", "errors"];
        let mut totals = Table::new("totals", "", names.map(|name| TableColumn::sum(name, name)));
        totals.push(figures.map(Cell::from));
        let columns = [
            TableColumn::text("path", "path"),
            TableColumn::sum("then", "then"),
            TableColumn::sum("now", "now"),
        ];
        let mut changed = Table::new("movers", "", columns);
        movers
            .iter()
            .for_each(|(path, then, now)| changed.push([Cell::from(*path), (*then).into(), (*now).into()]));
        let tables = BTreeMap::from([("totals".to_owned(), totals), ("movers".to_owned(), changed)]);
        Report { tables, ..Report::default() }
    }

    #[test]
    fn figures_stand_beside_those_before() {
        let now = report(
            [1120, 48, 3_000_000, 56],
            &[("/style.css", 1, 200), ("/tides/", 10, 90), ("/gone\u{1b}[2J", 40, 0)],
        );
        let before = report([1000, 50, 1_000_000, 10], &[]);
        assert_eq!(
            digest(&now, &before),
            [
                "1,120 requests (12 % more), 48 visitors (4 % fewer), 3.00 MB sent (3.0 times as much), 5.0 % answered 4xx or 5xx (1.0 % before).",
                "What changed most:",
                "  /tides/: 90 requests, 10 before",
                "  /gone\\x1b[2J: 0 requests, 40 before",
            ]
        );
        let nothing = report([0; 4], &[]);
        assert_eq!(
            digest(&now, &nothing),
            ["1,120 requests, 48 visitors, 3.00 MB sent, 5.0 % answered 4xx or 5xx."]
        );
        assert_eq!(digest(&nothing, &before), ["No requests; 1,000 before."]);
        assert_eq!(
            digest(&before, &report([1001, 50, 1_000_000, 10], &[]))[0]
                .split(" requests")
                .nth(1)
                .unwrap()
                .split(',')
                .next(),
            Some(" (as before)")
        );
    }
}
