//! How much, when, what?

use crate::classify::paths;
use crate::survey::calendar::{Calendar, date_of};
use crate::survey::counted::{Bucket, Survey};
use crate::survey::plan::Part;
use crate::survey::ranking::{Counts, Ranking};
use crate::survey::report::context::{Context, requests, sent, visitors};
use crate::survey::report::section::{Counted, Follows, Made, Section};
use crate::survey::visitors_of_entries::Listed;
use exedra_common::columns::{Kind, Unit};
use exedra_common::figures::{duration, several, share};
use exedra_common::tables::{Cell, Measured, Table, TableColumn};
use exedra_common::{Column, DerivedColumn, TextColumn};
use std::collections::BTreeMap;

pub(super) const SECTIONS: &[Section] = &[
    Section::new("totals", "Everything together", &[Part::Visitors], Made::By(totals)).on_request(),
    Section::new("days", "By day", &[Part::Visitors, Part::Visits], Made::By(days)).alone(),
    Section::new("hours", "By hour of the day", &[], Made::By(hours)),
    Section::new("months", "By month", &[Part::Visitors], Made::By(months)).on_request().alone(),
    Section::new("weekdays", "By day of the week", &[], Made::By(weekdays)).on_request(),
    Section::new("week", "By day of the week and hour", &[Part::Agents], Made::By(week)).on_request(),
    Section::new("timeline", "In time", &[], Made::By(timeline)).on_request().alone(),
    Section::new("visits", "Visits of people", &[Part::Visits], Made::By(visits)),
    Section::new("visit_lengths", "How long visits took", &[Part::Visits], Made::By(visit_lengths))
        .on_request(),
    Section::new("visit_pages", "How many pages visits saw", &[Part::Visits], Made::By(visit_pages))
        .on_request(),
    Section::new("sites", "By site", &[], Made::By(|context| by_source(context, TextColumn::Site)))
        .of_several(),
    Section::new("servers", "By server", &[], Made::By(|context| by_source(context, TextColumn::Server)))
        .of_several(),
    Section::new(
        "paths",
        "What was asked for",
        &[Part::Paths],
        Made::Texts { column: TextColumn::Path, listed: Listed::Paths, of: |survey| &survey.paths },
    )
    .leads(),
    Section::new(
        "kinds",
        "Of which kind",
        &[Part::Paths],
        Made::Follows(Follows::new(
            || TableColumn::of(DerivedColumn::Kind),
            Listed::Paths,
            |survey| &survey.paths,
            |_, path| Some(paths::kind(path).name().into()),
        )),
    ),
    texts("hosts", "Which hosts were asked for", &[Part::Hosts], TextColumn::Host, Listed::Hosts, |survey| {
        &survey.hosts
    }),
    texts("methods", "By method", &[Part::Methods], TextColumn::Method, Listed::Methods, |survey| {
        &survey.methods
    }),
    texts(
        "protocols",
        "By protocol",
        &[Part::Protocols],
        TextColumn::Protocol,
        Listed::Protocols,
        |survey| &survey.protocols,
    ),
    texts("queries", "Queries", &[Part::Queries], TextColumn::Query, Listed::Queries, |survey| {
        &survey.queries
    }),
    Section::new("first_pages", "Where visits begin", &[Part::Visits], Made::By(first_pages)),
    Section::new("last_pages", "Where visits end", &[Part::Visits], Made::By(last_pages)).on_request(),
    Section::new("movers", "What changed most", &[Part::Paths], Made::By(movers)).alone(),
];

/// A list of whole texts that is shown when it is asked for.
const fn texts(
    name: &'static str,
    title: &'static str,
    parts: &'static [Part],
    column: TextColumn,
    listed: Listed,
    of: Counted,
) -> Section {
    Section::new(name, title, parts, Made::Texts { column, listed, of }).on_request()
}

/// One row: everything.
fn totals(context: &Context<'_>) -> Table {
    let survey = context.survey;
    let time = survey
        .times
        .is_some()
        .then(|| crate::survey::report::context::measure_column(context.plan.by))
        .flatten();
    let errors = TableColumn::sum("errors", "answered 4xx or 5xx");
    let columns = [requests(), visitors(), sent(), errors].into_iter().chain(time);
    let mut table = Table::new("", "", columns);
    let errors = survey.total.classes[4] + survey.total.classes[5];
    let mut row = context.totals(&table);
    row[3] = errors.into();
    table.push(row);
    table
}

