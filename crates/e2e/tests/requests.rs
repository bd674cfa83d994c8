//! `exedra requests`: single requests of a scope, and those that come in.

use exedra_e2e::{Place, Program, exedra, program, text, until};
use rstest::rstest;
use serde_json::Value;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::mpsc;

/// A request a minute: its number is its path, its size and its milliseconds.
fn line(nth: u64) -> String {
    let (minute, client, status) = (nth % 60, nth % 5, if nth % 4 == 3 { 503 } else { 200 });
    let micros = nth * 1000 % 7001;
    format!(
        "192.0.2.{client} - ann [14/Nov/2026:{:02}:{minute:02}:00 +0000] \"GET /p{nth} HTTP/1.1\" {status} {nth} \"-\" \"Boat/1\" http a.example {micros} - {nth} \"-\" {}\n",
        nth / 60,
        1_794_614_400_000 + nth * 60_000
    )
}

fn log(folder: &Path, lines: u64) -> String {
    let path = folder.join("a.log");
    std::fs::write(&path, (0..lines).map(line).collect::<String>()).unwrap();
    text(&path)
}

fn objects(arguments: &[&str]) -> (Vec<Value>, String) {
    let output = exedra(&[&["requests", "--as", "json"], arguments].concat());
    let said = String::from_utf8(output.stderr).unwrap();
    assert!(output.status.success(), "{said}");
    let lines = String::from_utf8(output.stdout).unwrap();
    (lines.lines().map(|line| serde_json::from_str(line).unwrap()).collect(), said)
}

fn paths(found: &[Value]) -> Vec<&str> {
    found.iter().map(|one| one["path"].as_str().unwrap()).collect()
}

#[rstest]
#[case::one(1)]
#[case::two(2)]
fn those_that_fit_come_in_order_and_what_is_cut_is_said(#[case] threads: usize) {
    let folder = tempfile::tempdir().unwrap();
    let path = log(folder.path(), 600);
    let threads = threads.to_string();
    let ask = |more: &[&str]| objects(&[&["--threads", &threads, &path], more].concat());
    let (found, said) = ask(&["--only", "status=503", "--top", "3"]);
    assert_eq!(paths(&found), ["/p591", "/p595", "/p599"], "the newest last");
    assert!(said.contains("3 of 150 requests, the newest: --top shows more."), "{said}");
    let (found, said) = ask(&["--only", "status=503"]);
    assert_eq!((found.len(), said.as_str()), (150, ""));
    let (found, _) = ask(&["--by", "duration", "--top", "2", "--columns", "path,duration,site"]);
    assert_eq!(found[0]["duration_us"], 7000);
    assert!(found[0]["site"].is_null() && found[0].get("status").is_none());
    let (found, said) = ask(&["--only", "path=/nowhere"]);
    assert_eq!((found.len(), said.trim()), (0, "None of 600 requests fits."));
}

/// What is written for programs can be read again, and says the same.
#[test]
fn lines_of_json_are_a_log_of_their_own() {
    let folder = tempfile::tempdir().unwrap();
    let path = log(folder.path(), 100);
    let written = exedra(&["requests", "--as", "json", &path]).stdout;
    let again = folder.path().join("again.json");
    std::fs::write(&again, written).unwrap();
    let figures = |path: &str| {
        let report = exedra(&["report", "--as", "json", path]).stdout;
        let report: Value = serde_json::from_slice(&report).unwrap();
        ["requests", "bytes", "errors"].map(|name| report["tables"]["totals"]["rows"][0][name].clone())
    };
    assert_eq!(figures(&path), figures(&text(&again)));
}

#[test]
fn names_and_addresses_are_left_out_where_that_is_asked() {
    let folder = tempfile::tempdir().unwrap();
    let path = log(folder.path(), 10);
    for form in ["text", "csv", "json"] {
        let output = exedra(&[
            "requests",
            "--mask-clients",
            "--columns",
            "time,client,user,path",
            "--as",
            form,
            &path,
        ]);
        let shown = String::from_utf8(output.stdout).unwrap();
        assert!(shown.contains("192.0.2.0/24") && shown.contains("/p7"), "{shown}");
        assert!(!shown.contains("192.0.2.3") && !shown.contains("ann"), "{shown}");
    }
}

#[rstest]
#[case::column(&["--columns", "time,pathh"], "there is no column `pathh`: did you mean `path`?")]
#[case::order(&["--by", "path"], "requests cannot be sorted by `path`: sort them by time, status, bytes")]
#[case::both(&["--follow", "--by", "bytes"], "--follow goes with --by time alone")]
fn what_cannot_be_is_said(#[case] more: &[&str], #[case] expected: &str) {
    let folder = tempfile::tempdir().unwrap();
    let path = log(folder.path(), 10);
    let output = exedra(&[&["requests", &path], more].concat());
    let said = String::from_utf8(output.stderr).unwrap();
    assert!(!output.status.success() && said.contains(expected), "{said}");
}

