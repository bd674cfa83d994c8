//! Years of requests: whatever is asked of the records is what their logs say, whether it is put together of closed days, of segments or
//! of what came just now; what passes the retention leaves its figures; who is erased is nowhere.

use exedra_e2e::{Place, Program, drawn, exedra, text, until};
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan, Zoned};
use rstest::rstest;
use serde_json::Value;
use std::path::Path;

/// Days before today that logs reach back.
const DAYS: i64 = 75;

fn today() -> Zoned {
    Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).start_of_day().unwrap()
}

/// A day so long ago.
fn ago(days: i64) -> Date {
    today().date().checked_sub(days.days()).unwrap()
}

/// A line of a visitor, some of whom come around midnight.
fn line(nth: i64) -> String {
    let begin = ago(DAYS).to_zoned(jiff::tz::TimeZone::UTC).unwrap();
    // Half of each day's are within the hour around midnight.
    let (day, second) = (nth / 400, nth * 7919 % 3600);
    let hour = if nth % 2 == 0 { nth % 24 } else { 23 + nth / 2 % 2 };
    let time = begin.checked_add((day * 24 + hour).hours().seconds(second)).unwrap();
    let (client, path) = (nth * 31 % 83, nth * 13 % 61);
    let status = [200, 200, 200, 304, 404, 500][(nth * 7 % 6) as usize];
    let (kind, bytes) = (["html", "css", "pdf"][(nth % 3) as usize], path * 331 + 11);
    let referrer = ["-", "https://pilots.example/links", "https://lamp.example/"][(nth / 5 % 3) as usize];
    format!(
        "192.0.2.{client} - - [{}] \"GET /p{path}.{kind} HTTP/1.1\" {status} {bytes} \"{referrer}\" \"Mozilla/5.0 (X11; Linux x86_64; rv:1{}.0) Gecko/20100101 Firefox/1{}.0\"\n",
        time.strftime("%d/%b/%Y:%H:%M:%S %z"),
        nth % 4,
        nth % 4,
    )
}

fn write(path: &Path, lines: std::ops::Range<i64>) -> String {
    std::fs::write(path, lines.map(line).collect::<String>()).unwrap();
    text(path)
}

fn import(program: &Program, place: &Place, log: &str, site: &str) {
    let said = drawn(&program.command(place, &["import", log, "--site", site]));
    assert!(said.contains("in total"), "{said}");
}

/// Waits until so many surveys are kept.
fn kept(program: &Program, at_least: u64) {
    until("closed days are kept", || {
        let kept = program.api("status")["records"]["kept_surveys"].as_u64().unwrap();
        (kept >= at_least).then_some(())
    });
}

fn encoded(query: &[(&str, String)]) -> String {
    let escaped = |text: &str| text.bytes().map(|octet| format!("%{octet:02X}")).collect::<String>();
    query.iter().map(|(name, value)| format!("{name}={}", escaped(value))).collect::<Vec<_>>().join("&")
}

/// The tables of the API and those of a report of the logs, for a scope.
fn same(program: &Program, place: &Place, logs: &[&str], scope: &[(&str, String)], question: &str) {
    let mut query = scope.to_vec();
    query.extend([("show", question.to_owned()), ("top", "1000".to_owned()), ("referrers", "20".to_owned())]);
    let recorded = program.api(&format!("survey?{}", encoded(&query)));
    let mut arguments = vec!["report".to_owned()];
    arguments.extend(logs.iter().map(|log| (*log).to_owned()));
    arguments.extend(
        ["--config", &text(&place.config()), "--as", "json", "--top", "1000", "--show", question]
            .map(str::to_owned),
    );
    arguments.extend(
        scope
            .iter()
            .filter(|(name, _)| *name != "site")
            .map(|(name, value)| format!("--{}={value}", name.replace('_', "-"))),
    );
    let answer = exedra(&arguments);
    let reported: Value =
        serde_json::from_slice(&answer.stdout).unwrap_or_else(|_| panic!("{}", drawn(&answer)));
    let tables = reported["tables"].as_object().unwrap();
    assert!(!tables.is_empty());
    for (name, table) in tables.iter().filter(|(name, _)| !["sources", "own"].contains(&name.as_str())) {
        // Of which site a log somewhere is, nobody knows; of records it is known.
        if name == "sites" && table["rows"].as_array().is_some_and(Vec::is_empty) {
            continue;
        }
        let ours = &recorded["tables"][name];
        for part in ["rows", "total"] {
            assert!(ours[part] == table[part], "{name}: {part} of {scope:?}");
        }
    }
}

