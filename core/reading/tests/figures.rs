//! The figures of reports, held against an oracle that counts the plain way: one request after the other, into maps.
//!
//! Requests are written as lines, cut into chunks and counted by several workers in any order; whatever the order, the zone,
//! the filter and the measure, each table says what the oracle says.

use exedra_common::filters::Filters;
use exedra_common::scope::Scope;
use exedra_common::tables::Table;
use exedra_common::{NumberColumn, TextColumn};
use exedra_reading::classify::{agents, paths, referrers};
use exedra_reading::logs::{Layout, LineReader, LogTemplate, LoggedRequest};
use exedra_reading::survey::report::{Report, ReportOptions};
use exedra_reading::survey::{Measure, Part, SurveyPlan, SurveyWorker, Surveys, VisitorKey};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use proptest::collection::vec;
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};

const PATHS: [&str; 8] = [
    "/",
    "/tides/",
    "/tides/today.html",
    "/harbour.css",
    "/chart.pdf",
    "/news.rss",
    "/old/fog.html",
    "/admin.php",
];
const PHONE: &str = "Mozilla/5.0 (iPhone; CPU iPhone OS 18_0 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/18.0 Mobile/15E148 Safari/604.1";
const COMPUTER: &str = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0";
const AGENTS: [&str; 5] =
    [PHONE, COMPUTER, "LindryKiosk/1.4", "Mozilla/5.0 (compatible; Harvestbot/2.0)", ""];
const REFERRERS: [&str; 5] = [
    "",
    "https://harbour.example/tides/",
    "https://pilots.example/links",
    "https://search.example/?q=high+tide",
    "https://forum.example/fog",
];
const OWN_HOST: &str = "harbour.example";
const CLIENTS: [&str; 5] = ["192.0.2.1", "192.0.2.77", "198.51.100.4", "203.0.113.9", "2001:db8::7"];
const ZONES: [&str; 4] = ["UTC", "Atlantic/Faroe", "Australia/Lord_Howe", "America/St_Johns"];
const FILTERS: [&[&str]; 5] =
    [&[], &["status>=400"], &["path=*.html"], &["client=192.0.2.0/24", "status=2xx"], &["agent=*Linux*"]];
/// Midnight of 12 November 2026, UTC.
const BEGIN: i64 = 1_794_441_600_000;

/// A request as the oracle knows it.
#[derive(Debug, Clone)]
struct Asked {
    time: i64,
    client: &'static str,
    agent: &'static str,
    path: &'static str,
    status: u64,
    bytes: u64,
    before: u64,
    duration: u64,
    referrer: &'static str,
    encoding: &'static str,
    user: &'static str,
}

impl Asked {
    fn day(&self, zone: &TimeZone) -> String {
        self.at(zone).date().to_string()
    }

    fn at(&self, zone: &TimeZone) -> jiff::Zoned {
        Timestamp::from_millisecond(self.time).unwrap().to_zoned(zone.clone())
    }

    fn crawler(&self) -> Option<String> {
        agents::read(self.agent).crawler.clone()
    }

    fn is_persons(&self) -> bool {
        self.crawler().is_none()
    }

    fn write(&self, template: &LogTemplate, out: &mut Vec<u8>) {
        let request = LoggedRequest::new(self.time, self.path.as_bytes())
            .number(NumberColumn::Status, self.status)
            .number(NumberColumn::Bytes, self.bytes)
            .number(NumberColumn::FullBytes, self.before)
            .number(NumberColumn::Duration, self.duration)
            .text(TextColumn::Client, self.client)
            .text(TextColumn::User, self.user)
            .text(TextColumn::Method, "GET")
            .text(TextColumn::Protocol, "HTTP/1.1")
            .text(TextColumn::Referrer, self.referrer)
            .text(TextColumn::Agent, self.agent)
            .text(TextColumn::Encoding, self.encoding)
            .text(TextColumn::Host, OWN_HOST);
        template.write(&request, out);
    }
}

