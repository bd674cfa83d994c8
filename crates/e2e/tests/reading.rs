//! `exedra report`, as it is used on the logs of any server.

use exedra_e2e::{drawn, exedra, row, rows, text, total};
use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
use rstest::rstest;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

fn report(arguments: &[&str]) -> Value {
    let output = exedra(&[&["report", "--as", "json"], arguments].concat());
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).unwrap()
}

/// A log in the combined layout, made at random.
fn combined(lines: usize) -> String {
    let mut random = StdRng::seed_from_u64(5);
    let mut log = String::new();
    for _ in 0..lines {
        let (day, hour, minute) =
            (random.random_range(1..8), random.random_range(0..24), random.random_range(0..60));
        let client = random.random_range(1..60);
        let status = [200, 200, 200, 304, 404, 500][random.random_range(0..6)];
        let path = random.random_range(0..40);
        let referrer =
            ["-", "https://a.example/", "https://b.example/?q=\\\"x\\\""][random.random_range(0..3)];
        let bytes = random.random_range(0..90_000);
        let agent = random.random_range(0..4);
        log.push_str(&format!("192.0.2.{client} - - [{day:02}/Nov/2026:{hour:02}:{minute:02}:07 +0000] \"GET /p{path}?q=1 HTTP/1.1\" {status} {bytes} \"{referrer}\" \"Boat/{agent}\"\n"));
    }
    log
}

#[test]
fn figures_equal_a_naive_count() {
    let folder = tempfile::tempdir().unwrap();
    let log = combined(20_000);
    let path = folder.path().join("access.log");
    std::fs::write(&path, &log).unwrap();
    let (mut visitors, mut by_day, mut by_hour) = (BTreeSet::new(), BTreeMap::new(), [0u64; 24]);
    let (mut by_status, mut paths, mut missing, mut bytes) =
        (BTreeMap::new(), BTreeMap::new(), BTreeMap::new(), 0);
    for line in log.lines() {
        let words: Vec<&str> = line.split(' ').collect();
        let day = format!("2026-11-{}", &words[3][1..3]);
        visitors.insert((day.clone(), words[0], words.last().copied()));
        *by_day.entry(day).or_insert(0u64) += 1;
        by_hour[words[3][13..15].parse::<usize>().unwrap()] += 1;
        *by_status.entry(words[8].parse::<u64>().unwrap()).or_insert(0u64) += 1;
        let page = words[6].split('?').next().unwrap();
        *paths.entry(page).or_insert(0u64) += 1;
        if words[8] == "404" {
            *missing.entry(page).or_insert(0u64) += 1;
        }
        bytes += words[9].parse::<u64>().unwrap();
    }
    for threads in ["1", "2"] {
        let report = report(&["--threads", threads, "--time-zone", "UTC", &text(&path)]);
        let number = |value: &Value| value.as_u64().unwrap();
        assert_eq!((number(&report["lines"]["read"]), number(&report["lines"]["unread"])), (20_000, 0));
        assert_eq!(number(total(&report, "requests")), 20_000);
        assert_eq!(number(total(&report, "visitors")), visitors.len() as u64);
        assert_eq!(number(total(&report, "bytes")), bytes);
        let list = |name: &str, key: &str| -> BTreeMap<String, u64> {
            rows(&report, name)
                .iter()
                .map(|row| (row[key].to_string().trim_matches('"').to_owned(), number(&row["requests"])))
                .collect()
        };
        let texts = |counts: &BTreeMap<&str, u64>| {
            counts.iter().map(|(key, count)| ((*key).to_owned(), *count)).collect::<BTreeMap<_, _>>()
        };
        assert_eq!(list("days", "day"), by_day);
        assert_eq!(
            list("statuses", "status"),
            by_status.iter().map(|(status, count)| (status.to_string(), *count)).collect()
        );
        assert_eq!(list("paths", "path"), texts(&paths));
        assert_eq!(list("missing", "path"), texts(&missing));
        let hours: Vec<u64> = rows(&report, "hours").iter().map(|row| number(&row["requests"])).collect();
        assert_eq!(hours, by_hour);
        let of_day = |row: &Value| {
            visitors.iter().filter(|visitor| visitor.0 == row["day"].as_str().unwrap()).count() as u64
        };
        assert!(rows(&report, "days").iter().all(|row| number(&row["visitors"]) == of_day(row)));
        let first = &rows(&report, "missing")[0];
        let details = report["tables"]["missing"]["details"][0].as_array().unwrap();
        let from: u64 = details.iter().map(|detail| number(&detail["count"])).sum();
        assert_eq!(from, number(&first["requests"]));
        assert_eq!(report["sources"][0]["layout"], "combined");
    }
}

