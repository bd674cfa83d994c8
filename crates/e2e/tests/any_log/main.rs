//! One data set in every layout that occurs: read without a word of explanation, each gives the figures of one independent count.

mod corpus;
mod requests;

use corpus::{LAYOUTS, Lacks, Layout};
use exedra_e2e::{drawn, exedra, rows, text, total};
use requests::{LAST, Request, requests};
use rstest::rstest;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::time::{Duration, SystemTime};

fn write(folder: &Path, layout: &Layout, all: &[Request]) -> String {
    let (_, heading, line, _) = layout;
    let lines: String = all.iter().enumerate().map(|(nth, request)| line(request, nth) + "\n").collect();
    let path = folder.join("a.log");
    std::fs::write(&path, format!("{heading}{lines}")).unwrap();
    // Times without a year or a day have them from the file.
    let written = SystemTime::UNIX_EPOCH + Duration::from_millis(LAST as u64);
    std::fs::File::options().write(true).open(&path).unwrap().set_modified(written).unwrap();
    text(&path)
}

fn report(arguments: &[&str]) -> Result<Value, String> {
    let output = exedra(&[&["report", "--as", "json", "--time-zone", "UTC"], arguments].concat());
    match output.status.success() {
        true => Ok(serde_json::from_slice(&output.stdout).unwrap()),
        false => Err(String::from_utf8_lossy(&output.stderr).into_owned()),
    }
}

/// Requests by what stands in a column.
fn counted(report: &Value, table: &str, key: &str) -> BTreeMap<String, u64> {
    let row =
        |row: &Value| (row[key].to_string().trim_matches('"').to_owned(), row["requests"].as_u64().unwrap());
    rows(report, table).iter().map(row).collect()
}

fn count(all: &[Request], key: impl Fn(&Request) -> String) -> BTreeMap<String, u64> {
    let mut counts = BTreeMap::new();
    all.iter().for_each(|request| *counts.entry(key(request)).or_default() += 1);
    counts
}

/// What is wrong with the figures of a layout.
fn differences(layout: &Layout, all: &[Request], folder: &Path) -> Vec<String> {
    let (_, _, _, lacks) = layout;
    let path = write(folder, layout, all);
    let report_of = |more: &[&str]| report(&[&["--top", "10000"], more, &[&path]].concat());
    let found = match report_of(&[]) {
        Ok(found) => found,
        Err(error) => return vec![error],
    };
    let mut wrong = Vec::new();
    let mut same = |what: &str, found: String, expected: String| {
        if found != expected {
            wrong.push(format!("{what}: {found} and not {expected}"));
        }
    };
    same("unread", found["lines"]["unread"].to_string(), "0".into());
    same("requests", total(&found, "requests").to_string(), all.len().to_string());
    if !lacks.bytes {
        let bytes: u64 = all.iter().map(|request| request.bytes).sum();
        same("bytes", total(&found, "bytes").to_string(), bytes.to_string());
    }
    let listed = |table: &str, key: &str| format!("{:?}", counted(&found, table, key));
    let by = |key: fn(&Request) -> String| format!("{:?}", count(all, key));
    same("statuses", listed("statuses", "status"), by(|request| request.status.to_string()));
    same("paths", listed("paths", "path"), by(|request| request.path.clone()));
    same("clients", listed("clients", "client"), by(|request| request.client.clone()));
    let day = |request: &Request| {
        jiff::Timestamp::from_millisecond(request.time).unwrap().strftime("%Y-%m-%d").to_string()
    };
    same("days", listed("days", "day"), format!("{:?}", count(all, day)));
    if !lacks.agent {
        let visitors: BTreeSet<_> =
            all.iter().map(|request| (day(request), &request.client, request.agent)).collect();
        same("visitors", total(&found, "visitors").to_string(), visitors.len().to_string());
    }
    if !lacks.duration {
        let slow = all.iter().filter(|request| request.duration >= 50_000).count();
        let found = report_of(&["--only", "duration>=50 ms"]).unwrap_or_default();
        same("slow", total(&found, "requests").to_string(), slow.to_string());
    }
    if !lacks.referrer {
        let linked = all.iter().filter(|request| request.referrer.contains("saltwater")).count();
        let found = report_of(&["--only", "referrer_host=pilots.saltwater.example"]).unwrap_or_default();
        same("linked", total(&found, "requests").to_string(), linked.to_string());
    }
    wrong
}

