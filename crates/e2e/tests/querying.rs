//! `exedra query`, `exedra columns SOURCE`, `exedra export`, and the calls behind them: logs and records are asked the same and answer
//! the same, in every form; what is wrong is told at its place; nobody is told of what they may not see.

use exedra_e2e::{Place, Program, client, exedra, program as program_path, text, until};
use reqwest::blocking::Response;
use rstest::rstest;
use serde_json::{Value, json};
use std::path::Path;
use std::process::{Command, Output, Stdio};

/// Five requests an hour over three days: by their number one in four is missing.
fn line(nth: u64) -> String {
    let second = 1_794_614_400 + nth * 720;
    let time = jiff::Timestamp::from_second(second as i64).unwrap();
    let status = if nth % 4 == 3 { 404 } else { 200 };
    format!(
        "192.0.2.{} - - [{}] \"GET /p{}.html?n={nth} HTTP/1.1\" {status} {nth} \"-\" \"Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0\"\n",
        nth % 7,
        time.strftime("%d/%b/%Y:%H:%M:%S +0000"),
        nth % 11,
    )
}

const LINES: u64 = 360;

fn log(folder: &Path) -> String {
    let path = folder.join("made.log");
    std::fs::write(&path, (0..LINES).map(line).collect::<String>()).unwrap();
    text(&path)
}

/// The program, with a home of its own.
fn asked(home: &Path, arguments: &[&str]) -> Output {
    Command::new(program_path())
        .args(arguments)
        .env("XDG_CONFIG_HOME", home)
        .env("XDG_STATE_HOME", home)
        .current_dir(home)
        .output()
        .unwrap()
}

fn said(output: &Output) -> String {
    String::from_utf8_lossy(&[&output.stdout[..], &output.stderr].concat()).into_owned()
}

fn printed(output: Output) -> String {
    assert!(output.status.success(), "{}", said(&output));
    String::from_utf8(output.stdout).unwrap()
}

const MISSING: &str = "select path, count(*) as n, sum(bytes) as bytes from requests where status = 404 group by path order by n desc, path";

#[test]
fn forms_say_the_same_and_the_records_say_what_the_log_says() {
    let place = Place::new();
    let log = log(&place.path("."));
    let home = place.path(".");
    let csv = printed(asked(&home, &["query", MISSING, &log, "--as", "csv"]));
    let lines: Vec<&str> = csv.lines().collect();
    assert_eq!(lines[0], "path,n,bytes");
    assert_eq!(lines.len(), 12);
    let all: u64 =
        lines[1..].iter().map(|line| line.split(',').nth(1).unwrap().parse::<u64>().unwrap()).sum();
    assert_eq!(all, LINES / 4);
    let objects: Vec<Value> = printed(asked(&home, &["query", MISSING, &log, "--as", "ndjson"]))
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    let array: Vec<Value> =
        serde_json::from_str(&printed(asked(&home, &["query", MISSING, &log, "--as", "json"]))).unwrap();
    assert_eq!(objects, array);
    for (object, line) in objects.iter().zip(&lines[1..]) {
        assert_eq!(
            *line,
            format!("{},{},{}", object["path"].as_str().unwrap(), object["n"], object["bytes"])
        );
    }
    let table = printed(asked(&home, &["query", MISSING, &log]));
    assert_eq!(table.lines().count(), 12, "piped, all is printed: {table}");

    place.configure("");
    let program = place.serve();
    assert!(program.command(&place, &["import", "--site", "lamp", &log]).status.success());
    until("all are recorded", || (program.recorded("lamp") == LINES).then_some(()));
    let of_records = printed(program.command(&place, &["query", MISSING, "--as", "csv"]));
    assert_eq!(of_records, csv);
    let narrowed =
        printed(program.command(&place, &["query", MISSING, "--as", "ndjson", "--only", "path=/p3.html"]));
    assert_eq!(narrowed.lines().count(), 1);
    let of_records = printed(program.command(&place, &["query", MISSING]));
    assert_eq!(of_records, table);

    // Parquet from either, read back by the library that everybody reads it with.
    let (one, other) = (place.path("log.parquet"), place.path("records.parquet"));
    printed(asked(&home, &["query", MISSING, &log, "--as", "parquet", "--to", &text(&one)]));
    printed(program.command(&place, &["query", MISSING, "--as", "parquet", "--to", &text(&other)]));
    for file in [one, other] {
        let rows = parquet_rows(&file);
        assert_eq!(rows.len(), 11);
        assert!(rows[0].contains("/p10.html") || rows[0].contains("/p"), "{}", rows[0]);
    }
}