#[test]
fn several_sources_add_up_in_any_order() {
    let folder = tempfile::tempdir().unwrap();
    let log = combined(3_000);
    let middle = log[..log.len() / 2].rfind('\n').unwrap() + 1;
    let (a, b, whole) = (folder.path().join("a"), folder.path().join("b"), folder.path().join("whole"));
    std::fs::write(&a, &log[..middle]).unwrap();
    std::fs::write(&b, &log[middle..]).unwrap();
    std::fs::write(&whole, &log).unwrap();
    let strip = |mut report: Value| -> Value {
        report.as_object_mut().unwrap().remove("sources");
        report
    };
    let (whole, parts, reversed) = (
        strip(report(&[&text(&whole)])),
        strip(report(&[&text(&a), &text(&b)])),
        strip(report(&[&text(&b), &text(&a)])),
    );
    assert_eq!(whole, parts);
    assert_eq!(whole, reversed);
}

#[test]
fn bad_lines_are_counted_and_shown() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("access.log");
    let mut log = combined(10).into_bytes();
    log.extend_from_slice(b"\n192.0.2.1 - - [01/Nov/2026:10:00:00 +0000] \"\\x16\\x03\" 400 - \"-\" \"-\"\n");
    log.extend_from_slice(
        b"192.0.2.1 - - [31/Feb/2026:10:00:00 +0000] \"GET / HTTP/1.1\" 200 1 \"-\" \"-\"\n",
    );
    log.extend_from_slice(&vec![b'x'; 5 << 20]);
    log.extend_from_slice(b"\n\xff\xfe\x1b[2J\n192.0.2.1 - - [01/Nov/2026:10:00");
    std::fs::write(&path, &log).unwrap();
    let report = report(&[&text(&path)]);
    assert_eq!((report["lines"]["read"].as_u64(), report["lines"]["unread"].as_u64()), (Some(11), Some(5)));
    let reasons = report["lines"]["reasons"].as_array().unwrap();
    let time = reasons.iter().find(|reason| reason["reason"] == "no time where one should be").unwrap();
    assert_eq!(
        (time["examples"][0]["line"].as_u64(), time["examples"][0]["column"].as_u64()),
        (Some(13), Some(16))
    );
    let output = exedra(&["report", &text(&path)]);
    let page = String::from_utf8(output.stdout).unwrap();
    assert!(
        page.contains("line 13 column 16") && page.contains("too long") && !page.contains('\u{1b}'),
        "{page}"
    );
    assert!(page.lines().all(|line| line.chars().count() <= 100), "{page}");
}

#[test]
fn a_log_of_another_kind_is_shown_and_refused() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("system.log");
    std::fs::write(&path, "Nov 23 06:19:35 lamp cron[81]: (keeper) CMD (wind the clockwork)\n".repeat(5))
        .unwrap();
    let output = exedra(&["report", &text(&path)]);
    let words = String::from_utf8(output.stderr).unwrap();
    assert!(!output.status.success());
    assert!(
        words.contains(
            "no layout fits (tried full, combined, json, extended, combined with host, common, pairs)"
        ) && words.contains("wind the clockwork")
            && words.contains("By its parts none could be made: nothing in the lines is a request"),
        "{words}"
    );
    let missing = exedra(&["report", &text(&folder.path().join("acess.log"))]);
    assert!(String::from_utf8(missing.stderr).unwrap().contains("there is no file"));
    let folder = exedra(&["report", &text(folder.path())]);
    assert!(String::from_utf8(folder.stderr).unwrap().contains("no layout fits any of"));
}