fn days(context: &Context<'_>) -> Table {
    let survey = context.survey;
    let mut calendar = Calendar::new(context.plan.zone.clone());
    let mut visits: BTreeMap<i32, u64> = BTreeMap::new();
    if context.plan.parts.has(Part::Visits) {
        for visit in survey.visits.all().filter(|visit| !visit.is_crawler) {
            *visits.entry(calendar.quarter(visit.first).day).or_default() += survey.visits.weight();
        }
    }
    let columns = [date("day"), requests(), visitors(), sent(), errors(), of_visits()].into_iter();
    let classes = CLASSES.map(|name| TableColumn::sum(name, name).minor());
    let mut table = Table::new("", "", columns.chain(classes));
    let row = |day: &i32, bucket: &Bucket| {
        vec![
            date_of(*day).to_string().into(),
            bucket.counts.requests.into(),
            survey.visitors.on(*day).into(),
            bucket.counts.bytes.into(),
            (bucket.classes[4] + bucket.classes[5]).into(),
            visits.get(day).copied().unwrap_or(0).into(),
        ]
        .into_iter()
        .chain(bucket.classes.map(Cell::from))
        .collect::<Vec<Cell>>()
    };
    let strays = survey.stray_days();
    let (far, near): (Vec<_>, Vec<_>) = survey.days.iter().partition(|(day, _)| strays.contains(day));
    near.into_iter().for_each(|(day, bucket)| table.push(row(day, bucket)));
    if !far.is_empty() {
        let requests: u64 = far.iter().map(|(_, bucket)| bucket.counts.requests).sum();
        let named: Vec<String> = far.iter().take(3).map(|(day, _)| date_of(**day).to_string()).collect();
        let more = if far.len() > named.len() {
            format!(" and {} more", far.len() - named.len())
        } else {
            String::new()
        };
        table.unknown.push(format!(
            "{} on {}{more}, far from all others: counted, but not among the days",
            several(requests, "request", "requests"),
            named.join(", ")
        ));
        let length = table.rows.len();
        far.into_iter().for_each(|(day, bucket)| table.push(row(day, bucket)));
        table.cut(length);
    }
    table
}

fn months(context: &Context<'_>) -> Table {
    let survey = context.survey;
    let mut months: BTreeMap<String, (Bucket, u64)> = BTreeMap::new();
    let strays = survey.stray_days();
    for (day, bucket) in survey.days.iter().filter(|(day, _)| !strays.contains(day)) {
        let (month, visitors) = months.entry(date_of(*day).strftime("%Y-%m").to_string()).or_default();
        month.merge(*bucket);
        *visitors += survey.visitors.on(*day);
    }
    let mut table = Table::new("", "", [date("month"), requests(), visitors(), sent(), errors()]);
    for (month, (bucket, visitors)) in months {
        let failed = bucket.classes[4] + bucket.classes[5];
        let Counts { requests, bytes } = bucket.counts;
        table.push([month.into(), requests.into(), visitors.into(), bytes.into(), failed.into()]);
    }
    table
}

const WEEKDAYS: [&str; 7] = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

fn weekdays(context: &Context<'_>) -> Table {
    let mut table = Table::new("", "", [TableColumn::text("weekday", "weekday"), requests(), sent()]);
    for (name, hours) in WEEKDAYS.iter().zip(&context.survey.week) {
        let all = hours.iter().fold(Counts::default(), |mut all, hour| {
            all.merge(*hour);
            all
        });
        table.push([Cell::from(*name), all.requests.into(), all.bytes.into()]);
    }
    table
}

fn hours(context: &Context<'_>) -> Table {
    let mut table = Table::new("", "", [hour(), requests(), sent()]);
    for (hour, counts) in (0u64..).zip(&context.survey.hours()) {
        table.push([hour.into(), counts.requests.into(), counts.bytes.into()]);
    }
    table
}

fn week(context: &Context<'_>) -> Table {
    let people = TableColumn::sum("people", "requests of people");
    let mut table =
        Table::new("", "", [TableColumn::text("weekday", "weekday"), hour(), requests(), sent(), people]);
    for ((name, hours), people) in WEEKDAYS.iter().zip(&context.survey.week).zip(&context.survey.people) {
        for ((hour, counts), people) in (0u64..).zip(hours).zip(people) {
            let figures = [counts.requests, counts.bytes, *people];
            table.push([Cell::from(*name), hour.into()].into_iter().chain(figures.map(Cell::from)));
        }
    }
    table
}