/// The rows of a Parquet file, as its library writes them.
fn parquet_rows(path: &Path) -> Vec<String> {
    use parquet::file::reader::{FileReader, SerializedFileReader};
    let file = SerializedFileReader::new(std::fs::File::open(path).unwrap()).unwrap();
    file.get_row_iter(None).unwrap().map(|row| row.unwrap().to_string()).collect()
}

#[test]
fn a_question_that_comes_again_reads_only_what_is_new() {
    let folder = tempfile::tempdir().unwrap();
    let log = log(folder.path());
    let ask = || {
        let count = "select count(*) as n from requests";
        printed(asked(folder.path(), &["query", count, &log, "--as", "csv", "--resume", "every"]))
    };
    assert_eq!(ask(), "n\r\n360\r\n");
    assert_eq!(ask(), "n\r\n0\r\n");
    let more: String = (LINES..LINES + 5).map(line).collect();
    let before = std::fs::read_to_string(&log).unwrap();
    std::fs::write(&log, [before, more].concat()).unwrap();
    assert_eq!(ask(), "n\r\n5\r\n");
}

#[test]
fn mistakes_are_drawn_and_nothing_is_read_for_them() {
    let folder = tempfile::tempdir().unwrap();
    let log = log(folder.path());
    let wrong = asked(folder.path(), &["query", "select paht from requests", &log]);
    let words = said(&wrong);
    assert!(!wrong.status.success());
    assert!(words.contains("there is no column `paht`") && words.contains("did you mean `path`?"), "{words}");
    let drawn: Vec<&str> = words.lines().collect();
    let (place, marks) = (drawn[2].find("paht").unwrap(), drawn[3].find("^^^^").unwrap());
    assert_eq!(place, marks, "{words}");
    let useless = asked(folder.path(), &["query", MISSING, &log, "--set", "least=3"]);
    assert!(said(&useless).contains("the statement has no :least"), "{}", said(&useless));
    let no_chart = asked(
        folder.path(),
        &["query", "select count(*) from requests", &log, "--as", "chart", "--to", "a.svg"],
    );
    assert!(said(&no_chart).contains("no chart can be made of this"), "{}", said(&no_chart));
    let unread = folder.path().join("unread.log");
    std::fs::write(&unread, [line(1), "fog\n".to_owned(), line(2)].concat()).unwrap();
    let output =
        asked(folder.path(), &["query", "select count(*) as n from requests", &text(&unread), "--as", "csv"]);
    assert!(said(&output).contains("1 of 3 lines could not be read"), "{}", said(&output));
}

#[test]
fn statements_have_names_and_values() {
    let folder = tempfile::tempdir().unwrap();
    let log = log(folder.path());
    let statement =
        "select path from requests where bytes >= :least and time >= :since order by bytes limit 1";
    let kept = asked(folder.path(), &["query", statement, "--keep", "large"]);
    assert!(kept.status.success(), "{}", said(&kept));
    let ask = |values: &[&str]| {
        let set: Vec<&str> = values.iter().flat_map(|value| ["--set", *value]).collect();
        asked(folder.path(), &[&["query", "large", &log, "--as", "csv"], &set[..]].concat())
    };
    assert_eq!(printed(ask(&["least=300", "since=2026-11-01"])), "path\r\n/p3.html\r\n");
    assert!(said(&ask(&["least=300"])).contains("no value is given for :since"));
    let listed = printed(asked(folder.path(), &["queries"]));
    assert!(listed.contains("large") && listed.contains("slowest-pages"), "{listed}");
    let shown = printed(asked(folder.path(), &["query", "missing-pages-by-referrer", "--show"]));
    assert!(shown.contains("where status = 404"), "{shown}");
    let unknown = said(&asked(folder.path(), &["query", "slowest-page", &log]));
    assert!(unknown.contains("did you mean slowest-pages?"), "{unknown}");
    let functions = printed(asked(folder.path(), &["functions"]));
    assert!(
        functions.contains("every(time, length)") && functions.contains("approx_percentile_cont"),
        "{functions}"
    );
    let columns = printed(asked(folder.path(), &["columns", &log]));
    let status = columns.lines().find(|line| line.starts_with("status")).unwrap();
    assert!(status.contains("100") && status.contains("200  404"), "{status}");
}