#[test]
fn every_layout_is_read_to_the_last_figure() {
    let (all, folder) = (requests(), tempfile::tempdir().unwrap());
    let mut wrong = String::new();
    for layout in LAYOUTS {
        let differences = differences(layout, &all, folder.path());
        if !differences.is_empty() {
            let understood = exedra(&["layout", "--lines", "1", &text(&folder.path().join("a.log"))]);
            let understood = String::from_utf8_lossy(&understood.stdout).into_owned();
            wrong.push_str(&format!("── {}\n{}\n{understood}\n", layout.0, differences.join("\n")));
        }
    }
    assert!(LAYOUTS.len() >= 50);
    assert!(wrong.is_empty(), "{wrong}");
}

/// The fewer lines there are, the less they say; what cannot be mistaken is right with any number.
#[rstest]
#[case::one(1)]
#[case::three(3)]
#[case::twenty(20)]
fn short_logs_are_read_too(#[case] lines: usize) {
    let (all, folder) = (requests(), tempfile::tempdir().unwrap());
    let mut wrong = Vec::new();
    for (name, heading, line, _) in LAYOUTS {
        let layout =
            (*name, *heading, *line, Lacks { duration: true, bytes: true, agent: true, referrer: true });
        let path = write(folder.path(), &layout, &all[..lines]);
        match report(&[&path]) {
            Ok(found) if *total(&found, "requests") == lines => {}
            Ok(found) => wrong.push(format!("{name}: {} requests", total(&found, "requests"))),
            Err(error) => wrong.push(format!("{name}: {error}")),
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// Logs that lack something do not make it up.
#[test]
fn what_no_line_says_is_not_known_and_not_0() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.log");
    let line = |nth: usize| {
        format!("2026-11-14T05:12:{:02}Z GET /tides/{} {}\n", nth % 60, nth % 4, [200, 404][nth % 2])
    };
    std::fs::write(&path, (0..50).map(line).collect::<String>()).unwrap();
    let path = text(&path);
    let found = report(&[&path]).unwrap();
    assert_eq!((total(&found, "requests").as_u64(), total(&found, "errors").as_u64()), (Some(50), Some(25)));
    assert!(total(&found, "bytes").is_null() && total(&found, "visitors").is_null());
    assert!(rows(&found, "paths").iter().all(|row| row["bytes"].is_null() && row["requests"].is_u64()));
    let caveats = found["caveats"].to_string();
    assert!(caveats.contains("clients, agents, referrers, durations, content codings, bytes"), "{caveats}");
    let page = drawn(&exedra(&["report", &path]));
    assert!(page.contains("not known: visitors") && page.contains("not known: sent"), "{page}");
    assert!(!page.contains("0 visitors") && !page.contains("Visits of people"), "{page}");
}

#[test]
fn a_layout_that_was_asked_for_must_read_something() {
    let (all, folder) = (requests(), tempfile::tempdir().unwrap());
    let path = write(folder.path(), &LAYOUTS[1], &all[..20]);
    let error = report(&["--layout", "{time:rfc3339} {client} {path} {status}", &path]).unwrap_err();
    assert!(error.contains("no layout fits") && error.contains("tried {time:rfc3339}"), "{error}");
    assert!(report(&["--layout", "combined", &path]).is_ok());
}

#[rstest]
#[case::guessed(&[], "milliseconds", 18)]
#[case::said(&["--durations", "us"], "microseconds", 0)]
#[case::said_whole(&["--durations", "seconds"], "seconds", 20)]
fn what_durations_count_is_said_and_can_be_overruled(
    #[case] more: &[&str],
    #[case] unit: &str,
    #[case] slow: u64,
) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.log");
    let line = |nth: u64| {
        let client = nth % 7;
        let bytes = nth % 5 * 100 + 300;
        format!(
            "192.0.2.{client} - - [14/Nov/2026:05:12:40 +0000] \"GET /p{} HTTP/1.1\" 200 {bytes} {}\n",
            nth % 5,
            nth * 7 % 20 * 3 + 1
        )
    };
    std::fs::write(&path, (0..20).map(line).collect::<String>()).unwrap();
    let path = text(&path);
    let found = report(&[more, &["--only", "duration>=7 ms", &path]].concat()).unwrap();
    assert_eq!(total(&found, "requests").as_u64(), Some(slow));
    let remarks = found["sources"][0]["remarks"].to_string();
    assert!(remarks.contains(&format!("{{duration:{unit}}}")), "{remarks}");
    let layout = drawn(&exedra(&[&["layout"], more, &[&*path]].concat()));
    assert!(layout.contains(&format!("{{duration:{unit}}}")), "{layout}");
}

/// A server that is told to write another layout in the middle of a file, long after its beginning was looked at.
#[test]
fn a_layout_may_change_where_nobody_looks() {
    let (all, folder) = (requests(), tempfile::tempdir().unwrap());
    let lines: String = (0..12_000)
        .map(|nth| {
            let request = &all[nth % all.len()];
            LAYOUTS[if nth < 7_000 { 1 } else { 4 }].2(request, nth) + "\n"
        })
        .collect();
    let path = folder.path().join("a.log");
    std::fs::write(&path, lines).unwrap();
    for threads in ["1", "2"] {
        let found = report(&["--threads", threads, &text(&path)]).unwrap();
        // What stands in the same block as the first of them may be too little to be seen.
        let unread = found["lines"]["unread"].as_u64().unwrap();
        assert_eq!(found["lines"]["read"].as_u64().unwrap() + unread, 12_000);
        assert_eq!(unread, 0, "{}", found["lines"]);
        let remarks = found["sources"][0]["remarks"].to_string();
        assert!(remarks.contains("layout found by its parts") && remarks.contains("{duration:"), "{remarks}");
    }
}

/// Whatever lies in a folder: logs at any depth, compressed, cut off, in another encoding; and what is none, by its kind.
#[test]
fn folders_are_walked_to_the_bottom_and_what_is_no_log_is_named() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    std::fs::create_dir_all(at("2026/11")).unwrap();
    let all = requests();
    let lines: String = all.iter().take(40).map(|request| LAYOUTS[1].2(request, 0) + "\n").collect();
    std::fs::write(at("a.log"), &lines).unwrap();
    std::fs::write(at("2026/11/b.log"), &lines).unwrap();
    let wide: Vec<u8> =
        std::iter::once(0xfeff).chain(lines.encode_utf16()).flat_map(u16::to_le_bytes).collect();
    std::fs::write(at("2026/wide.log"), wide).unwrap();
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    std::io::Write::write_all(&mut gzip, lines.as_bytes()).unwrap();
    std::fs::write(at("2026/c.log.gz"), [gzip.finish().unwrap(), b"rubbish".to_vec()].concat()).unwrap();
    std::fs::write(at("archive.zip"), b"PK\x03\x04 and so on").unwrap();
    std::fs::write(at("2026/program"), b"\x7fELF\0\0\0").unwrap();
    std::fs::write(at("errors.log"), "2026/11/14 05:12:40 [error] <8> #1 no, client: 192.0.2.1\n").unwrap();
    std::os::unix::fs::symlink(folder.path(), at("2026/back")).unwrap();
    let output = exedra(&["report", "--as", "json", &text(folder.path())]);
    let said = String::from_utf8(output.stderr).unwrap();
    let found: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(total(&found, "requests").as_u64(), Some(4 * 40), "{said}");
    for expected in [
        "archive.zip (ZIP archive)",
        "program (binary file)",
        "errors.log (error log)",
        "back is a link to a folder that is read already",
        "c.log.gz ends before its end",
    ] {
        assert!(said.contains(expected), "{expected} in {said}");
    }
    let said = |path: &str| String::from_utf8(exedra(&["report", path]).stderr).unwrap();
    assert!(said(&text(&at("archive.zip"))).contains("is a ZIP archive: unpack it first"));
    assert!(said(&text(&at("2026/program"))).contains("is a binary file, and no log"));
}

