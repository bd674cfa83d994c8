//! What logs tell: two periods side by side, masked and mailed reports, bursts, and the trail of one client.

use exedra_e2e::browser::Browser;
use exedra_e2e::{drawn, exedra, row, row_before, rows, text, total};
use rstest::rstest;
use serde_json::Value;
use std::path::{Path, PathBuf};
use tempfile::TempDir;
use thirtyfour::prelude::*;

/// A folder with one log in it.
struct Log {
    _folder: TempDir,
    path: PathBuf,
}

impl Log {
    fn of(lines: &[String]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("access.log");
        std::fs::write(&path, lines.concat()).unwrap();
        Log { _folder: folder, path }
    }

    fn told(&self, arguments: &[&str]) -> Value {
        let output = exedra(&[arguments, &[&text(&self.path)]].concat());
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        serde_json::from_slice(&output.stdout).unwrap()
    }
}

/// One request in the layout of our own logs.
struct Line<'l> {
    minute: u64,
    second: u64,
    client: &'l str,
    user: &'l str,
    path: &'l str,
    status: u16,
    bytes: u64,
    referrer: &'l str,
    agent: &'l str,
    microseconds: u64,
    coding: &'l str,
    full: u64,
}

const PERSON: &str = "Mozilla/5.0 (Windows NT 10.0; Win64; x64; rv:146.0) Gecko/20100101 Firefox/146.0";

impl Line<'_> {
    const USUAL: Line<'static> = Line {
        minute: 0,
        second: 0,
        client: "192.0.2.1",
        user: "-",
        path: "/",
        status: 200,
        bytes: 100,
        referrer: "-",
        agent: PERSON,
        microseconds: 500,
        coding: "-",
        full: 100,
    };

    /// The line; minutes count from 2026-11-02 00:00 UTC.
    fn written(&self) -> String {
        let at =
            jiff::Timestamp::from_second(1_793_577_600 + (self.minute * 60 + self.second) as i64).unwrap();
        let at = at.to_zoned(jiff::tz::TimeZone::UTC).strftime("%d/%b/%Y:%H:%M:%S +0000").to_string();
        let Line { client, user, path, status, bytes, referrer, agent, microseconds, coding, full, .. } =
            self;
        format!(
            "{client} - {user} [{at}] \"GET {path} HTTP/1.1\" {status} {bytes} \"{referrer}\" \"{agent}\" http a.example \
             {microseconds} {coding} {full} \"-\" {}\n",
            (1_793_577_600 + self.minute * 60 + self.second) * 1000
        )
    }
}

fn number(value: &Value) -> f64 {
    value.as_f64().unwrap_or_else(|| panic!("no number: {value}"))
}

fn entry<'v>(list: &'v Value, key: &str, value: &str) -> &'v Value {
    let entries = list.as_array().unwrap_or_else(|| panic!("no list: {list}"));
    entries.iter().find(|entry| entry[key] == value).unwrap_or_else(|| panic!("no {value} in {list}"))
}