#[test]
fn a_scope_counts_only_what_it_names() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("access.log");
    let log = combined(5_000);
    std::fs::write(&path, &log).unwrap();
    let count = |arguments: &[&str]| {
        let name = text(&path);
        let all = [arguments, &[name.as_str()]].concat();
        total(&report(&all), "requests").as_u64().unwrap()
    };
    let lines = |holds: &dyn Fn(&str) -> bool| log.lines().filter(|line| holds(line)).count() as u64;
    assert_eq!(count(&["--only", "status=404"]), lines(&|line| line.contains("\" 404 ")));
    assert_eq!(
        count(&["--only", "path=/p1*", "--without", "client=192.0.2.7"]),
        lines(&|line| line.contains("GET /p1") && !line.starts_with("192.0.2.7 "))
    );
    assert_eq!(
        count(&["--from", "2026-11-03", "--until", "2026-11-05"]),
        lines(&|line| line.contains("[03/") || line.contains("[04/"))
    );
    let wrong = exedra(&["report", "--only", "staus=404", &text(&path)]);
    assert!(String::from_utf8(wrong.stderr).unwrap().contains("did you mean `status`?"));
}

/// A request, as some log tells of it.
struct Told {
    second: i64,
    client: u8,
    path: u8,
    status: u16,
    bytes: u32,
    referrer: Option<&'static str>,
    agent: &'static str,
}

const PATHS: [&str; 5] = ["/", "/tides/today.html", "/style.css", "/tour.mp3", "/panorama.jpg"];
const AGENTS: [&str; 3] = [
    "Mozilla/5.0 (Windows NT 10.0; Win64; x64; rv:146.0) Gecko/20100101 Firefox/146.0",
    "Mozilla/5.0 (iPad; CPU OS 19_1 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/19.1 Mobile/15E148 Safari/604.1",
    "LeafTurner/0.9 (+https://leafturner.example/about)",
];
const REFERRERS: [Option<&str>; 4] = [
    None,
    Some("https://harbour.example/"),
    Some("https://forum.example/thread?page=2"),
    Some("https://find.example/?q=Tide+table"),
];
/// A configuration that says which host is one's own, so that no guess is needed.
const OWN_HOST: &str = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"harbour\"\nhosts = [\"harbour.example\"]\nfolder = \".\"\n";
/// 2026-11-02 00:00 UTC.
const MONDAY: i64 = 1_793_577_600;

/// Requests over five days, in the order of their times.
fn told(count: usize) -> Vec<Told> {
    let mut random = StdRng::seed_from_u64(11);
    let mut all: Vec<Told> = (0..count)
        .map(|_| Told {
            second: MONDAY + random.random_range(0..5 * 86_400),
            client: random.random_range(1..20),
            path: random.random_range(0..PATHS.len() as u8),
            status: [200, 200, 200, 304, 404][random.random_range(0..5)],
            bytes: random.random_range(0..90_000),
            referrer: REFERRERS[random.random_range(0..REFERRERS.len())],
            agent: AGENTS[random.random_range(0..AGENTS.len())],
        })
        .collect();
    all.sort_by_key(|request| request.second);
    all
}

/// Those requests as lines of a log.
fn written(all: &[Told], how: &str) -> String {
    let line = |request: &Told| {
        let at = jiff::Timestamp::from_second(request.second).unwrap().to_zoned(jiff::tz::TimeZone::UTC);
        let classic = at.strftime("%d/%b/%Y:%H:%M:%S +0000");
        let (date, clock) = (at.strftime("%Y-%m-%d"), at.strftime("%H:%M:%S"));
        let Told { client, status, bytes, agent, .. } = request;
        let path = PATHS[request.path as usize];
        let from = request.referrer.unwrap_or("-");
        match how {
            "combined" => format!(
                "192.0.2.{client} - - [{classic}] \"GET {path} HTTP/1.1\" {status} {bytes} \"{from}\" \"{agent}\""
            ),
            "combined with host" => format!(
                "a.example 192.0.2.{client} - - [{classic}] \"GET {path} HTTP/1.1\" {status} {bytes} \"{from}\" \"{agent}\""
            ),
            "json" => serde_json::json!({
                "ts": request.second, "level": "info", "size": bytes, "status": status,
                "request": { "remote_ip": format!("192.0.2.{client}"), "method": "GET", "uri": path,
                    "headers": { "User-Agent": [agent], "Referer": [request.referrer] } },
            })
            .to_string(),
            "extended" => {
                format!("{date} {clock} 192.0.2.{client} GET {path} {status} {bytes} {from} \"{agent}\"")
            }
            _ => format!("{date}|{clock}|192.0.2.{client}|{path}|{status}|{bytes}|{from}|{agent}"),
        }
    };
    let heading = match how {
        "extended" => {
            "#Version: 1.0\n#Fields: date time c-ip cs-method cs-uri-stem sc-status bytes cs(Referer) cs(User-Agent)\n"
        }
        _ => "",
    };
    let lines: Vec<String> = all.iter().map(line).collect();
    format!("{heading}{}\n", lines.join("\n"))
}