/// Classes of statuses, as buckets count them.
const CLASSES: [&str; 6] = ["none", "1xx", "2xx", "3xx", "4xx", "5xx"];

fn timeline(context: &Context<'_>) -> Table {
    let time =
        TableColumn { kind: Kind::Time, unit: Unit::Milliseconds, ..TableColumn::text("time", "time") };
    let classes = CLASSES.map(|name| TableColumn::sum(name, name).minor());
    let mut table = Table::new("", "", [time, requests(), sent()].into_iter().chain(classes));
    for (time, bucket) in &context.survey.timeline {
        let figures = [bucket.counts.requests, bucket.counts.bytes].into_iter().chain(bucket.classes);
        table
            .push([Cell::from(u64::try_from(*time).unwrap_or(0))].into_iter().chain(figures.map(Cell::from)));
    }
    table
}

/// The seconds that visits are told apart by.
const LENGTHS: [u64; 7] = [0, 30, 120, 300, 900, 1800, 3600];
/// The pages that visits are told apart by.
const PAGES: [u64; 6] = [0, 1, 2, 5, 10, 20];

/// One row: what visits of people were like.
fn visits(context: &Context<'_>) -> Table {
    let survey = context.survey;
    let weight = survey.visits.weight();
    let (mut visits, mut short, mut pages, mut by_crawlers) = (0, 0, 0, 0);
    let mut lengths: Vec<i64> = Vec::new();
    for visit in survey.visits.all() {
        if visit.is_crawler {
            by_crawlers += weight;
            continue;
        }
        visits += weight;
        pages += visit.pages * weight;
        short += if visit.pages <= 1 { weight } else { 0 };
        lengths.push(visit.last - visit.first);
    }
    let mut table = Table::new(
        "",
        "",
        [
            of_visits(),
            TableColumn::sum("short", "of one page or none").minor(),
            TableColumn::sum("pages", "pages seen").minor(),
            TableColumn::level("seconds", "mean length", Unit::Seconds).minor(),
            TableColumn::level("median_seconds", "median length", Unit::Seconds).minor(),
            TableColumn::sum("by_crawlers", "visits of bots and crawlers").minor(),
        ]
        .map(|column| column.counted_from(TextColumn::Client)),
    );
    if lengths.is_empty() {
        if by_crawlers > 0 {
            let nothing = [visits, short, pages].map(Cell::from).into_iter();
            table.push(nothing.chain([Cell::Nothing, Cell::Nothing, by_crawlers.into()]));
        }
        return table;
    }
    let mean = lengths.iter().sum::<i64>() as f64 / lengths.len() as f64 / 1000.0;
    let middle = lengths.len() / 2;
    let median = *lengths.select_nth_unstable(middle).1 as f64 / 1000.0;
    table.about = format!(
        "{:.1} pages each, {} saw one page or none; {} long on average, median {}",
        pages as f64 / visits as f64,
        share(short, visits),
        duration(mean),
        duration(median)
    );
    let figures = [visits, short, pages].map(Cell::from);
    table.push(figures.into_iter().chain([mean.into(), median.into(), by_crawlers.into()]));
    table
}

fn visit_lengths(context: &Context<'_>) -> Table {
    let column = TableColumn::level("up_to_seconds", "up to", Unit::Seconds);
    visits_by(context, column, &LENGTHS, |visit| (visit.last - visit.first).max(0) as u64, 1000)
}

fn visit_pages(context: &Context<'_>) -> Table {
    let column = TableColumn { kind: Kind::Integer, ..TableColumn::text("up_to_pages", "pages up to") };
    visits_by(context, column, &PAGES, |visit| visit.pages, 1)
}

/// How many visits were up to which bounds; the last row has those above all of them.
fn visits_by(
    context: &Context<'_>,
    column: TableColumn,
    bounds: &[u64],
    of: impl Fn(&crate::survey::visits::Stretch) -> u64,
    scale: u64,
) -> Table {
    let survey = context.survey;
    let mut counts = vec![0; bounds.len() + 1];
    for visit in survey.visits.all().filter(|visit| !visit.is_crawler) {
        counts[bounds.partition_point(|most| most * scale < of(visit))] += survey.visits.weight();
    }
    let mut table = Table::new("", "", [TableColumn { measure: Measured::Key, ..column }, of_visits()]);
    if counts.iter().any(|count| *count > 0) {
        let bounds = bounds.iter().map(|bound| Cell::from(*bound)).chain([Cell::Nothing]);
        bounds.zip(counts).for_each(|(bound, count)| table.push([bound, count.into()]));
    }
    table
}