#[test]
fn another_period_stands_beside_every_figure() {
    let day = 1440;
    let mut lines = Vec::new();
    for (from, many) in [(0, 10), (day, 25)] {
        for nth in 0..many {
            let client = format!("192.0.2.{nth}");
            let path = if nth % 5 == 0 { "/tides.html" } else { "/" };
            lines.push(
                Line { minute: from + nth, client: &client, path, bytes: 200, ..Line::USUAL }.written(),
            );
        }
    }
    lines.push(Line { minute: day + 700, path: "/new.html", ..Line::USUAL }.written());
    lines.push(Line { minute: 700, path: "/gone.html", status: 404, ..Line::USUAL }.written());
    let log = Log::of(&lines);
    let report = log.told(&["report", "--as", "json", "--day", "2026-11-03", "--against", "previous"]);
    assert_eq!(*total(&report, "requests"), 26);
    let before = &report["tables"]["totals"]["before"][0];
    assert_eq!((&before["requests"], &before["bytes"]), (&Value::from(11), &Value::from(2100)));
    assert_eq!(before["visitors"], 10);
    assert_eq!(row(&report, "paths", "path", "/tides.html")["requests"], 5);
    assert_eq!(row_before(&report, "paths", "path", "/tides.html")["requests"], 2);
    assert_eq!(row_before(&report, "paths", "path", "/new.html")["requests"], 0);
    assert_eq!(report["tables"]["visits"]["before"][0]["visits"], 11);
    assert_eq!(row_before(&report, "kinds", "kind", "page")["requests"], 11);
    // What is gone is seen among what changed, and the other period can be named outright.
    let named = log.told(&["report", "--as", "json", "--day", "2026-11-03", "--against", "2026-11-02"]);
    assert_eq!(named["against"], report["against"]);
    let gone = row(&report, "movers", "path", "/gone.html");
    assert_eq!((&gone["then"], &gone["now"]), (&Value::from(1), &Value::from(0)));
    let page = drawn(&exedra(&["report", "--day", "2026-11-03", "--against", "previous", &text(&log.path)]));
    assert!(page.contains("requests +136 %") && page.contains("What changed most"), "{page}");
    let output = exedra(&["report", "--against", "previous", &text(&log.path)]);
    assert!(String::from_utf8_lossy(&output.stderr).contains("--day"), "{output:?}");
}

#[test]
fn durations_codings_users_and_ways_to_missing_pages() {
    let mut lines = Vec::new();
    let mut taken = Vec::new();
    for nth in 0..500u64 {
        let microseconds = 1000 + nth * nth * 20;
        taken.push(microseconds);
        let coding = if nth % 2 == 0 { "br" } else { "-" };
        let full = if nth % 2 == 0 { 400 } else { 100 };
        let user = if nth % 10 == 0 { "ann" } else { "-" };
        lines.push(
            Line { minute: nth / 50, path: "/big.html", microseconds, coding, full, user, ..Line::USUAL }
                .written(),
        );
    }
    let own = "http://a.example/list.html";
    let asks = [
        ("/lost.html", own, PERSON, 3),
        ("/lost.html", "https://forum.example/1", PERSON, 2),
        ("/lost.html", "-", PERSON, 4),
        // A crawler that says who it is follows links; another program tries doors.
        ("/lost.html", "-", "LeafTurner/0.9 (+https://leafturner.example/)", 5),
        ("/lost.html", "-", "wharfscout/1.3", 7),
        ("/admin/.env", "-", PERSON, 6),
        // What is also answered is no way in.
        ("/late.html", "-", "wharfscout/1.3", 2),
        ("/kept/.env", "-", PERSON, 3),
    ];
    for (path, referrer, agent, times) in asks {
        let line = Line { minute: 20, path, referrer, agent, status: 404, ..Line::USUAL }.written();
        lines.extend(std::iter::repeat_n(line, times));
    }
    for path in ["/late.html", "/kept/.env"] {
        lines.push(Line { minute: 22, path, ..Line::USUAL }.written());
    }
    // The site's own pages load its style sheet: that is how its host is known.
    lines.push(Line { minute: 21, path: "/style.css", referrer: own, ..Line::USUAL }.written());
    let log = Log::of(&lines);
    let report = log.told(&["report", "--as", "json", "--slow", "1 s"]);
    let big = row(&report, "slow", "path", "/big.html");
    taken.sort_unstable();
    let rank = |percent: usize| taken[(taken.len() * percent).div_ceil(100) - 1] as f64 / 1000.0;
    for (name, percent) in [("p50_ms", 50), ("p90_ms", 90), ("p99_ms", 99)] {
        assert_eq!(number(&big[name]), rank(percent), "{name}");
    }
    let slow = taken.iter().filter(|taken| **taken > 1_000_000).count() as u64;
    assert_eq!(
        (&big["slow"], &report["tables"]["slow"]["total"]["slow"]),
        (&Value::from(slow), &Value::from(slow))
    );
    let minutes = rows(&report, "slow_minutes");
    assert_eq!(minutes.iter().map(|minute| number(&minute["slow"])).sum::<f64>(), slow as f64);
    assert_eq!(minutes[0]["minute"], 1_793_577_900_000u64, "2026-11-02T00:05:00Z");
    let coding = row(&report, "encodings", "encoding", "br");
    assert_eq!((&coding["requests"], &coding["saved"]), (&Value::from(250), &Value::from(250 * 300)));
    assert_eq!(row(&report, "users", "user", "ann")["requests"], 50);
    let lost = row(&report, "missing", "path", "/lost.html");
    let origins =
        ["own_links", "other_links", "typed", "crawling", "probing"].map(|name| number(&lost[name]));
    assert_eq!(origins, [3.0, 2.0, 4.0, 5.0, 7.0]);
    assert_eq!(number(&report["tables"]["missing"]["total"]["probing"]), 13.0);
    let late = row(&report, "missing", "path", "/late.html");
    assert_eq!((number(&late["typed"]), number(&late["probing"])), (2.0, 0.0));
    // When people come adds up to how often they came.
    let people: f64 = rows(&report, "week").iter().map(|hour| number(&hour["people"])).sum();
    let by_people = number(&row(&report, "people_and_crawlers", "who", "people")["requests"]);
    assert_eq!((people, people > 500.0), (by_people, true));
}

