//! What fails, for whom, and how long does it take?

use crate::classify::statuses;
use crate::survey::counted::StatusKey;
use crate::survey::durations::Spread;
use crate::survey::plan::Part;
use crate::survey::ranking::Ranking;
use crate::survey::report::context::{Context, measure_column, measured, milliseconds, requests, sent};
use crate::survey::report::missing::{Page, Referrer};
use crate::survey::report::section::{Made, Section};
use exedra_common::columns::{Kind, Unit};
use exedra_common::figures::{grouped, milliseconds as length};
use exedra_common::tables::{Cell, Detail, Measured, Rest, Table, TableColumn};
use exedra_common::{NumberColumn, TextColumn};

const OF_MISSING: &[Part] = &[Part::Missing, Part::Paths, Part::Referrers];
const OF_DURATIONS: &[Part] = &[Part::Durations, Part::Paths];

pub(super) const SECTIONS: &[Section] = &[
    Section::new("statuses", "How it was answered", &[], Made::By(statuses)).leads(),
    Section::new("classes", "By class of status", &[], Made::By(classes)).on_request(),
    Section::new("missing", "Missing pages", OF_MISSING, Made::By(missing)).leads(),
    Section::new(
        "failing_paths",
        "What fails, but for missing pages",
        &[Part::Failing],
        Made::By(failing_paths),
    ),
    Section::new("failing_clients", "For whom it fails", &[Part::Failing], Made::By(failing_clients)),
    Section::new("missing_links", "Who leads to missing pages", OF_MISSING, Made::By(missing_links))
        .on_request(),
    Section::new("slow", "How long it took", OF_DURATIONS, Made::By(slow)),
    Section::new("slow_minutes", "Minutes with slow requests", OF_DURATIONS, Made::By(slow_minutes))
        .on_request()
        .alone(),
];

fn statuses(context: &Context<'_>) -> Table {
    let status = TableColumn { measure: Measured::Key, ..TableColumn::of(NumberColumn::Status) };
    let mut table = Table::new("", "", [status, TableColumn::text("reason", "reason"), requests(), sent()]);
    for (status, counts) in &context.survey.statuses {
        let code = Some(u64::from(*status)).filter(|status| *status > 0);
        let reason = statuses::reason(*status).unwrap_or(if *status == 0 { "no status" } else { "" });
        table.push([code.into(), reason.into(), counts.requests.into(), counts.bytes.into()]);
    }
    table.total = context.totals(&table);
    table
}

/// Paths that were answered 4xx or 5xx, by status. Missing pages have a list of their own.
fn failing_paths(context: &Context<'_>) -> Table {
    let is_meant = |status: u16| status != 404;
    failing(context, "failing_paths", TextColumn::Path, &context.survey.failing_paths, is_meant)
}

/// Clients that were answered so, by status.
fn failing_clients(context: &Context<'_>) -> Table {
    failing(context, "failing_clients", TextColumn::Client, &context.survey.failing_clients, |_| true)
}

fn failing(
    context: &Context<'_>,
    name: &str,
    column: TextColumn,
    ranking: &Ranking,
    is_meant: impl Fn(u16) -> bool,
) -> Table {
    let status = TableColumn { measure: Measured::Key, ..TableColumn::of(NumberColumn::Status) };
    let columns = [status, TableColumn::of(column), requests(), sent().minor()];
    let mut table = Table::new(name, "", columns);
    table.order = Some("requests".to_owned());
    let entries = ranking.by_requests().into_iter();
    let entries = entries.filter_map(|(key, counts)| Some((StatusKey::split(key)?, counts)));
    for ((status, text), counts) in entries.filter(|((status, _), _)| is_meant(*status)) {
        let text = Some(text).filter(|text| !text.is_empty());
        table.push([u64::from(status).into(), text.into(), counts.requests.into(), counts.bytes.into()]);
    }
    table.cut(context.top);
    table.total_of_rows();
    let let_go = ranking.let_go().requests;
    if let_go > 0 {
        table.unknown.push(format!(
            "{name}: too many different ones to keep; {let_go} requests of rare ones are not in it"
        ));
    }
    table
}

fn classes(context: &Context<'_>) -> Table {
    let mut table = Table::new("", "", [TableColumn::text("class", "class"), requests()]);
    let names = ["none", "1xx", "2xx", "3xx", "4xx", "5xx"];
    for (name, requests) in names.into_iter().zip(context.survey.total.classes) {
        if requests > 0 {
            table.push([Cell::from(name), requests.into()]);
        }
    }
    table
}