fn by_source(context: &Context<'_>, column: TextColumn) -> Table {
    let (survey, origins) = (context.survey, context.origins);
    let mut values = Ranking::default();
    let mut places: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (place, (origin, counts)) in origins.iter().zip(&survey.sources).enumerate() {
        if let Some(value) = origin.value(column).filter(|_| counts.requests > 0) {
            values.add(value, *counts);
            places.entry(value).or_default().push(place);
        }
    }
    let weight = |value: &str, counts: Counts| {
        let places = places.get(value).map_or(&[][..], |places| places);
        context.weights.of_sources(places, counts)
    };
    let mut table = context.ranked(Column::from(column).name(), TableColumn::of(column), &values, weight);
    table.total = context.totals(&table);
    table
}

fn first_pages(context: &Context<'_>) -> Table {
    pages_of_visits(context, |visit| visit.first_page.as_ref().map(|(_, path)| &**path))
}

fn last_pages(context: &Context<'_>) -> Table {
    pages_of_visits(context, |visit| visit.last_page.as_ref().map(|(_, path)| &**path))
}

fn pages_of_visits(
    context: &Context<'_>,
    page: impl Fn(&crate::survey::visits::Stretch) -> Option<&str>,
) -> Table {
    let survey = context.survey;
    let mut pages = Ranking::default();
    let one = Counts { requests: survey.visits.weight(), bytes: 0 };
    for visit in survey.visits.all().filter(|visit| !visit.is_crawler) {
        if let Some(page) = page(visit) {
            pages.add(page, one);
        }
    }
    let mut table = Table::new("", "", [TableColumn::of(TextColumn::Path), of_visits()]);
    table.order = Some("visits".to_owned());
    table.about = "visits of people".to_owned();
    for (path, counts) in pages.by_requests() {
        table.push([Cell::from(path), counts.requests.into()]);
    }
    table.cut(context.top);
    table.total_of_rows();
    table
}

/// How many movers are shown, where there are so many, and at most.
const FEWEST_MOVERS: usize = 10;
const MOST_MOVERS: usize = 100;

/// The paths whose requests differ most between two periods, whether they came, went or stayed.
fn movers(context: &Context<'_>) -> Table {
    let columns = [
        TableColumn::of(TextColumn::Path),
        TableColumn { measure: Measured::Level, ..TableColumn::sum("difference", "difference") },
        TableColumn { measure: Measured::Level, ..TableColumn::sum("then", "requests before") },
        TableColumn { measure: Measured::Level, ..TableColumn::sum("now", "now") },
    ];
    let mut table = Table::new("", "", columns);
    let Some(before) = context.before else { return table };
    let now = context.survey;
    let requests = |survey: &Survey, path: &str| survey.paths.of(path).requests;
    let here = now.paths.entries().map(|(path, counts)| (path, requests(before, path), counts.requests));
    let gone = before.paths.entries().filter(|(path, _)| requests(now, path) == 0);
    let gone = gone.map(|(path, counts)| (path, counts.requests, 0));
    let mut all: Vec<(&str, u64, u64)> = here.chain(gone).filter(|(_, then, now)| then != now).collect();
    all.sort_unstable_by(|a, b| b.1.abs_diff(b.2).cmp(&a.1.abs_diff(a.2)).then_with(|| a.0.cmp(b.0)));
    for (path, then, now) in all.into_iter().take(context.top.clamp(FEWEST_MOVERS, MOST_MOVERS)) {
        let difference = now as f64 - then as f64;
        table.push([Cell::from(path), difference.into(), then.into(), now.into()]);
    }
    table
}

fn errors() -> TableColumn {
    TableColumn::sum("errors", "answered 4xx or 5xx").minor()
}

fn of_visits() -> TableColumn {
    TableColumn::sum("visits", "visits").counted_from(TextColumn::Client)
}

fn hour() -> TableColumn {
    TableColumn { kind: Kind::Integer, ..TableColumn::text("hour", "hour") }
}

fn date(name: &str) -> TableColumn {
    TableColumn { kind: Kind::Date, ..TableColumn::text(name, name) }
}