/// Counts what a scope keeps, without any care for speed: requests, bytes, visitors, visits of people, and some lists.
fn by_hand(all: &[Told], keeps: impl Fn(&Told) -> bool) -> Value {
    let kept: Vec<&Told> = all.iter().filter(|request| keeps(request)).collect();
    let visitors: BTreeSet<(i64, u8, &str)> =
        kept.iter().map(|request| (request.second / 86_400, request.client, request.agent)).collect();
    let is_program = |agent: &str| agent.starts_with("LeafTurner");
    let mut last: BTreeMap<(u8, &str), i64> = BTreeMap::new();
    let mut visits = 0;
    for request in kept.iter().filter(|request| !is_program(request.agent)) {
        let before = last.insert((request.client, request.agent), request.second);
        visits += u64::from(before.is_none_or(|before| request.second - before > 1800));
    }
    let count = |counts: &dyn Fn(&Told) -> bool| kept.iter().filter(|request| counts(request)).count();
    let from = |request: &Told, host: &str| request.referrer.is_some_and(|page| page.contains(host));
    serde_json::json!({
        "requests": kept.len(),
        "bytes": kept.iter().map(|request| u64::from(request.bytes)).sum::<u64>(),
        "visitors": visitors.len(),
        "visits": visits,
        "missing": count(&|request| request.status == 404),
        "assets": count(&|request| [2, 4].contains(&request.path)),
        "programs": count(&|request| is_program(request.agent)),
        "tablets": count(&|request| request.agent.contains("iPad")),
        "forum": count(&|request| from(request, "forum.example") && request.path < 2),
        "embedded": count(&|request| from(request, "forum.example") && request.path >= 2),
        "phrase": count(&|request| from(request, "find.example")),
    })
}

/// The same figures of a report.
fn reported(report: &Value) -> Value {
    let of = |list: &str, value: &str| {
        let key = report["tables"][list]["columns"][0]["name"].as_str().unwrap();
        let found = rows(report, list).iter().find(|row| row[key] == value);
        found.map_or(Value::from(0), |row| row["requests"].clone())
    };
    let missing = rows(report, "missing").iter();
    serde_json::json!({
        "requests": *total(report, "requests"),
        "bytes": *total(report, "bytes"),
        "visitors": *total(report, "visitors"),
        "visits": rows(report, "visits").first().map_or(&Value::Null, |visits| &visits["visits"]),
        "missing": missing.map(|page| page["requests"].as_u64().unwrap()).sum::<u64>(),
        "assets": of("kinds", "asset"),
        "programs": of("people_and_crawlers", "bots and crawlers"),
        "tablets": of("devices", "tablet"),
        "forum": of("linking_sites", "forum.example"),
        "embedded": of("embedding_sites", "forum.example"),
        "phrase": of("search_phrases", "tide table"),
    })
}