/// Missing pages, and under each who led there: a link of one's own, somebody else's, nobody, or a program that looks for a
/// way in.
fn missing(context: &Context<'_>) -> Table {
    let by = context.plan.by;
    let origins = [
        ("own_links", "by own links"),
        ("other_links", "by links elsewhere"),
        ("typed", "typed or kept"),
        ("crawling", "by crawlers"),
        ("probing", "probing"),
    ];
    let columns = [TableColumn::of(TextColumn::Path), requests(), sent().minor()].into_iter();
    let columns = columns.chain(measure_column(by));
    let columns = columns.chain(origins.map(|(name, title)| TableColumn::sum(name, title).minor()));
    let mut table = Table::new("", "", columns);
    table.order = Some(by.figure().to_owned());
    let pages = context.missing();
    let let_go = context.survey.missing.let_go();
    let row = |weight: u64, path: Cell, page: &Page<'_>| -> Vec<Cell> {
        let figures = [path, page.counts.requests.into(), page.counts.bytes.into()].into_iter();
        let figures = figures.chain(measured(by, weight));
        figures
            .chain([page.own, page.others, page.typed, page.crawling, page.probing].map(Cell::from))
            .collect()
    };
    let mut all = Page { counts: let_go, ..Page::default() };
    let mut left = Page { counts: let_go, ..Page::default() };
    let shown = context.top.min(pages.len());
    for (place, (_, _, page)) in pages.iter().enumerate() {
        all.merge(page);
        if place >= shown {
            left.merge(page);
        }
    }
    if left.counts.requests > 0 {
        let mut cells = row(0, Cell::Nothing, &left);
        if measured(by, 0).is_some() {
            cells[3] = Cell::Nothing;
        }
        table.rest = Rest { rows: (pages.len() - shown) as u64, cells };
    }
    for (weight, path, page) in &pages[..shown] {
        table.rows.push(row(*weight, Cell::from(*path), page));
        table.details.push(details(page, &page.linking, context.referrers));
    }
    let total = Page { counts: all.counts, ..all };
    table.total = context.totals(&table);
    let known = row(0, Cell::Nothing, &total);
    for (total, known) in table.total.iter_mut().zip(known).take(3) {
        *total = known;
    }
    let places = table.columns.len() - origins.len()..;
    for (place, count) in places.zip([total.own, total.others, total.typed, total.crawling, total.probing]) {
        table.total[place] = count.into();
    }
    table.about = about_missing(&total, &origins);
    if let_go.requests > 0 {
        table.unknown.push(format!(
            "missing: too many different ones to keep; {} requests of rare ones are counted only in the rest",
            let_go.requests
        ));
    }
    table
}

/// Where requests for missing pages came from, the most frequent first.
fn about_missing(all: &Page<'_>, origins: &[(&str, &str); 5]) -> String {
    let counts = [all.own, all.others, all.typed, all.crawling, all.probing];
    let mut parts: Vec<(u64, &str)> = counts.into_iter().zip(origins.map(|(_, title)| title)).collect();
    parts.sort_by_key(|part| std::cmp::Reverse(part.0));
    let parts = parts.iter().filter(|(requests, _)| *requests > 0);
    let parts: Vec<String> =
        parts.map(|(requests, words)| format!("{} {words}", grouped(*requests))).collect();
    format!("answered 404: {}", parts.join(", "))
}

/// Who led to a page.
fn details(page: &Page<'_>, referrers: &[Referrer<'_>], most: usize) -> Vec<Detail> {
    let shown = &referrers[..referrers.len().min(most)];
    let detail = |from: &Referrer<'_>| Detail {
        count: from.requests,
        label: if from.own { "from our own" } else { "from" }.to_owned(),
        text: from.referrer.to_owned(),
    };
    let named: u64 = shown.iter().map(|from| from.requests).sum();
    let others = [
        (page.own + page.others - named, "from other pages"),
        (page.typed, "typed or kept"),
        (page.crawling, "by crawlers"),
        (page.probing, "probing"),
    ];
    let others = others.into_iter().filter(|(count, _)| *count > 0);
    let others = others.map(|(count, label)| Detail { count, label: label.to_owned(), text: String::new() });
    shown.iter().map(detail).chain(others).collect()
}

