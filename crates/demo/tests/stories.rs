//! The stories of Port Lindry, found in its logs as whoever tries the demo would find them; and that everything in it is made up.

use exedra_common::filters::Filters;
use exedra_common::scope::Scope;
use exedra_demo::{Addresses, DemoError, build};
use exedra_reading::classify::Countries;
use exedra_reading::logs::{Layout, LineReader};
use exedra_reading::prelude::{Minutes, Trouble};
use exedra_reading::survey::report::{Report, ReportOptions};
use exedra_reading::survey::{Measure, SurveyPlan, SurveyWorker, Surveys, VisitorKey};
use jiff::tz::TimeZone;
use std::collections::BTreeSet;
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use tempfile::TempDir;

/// The present of these tests: 20 November 2026, 12:00 UTC.
const NOW: i64 = 1_795_176_000_000;
const DAY: i64 = 86_400_000;
const ADDRESSES: Addresses<'static> =
    Addresses { sites: "127.0.0.1:7380", secured: "127.0.0.1:7343", console: "127.0.0.1:7300" };

/// The town, built once for all tests.
fn town() -> &'static Path {
    static TOWN: OnceLock<TempDir> = OnceLock::new();
    TOWN.get_or_init(|| {
        let folder = tempfile::tempdir().unwrap();
        build(folder.path(), NOW, ADDRESSES, "anna = \"x\"").unwrap();
        folder
    })
    .path()
}

fn log(site: &str) -> PathBuf {
    town().join(format!("state/logs/{site}.000001.log"))
}

/// What the log of a site says of a stretch of days, counted back from now.
fn report(site: &str, days: std::ops::Range<i64>, only: &[&str], by: Measure) -> Report {
    let filters = Filters::understand(only, &[]).unwrap();
    let (from, until) = (Some(NOW - days.end * DAY), Some(NOW - days.start * DAY));
    let scope = Scope { filters, from, until, ..Scope::default() };
    let plan = SurveyPlan { by, ..SurveyPlan::new(scope, TimeZone::UTC, VisitorKey([1, 2])) };
    let surveys = Surveys::new(std::slice::from_ref(&plan));
    let mut reader = LineReader::new(&[Layout::full()], surveys.projection());
    let mut worker = SurveyWorker::new(&surveys);
    let octets = std::fs::read(log(site)).unwrap();
    let (mut at, mut line) = (0, 0);
    while at < octets.len() {
        let begin = at;
        at += worker.fill(|batch, texts| reader.read_block(&octets[begin..], 0, &mut line, batch, texts));
    }
    worker.finish();
    assert_eq!(reader.unread.lines(), 0, "every line of the demo can be read");
    let survey = surveys.finish().pop().unwrap();
    let options =
        ReportOptions { own_hosts: vec![format!("{site}.lindry.example")], ..ReportOptions::default() };
    Report::new(&survey, &plan, &options, None)
}

fn row(report: &Report, table: &str, value: &str, figure: &str) -> u64 {
    let table = report.table(table);
    let found = table.rows.iter().position(|row| row[0].as_text() == Some(value));
    found.map_or(0, |row| table.number(row, figure))
}

#[test]
fn the_past_is_the_same_each_time() {
    let again = tempfile::tempdir().unwrap();
    build(again.path(), NOW, ADDRESSES, "anna = \"x\"").unwrap();
    for site in ["harbour", "lamp", "records"] {
        let name = format!("state/logs/{site}.000001.log");
        let (one, other) = (std::fs::read(town().join(&name)), std::fs::read(again.path().join(&name)));
        assert!(one.unwrap() == other.unwrap(), "{site}");
    }
    // And it is made anew where it was made before, but nowhere else.
    build(again.path(), NOW + DAY, ADDRESSES, "anna = \"x\"").unwrap();
    let foreign = tempfile::tempdir().unwrap();
    std::fs::write(foreign.path().join("thesis.txt"), "years of work").unwrap();
    let refused = build(foreign.path(), NOW, ADDRESSES, "anna = \"x\"").unwrap_err();
    assert!(matches!(refused, DemoError::NotOurs(_)), "{refused}");
    assert_eq!(std::fs::read_dir(foreign.path()).unwrap().count(), 1);
}

#[test]
fn notices_moved_and_half_of_the_links_still_miss_them() {
    let before = report("harbour", 13..35, &["path=/mariners/*"], Measure::Requests);
    assert_eq!(row(&before, "statuses", "404", "requests"), 0);
    assert!(before.total("requests") > 1000);
    let since = report("harbour", 0..11, &["path=/mariners/*"], Measure::Requests);
    assert!(since.table("missing").rows.len() > 5);
    assert_eq!(since.table("missing").rows.len(), since.table("paths").rows.len(), "all of them");
    let notices = report("harbour", 0..11, &["path=/notices/*.html"], Measure::Requests);
    let (missed, found) = (since.total("requests"), notices.total("requests"));
    assert!((missed as f64 / found as f64) > 0.6 && (missed as f64 / found as f64) < 1.8, "{missed} {found}");
}