#[rstest]
#[case::lines(
    "select every(time, '6 hours') as at, count(*) as n from requests group by at order by at",
    "svg"
)]
#[case::bars(MISSING, "png")]
fn charts_are_drawn(#[case] statement: &str, #[case] ending: &str) {
    let folder = tempfile::tempdir().unwrap();
    let log = log(folder.path());
    let to = folder.path().join(format!("chart.{ending}"));
    printed(asked(folder.path(), &["query", statement, &log, "--as", "chart", "--to", &text(&to)]));
    let octets = std::fs::read(to).unwrap();
    match ending {
        "png" => assert!(octets.starts_with(b"\x89PNG") && octets.len() > 10_000),
        _ => assert!(String::from_utf8(octets).unwrap().contains("<polyline")),
    }
}

/// Files below a folder, without those that begin with a dot.
fn files(folder: &Path) -> Vec<String> {
    let mut found = Vec::new();
    let mut left = vec![folder.to_owned()];
    while let Some(next) = left.pop() {
        for entry in std::fs::read_dir(next).unwrap() {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => left.push(path),
                false => found.push(text(path.strip_prefix(folder).unwrap())),
            }
        }
    }
    found.retain(|name| !name.starts_with('.'));
    found.sort();
    found
}

#[test]
fn days_are_exported_once_each() {
    let place = Place::new();
    let log = log(&place.path("."));
    let home = place.path(".");
    let (to, also) = (place.path("lake"), place.path("also"));
    let export = || printed_or_note(asked(&home, &["export", &log, "--to", &text(&to), "--resume", "pier"]));
    assert!(export().starts_with("360 requests of 3 days of sites"));
    let all = files(&to);
    assert_eq!(all.len(), 3);
    assert!(all[0].starts_with("site=unknown/day=2026-11-1") && all[0].ends_with("/pier.parquet"), "{all:?}");
    let rows: Vec<String> = all.iter().flat_map(|file| parquet_rows(&to.join(file))).collect();
    assert_eq!(rows.len() as u64, LINES);
    assert!(rows.is_sorted_by_key(|row| row.split("time: ").nth(1).unwrap()[..19].to_owned()));
    assert!(!rows[0].contains("visitor"));
    assert!(export().contains("Nothing to export"));
    // One that was lost is brought again when nobody says that it is there.
    std::fs::remove_file(to.join(&all[1])).unwrap();
    let list = std::fs::read_to_string(to.join(".exported-pier")).unwrap();
    let lost = all[1].trim_end_matches("/pier.parquet");
    std::fs::write(to.join(".exported-pier"), list.replace(&format!("{lost}\n"), "")).unwrap();
    assert!(export().starts_with("120 requests of 1 day of a site"));
    assert_eq!(files(&to), all);

    let program = place.serve();
    assert!(program.command(&place, &["import", "--site", "lamp", &log]).status.success());
    until("all are recorded", || (program.recorded("lamp") == LINES).then_some(()));
    let words =
        printed(program.command(&place, &["export", "--to", &text(&also), "--as", "csv", "--mask-clients"]));
    assert!(words.starts_with("360 requests of 3 days of sites"), "{words}");
    let all = files(&also);
    assert!(all[0].starts_with("site=lamp/day=") && all[0].ends_with("/requests.csv"), "{all:?}");
    let written = std::fs::read_to_string(also.join(&all[0])).unwrap();
    assert!(written.contains("192.0.2.0/24") && !written.contains("192.0.2.3"), "{written:.400}");
}