/// Scopes that begin and end at any hour, whole days and months, with filters and without, beside another period.
fn scopes() -> Vec<Vec<(&'static str, String)>> {
    let day = |days: i64| ago(days).to_string();
    let month = ago(40).strftime("%Y-%m").to_string();
    vec![
        vec![],
        vec![("day", day(30))],
        vec![("month", month.clone())],
        vec![("from", day(60)), ("until", day(3))],
        vec![("from", format!("{}T17:30", day(50))), ("until", format!("{}T05:15", day(20)))],
        vec![("month", month), ("against", "previous".to_owned())],
        vec![("from", day(70)), ("only", "path=/p1*".to_owned())],
        vec![("only", "status=404".to_owned()), ("without", "client=192.0.2.0/27".to_owned())],
        vec![
            ("from", format!("{}T23:00", day(33))),
            ("until", format!("{}T01:00", day(32))),
            ("people", "true".to_owned()),
        ],
        vec![("from", day(40)), ("until", day(10)), ("by", "visitors".to_owned())],
        vec![("last", "400 days".to_owned()), ("time_zone", "Atlantic/Faroe".to_owned())],
    ]
}

#[rstest]
#[case::traffic("traffic")]
#[case::people("people")]
#[case::trouble("trouble")]
#[case::transfer("transfer")]
fn whatever_is_asked_is_what_the_logs_say(#[case] question: &str) {
    let place = Place::new();
    let program = place.serve();
    let folder = tempfile::tempdir().unwrap();
    let first = write(&folder.path().join("first.log"), 0..24_000);
    import(&program, &place, &first, "lamp");
    // All days and at least one month, which stands for its days from then on.
    kept(&program, 61);
    let scopes = scopes().into_iter().map(|mut scope| {
        // A flag has no value for the client.
        scope.retain(|(name, _)| *name != "people");
        [scope, vec![("site", "lamp".to_owned())]].concat()
    });
    let scopes: Vec<_> = scopes.collect();
    scopes.iter().for_each(|scope| same(&program, &place, &[&first], scope, question));
    // Late lines of days that are kept, and the service is killed while they are counted anew.
    let late = write(&folder.path().join("late.log"), 9_000..9_300);
    import(&program, &place, &late, "lamp");
    scopes.iter().for_each(|scope| same(&program, &place, &[&first, &late], scope, question));
    program.kill();
    let _ = program.ended();
    let program = place.serve();
    same(&program, &place, &[&first, &late], &scopes[3], question);
    kept(&program, 61);
    scopes.iter().for_each(|scope| same(&program, &place, &[&first, &late], scope, question));
}

/// Single requests, trails and preludes are those of the logs too.
#[test]
fn single_requests_trails_and_preludes_are_those_of_the_logs() {
    let place = Place::new();
    let program = place.serve();
    let folder = tempfile::tempdir().unwrap();
    let log = write(&folder.path().join("a.log"), 0..6_000);
    import(&program, &place, &log, "lamp");
    let ask = |arguments: &[&str]| drawn(&program.command(&place, arguments));
    let of_log = |arguments: &[&str]| drawn(&exedra(arguments));
    let columns = ["--columns", "time,client,path,status,bytes", "--as", "csv", "--top", "12000"];
    for more in [&["--only", "status=500"][..], &["--by", "bytes"], &[]] {
        let (recorded, read) = (
            ask(&[&["requests"], &columns[..], more].concat()),
            of_log(&[&["requests", &log], &columns[..], more].concat()),
        );
        let sorted = |text: &str| {
            let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
            lines.sort();
            lines
        };
        assert!(recorded.lines().count() > 900);
        // What came in the same second, or has as many bytes, is in no order.
        assert_eq!(sorted(&recorded), sorted(&read), "{more:?}");
    }
    let newest = ask(&["requests", "--columns", "time", "--as", "csv", "--top", "3"]);
    assert_eq!(newest, of_log(&["requests", &log, "--columns", "time", "--as", "csv", "--top", "3"]));
    let json = |text: String| serde_json::from_str::<Value>(&text).unwrap_or_else(|_| panic!("{text}"));
    let (recorded, read) = (
        json(ask(&["trail", "192.0.2.7", "--as", "json"])),
        json(of_log(&["trail", "192.0.2.7", &log, "--as", "json"])),
    );
    for field in ["requests", "bytes", "errors", "repeats", "agents"] {
        assert_eq!(recorded[field], read[field], "{field}");
    }
    assert!(recorded["requests"].as_u64().unwrap() > 50);
    let recorded = json(ask(&["report", "--prelude", "5xx", "--as", "json"]));
    let read = json(of_log(&[
        "report",
        &log,
        "--config",
        &text(&place.config()),
        "--prelude",
        "5xx",
        "--as",
        "json",
    ]));
    assert_eq!(recorded["bursts"], read["bursts"]);
    let series =
        program.api(&format!("series?site=lamp&step=hour&from={}&until={}", ago(DAYS), ago(DAYS - 3)));
    let rows = series["table"]["rows"].as_array().unwrap();
    let sum: u64 = rows.iter().map(|row| row["requests"].as_u64().unwrap()).sum();
    assert_eq!(
        sum,
        program.api(&format!("survey?site=lamp&show=totals&from={}&until={}", ago(DAYS), ago(DAYS - 3)))["tables"]
            ["totals"]["rows"][0]["requests"]
    );
    let listed = ask(&["sources"]);
    assert!(listed.contains("a.log") && listed.contains("6,000") && listed.contains("imported"), "{listed}");
}