#[rstest]
fn every_layout_and_scope_gives_what_a_naive_count_does(
    #[values("combined", "combined with host", "json", "extended", "own")] how: &str,
    #[values("all", "people", "crawlers", "a day", "filtered")] scope: &str,
) {
    let folder = tempfile::tempdir().unwrap();
    let all = told(4_000);
    let path = folder.path().join("access.log");
    std::fs::write(&path, written(&all, how)).unwrap();
    let config = "[[layout]]\nname = \"own\"\ntemplate = \"{date}|{clock}|{client}|{path}|{status}|{bytes}|{referrer}|{agent}\"\n";
    let config_path = folder.path().join("exedra.toml");
    std::fs::write(&config_path, format!("{OWN_HOST}{config}")).unwrap();
    let is_program = |request: &Told| request.agent.starts_with("LeafTurner");
    let (arguments, expected): (&[&str], Value) = match scope {
        "people" => (&["--people"], by_hand(&all, |request| !is_program(request))),
        "crawlers" => (&["--crawlers"], by_hand(&all, is_program)),
        "a day" => {
            let day = MONDAY + 86_400..MONDAY + 2 * 86_400;
            (&["--day", "2026-11-03"], by_hand(&all, |request| day.contains(&request.second)))
        }
        "filtered" => (
            &["--only", "kind=asset", "--only", "kind=download", "--without", "status=404"],
            by_hand(&all, |request| request.path >= 2 && request.status != 404),
        ),
        _ => (&[], by_hand(&all, |_| true)),
    };
    let common = ["--config", &text(&config_path), "--time-zone", "UTC", "--threads", "2", &text(&path)]
        .map(str::to_owned);
    let arguments: Vec<&str> = arguments.iter().copied().chain(common.iter().map(String::as_str)).collect();
    let report = report(&arguments);
    assert_eq!(report["sources"][0]["layout"], how);
    assert_eq!(reported(&report), expected);
}