fn asked() -> impl Strategy<Value = Asked> {
    let who = (0..CLIENTS.len(), 0..AGENTS.len(), 0..REFERRERS.len(), any::<bool>());
    let what =
        (0..PATHS.len(), prop::sample::select(vec![200, 200, 200, 206, 301, 304, 404, 404, 500]), 0u64..5000);
    // Five days, so that requests of a client are now near, now far; times to the millisecond.
    let when = (0i64..5 * 86_400_000, 1u64..3_000_000, 0u64..3);
    (who, what, when).prop_map(
        |((client, agent, referrer, signed_in), (path, status, bytes), (time, duration, coding))| {
            let encoding = ["", "br", "gzip"][coding as usize];
            Asked {
                time: BEGIN + time,
                client: CLIENTS[client],
                agent: AGENTS[agent],
                path: PATHS[path],
                status,
                bytes,
                before: if encoding.is_empty() { bytes } else { bytes * 3 },
                duration,
                referrer: REFERRERS[referrer],
                encoding,
                user: if signed_in && client == 0 { "anna" } else { "" },
            }
        },
    )
}

/// A period in which requests come close to each other, so that visits are longer than one request.
fn crowded() -> impl Strategy<Value = Vec<Asked>> {
    (vec(asked(), 0..120), vec((asked(), 0i64..4_000_000), 0..60)).prop_map(|(mut all, near)| {
        for (mut one, after) in near {
            if let Some(other) = all.last() {
                (one.client, one.agent) = (other.client, other.agent);
                one.time = (other.time + after).min(BEGIN + 5 * 86_400_000 - 1);
            }
            all.push(one);
        }
        all
    })
}

/// A report made of lines by several workers, each of which gets some of the chunks.
fn report(lines: &[Vec<u8>], workers: usize, plan: &SurveyPlan) -> Report {
    let surveys = Surveys::new(std::slice::from_ref(plan));
    for nth in 0..workers {
        let mut reader = LineReader::new(&[Layout::full()], surveys.projection());
        let mut worker = SurveyWorker::new(&surveys);
        for chunk in lines.iter().skip(nth).step_by(workers) {
            let mut at = 0;
            while at < chunk.len() {
                let (begin, mut line) = (at, 0);
                at += worker
                    .fill(|batch, texts| reader.read_block(&chunk[begin..], 0, &mut line, batch, texts));
            }
        }
        worker.finish();
        assert_eq!(reader.unread.lines(), 0);
    }
    let survey = surveys.finish().pop().unwrap();
    let options = ReportOptions { own_hosts: vec![OWN_HOST.to_owned()], ..ReportOptions::default() };
    Report::new(&survey, plan, &options, None)
}

/// The rows of a table by their first cell, as texts: a figure of each.
fn figures(table: &Table, name: &str) -> BTreeMap<String, u64> {
    let cell = |row: usize| {
        let first = &table.rows[row][0];
        first.as_text().map(str::to_owned).or(first.as_u64().map(|number| number.to_string()))
    };
    let rows = (0..table.rows.len()).map(|row| (cell(row).unwrap_or_default(), table.number(row, name)));
    rows.filter(|(_, figure)| *figure > 0).collect()
}

/// The same by the first two cells.
fn figures_of_two(table: &Table, name: &str) -> BTreeMap<String, u64> {
    let text = |cell: &exedra_common::tables::Cell| {
        cell.as_text()
            .map(str::to_owned)
            .or(cell.as_u64().map(|number| number.to_string()))
            .unwrap_or_default()
    };
    let rows = (0..table.rows.len()).map(|row| {
        let cells = &table.rows[row];
        (format!("{} {}", text(&cells[0]), text(&cells[1])), table.number(row, name))
    });
    rows.collect()
}

/// Sums of requests by what they have in common; those without it are left out, and so is what comes to nothing.
fn sums(
    all: &[&Asked],
    key: impl Fn(&Asked) -> Option<String>,
    of: impl Fn(&Asked) -> u64,
) -> BTreeMap<String, u64> {
    let mut sums: BTreeMap<String, u64> = BTreeMap::new();
    for one in all {
        if let Some(key) = key(one) {
            *sums.entry(key).or_default() += of(one);
        }
    }
    sums.retain(|_, sum| *sum > 0);
    sums
}

fn visitors(
    all: &[&Asked],
    zone: &TimeZone,
    key: impl Fn(&Asked) -> Option<String>,
) -> BTreeMap<String, u64> {
    let mut sets: BTreeMap<String, BTreeSet<(String, &str, &str)>> = BTreeMap::new();
    for one in all {
        if let Some(key) = key(one) {
            sets.entry(key).or_default().insert((one.day(zone), one.client, one.agent));
        }
    }
    sets.into_iter().map(|(key, set)| (key, set.len() as u64)).collect()
}