#[rstest]
#[case::text("text")]
#[case::json("json")]
#[case::csv("csv")]
#[case::html("html")]
fn a_masked_report_holds_nothing_finer_than_networks(#[case] form: &str) {
    let mut lines: Vec<String> = (1..40)
        .map(|nth| {
            let client = format!("198.51.100.{}", 100 + nth);
            Line { minute: nth, client: &client, user: "ann.pier", ..Line::USUAL }.written()
        })
        .collect();
    lines.push(Line { minute: 50, client: "2001:db8:7:8::9", ..Line::USUAL }.written());
    lines.push("198.51.100.177 is no line of this log\n".to_owned());
    let log = Log::of(&lines);
    let show: &[&str] = if form == "csv" { &["--show", "clients"] } else { &[] };
    let arguments = ["report", "--as", form, "--mask-clients", "--show", "people,traffic"];
    let arguments = if form == "csv" { &arguments[..4] } else { &arguments[..] };
    let output = exedra(&[arguments, show, &[&text(&log.path)]].concat());
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let told = String::from_utf8(output.stdout).unwrap();
    assert!(
        !told.contains("198.51.100.1") && !told.contains("ann.pier") && !told.contains("db8:7:8"),
        "{told}"
    );
    assert!(told.contains("198.51.100.0/24") && told.contains("2001:db8:7::/48"), "{form}");
}

#[test]
fn a_report_is_what_its_schema_says() {
    let lines: Vec<String> = (0..2000)
        .map(|nth| {
            let path = ["/", "/a.html", "/lost.html", "/tour.mp3"][nth as usize % 4];
            let status = if path == "/lost.html" { 404 } else { 200 };
            Line { minute: nth, path, status, microseconds: nth * 1000, ..Line::USUAL }.written()
        })
        .chain(["no line of this log\n".to_owned()])
        .collect();
    let log = Log::of(&lines);
    let schema: Value = serde_json::from_slice(&exedra(&["schema"]).stdout).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let report = log.told(&["report", "--as", "json", "--day", "2026-11-03", "--against", "previous"]);
    let errors: Vec<String> = validator.iter_errors(&report).map(|error| error.to_string()).collect();
    assert!(errors.is_empty(), "{errors:?}");
    let mut wrong = report.clone();
    wrong["tables"]["totals"]["rows"][0]["requests"] = serde_json::json!(["many"]);
    assert!(!validator.is_valid(&wrong));
    wrong = report;
    wrong.as_object_mut().unwrap().remove("tables");
    assert!(!validator.is_valid(&wrong));
}

