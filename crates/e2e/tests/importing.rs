//! `exedra import`: logs of elsewhere come into the records once, however often they are brought and whatever is killed meanwhile.

use exedra_e2e::{Place, Program, drawn, exedra, text, until};
use reqwest::Method;
use serde_json::Value;
use std::path::Path;
use std::process::{Child, Command, Stdio};

/// A line that no named layout reads: a word before it and a number behind it.
fn line(nth: u64) -> String {
    let (client, path) = (nth % 251, nth % 97);
    let status = if nth.is_multiple_of(7) { 404 } else { 200 };
    format!(
        "edge-{} 192.0.2.{client} - - [{:02}/Oct/2026:{:02}:{:02}:{:02} +0000] \"GET /p{path} HTTP/1.1\" {status} {} \"-\" \"Boat/{}\" {}\n",
        nth % 3,
        1 + nth / 20_000 % 28,
        nth / 3600 % 24,
        nth / 60 % 60,
        nth % 60,
        path * 100 + 7,
        nth % 5,
        nth * 7919 % 613
    )
}

fn log(folder: &Path, lines: std::ops::Range<u64>) -> String {
    let path = folder.join("edge.log");
    std::fs::write(&path, lines.map(line).collect::<String>()).unwrap();
    text(&path)
}

fn import(program: &Program, place: &Place, log: &str) -> Command {
    let mut command = Command::new(exedra_e2e::program());
    let config = text(&place.config());
    command.args(["import", log, "--site", "lamp", "--config", &config, "--console", &program.console]);
    command.stdout(Stdio::null()).stderr(Stdio::null());
    command
}

/// The tables of the records and those of the log say the same.
fn same(program: &Program, log: &str) {
    let show = ["totals", "days", "hours", "statuses", "paths", "clients", "slow"];
    let query: String = show.iter().map(|table| format!("&show={table}")).collect();
    let recorded = program.api(&format!("survey?site=lamp&top=1000{query}"));
    let mut arguments = vec!["report", log, "--as", "json", "--top", "1000"];
    arguments.extend(show.iter().flat_map(|table| ["--show", table]));
    let reported: Value = serde_json::from_slice(&exedra(&arguments).stdout).unwrap();
    for table in show {
        assert_eq!(recorded["tables"][table]["rows"], reported["tables"][table]["rows"], "{table}");
    }
}

#[test]
fn a_log_of_any_layout_is_brought_in_once_and_what_it_grows_by_after_it() {
    let place = Place::new();
    let program = place.serve();
    let folder = tempfile::tempdir().unwrap();
    // The last line is still being written.
    let path = log(folder.path(), 0..30_000);
    std::fs::write(&path, (0..30_000).map(line).collect::<String>() + &line(30_000)[..40]).unwrap();
    let bring = |log: &str| drawn(&program.command(&place, &["import", log, "--site", "lamp"]));
    assert!(bring(&path).contains("30,000 requests imported into lamp, 30,000 in total"));
    assert!(bring(&path).contains("0 requests imported into lamp, 30,000 in total"));
    let path = log(folder.path(), 0..31_000);
    assert!(bring(&path).contains("1,000 requests imported into lamp, 31,000 in total"));
    same(&program, &path);
    // Under another name, and compressed.
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    std::io::Write::write_all(&mut packed, &std::fs::read(&path).unwrap()).unwrap();
    let elsewhere = text(&folder.path().join("edge.log.1.gz"));
    std::fs::write(&elsewhere, packed.finish().unwrap()).unwrap();
    assert!(bring(&elsewhere).contains("0 requests imported into lamp, 31,000 in total"));
    // What is there outlives a restart, and can be taken out again.
    program.tell("TERM");
    assert!(program.ended());
    let program = place.serve();
    same(&program, &path);
    let id = program.api("imports")[0]["id"].as_str().unwrap().to_owned();
    let token = std::fs::read_to_string(place.path("state/client.token")).unwrap();
    let call = exedra_e2e::client();
    let call = call.request(Method::DELETE, format!("http://{}/api/v1/imports/{id}", program.console));
    assert_eq!(call.bearer_auth(token).send().unwrap().status(), 204);
    assert_eq!(program.recorded("lamp"), 0);
}

#[test]
fn what_has_no_time_or_is_none_of_ours_is_said_and_nothing_is_lost() {
    let place = Place::new();
    let program = place.serve();
    let folder = tempfile::tempdir().unwrap();
    let path = text(&folder.path().join("a.log"));
    std::fs::write(&path, (0..50).map(line).collect::<String>() + "mist\n" + line(50).as_str()).unwrap();
    let said = drawn(&program.command(&place, &["import", &path, "--site", "lamp"]));
    assert!(said.contains("51 requests imported into lamp, 51 in total; 1 line cannot be read"), "{said}");
    let said = drawn(&program.command(&place, &["import", &path, "--site", "lmap"]));
    assert!(said.contains("there is no site `lmap`: did you mean `lamp`?"), "{said}");
    let said = drawn(&program.command(&place, &["import", "-", "--site", "lamp"]));
    assert!(said.contains("standard input cannot be imported"), "{said}");
    assert_eq!(program.recorded("lamp"), 51);
}