/// Single requests go, figures stay, whenever the service is killed.
#[test]
fn what_passes_the_retention_leaves_its_figures() {
    let place = Place::new();
    let program = place.serve();
    let folder = tempfile::tempdir().unwrap();
    let log = write(&folder.path().join("a.log"), 0..12_000);
    import(&program, &place, &log, "lamp");
    let figures = |program: &Program| {
        let survey =
            program.api("survey?site=lamp&show=totals,days,hours,statuses".replace(',', "&show=").as_str());
        ["totals", "days", "hours", "statuses"].map(|table| {
            let mut rows = survey["tables"][table]["rows"].clone();
            // Of visits nothing stays.
            rows.as_array_mut()
                .unwrap()
                .iter_mut()
                .filter_map(Value::as_object_mut)
                .for_each(|row| _ = row.remove("visits"));
            rows
        })
    };
    let before = figures(&program);
    program.tell("TERM");
    assert!(program.ended());
    place.configure("");
    let config = std::fs::read_to_string(place.config()).unwrap();
    let config = config.replacen("[service]\n", "[service]\nretention = \"60 days\"\n", 1);
    std::fs::write(place.config(), config).unwrap();
    let oldest = |program: &Program| {
        let first = program.api("status")["records"]["first"].as_str().unwrap()[..10].to_owned();
        first.parse::<Date>().unwrap()
    };
    // Killed again and again on the way; it goes on where it was.
    let mut program = place.serve();
    for days in [72, 68, 64] {
        until("some days have passed the retention", || (oldest(&program) >= ago(days)).then_some(()));
        assert_eq!(figures(&program), before, "on the way");
        program.kill();
        let _ = program.ended();
        program = place.serve();
        assert_eq!(figures(&program), before, "after it was killed");
    }
    until("all that is past is gone", || (oldest(&program) == ago(60)).then_some(()));
    assert_eq!(figures(&program), before);
    let requests = program.api(&format!("requests?site=lamp&until={}", ago(60)));
    assert_eq!(requests["fitting"], 0);
    let survey = program.api("survey?site=lamp&show=totals&show=paths");
    let caveats = survey["caveats"].to_string();
    assert!(caveats.contains("are no longer kept: totals, days, hours and statuses count them"), "{caveats}");
    // The log is not read again because some of it is gone.
    assert_eq!(program.api("sources")[0]["incomplete"], false);
}

/// Who is erased is in no record, no log and no kept survey, also after a start; all others are.
#[test]
fn who_is_erased_is_nowhere() {
    let place = Place::new();
    let program = place.serve();
    let folder = tempfile::tempdir().unwrap();
    let log = write(&folder.path().join("a.log"), 0..6_000);
    import(&program, &place, &log, "lamp");
    for target in ["/tides/today.html", "/lost", "/"] {
        program.get("harbour.example", target).text().unwrap();
    }
    until("all are recorded", || (program.recorded("harbour") == 3).then_some(()));
    kept(&program, 15);
    let of = |client: &str| {
        let fitting = program.api(&format!("requests?only=client%3D{client}"))["fitting"].as_u64();
        fitting.unwrap()
    };
    let (theirs, others) = (of("192.0.2.7"), of("192.0.2.8"));
    assert!(theirs > 50);
    let said = drawn(&program.command(&place, &["erase", "--client", "192.0.2.7"]));
    assert!(
        said.contains(&format!("{theirs} requests from the records")) && said.contains("backups"),
        "{said}"
    );
    assert_eq!((of("192.0.2.7"), of("192.0.2.8")), (0, others));
    // One of our own visitors: out of the logs too, which stay as long as they were.
    let before: u64 = place.generations("harbour").iter().map(|file| file.metadata().unwrap().len()).sum();
    let said = drawn(&program.command(&place, &["erase", "--client", "127.0.0.0/8"]));
    assert!(
        said.contains("3 requests from the records")
            && said.contains("3 lines of access logs and 1 line of the error log"),
        "{said}"
    );
    let lines = place.log("harbour");
    assert!(lines.len() == 3 && lines.iter().all(|line| line.starts_with("# erased")), "{lines:?}");
    let after: u64 = place.generations("harbour").iter().map(|file| file.metadata().unwrap().len()).sum();
    assert_eq!(before, after);
    // The record of changes says that it was done, and not to whom.
    let changes = until("it is written down", || {
        let changes = program.api("changes").to_string();
        changes.contains("3 requests, 3 log lines").then_some(changes)
    });
    assert!(!changes.contains("192.0.2.7"), "{changes}");
    program.tell("TERM");
    assert!(program.ended());
    let octets = std::fs::read(place.path("state/requests.db")).unwrap();
    assert!(!octets.is_empty());
    let program = place.serve();
    program.get("harbour.example", "/").text().unwrap();
    until("the next is recorded", || (program.recorded("harbour") == 1).then_some(()));
    assert_eq!(program.api("requests?only=client%3D192.0.2.7")["fitting"], 0);
    assert_eq!(
        program.api("survey?site=lamp&show=totals")["tables"]["totals"]["rows"][0]["requests"],
        6_000 - theirs
    );
}