#[tokio::test]
async fn a_report_opens_from_one_file_without_a_network() {
    let lines: Vec<String> = (0..600)
        .map(|nth| {
            let path = format!("/page-{}.html", nth % 40);
            Line { minute: nth * 7, path: &path, ..Line::USUAL }.written()
        })
        .chain([Line { path: "/</script><script>document.title='taken'</script>", ..Line::USUAL }.written()])
        .collect();
    let log = Log::of(&lines);
    let file = log.path.with_file_name("report.html");
    let output = exedra(&["report", "--as", "html", "--to", &text(&file), &text(&log.path)]);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let html = std::fs::read_to_string(&file).unwrap();
    assert!(html.len() < 1_000_000, "{} bytes", html.len());
    let asks = ["src=\"http", "href=\"http", "url(http", "url(/", "src=\"/", "href=\"/", "@import"];
    assert!(asks.iter().all(|ask| !html.contains(ask)), "it asks for something");
    let browser = Browser::open_with(&["--host-resolver-rules=MAP * ~NOTFOUND"]).await;
    browser.window.goto(&format!("file://{}", text(&file))).await.unwrap();
    assert_eq!(browser.text_when("[data-testid=total-requests]", |told| !told.is_empty()).await, "601");
    assert_eq!(browser.window.title().await.unwrap(), "access.log");
    let rows = async |filter: &str| {
        let list = browser.window.find(By::Css("section[aria-label='What was asked for']")).await.unwrap();
        let field = list.find(By::Css("input")).await.unwrap();
        field.clear().await.unwrap();
        field.send_keys(filter).await.unwrap();
        list.find_all(By::Css("tbody tr")).await.unwrap().len()
    };
    assert_eq!(rows("page-39").await, 1);
    assert_eq!(rows("script").await, 1);
    // By keyboard: the heading of the column of paths sorts by it.
    let list = browser.window.find(By::Css("section[aria-label='What was asked for']")).await.unwrap();
    list.find(By::Css("input")).await.unwrap().clear().await.unwrap();
    list.find(By::Css("input")).await.unwrap().send_keys("page" + Key::Enter).await.unwrap();
    let heading = list.find(By::Css("th button")).await.unwrap();
    heading.send_keys(Key::Enter + "").await.unwrap();
    let first = list.find(By::Css("tbody tr td span")).await.unwrap().attr("title").await.unwrap();
    assert_eq!(first.as_deref(), Some("/page-0.html"));
    browser.close().await;
}

/// Six days of a few requests a minute; on the fifth at 12:00 a page fails for six minutes, after one client came in force.
fn with_a_burst() -> Log {
    let mut lines = Vec::new();
    let burst = 4 * 1440 + 720;
    for minute in 0..6 * 1440 {
        for second in 0..4 {
            let client = format!("192.0.2.{}", (minute * 3 + second) % 80);
            let path = ["/", "/tides.html"][(second % 2) as usize];
            let fails = path == "/tides.html" && (burst..burst + 6).contains(&minute);
            let status = if fails { 503 } else { 200 };
            lines.push(Line { minute, second, client: &client, path, status, ..Line::USUAL }.written());
        }
        if (burst - 6..burst).contains(&minute) {
            let ask = |second| {
                Line { minute, second, client: "203.0.113.9", path: "/search", ..Line::USUAL }.written()
            };
            lines.extend((0..40).map(ask));
        }
    }
    Log::of(&lines)
}