/// Killed at any moment, the client or the service, a log is in the records once.
#[test]
fn killed_in_the_middle_it_goes_on_where_it_was() {
    let place = Place::new();
    let mut program = place.serve();
    let folder = tempfile::tempdir().unwrap();
    let path = log(folder.path(), 0..400_000);
    let ends = |child: &mut Child| child.try_wait().unwrap();
    for round in 1..=6u64 {
        let mut child = import(&program, &place, &path).spawn().unwrap();
        // A little further each time, unless it is done.
        until("it has come further", || {
            let requests = || program.api("imports")[0]["requests"].as_u64().unwrap_or(0);
            (requests() >= round * 40_000 || ends(&mut child).is_some()).then_some(())
        });
        match round % 2 {
            0 => child.kill().unwrap(),
            _ => {
                program.kill();
                let _ = program.ended();
                program = place.serve();
            }
        }
        child.wait().unwrap();
    }
    let said = drawn(&program.command(&place, &["import", &path, "--site", "lamp"]));
    assert!(said.contains("400,000 in total"), "{said}");
    assert_eq!(program.api("imports").as_array().unwrap().len(), 1, "one log");
    same(&program, &path);
}

/// Without a log, a report is one of the records of the running service, and says the same in every form.
#[test]
fn a_report_of_the_records_is_that_of_the_log() {
    let place = Place::new();
    let program = place.serve();
    let folder = tempfile::tempdir().unwrap();
    let path = log(folder.path(), 0..50_000);
    assert!(import(&program, &place, &path).status().unwrap().success());
    let config = text(&place.config());
    let here = ["--config", &config, "--console", &program.console];
    for more in [
        &["--as", "csv", "--show", "paths", "--top", "500", "--by", "bytes"][..],
        &["--as", "csv", "--show", "statuses", "--day", "2026-10-02", "--against", "previous"],
        &["--as", "csv", "--show", "clients", "--top", "500", "--only", "status=404", "--mask-clients"],
        &["--as", "csv", "--show", "days", "--time-zone", "Atlantic/Faroe", "--without", "path=/p1*"],
        &["--as", "csv", "--show", "slow", "--top", "500", "--slow", "400 ms", "--people"],
    ] {
        let of_records = exedra(&[&["report", "--site", "lamp"], more, &here].concat());
        let of_log = exedra(&[&["report", &path], more].concat());
        assert!(of_log.status.success() && of_log.stdout.len() > 40, "{}", drawn(&of_log));
        assert_eq!(drawn(&of_records), drawn(&of_log), "{more:?}");
    }
    let page = drawn(&exedra(&[&["report", "--site", "lamp", "--show", "statuses"], &here[..]].concat()));
    assert!(page.starts_with("records of the running service"), "{page}");
    let said = drawn(&exedra(&[&["report", "--resume", "x"], &here[..]].concat()));
    assert!(said.contains("--resume works on logs"), "{said}");
}

/// Thousands of logs may have been brought in: they are listed page by page, and none is brought in again for that.
#[test]
fn imports_are_listed_page_by_page_and_known_again_from_any_page() {
    let place = Place::new();
    let program = place.serve();
    let folder = tempfile::tempdir().unwrap();
    let oldest = log(folder.path(), 0..10);
    assert!(import(&program, &place, &oldest).status().unwrap().success());
    let begin = |nth: u64| {
        let body = serde_json::json!({ "site": "harbour", "name": format!("{nth}.log"), "known": "{}" });
        let answer = program.call(Method::POST, "imports", Some(&body));
        assert_eq!(answer.status(), 201);
    };
    (0..205).for_each(begin);
    let first = program.api("imports");
    let first = first.as_array().unwrap();
    let last = first.last().unwrap()["id"].as_str().unwrap();
    let second = program.api(&format!("imports?behind={last}"));
    let second = second.as_array().unwrap();
    assert_eq!((first.len(), second.len()), (200, 6));
    let mut all: Vec<&str> = first.iter().chain(second).map(|one| one["id"].as_str().unwrap()).collect();
    all.sort_unstable();
    all.dedup();
    assert_eq!(all.len(), 206, "each once");
    assert!(import(&program, &place, &oldest).status().unwrap().success());
    let id = second.iter().find(|one| one["site"] == "lamp").unwrap()["id"].as_str().unwrap();
    assert_eq!(program.api(&format!("imports/{id}"))["requests"], 10, "it was known again");
}