#[test]
fn every_night_the_tide_table_is_away_for_four_minutes() {
    let octets = std::fs::read(log("harbour")).unwrap();
    let mut reader = LineReader::new(&[Layout::full()], exedra_common::Projection::everything());
    let mut minutes = Minutes::default();
    let trouble = Trouble::understand("404", 0).unwrap();
    let mut at = 0;
    while at < octets.len() {
        let (mut batch, mut texts) = Default::default();
        at += reader.read_block(&octets[at..], 0, &mut 0, &mut batch, &mut texts);
        (0..batch.rows()).for_each(|row| minutes.add(&batch, row, trouble));
    }
    let bursts = minutes.bursts(5, &TimeZone::UTC);
    let nightly = bursts.iter().find(|burst| burst.daily).expect("a burst that comes every day");
    let clock = nightly.from.rem_euclid(24 * 60);
    assert!((190..194).contains(&clock), "{clock}");
    assert!(nightly.until - nightly.from <= 4);
    assert!(nightly.also_on.len() > 20, "{:?}", nightly.also_on);
}

#[test]
fn a_storm_a_kiosk_a_crawler_a_forum_and_a_tour() {
    let harbour = report("harbour", 0..35, &[], Measure::Requests);
    let days = harbour.table("days");
    let busiest = (0..days.rows.len()).max_by_key(|row| days.number(*row, "visitors")).unwrap();
    assert_eq!(days.rows[busiest][0].as_text(), Some("2026-11-11"), "the storm was nine days ago");

    let kiosk = report("harbour", 0..3, &["client=203.0.113.77"], Measure::Requests);
    assert!(kiosk.total("requests") > 3 * 3 * 3500, "{}", kiosk.total("requests"));
    assert_eq!(
        report("harbour", 4..35, &["client=203.0.113.77", "agent=LindryKiosk*"], Measure::Requests)
            .total("requests"),
        0
    );

    let records = report("records", 0..35, &[], Measure::Requests);
    let crawled = row(&records, "crawlers", "LeafTurner", "requests");
    assert!(
        crawled * 2 > records.total("requests"),
        "most of the registers' requests are the crawler's: {crawled}"
    );
    assert!(row(&records, "missing", "/.env", "probing") > 50, "somebody tries doors");

    let lamp = report("lamp", 0..35, &[], Measure::Bytes);
    let tour = row(&lamp, "paths", "/audio/tour.wav", "bytes");
    assert!(tour * 2 > lamp.total("bytes"), "the tour is most of what is sent");
    let forum = "boards.saltwater.example";
    let shown =
        row(&lamp, "linking_sites", forum, "requests") + row(&lamp, "embedding_sites", forum, "requests");
    assert!(shown > 500, "{shown}");
}

/// Whether an address is one that nobody has (RFC 5737, RFC 3849, RFC 2544).
fn is_made_up(address: IpAddr) -> bool {
    let nets = ["192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "198.18.0.0/15", "2001:db8::/32"];
    nets.iter().any(|net| {
        let (begin, length) = net.split_once('/').unwrap();
        let (begin, length): (IpAddr, u32) = (begin.parse().unwrap(), length.parse().unwrap());
        match (begin, address) {
            (IpAddr::V4(begin), IpAddr::V4(address)) => {
                (u32::from(begin) ^ u32::from(address)).leading_zeros() >= length
            }
            (IpAddr::V6(begin), IpAddr::V6(address)) => {
                (u128::from(begin) ^ u128::from(address)).leading_zeros() >= length
            }
            _ => false,
        }
    })
}

#[test]
fn everybody_and_every_place_is_made_up() {
    let mut hosts = BTreeSet::new();
    for site in ["harbour", "lamp", "records"] {
        let text = std::fs::read_to_string(log(site)).unwrap();
        for line in text.lines() {
            let client: IpAddr = line.split(' ').next().unwrap().parse().unwrap();
            assert!(is_made_up(client), "{client}");
            hosts.extend(
                line.match_indices("://").filter_map(|(at, _)| line[at + 3..].split(['/', '"', ' ']).next()),
            );
        }
        hosts = hosts.into_iter().map(|host| Box::leak(host.to_owned().into_boxed_str()) as &str).collect();
    }
    assert!(hosts.len() > 5);
    for host in hosts {
        assert!(host.trim_end_matches(')').ends_with(".example"), "{host}");
    }
}

#[test]
fn countries_are_known_of_exactly_those_ranges() {
    let countries = Countries::understand(std::fs::read(town().join("countries.mmdb")).unwrap()).unwrap();
    for (address, length, country) in exedra_demo::countries::RANGES {
        assert_eq!(countries.of(address), Some(country));
        let last = match address {
            IpAddr::V4(address) => IpAddr::V4((u32::from(address) | (u32::MAX >> length)).into()),
            IpAddr::V6(address) => IpAddr::V6((u128::from(address) | (u128::MAX >> length)).into()),
        };
        assert_eq!(countries.of(last), Some(country), "{last}");
    }
    for elsewhere in ["192.0.3.0", "203.0.112.255", "198.20.0.0", "2001:db9::", "127.0.0.1"] {
        assert_eq!(countries.of(elsewhere.parse().unwrap()), None, "{elsewhere}");
    }
}