/// Ranked by visitors and by time, lists hold what counting each entry by itself gives.
#[test]
fn lists_by_visitors_and_time_agree_with_a_naive_count() {
    let folder = tempfile::tempdir().unwrap();
    let all = told(4_000);
    let path = folder.path().join("access.log");
    let took = |request: &Told| u64::from(request.bytes) * 7;
    let lines: String = written(&all, "own")
        .lines()
        .zip(&all)
        .map(|(line, request)| format!("{line}|{}\n", took(request)))
        .collect();
    std::fs::write(&path, lines).unwrap();
    const LAYOUT: &str =
        "{date}|{clock}|{client}|{path}|{status}|{bytes}|{referrer}|{agent}|{duration:microseconds}";
    let config = folder.path().join("exedra.toml");
    std::fs::write(&config, OWN_HOST).unwrap();
    let (config, path) = (text(&config), text(&path));
    let common = ["--config", &config, "--layout", LAYOUT, "--time-zone", "UTC", "--threads", "2", &path];
    let ranked_with = |arguments: &[&str]| report(&[arguments, &common[..]].concat());
    let ranked = |by: &str| ranked_with(&["--by", by]);
    let from = |request: &Told, host: &str| request.referrer.is_some_and(|page| page.contains(host));
    type Keeps<'k> = &'k dyn Fn(&Told) -> bool;
    let entries: [(&str, &str, Keeps<'_>); 10] = [
        ("paths", PATHS[3], &|request| request.path == 3),
        ("clients", "192.0.2.7", &|request| request.client == 7),
        ("missing", PATHS[1], &|request| request.path == 1 && request.status == 404),
        ("kinds", "asset", &|request| [2, 4].contains(&request.path)),
        ("devices", "tablet", &|request| request.agent.contains("iPad")),
        ("agents", AGENTS[0], &|request| request.agent == AGENTS[0]),
        ("linking_sites", "forum.example", &|request| from(request, "forum.example") && request.path < 2),
        ("linking_pages", "https://forum.example/thread?page=2", &|request| from(request, "forum.example")),
        ("embedding_sites", "forum.example", &|request| from(request, "forum.example") && request.path >= 2),
        ("search_phrases", "tide table", &|request| from(request, "find.example")),
    ];
    let (visitors, time) = (ranked("visitors"), ranked("time"));
    for (list, value, keeps) in entries {
        let kept: Vec<&Told> = all.iter().filter(|request| keeps(request)).collect();
        let distinct: BTreeSet<(i64, u8, &str)> =
            kept.iter().map(|request| (request.second / 86_400, request.client, request.agent)).collect();
        let of = |report: &Value, measure: &str| {
            let key = report["tables"][list]["columns"][0]["name"].as_str().unwrap();
            row(report, list, key, value)[measure].clone()
        };
        assert_eq!(of(&visitors, "visitors"), distinct.len(), "{list} {value}");
        let took: u64 = kept.iter().map(|request| took(request)).sum();
        assert!((of(&time, "time_ms").as_f64().unwrap() - took as f64 / 1e3).abs() < 1e-3, "{list} {value}");
        for (report, measure) in [(&visitors, "visitors"), (&time, "time_ms")] {
            let figures = rows(report, list).iter().map(|row| row[measure].as_f64().unwrap());
            assert!(figures.is_sorted_by(|a, b| a >= b), "{list} by {measure}");
        }
    }
    // Cut to their networks, all clients are one, and nobody is counted twice.
    let masked = ranked_with(&["--by", "visitors", "--mask-clients"]);
    let networks = rows(&masked, "clients");
    assert_eq!((networks.len(), &networks[0]["client"]), (1, &Value::from("192.0.2.0/24")));
    assert_eq!(networks[0]["visitors"], *total(&masked, "visitors"));
    let whole: u64 = all.iter().map(took).sum();
    assert!((total(&time, "time_ms").as_f64().unwrap() - whole as f64 / 1e3).abs() < 1e-3);
}

#[test]
fn visits_that_cross_from_one_file_into_the_next_are_one_whatever_the_order() {
    let folder = tempfile::tempdir().unwrap();
    let all = told(3_000);
    let lines = written(&all, "combined");
    let middle = lines[..lines.len() / 2].rfind('\n').unwrap() + 1;
    let [a, b] = ["a.log", "b.log"].map(|name| text(&folder.path().join(name)));
    std::fs::write(&a, &lines[..middle]).unwrap();
    std::fs::write(&b, &lines[middle..]).unwrap();
    let expected = by_hand(&all, |_| true)["visits"].clone();
    for files in [[&a, &b], [&b, &a]] {
        assert_eq!(rows(&report(&[files[0], files[1]]), "visits")[0]["visits"], expected);
    }
    // A pattern and a folder name the same files.
    for source in [text(&folder.path().join("*.log")), text(folder.path())] {
        assert_eq!(*total(&report(&[&source]), "requests"), 3_000);
    }
}

/// What names the columns stands once, at the beginning: whoever reads on behind it must know it.
#[rstest]
#[case::heading("bytes,ip,when,verb,url,code,ttl,duration_ms", |n: u64| format!(
    "{},192.0.2.{},2026-11-14T05:12:{:02}Z,GET,/p{n},200,{},{n}", 100 + n, n % 7, n % 60, n * 37 % 19
))]
#[case::fields("#Fields: c-ip sc-bytes date time cs-method cs-uri-stem time-taken sc-status", |n: u64| format!(
    "192.0.2.{} {} 2026-11-14 05:12:{:02} GET /p{n} 0.0{} 200", n % 7, 100 + n, n % 60, n
))]
fn a_bookmark_behind_the_names_of_the_columns_still_knows_them(
    #[case] names: &str,
    #[case] line: fn(u64) -> String,
) {
    let folder = tempfile::tempdir().unwrap();
    let log = folder.path().join("access.log");
    let written = |lines: std::ops::Range<u64>| {
        lines.fold(format!("{names}\n"), |all, n| all + line(n).as_str() + "\n")
    };
    let report = |how: &[&str]| -> Value {
        let output = std::process::Command::new(exedra_e2e::program())
            .args(["report", "--as", "json"])
            .args(how)
            .arg(&log)
            .env("XDG_STATE_HOME", folder.path().join("state"))
            .output()
            .unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        serde_json::from_slice(&output.stdout).unwrap()
    };
    std::fs::write(&log, written(10..30)).unwrap();
    let first = report(&["--resume", "mark"]);
    assert_eq!(total(&first, "requests"), 20);
    std::fs::write(&log, written(10..99)).unwrap();
    let (rest, whole) = (report(&["--resume", "mark"]), report(&[]));
    assert_eq!((&rest["lines"]["unread"], total(&rest, "requests")), (&0.into(), &Value::from(69)));
    let sent = |report: &Value| total(report, "bytes").as_u64().unwrap();
    assert_eq!(sent(&first) + sent(&rest), sent(&whole));
    assert_eq!(sent(&whole), (10..99).map(|n| 100 + n).sum::<u64>());
}