/// Each page that leads to a missing one.
fn missing_links(context: &Context<'_>) -> Table {
    let own = TableColumn::text("whose", "whose");
    let mut table = Table::new(
        "",
        "",
        [TableColumn::of(TextColumn::Path), TableColumn::of(TextColumn::Referrer), own, requests()],
    );
    for (_, path, page) in context.missing().iter().take(context.top) {
        let path = *path;
        let without = page.typed + page.crawling + page.probing;
        if without > 0 {
            table.push([Cell::from(path), Cell::Nothing, Cell::Nothing, without.into()]);
        }
        for from in page.linking.iter().take(context.referrers) {
            let whose = if from.own { "own" } else { "other" };
            table.push([path.into(), from.referrer.into(), whose.into(), from.requests.into()]);
        }
    }
    table
}

/// A path with fewer requests than this says little about how long it takes.
const ENOUGH: u64 = 10;

/// How long answers took, by path: those with slow requests, most of them first; where there are none, those with the
/// longest ninth tenth.
fn slow(context: &Context<'_>) -> Table {
    let level = |name: &str, title: &str| TableColumn::level(name, title, Unit::Milliseconds);
    let mut table = Table::new(
        "",
        "",
        [
            TableColumn::of(TextColumn::Path),
            requests(),
            TableColumn::sum("slow", "slow"),
            level("p50_ms", "half in"),
            level("p90_ms", "90 % in"),
            level("p99_ms", "99 % in"),
            TableColumn { measure: Measured::Sum, ..level("total_ms", "together") }.minor(),
        ],
    );
    let durations = &context.survey.durations;
    if durations.is_empty() {
        return table;
    }
    if durations.error() > 0.0 {
        let error = durations.error() * 100.0;
        table.unknown.push(format!("durations at percentiles are within {error:.1} % of the exact ones"));
    }
    let (all, by_path) = durations.spreads();
    let mut paths: Vec<(&str, &Spread, u64)> = context
        .survey
        .paths
        .entries()
        .filter_map(|(path, _)| {
            let spread = by_path.get(&context.plan.key.of_text(path))?;
            Some((path, spread, durations.slow.of(path).requests))
        })
        .collect();
    if paths.iter().any(|(.., slow)| *slow > 0) {
        paths.retain(|(.., slow)| *slow > 0);
        paths.sort_by(|a, b| b.2.cmp(&a.2).then_with(|| b.1.p99.cmp(&a.1.p99)).then_with(|| a.0.cmp(b.0)));
        table.order = Some("slow".to_owned());
    } else {
        paths.retain(|(_, spread, _)| spread.requests >= ENOUGH);
        paths.sort_by(|a, b| b.1.p90.cmp(&a.1.p90).then_with(|| a.0.cmp(b.0)));
        table.order = Some("p90_ms".to_owned());
    }
    let row = |path: Cell, spread: &Spread, slow: u64| {
        let times =
            [spread.p50, spread.p90, spread.p99, spread.sum].map(|time| Cell::from(milliseconds(time)));
        [path, spread.requests.into(), slow.into()].into_iter().chain(times).collect::<Vec<Cell>>()
    };
    for (path, spread, slow) in paths.into_iter().take(context.top) {
        table.rows.push(row(path.into(), spread, slow));
    }
    let slow = durations.minutes.values().sum::<u64>() + durations.other_minutes;
    table.total = row(Cell::Nothing, &all, slow);
    let threshold = length(milliseconds(context.plan.slow));
    table.about = format!("{} of {} took over {threshold}", grouped(slow), grouped(all.requests));
    table
}

/// The minutes with most slow requests.
fn slow_minutes(context: &Context<'_>) -> Table {
    let minute =
        TableColumn { kind: Kind::Time, unit: Unit::Milliseconds, ..TableColumn::text("minute", "minute") };
    let mut table = Table::new("", "", [minute, TableColumn::sum("slow", "slow requests")]);
    table.order = Some("slow".to_owned());
    let mut minutes: Vec<(i64, u64)> =
        context.survey.durations.minutes.iter().map(|(minute, slow)| (*minute, *slow)).collect();
    minutes.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    for (minute, slow) in minutes {
        table.push([Cell::from(u64::try_from(minute * 60_000).unwrap_or(0)), slow.into()]);
    }
    table.cut(context.top);
    table
}