/// Nobody wrote down when: everything is counted, and stands in no day.
#[test]
fn logs_without_times_are_counted_and_have_no_days() {
    let (all, folder) = (requests(), tempfile::tempdir().unwrap());
    let path = folder.path().join("a.log");
    let line = |request: &Request| {
        let line = LAYOUTS[1].2(request, 0);
        let (before, after) = (line.find(" [").unwrap(), line.find("] ").unwrap());
        format!("{}{}\n", &line[..before], &line[after + 1..])
    };
    std::fs::write(&path, all.iter().map(line).collect::<String>()).unwrap();
    let path = text(&path);
    let found = report(&[&path]).unwrap();
    assert_eq!(total(&found, "requests").as_u64(), Some(900));
    let bytes: u64 = all.iter().map(|request| request.bytes).sum();
    assert_eq!(total(&found, "bytes").as_u64(), Some(bytes));
    assert_eq!(counted(&found, "statuses", "status"), count(&all, |request| request.status.to_string()));
    assert_eq!(counted(&found, "paths", "path"), count(&all, |request| request.path.clone()));
    let visitors: BTreeSet<_> = all.iter().map(|request| (&request.client, request.agent)).collect();
    assert_eq!(total(&found, "visitors").as_u64(), Some(visitors.len() as u64));
    assert!(rows(&found, "days").is_empty() && found["first"].is_null());
    assert!(found["caveats"].to_string().contains("900 requests without a time"), "{}", found["caveats"]);
    // What is in no day is in no period either.
    let within = report(&["--last", "30 days", &path]).unwrap();
    assert_eq!(total(&within, "requests").as_u64(), Some(0));
    let page = drawn(&exedra(&["report", &path]));
    assert!(page.contains("900 requests") && !page.contains("When  requests"), "{page}");
}