#[test]
fn a_bookmark_goes_on_where_reading_stopped_although_the_log_was_rotated() {
    let folder = tempfile::tempdir().unwrap();
    let lines = written(&told(900), "combined");
    let lines: Vec<&str> = lines.split_inclusive('\n').collect();
    let log = folder.path().join("access.log");
    let resumed = || {
        let output = std::process::Command::new(exedra_e2e::program())
            .args(["report", "--as", "json", "--resume", "nightly", &text(&log)])
            .env("XDG_STATE_HOME", folder.path().join("state"))
            .output()
            .unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        total(&serde_json::from_slice(&output.stdout).unwrap(), "requests").as_u64().unwrap()
    };
    // The last line is still being written.
    std::fs::write(&log, lines[..300].concat() + &lines[300][..40]).unwrap();
    assert_eq!(resumed(), 300);
    assert_eq!(resumed(), 0);
    // Renamed.
    std::fs::write(&log, lines[..400].concat()).unwrap();
    std::fs::rename(&log, folder.path().join("access.log.1")).unwrap();
    std::fs::write(&log, lines[400..500].concat()).unwrap();
    assert_eq!(resumed(), 200);
    // Copied away and emptied.
    std::fs::write(&log, lines[400..600].concat()).unwrap();
    std::fs::rename(folder.path().join("access.log.1"), folder.path().join("access.log.2")).unwrap();
    std::fs::copy(&log, folder.path().join("access.log.1")).unwrap();
    std::fs::write(&log, lines[600..].concat()).unwrap();
    assert_eq!(resumed(), 400);
    assert_eq!(resumed(), 0);
}

#[test]
fn a_layout_is_shown_field_by_field_with_what_does_not_fit() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("access.log");
    let lines = written(&told(50), "combined");
    std::fs::write(&path, lines + "192.0.2.1 - - [02/Nov/2026:10:00:00 +0000] \"GET / HT\n").unwrap();
    let shown = |arguments: &[&str]| {
        let output = exedra(&[&["layout", &text(&path)], arguments].concat());
        (output.status.success(), drawn(&output))
    };
    let (well, page) = shown(&[]);
    assert!(well && page.contains("is read as combined: 50 of the first 51 lines"), "{page}");
    assert!(
        page.contains("  method       GET\n") && page.contains("  nothing      user, scheme, host, query"),
        "{page}"
    );
    let stopped =
        page.lines().skip_while(|line| !line.contains("a quotation mark is not closed")).collect::<Vec<_>>();
    let column = stopped[1].find("GET / HT").unwrap();
    assert!(stopped[2].find('^') == Some(column), "{page}");
    let (well, page) = shown(&["--layout", "{time:seconds} {client}"]);
    assert!(!well && page.contains("is read by no layout"), "{page}");
    let (well, page) = shown(&["--layout", "combind"]);
    assert!(!well && page.contains("did you mean `combined`?"), "{page}");
    let (_, json) = shown(&["--as", "json"]);
    let json: Value = serde_json::from_str(&json).unwrap();
    assert_eq!((&json[0]["layout"], &json[0]["unread"][0]["line"]), (&"combined".into(), &51.into()));
}

#[test]
fn a_section_may_be_a_table() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("access.log");
    std::fs::write(&path, written(&told(500), "combined")).unwrap();
    let output = exedra(&["report", "--as", "csv", "--show", "kinds", &text(&path)]);
    let table = String::from_utf8(output.stdout).unwrap();
    let mut rows = table.split("\r\n");
    assert_eq!(rows.next(), Some("kind,requests,bytes"));
    let requests: u64 = rows.filter_map(|row| row.split(',').nth(1)?.parse::<u64>().ok()).sum();
    assert_eq!(requests, 500);
    let several = drawn(&exedra(&["report", "--as", "csv", "--show", "people", &text(&path)]));
    assert!(several.contains("a table holds one section"), "{several}");
    let wrong = drawn(&exedra(&["report", "--show", "crawler", &text(&path)]));
    assert!(wrong.contains("did you mean `crawlers`?"), "{wrong}");
}