/// One that was killed in the middle has left whole days and nothing else, and is gone on with: in the end each request is there once.
#[test]
fn an_export_that_was_killed_goes_on() {
    let folder = tempfile::tempdir().unwrap();
    let (home, to) = (folder.path(), folder.path().join("lake"));
    // Each hour of three days has many, so that a day is not written in an instant.
    const TIMES: u64 = 300;
    let log = home.join("made.log");
    std::fs::write(&log, (0..LINES).map(|nth| line(nth).repeat(TIMES as usize)).collect::<String>()).unwrap();
    let export = ["export", &text(&log), "--to", &text(&to), "--resume", "pier"].map(str::to_owned);
    let is_there = |name: &String| name.ends_with(".parquet");
    let begin = || {
        let mut child = Command::new(program_path());
        child.args(&export).env("XDG_CONFIG_HOME", home).env("XDG_STATE_HOME", home).current_dir(home);
        child.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    };
    let mut child = begin();
    until("a day is there, or all are", || {
        let has_ended = child.try_wait().unwrap().is_some();
        (has_ended || to.is_dir() && files(&to).iter().any(is_there)).then_some(())
    });
    let _ = child.kill();
    child.wait().unwrap();
    let whole = |to: &Path| -> Vec<usize> {
        let files = files(to).into_iter().filter(is_there);
        files.map(|file| parquet_rows(&to.join(file)).len()).collect()
    };
    let of_a_day = (LINES * TIMES / 3) as usize;
    assert!(whole(&to).iter().all(|rows| *rows == of_a_day), "{:?}", whole(&to));
    assert!(begin().wait().unwrap().success());
    assert_eq!(whole(&to), [of_a_day; 3]);
    assert!(files(&to).iter().all(is_there), "{:?}", files(&to));
}

fn printed_or_note(output: Output) -> String {
    assert!(output.status.success(), "{}", said(&output));
    said(&output)
}

fn send(program: &Program, token: &str, call: &str, body: &Value) -> Response {
    let url = format!("http://{}/api/v1/{call}", program.console);
    client().post(url).bearer_auth(token).json(body).send().unwrap()
}

#[test]
fn the_service_answers_within_what_somebody_may_see() {
    let place = Place::new();
    let log = log(&place.path("."));
    let program = place.serve();
    for site in ["lamp", "harbour"] {
        assert!(program.command(&place, &["import", "--site", site, &log]).status.success());
        until("all are recorded", || (program.recorded(site) == LINES).then_some(()));
    }
    let made = program.command(&place, &["token", "add", "lamp only", "--site", "lamp", "--days", "1"]);
    let made = said(&made);
    let own = std::fs::read_to_string(place.path("state/client.token")).unwrap();
    let narrow =
        made.split_whitespace().find(|word| word.len() > 30).unwrap_or_else(|| panic!("{made}")).to_owned();
    let by_site =
        json!({ "statement": "select site, count(*) as n from requests group by site order by site" });
    let rows = |token: &str| {
        let answer = send(&program, token, "query", &by_site);
        assert!(answer.status().is_success(), "{}", answer.text().unwrap());
        answer.json::<Value>().unwrap()["table"]["rows"].clone()
    };
    assert_eq!(rows(own.trim()), json!([{ "site": "harbour", "n": 360 }, { "site": "lamp", "n": 360 }]));
    assert_eq!(rows(&narrow), json!([{ "site": "lamp", "n": 360 }]));
    for site in ["harbour", "quay"] {
        let refused = send(&program, &narrow, &format!("query?site={site}"), &by_site);
        assert_eq!(refused.status(), 400, "{site}");
    }

    let wrong = send(&program, &narrow, "query", &json!({ "statement": "select pfad from requests" }));
    assert_eq!(wrong.status(), 400);
    let problem: Value = wrong.json().unwrap();
    assert_eq!(problem["mistake"]["at"], json!({ "from": 7, "until": 11 }), "{problem}");
    let checked =
        send(&program, &narrow, "query/check", &json!({ "statement": "select 'ä', pfad from requests" }));
    let checked: Value = checked.json().unwrap();
    assert_eq!(
        checked[0]["at"],
        json!({ "from": 12, "until": 16 }),
        "letters as browsers count them: {checked}"
    );
    let fine = send(&program, &narrow, "query/check", &by_site).json::<Value>().unwrap();
    assert_eq!(fine, json!([]));
    let written = send(&program, &narrow, "query", &json!({ "statement": "delete from requests" }));
    assert_eq!(written.status(), 400);

    let some = json!({ "statement": "select path from requests", "most": 3 });
    let answer: Value = send(&program, &narrow, "query", &some).json().unwrap();
    assert_eq!((answer["table"]["rows"].as_array().unwrap().len(), &answer["has_more"]), (3, &json!(true)));
    let by_day = json!({ "statement": "select every(time, '1 day') as day, count(*) as n from requests group by day" });
    let answer: Value = send(&program, &narrow, "query", &by_day).json().unwrap();
    assert_eq!(
        (&answer["charts"][0]["form"], &answer["charts"][0]["along"]),
        (&json!("lines"), &json!("day"))
    );
    let file = send(&program, &narrow, "query/file/ndjson", &some);
    assert_eq!(file.headers()["content-disposition"], "attachment; filename=\"query.ndjson\"");
    assert_eq!(file.text().unwrap().lines().count() as u64, LINES);

    // What somebody kept is everybody's to ask, and their own to change.
    let mine = json!({ "name": "by-site", "statement": by_site["statement"], "question": "How much has each site?" });
    assert!(send(&program, &narrow, "queries", &mine).status().is_success());
    let others = send(&program, own.trim(), "queries", &mine);
    assert_eq!(others.status(), 409);
    let all = program.api("queries");
    assert_eq!((&all[0]["name"], &all[0]["owner"]), (&json!("by-site"), &json!("token: lamp only")));
    assert!(all.as_array().unwrap().len() > 20);
    let bad = send(&program, &narrow, "queries", &json!({ "name": "By Site", "statement": "select 1" }));
    assert_eq!(bad.status(), 400);
    let gone = client()
        .delete(format!("http://{}/api/v1/queries/by-site", program.console))
        .bearer_auth(own.trim())
        .send();
    assert_eq!(gone.unwrap().status(), 204);
    assert_ne!(program.api("queries")[0]["name"], "by-site");
}