/// Visits of people, as (begin, end, pages in order of time).
fn visits(all: &[&Asked]) -> Vec<(i64, i64, Vec<&'static str>)> {
    let mut by_visitor: BTreeMap<(&str, &str), Vec<&Asked>> = BTreeMap::new();
    for one in all {
        by_visitor.entry((one.client, one.agent)).or_default().push(one);
    }
    let mut visits = Vec::new();
    for (_, mut requests) in by_visitor.into_iter().filter(|(_, requests)| requests[0].crawler().is_none()) {
        requests.sort_by_key(|one| one.time);
        for part in requests.chunk_by(|one, next| next.time - one.time <= 30 * 60 * 1000) {
            let is_page = |one: &&&Asked| {
                paths::kind(one.path) == paths::Kind::Page && (one.status < 300 || one.status == 304)
            };
            let pages = part.iter().filter(is_page).map(|one| one.path).collect();
            visits.push((part[0].time, part[part.len() - 1].time, pages));
        }
    }
    visits
}

fn kept(all: &[Asked], filter: usize) -> Vec<&Asked> {
    let keeps = |one: &&Asked| match filter {
        1 => one.status >= 400,
        2 => one.path.ends_with(".html"),
        3 => one.client.starts_with("192.0.2.") && one.status / 100 == 2,
        4 => one.agent.contains("Linux"),
        _ => true,
    };
    all.iter().filter(keeps).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn each_table_says_what_plain_counting_says(
        all in crowded(),
        chunk in 1usize..40,
        workers in 1usize..4,
        zone in 0..ZONES.len(),
        filter in 0..FILTERS.len(),
        by in prop::sample::select(vec![Measure::Requests, Measure::Visitors, Measure::Bytes, Measure::Time]),
    ) {
        let template = LogTemplate::new(&Layout::full());
        let lines: Vec<Vec<u8>> = all.chunks(chunk).map(|part| {
            let mut out = Vec::new();
            part.iter().for_each(|one| one.write(&template, &mut out));
            out
        }).collect();
        let filters = Filters::understand(FILTERS[filter], &[]).unwrap();
        let zone = TimeZone::get(ZONES[zone]).unwrap();
        let scope = Scope { filters, ..Scope::default() };
        let plan = SurveyPlan { by, slow: 1_000_000, ..SurveyPlan::new(scope, zone.clone(), VisitorKey([3, 5])) };
        let plan = SurveyPlan { parts: Part::ALL.into_iter().collect(), ..plan };
        let report = report(&lines, workers, &plan);
        let all = kept(&all, filter);
        let table = |name: &str| report.table(name);
        let requests = |_: &Asked| 1u64;
        let bytes = |one: &Asked| one.bytes;

        // Everything together.
        prop_assert_eq!(report.total("requests"), all.len() as u64);
        prop_assert_eq!(report.total("bytes"), all.iter().map(|one| one.bytes).sum::<u64>());
        let failed = all.iter().filter(|one| one.status >= 400).count() as u64;
        prop_assert_eq!(report.total("errors"), failed);
        let days = visitors(&all, &zone, |one| Some(one.day(&zone)));
        prop_assert_eq!(report.total("visitors"), days.values().sum::<u64>());
        if !all.is_empty() {
            let first = all.iter().map(|one| one.time).min().unwrap();
            let shown: Timestamp = report.first.as_deref().unwrap().parse().unwrap();
            prop_assert_eq!(shown.as_millisecond(), first);
        }

        // In time.
        let day = |one: &Asked| Some(one.day(&zone));
        prop_assert_eq!(figures(table("days"), "requests"), sums(&all, day, requests));
        prop_assert_eq!(figures(table("days"), "bytes"), sums(&all, day, bytes));
        prop_assert_eq!(figures(table("days"), "visitors"), days);
        let month = |one: &Asked| Some(one.at(&zone).strftime("%Y-%m").to_string());
        prop_assert_eq!(figures(table("months"), "requests"), sums(&all, month, requests));
        let hour = |one: &Asked| Some(one.at(&zone).hour().to_string());
        prop_assert_eq!(figures(table("hours"), "requests"), sums(&all, hour, requests));
        prop_assert_eq!(figures(table("hours"), "bytes"), sums(&all, hour, bytes));
        let weekday = |one: &Asked| Some(one.at(&zone).strftime("%A").to_string());
        prop_assert_eq!(figures(table("weekdays"), "requests"), sums(&all, weekday, requests));
        let week: u64 = (0..table("week").rows.len()).map(|row| table("week").number(row, "people")).sum();
        prop_assert_eq!(week, all.iter().filter(|one| one.is_persons()).count() as u64);

        // What was asked for, and how it was answered.
        let path = |one: &Asked| Some(one.path.to_owned());
        let pages = |one: &Asked| (one.status != 404).then(|| one.path.to_owned());
        let shown = figures(table("paths"), "requests");
        prop_assert!(shown == sums(&all, path, requests) || shown == sums(&all, pages, requests), "{:?}", shown);
        let kind = |one: &Asked| Some(paths::kind(one.path).name().to_owned());
        prop_assert_eq!(figures(table("kinds"), "requests"), sums(&all, kind, requests));
        prop_assert_eq!(figures(table("kinds"), "bytes"), sums(&all, kind, bytes));
        let status = |one: &Asked| Some(one.status.to_string());
        prop_assert_eq!(figures(table("statuses"), "requests"), sums(&all, status, requests));
        let class = |one: &Asked| Some(format!("{}xx", one.status / 100));
        prop_assert_eq!(figures(table("classes"), "requests"), sums(&all, class, requests));
        let coded = |one: &Asked| (!one.encoding.is_empty()).then(|| one.encoding.to_owned());
        prop_assert_eq!(figures(table("encodings"), "requests"), sums(&all, coded, requests));
        let saved = |one: &Asked| one.before - one.bytes;
        prop_assert_eq!(figures(table("encodings"), "saved"), sums(&all, coded, saved));

        // Who.
        let client = |one: &Asked| Some(one.client.to_owned());
        prop_assert_eq!(figures(table("clients"), "requests"), sums(&all, client, requests));
        prop_assert_eq!(figures(table("clients"), "bytes"), sums(&all, client, bytes));
        let user = |one: &Asked| (!one.user.is_empty()).then(|| one.user.to_owned());
        prop_assert_eq!(figures(table("users"), "requests"), sums(&all, user, requests));
        let crawler = |one: &Asked| one.crawler();
        prop_assert_eq!(figures(table("crawlers"), "requests"), sums(&all, crawler, requests));
        // Whoever sends no agent is a program.
        let who = |one: &Asked| Some(if one.is_persons() { "people" } else { "bots and crawlers" }.to_owned());
        prop_assert_eq!(figures(table("people_and_crawlers"), "requests"), sums(&all, who, requests));
        prop_assert_eq!(figures(table("people_and_crawlers"), "bytes"), sums(&all, who, bytes));
        let device = |one: &Asked| one.is_persons().then(|| agents::read(one.agent).device).flatten();
        let device = |one: &Asked| device(one).map(str::to_owned);
        prop_assert_eq!(figures(table("devices"), "requests"), sums(&all, device, requests));
        let foreign = |one: &Asked| referrers::host(one.referrer).filter(|host| host != OWN_HOST);
        let linking = figures(table("linking_sites"), "requests");
        let embedding = figures(table("embedding_sites"), "requests");
        let mut both = linking;
        embedding.into_iter().for_each(|(host, count)| *both.entry(host).or_default() += count);
        prop_assert_eq!(both, sums(&all, foreign, requests));
        let phrase = |one: &Asked| referrers::search_phrase(one.referrer);
        prop_assert_eq!(figures(table("search_phrases"), "requests"), sums(&all, phrase, requests));

        // By the measure that lists are ranked by.
        match by {
            Measure::Visitors => {
                prop_assert_eq!(figures(table("clients"), "visitors"), visitors(&all, &zone, client));
                prop_assert_eq!(figures(table("kinds"), "visitors"), visitors(&all, &zone, kind));
            }
            Measure::Time => {
                let ranked: Vec<f64> = (0..table("clients").rows.len())
                    .map(|row| table("clients").cell(row, "time_ms").and_then(|cell| cell.as_f64()).unwrap())
                    .collect();
                prop_assert!(ranked.is_sorted_by(|a, b| a >= b));
                let sum: u64 = all.iter().map(|one| one.duration).sum();
                prop_assert!((ranked.iter().sum::<f64>() - sum as f64 / 1000.0).abs() < 0.5);
            }
            Measure::Requests | Measure::Bytes => {}
        }

        // What fails.
        let missing = |one: &Asked| (one.status == 404).then(|| one.path.to_owned());
        prop_assert_eq!(figures(table("missing"), "requests"), sums(&all, missing, requests));
        let of = |who: fn(&str) -> bool| move |one: &Asked| u64::from(who(one.referrer));
        let by_own = of(|referrer| referrer.contains(OWN_HOST));
        prop_assert_eq!(figures(table("missing"), "own_links"), sums(&all, missing, by_own));
        let by_others = of(|referrer| !referrer.is_empty() && !referrer.contains(OWN_HOST));
        prop_assert_eq!(figures(table("missing"), "other_links"), sums(&all, missing, by_others));

        let failing = |one: &Asked| (one.status >= 400).then(|| format!("{} {}", one.status, one.client));
        prop_assert_eq!(figures_of_two(table("failing_clients"), "requests"), sums(&all, failing, requests));
        let failing = |one: &Asked| {
            (one.status >= 400 && one.status != 404).then(|| format!("{} {}", one.status, one.path))
        };
        prop_assert_eq!(figures_of_two(table("failing_paths"), "requests"), sums(&all, failing, requests));

        // What is counted only where somebody asks.
        let host = |_: &Asked| Some(OWN_HOST.to_owned());
        prop_assert_eq!(figures(table("hosts"), "requests"), sums(&all, host, requests));
        let method = |_: &Asked| Some("GET".to_owned());
        prop_assert_eq!(figures(table("methods"), "bytes"), sums(&all, method, bytes));
        let protocol = |_: &Asked| Some("HTTP/1.1".to_owned());
        prop_assert_eq!(figures(table("protocols"), "requests"), sums(&all, protocol, requests));
        let mut full: BTreeMap<(&str, &str, &str), u64> = BTreeMap::new();
        for one in all.iter().filter(|one| one.status == 200 && one.bytes > 0) {
            *full.entry((one.client, one.agent, one.path)).or_default() += 1;
        }
        let mut again: BTreeMap<String, u64> = BTreeMap::new();
        for ((_, _, path), times) in full.into_iter().filter(|(_, times)| *times > 1) {
            *again.entry(path.to_owned()).or_default() += times - 1;
        }
        prop_assert_eq!(figures(table("repeats"), "again"), again);
        if all.iter().any(|one| !one.encoding.is_empty()) {
            let plain = |one: &Asked| {
                let is_text = one.status == 200 && one.encoding.is_empty() && paths::saving(one.path) > 0.0;
                is_text.then(|| paths::extension(one.path).unwrap_or_else(|| "no extension".to_owned()))
            };
            prop_assert_eq!(figures(table("uncompressed"), "bytes"), sums(&all, plain, bytes));
        }

        // How long it took.
        let mut durations: Vec<u64> = all.iter().map(|one| one.duration).collect();
        durations.sort_unstable();
        let slow = durations.iter().filter(|duration| **duration > 1_000_000).count() as u64;
        let counted: u64 = (0..table("slow").rows.len()).map(|row| table("slow").number(row, "slow")).sum();
        prop_assert_eq!(counted, slow);
        if let Some(place) = table("slow").place("p90_ms").filter(|_| !durations.is_empty()) {
            let rank = (durations.len() * 90).div_ceil(100) - 1;
            let said = table("slow").total[place].as_f64().unwrap();
            prop_assert!((said - durations[rank] as f64 / 1000.0).abs() < 0.01, "{} {}", said, durations[rank]);
        }

        // Visits of people.
        let visits = visits(&all);
        let said = table("visits");
        let number = |name: &str| if said.rows.is_empty() { 0 } else { said.number(0, name) };
        prop_assert_eq!(number("visits"), visits.len() as u64);
        prop_assert_eq!(number("pages"), visits.iter().map(|(.., pages)| pages.len() as u64).sum::<u64>());
        let short = visits.iter().filter(|(.., pages)| pages.len() <= 1).count() as u64;
        prop_assert_eq!(number("short"), short);
        let mut first: BTreeMap<String, u64> = BTreeMap::new();
        for (.., pages) in &visits {
            if let Some(page) = pages.first() {
                *first.entry((*page).to_owned()).or_default() += 1;
            }
        }
        prop_assert_eq!(figures(table("first_pages"), "visits").values().sum::<u64>(), first.values().sum::<u64>());
    }
}