#[test]
fn a_prelude_says_what_came_before_and_what_failed() {
    let log = with_a_burst();
    let told = log.told(&["report", "--as", "json", "--prelude", "5xx"]);
    let bursts = told["bursts"].as_array().unwrap();
    assert_eq!(bursts.len(), 1, "{told:#}");
    let burst = &bursts[0];
    assert_eq!(
        (&burst["from"], &burst["until"]),
        (&Value::from("2026-11-06T12:00:00Z"), &Value::from("2026-11-06T12:06:00Z"))
    );
    assert_eq!((&burst["troubled"], &burst["days"]), (&Value::from(12), &Value::from(5)));
    let observer = |when: &str, value: &str| {
        let all = burst["evidence"].as_array().unwrap();
        let found = all.iter().find(|one| one["when"] == when && one["value"] == value);
        found.unwrap_or_else(|| panic!("{value} is not told: {burst:#}")).clone()
    };
    let client = observer("before", "203.0.113.9");
    assert_eq!(
        (&client["before"], number(&client["usually_before"]), &client["during"]),
        (&Value::from(240), 0.0, &Value::from(0))
    );
    assert!(client["words"].as_str().unwrap().contains("240 requests came by the client 203.0.113.9"));
    let failing = burst["evidence"].as_array().unwrap();
    assert!(failing.iter().all(|one| one["value"] != "/"), "{burst:#}");
    // A stretch that is named is looked at whatever is in it; no burst is said to be none.
    let named = log.told(&["report", "--as", "json", "--prelude", "2026-11-06T11:54..2026-11-06T12:00"]);
    let during = entry(&named["bursts"][0]["evidence"], "value", "203.0.113.9");
    assert_eq!((&during["when"], &during["during"]), (&Value::from("during"), &Value::from(240)));
    assert!(
        drawn(&exedra(&["report", "--prelude", "404", &text(&log.path)]))
            .contains("no burst of requests answered 404")
    );
    let masked = drawn(&exedra(&["report", "--prelude", "5xx", "--mask-clients", &text(&log.path)]));
    assert!(masked.contains("203.0.113.0/24") && !masked.contains("203.0.113.9"), "{masked}");
    // A source that is no log is not kept quiet about.
    let other = log.path.with_file_name("notes.txt");
    std::fs::write(&other, "what is this\n").unwrap();
    let partly = exedra(&["report", "--prelude", "5xx", &text(&log.path), &text(&other)]);
    assert!(
        !partly.status.success() && String::from_utf8_lossy(&partly.stderr).contains("notes.txt"),
        "{partly:?}"
    );
    assert!(drawn(&partly).contains("203.0.113.9"));
    let wrong = exedra(&["report", "--prelude", "often", &text(&log.path)]);
    assert!(!wrong.status.success() && String::from_utf8_lossy(&wrong.stderr).contains("5xx"));
}

#[test]
fn the_trail_of_a_client_shows_its_visits_and_its_pace() {
    let mut lines: Vec<String> = (0..300)
        .map(|second| {
            Line { minute: second / 60, second: second % 60, path: "/now.html", ..Line::USUAL }.written()
        })
        .collect();
    lines.push(Line { minute: 200, path: "/", referrer: "https://forum.example/1", ..Line::USUAL }.written());
    lines.push(Line { minute: 201, path: "/lost.html?a=1", status: 404, ..Line::USUAL }.written());
    lines.extend((0..50).map(|minute| Line { minute, client: "192.0.2.77", ..Line::USUAL }.written()));
    // The order of lines makes no difference.
    lines.reverse();
    let log = Log::of(&lines);
    let trail = log.told(&["trail", "192.0.2.1", "--as", "json"]);
    assert_eq!((&trail["requests"], &trail["errors"]), (&Value::from(302), &Value::from(1)));
    let visits = trail["visits"].as_array().unwrap();
    assert_eq!(visits.iter().map(|visit| number(&visit["requests"])).collect::<Vec<_>>(), [300.0, 2.0]);
    let step = &visits[0]["steps"][0];
    assert_eq!(
        (&step["count"], number(&step["per_minute"]), &step["target"]),
        (&Value::from(300), 60.0, &Value::from("/now.html"))
    );
    assert_eq!(trail["repeats"][0]["request"], "GET /now.html");
    let page = drawn(&exedra(&["trail", "192.0.2.1", &text(&log.path)]));
    assert!(
        page.contains("300 times, 60 a minute") && page.contains("from https://forum.example/1"),
        "{page}"
    );
    let network = log.told(&["trail", "192.0.2.0/24", "--as", "json", "--only", "path=/"]);
    assert_eq!(network["requests"], 51);
    let nobody = drawn(&exedra(&["trail", "203.0.113.1", &text(&log.path)]));
    assert!(nobody.contains("There are no requests of this client"), "{nobody}");
}