/// A log that grows, is renamed, and is emptied, while somebody looks.
#[test]
fn what_comes_in_is_followed_across_rotation() {
    let folder = tempfile::tempdir().unwrap();
    let path = log(folder.path(), 10);
    let mut child = Command::new(program())
        .args(["requests", "--follow", "--as", "json", "--only", "status=503", &path])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let (sender, lines) = mpsc::channel();
    let output = BufReader::new(child.stdout.take().unwrap());
    std::thread::spawn(move || output.lines().map_while(Result::ok).try_for_each(|line| sender.send(line)));
    let next = || {
        let line = until("a request comes", || lines.try_recv().ok());
        let object: Value = serde_json::from_str(&line).unwrap();
        object["path"].as_str().unwrap().to_owned()
    };
    let append = |octets: &str| {
        let mut file = std::fs::OpenOptions::new().append(true).create(true).open(&path).unwrap();
        file.write_all(octets.as_bytes()).unwrap();
    };
    assert_eq!([next(), next()], ["/p3", "/p7"]);
    let whole = line(11);
    append(&(line(10) + &whole[..20]));
    append(&whole[20..]);
    assert_eq!(next(), "/p11", "a line in two parts is one");
    append(&line(15));
    std::fs::rename(&path, folder.path().join("a.log.1")).unwrap();
    append(&[line(19), line(20)].concat());
    assert_eq!([next(), next()], ["/p15", "/p19"], "renamed");
    // Emptied and begun anew: it is shorter than what has been read of it.
    std::fs::write(&path, line(23)).unwrap();
    assert_eq!(next(), "/p23", "emptied");
    child.kill().unwrap();
    child.wait().unwrap();
}

/// The names of the columns stand before what comes in; and whatever cannot be read is said.
#[test]
fn what_comes_in_is_read_by_the_fields_that_stand_above_it() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.log");
    let fields = "#Fields: sc-status c-ip cs-uri-stem cs-method date time\n";
    let line = |path: &str| format!("503 192.0.2.1 {path} GET 2026-11-14 05:12:40\n");
    std::fs::write(&path, [fields, &line("/old")].concat()).unwrap();
    let mut child = Command::new(program())
        .args(["requests", "--follow", "--as", "json", "--top", "1", &text(&path)])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let (sender, lines) = mpsc::channel();
    let read = |input: Box<dyn std::io::Read + Send>| {
        let sender = sender.clone();
        let lines = BufReader::new(input).lines().map_while(Result::ok);
        std::thread::spawn(move || lines.map(|line| sender.send(line)).all(|sent| sent.is_ok()));
    };
    read(Box::new(child.stdout.take().unwrap()));
    read(Box::new(child.stderr.take().unwrap()));
    let next = || until("a line comes", || lines.try_recv().ok());
    assert!(next().contains("/old"));
    let mut file = std::fs::OpenOptions::new().append(true).open(&path).unwrap();
    file.write_all([line("/new").as_str(), "mist\n"].concat().as_bytes()).unwrap();
    let said = [next(), next()].concat();
    assert!(said.contains("\"path\":\"/new\"") && said.contains("\"status\":503"), "{said}");
    assert!(said.contains("there are lines that cannot be read, as this one: mist"), "{said}");
    child.kill().unwrap();
    child.wait().unwrap();
}

/// What comes to the records is told exactly once, behind what was there.
#[test]
fn requests_of_the_records_are_followed_each_once() {
    let place = Place::new();
    let program = place.serve();
    let get = |program: &Program, path: &str| drop(program.get("harbour.example", path).text().unwrap());
    (0..3).for_each(|nth| get(&program, &format!("/before-{nth}")));
    until("they are recorded", || (program.recorded("harbour") == 3).then_some(()));
    let mut child = Command::new(exedra_e2e::program())
        .args(["requests", "--follow", "--as", "json", "--only", "status=404", "--columns", "time,path,site"])
        .args(["--config", &text(&place.config()), "--console", &program.console])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let (sender, lines) = mpsc::channel();
    let output = BufReader::new(child.stdout.take().unwrap());
    std::thread::spawn(move || output.lines().map_while(Result::ok).try_for_each(|line| sender.send(line)));
    let next =
        || -> Value { serde_json::from_str(&until("a request comes", || lines.try_recv().ok())).unwrap() };
    for nth in 0..3 {
        assert_eq!(next()["path"], format!("/before-{nth}"));
    }
    for nth in 0..40 {
        get(&program, if nth % 2 == 0 { "/" } else { "/tides/today.html" });
        get(&program, &format!("/after-{nth}"));
    }
    for nth in 0..40 {
        let told = next();
        assert_eq!(
            (&told["path"], &told["site"]),
            (&Value::from(format!("/after-{nth}")), &Value::from("harbour"))
        );
    }
    assert!(lines.try_recv().is_err(), "nothing twice, and nothing else");
    child.kill().unwrap();
    child.wait().unwrap();
}