/// A clock that was wrong for a moment, and a request of a year that has yet to come.
#[test]
fn stray_days_flatten_no_chart() {
    let (all, folder) = (requests(), tempfile::tempdir().unwrap());
    let path = folder.path().join("a.log");
    let mut lines: String = all.iter().map(|request| LAYOUTS[1].2(request, 0) + "\n").collect();
    let stray = |day: &str| {
        format!("192.0.2.1 - - [{day}:05:12:40 +0000] \"GET / HTTP/1.1\" 200 5 \"-\" \"Boat/1\"\n")
    };
    ["01/Jan/1970", "14/Nov/2036", "14/Nov/2036"].iter().for_each(|day| lines.push_str(&stray(day)));
    std::fs::write(&path, lines).unwrap();
    let path = text(&path);
    let found = report(&[&path]).unwrap();
    assert_eq!(total(&found, "requests").as_u64(), Some(903));
    let days = counted(&found, "days", "day");
    assert!(days.keys().all(|day| day.starts_with("2026-11-")), "{days:?}");
    assert_eq!(found["tables"]["days"]["rest"]["figures"]["requests"], 3);
    assert!(found["first"].as_str().unwrap().starts_with("2026-11-"), "{}", found["first"]);
    let caveats = found["caveats"].to_string();
    assert!(caveats.contains("3 requests on 1970-01-01, 2036-11-14, far from all others"), "{caveats}");
    let page = drawn(&exedra(&["report", &path]));
    assert!(page.contains("by day, at most"), "{page}");
}