#[test]
fn countries_come_from_a_file_and_may_be_a_scope() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("countries.mmdb");
    std::fs::write(&file, exedra_demo::countries::made(&exedra_demo::countries::RANGES)).unwrap();
    let clients = ["192.0.2.1", "192.0.2.2", "198.51.100.1", "203.0.113.1"];
    let lines: Vec<String> = clients.iter().map(|client| Line { client, ..Line::USUAL }.written()).collect();
    let log = Log::of(&lines);
    let file = text(Path::new(&file));
    let report = log.told(&["report", "--as", "json", "--countries", &file]);
    let countries = rows(&report, "countries");
    assert_eq!(countries.iter().map(|entry| number(&entry["requests"])).sum::<f64>(), 4.0);
    let first = countries[0]["country"].as_str().unwrap();
    let only = format!("country={first}");
    let narrowed = log.told(&["report", "--as", "json", "--countries", &file, "--only", &only]);
    assert_eq!(*total(&narrowed, "requests"), countries[0]["requests"]);
    let without = exedra(&["report", "--only", &only, &text(&log.path)]);
    assert!(String::from_utf8_lossy(&without.stderr).contains("--countries"), "{without:?}");
}

#[test]
fn logs_of_several_machines_are_one_and_can_be_told_apart() {
    let folder = tempfile::tempdir().unwrap();
    let log = |machine: &str, times: u64| {
        std::fs::create_dir_all(folder.path().join(machine)).unwrap();
        let path = folder.path().join(machine).join("access.log");
        let lines: Vec<String> = (0..times).map(|minute| Line { minute, ..Line::USUAL }.written()).collect();
        std::fs::write(&path, lines.concat()).unwrap();
        text(&path)
    };
    let (quay, pier) = (log("quay", 3), log("pier", 5));
    let told = |arguments: &[&str]| -> Value {
        let output = exedra(&[&["report", "--as", "json"], arguments].concat());
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        serde_json::from_slice(&output.stdout).unwrap()
    };
    let by_folder = told(&[&quay, &pier]);
    assert_eq!(row(&by_folder, "servers", "server", "quay")["requests"], 3);
    assert_eq!(row(&by_folder, "servers", "server", "pier")["requests"], 5);
    // One client on two machines is one visitor and one visit.
    assert_eq!(
        (total(&by_folder, "visitors"), &rows(&by_folder, "visits")[0]["visits"]),
        (&Value::from(1), &Value::from(1))
    );
    assert_eq!(*total(&told(&["--server", "pier", &quay, &pier]), "requests"), 5);
    assert_eq!(*total(&told(&["--without", "server=pier", &quay, &pier]), "requests"), 3);
    let only_quay = format!("source={quay}");
    assert_eq!(*total(&told(&["--only", &only_quay, &quay, &pier]), "requests"), 3);
    let named =
        told(&[&format!("east={quay}"), &format!("west={pier}"), "--server", "east", "--server", "west"]);
    assert_eq!(row(&named, "servers", "server", "west")["requests"], 5);
    let wrong = exedra(&["report", "--server", "jetty", &quay, &pier]);
    let words = String::from_utf8_lossy(&wrong.stderr).into_owned();
    assert!(!wrong.status.success() && words.contains("server is one of pier, quay"), "{words}");
}