/// A question that nobody waits for any more, or that asks too much, takes nothing from anybody else.
#[test]
fn heavy_questions_end_and_sites_go_on() {
    let place = Place::new();
    let log = log(&place.path("."));
    let program = place.serve();
    assert!(program.command(&place, &["import", "--site", "lamp", &log]).status.success());
    until("all are recorded", || (program.recorded("lamp") == LINES).then_some(()));
    let token = std::fs::read_to_string(place.path("state/client.token")).unwrap();
    let heavy = json!({ "id": "heavy", "statement":
        "select count(*) from requests a, requests b, requests c, requests d where a.bytes + b.bytes + c.bytes + d.bytes = 7" });
    let url = format!("http://{}/api/v1/query", program.console);
    let impatient = client()
        .post(&url)
        .bearer_auth(token.trim())
        .json(&heavy)
        .timeout(std::time::Duration::from_millis(700));
    assert!(impatient.send().unwrap_err().is_timeout());
    until("it has ended", || {
        let call = format!("http://{}/api/v1/query/progress?id=heavy", program.console);
        let answer = client().get(call).bearer_auth(token.trim()).send().unwrap();
        (answer.status() == 404).then_some(())
    });
    assert!(program.get("harbour.example", "/").status().as_u16() < 500);
    let large = json!({ "statement": "select string_agg(a.path || b.path || c.path, ',') as t from requests a, requests b, requests c" });
    let refused = client().post(&url).bearer_auth(token.trim()).json(&large).send().unwrap();
    assert_eq!(refused.status(), 422, "{}", refused.text().unwrap());
    let fine = json!({ "statement": "select count(*) as n from requests where site = 'lamp'" });
    let answer: Value = send(&program, token.trim(), "query", &fine).json().unwrap();
    assert_eq!(answer["table"]["rows"][0]["n"], LINES);
    let left = std::fs::read_dir(place.path("state/overflow")).map_or(0, |all| all.count());
    assert_eq!(left, 0, "nothing is left aside");
}

#[test]
fn standard_input_is_read_once() {
    let folder = tempfile::tempdir().unwrap();
    let log = log(folder.path());
    let file = || std::fs::File::open(&log).unwrap();
    let ask = |statement: &str| {
        Command::new(program_path())
            .args(["query", statement, "-", "--as", "csv"])
            .stdin(file())
            .output()
            .unwrap()
    };
    assert_eq!(printed(ask("select count(*) as n from requests")), "n\r\n360\r\n");
    let twice = said(&ask("select count(*) from requests a join requests b on a.bytes = b.bytes"));
    assert!(twice.contains("standard input can be read once"), "{twice}");
    assert!(!exedra(&["query"]).status.success());
}
