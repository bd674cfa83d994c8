//! `exedra report`, as it is used on the logs of any server.

use exedra_e2e::{exedra, text};
use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
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
        assert_eq!(number(&report["totals"]["requests"]), 20_000);
        assert_eq!(number(&report["totals"]["visitors"]), visitors.len() as u64);
        assert_eq!(number(&report["totals"]["bytes"]), bytes);
        let list = |name: &str, key: &str| -> BTreeMap<String, u64> {
            let rows = report[name].as_array().unwrap().iter();
            rows.map(|row| (row[key].to_string().trim_matches('"').to_owned(), number(&row["requests"])))
                .collect()
        };
        let texts = |counts: &BTreeMap<&str, u64>| {
            counts.iter().map(|(key, count)| ((*key).to_owned(), *count)).collect::<BTreeMap<_, _>>()
        };
        assert_eq!(list("by_day", "day"), by_day);
        assert_eq!(
            list("by_status", "status"),
            by_status.iter().map(|(status, count)| (status.to_string(), *count)).collect()
        );
        assert_eq!(list("paths", "path"), texts(&paths));
        assert_eq!(list("missing", "path"), texts(&missing));
        let hours: Vec<u64> =
            report["by_hour"].as_array().unwrap().iter().map(|row| number(&row["requests"])).collect();
        assert_eq!(hours, by_hour);
        let of_day = |row: &Value| {
            visitors.iter().filter(|visitor| visitor.0 == row["day"].as_str().unwrap()).count() as u64
        };
        assert!(
            report["by_day"].as_array().unwrap().iter().all(|row| number(&row["visitors"]) == of_day(row))
        );
        let first = &report["missing"][0];
        let from: u64 =
            first["referrers"].as_array().unwrap().iter().map(|row| number(&row["requests"])).sum();
        assert_eq!(from + number(&first["without_referrer"]), number(&first["requests"]));
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
        words.contains("no layout fits (tried full, combined, json, extended, combined with host, common)")
            && words.contains("wind the clockwork"),
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
        report(&all)["totals"]["requests"].as_u64().unwrap()
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
