//! Alerts: what they say of the past and the present is what the lines say, and a mistake in one is said at its place.

use exedra_e2e::town::Town;
use exedra_e2e::{Place, Program, drawn, exedra, text};
use rstest::rstest;
use serde_json::Value;

const MINUTE: i64 = 60_000;

/// Imports a log with a request each minute of the last two hours; from 60 to 50 minutes ago all fail, and one client asks six times a
/// minute from 30 to 20 minutes ago. Nothing came in the last ten minutes.
fn imported(place: &Place, program: &Program) {
    let now = jiff::Timestamp::now().as_millisecond().div_euclid(MINUTE) * MINUTE;
    let line = |ago: i64, client: i64, nth: i64| {
        let time = jiff::Timestamp::from_millisecond(now - ago * MINUTE + nth * 1000).unwrap();
        let time = time.to_zoned(jiff::tz::TimeZone::UTC).strftime("%d/%b/%Y:%H:%M:%S %z").to_string();
        let status = if (50..60).contains(&ago) { 503 } else { 200 };
        format!("192.0.2.{client} - - [{time}] \"GET /tides/ HTTP/1.1\" {status} 1000 \"-\" \"-\"\n")
    };
    let mut lines = String::new();
    for ago in (10..120).rev() {
        lines += &line(ago, ago % 7, 0);
        (1..6).filter(|_| (20..30).contains(&ago)).for_each(|nth| lines += &line(ago, 77, nth));
    }
    place.write("edge.log", &lines);
    let (log, config) = (text(&place.path("edge.log")), text(&place.config()));
    let done =
        exedra(&["import", &log, "--site", "harbour", "--config", &config, "--console", &program.console]);
    assert!(done.status.success(), "{}", drawn(&done));
}

fn asked(place: &Place, program: &Program, arguments: &[&str]) -> String {
    let reach = ["--config", &text(&place.config()), "--console", &program.console].map(str::to_owned);
    let reach: Vec<&str> = reach.iter().map(String::as_str).collect();
    let done = exedra(&[arguments, &reach].concat());
    assert!(done.status.success(), "{}", drawn(&done));
    String::from_utf8(done.stdout).unwrap()
}

fn tried(place: &Place, program: &Program, name: &str) -> Value {
    let said = asked(place, program, &["alert", "try", name, "--last", "3 hours", "--as", "json"]);
    serde_json::from_str(&said).unwrap()
}

/// How many minutes ago something began, and how many minutes it lasted.
fn ago(trial: &Value, row: usize) -> (i64, i64) {
    let until = trial["stretch"][1].as_i64().unwrap();
    let row = &trial["table"]["rows"][row];
    ((until - row["began"].as_i64().unwrap()) / MINUTE, row["minutes"].as_i64().unwrap())
}

#[test]
fn they_are_raised_when_the_lines_say_so_and_for_as_long() {
    let place = Place::new();
    place.configure(
        r#"
[[alert]]
name  = "failures"
scope = ["site=harbour", "path=/tides/*"]
when  = { share = "status=5xx", over = "50 %", of_last = "2 minutes", requests = 2 }
[[alert]]
name  = "long failures"
when  = { share = "status=5xx", over = "50 %", of_last = "2 minutes", requests = 2 }
holds = "20 minutes"
[[alert]]
name  = "one client"
when  = { one_client = "all", over = 20, of_last = "5 minutes" }
[[alert]]
name  = "much"
when  = { transfer = "all", over = "20 kB", of_last = "5 minutes" }
[[alert]]
name  = "silence"
when  = { number = "all", under = 1, of_last = "5 minutes" }
"#,
    );
    let program = place.serve();
    imported(&place, &program);
    let failures = tried(&place, &program, "failures");
    assert_eq!(failures["table"]["rows"].as_array().unwrap().len(), 1, "{failures}");
    // Both requests of two minutes must have failed; that has not held for two minutes when it is over.
    let (began, minutes) = ago(&failures, 0);
    assert!((57..=59).contains(&began) && (9..=12).contains(&minutes), "{began} {minutes}");
    assert_eq!(failures["table"]["rows"][0]["worst"], "100.0 %");
    let long = tried(&place, &program, "long failures");
    assert_eq!(long["table"]["rows"], serde_json::json!([]), "it has not held for twenty minutes");
    let pace = tried(&place, &program, "one client");
    assert_eq!(
        (pace["table"]["rows"].as_array().unwrap().len(), &pace["table"]["rows"][0]["client"]),
        (1, &Value::from("192.0.2.77"))
    );
    assert_eq!(pace["table"]["rows"][0]["worst"], 25);
    let much = tried(&place, &program, "much");
    assert_eq!(much["table"]["rows"][0]["worst"], 30_000, "five minutes of six requests of a kilobyte");

    let states: Vec<Value> =
        serde_json::from_str(&asked(&place, &program, &["alerts", "--as", "json"])).unwrap();
    let raised: Vec<&str> = states
        .iter()
        .filter(|one| !one["raised_since"].is_null())
        .map(|one| one["name"].as_str().unwrap())
        .collect();
    assert_eq!(raised, ["silence"]);
    let said = asked(&place, &program, &["alerts"]);
    assert!(
        said.contains("more than 50.0 % of requests with status=5xx within 2 minutes, of 2 requests or more"),
        "{said}"
    );
    assert!(said.contains("raised  silence  since"), "{said}");
    let said = asked(&place, &program, &["alert", "try", "failures"]);
    assert!(
        said.contains("It would have been raised once within the last 30 days: 160 requests in its scope."),
        "{said}"
    );
    let done = exedra(&[
        "alert",
        "try",
        "failure",
        "--config",
        &text(&place.config()),
        "--console",
        &program.console,
    ]);
    assert!(
        drawn(&done).contains("there is no alert `failure`: did you mean `failures`?"),
        "{}",
        drawn(&done)
    );
}

#[rstest]
#[case::no_figure(
    "when = { over = 5, of_last = \"5 minutes\" }",
    "a condition has one of `share`, `number`, `transfer`, `one_client`, `duration`, `allowance`"
)]
#[case::two_figures(
    "when = { share = \"all\", number = \"all\", over = 5, of_last = \"5 minutes\" }",
    "it has more than one"
)]
#[case::no_bound("when = { number = \"all\", of_last = \"5 minutes\" }", "a condition has `over` or `under`")]
#[case::both_bounds(
    "when = { number = \"all\", over = 5, under = 1, of_last = \"5 minutes\" }",
    "it has both"
)]
#[case::a_share_as_a_number(
    "when = { share = \"status=5xx\", over = 2, of_last = \"5 minutes\" }",
    "write it as in over = \"2 %\""
)]
#[case::a_size_without_a_unit(
    "when = { transfer = \"all\", over = \"5 apples\", of_last = \"5 minutes\" }",
    "write it as in over = \"5 GB\""
)]
#[case::no_stretch("when = { number = \"all\", over = 5 }", "`of_last` is missing")]
#[case::seconds(
    "when = { number = \"all\", over = 5, of_last = \"90 seconds\" }",
    "whole minutes from 1 to 1440 are"
)]
#[case::a_filter(
    "when = { share = \"statsu=5xx\", over = \"2 %\", of_last = \"5 minutes\" }",
    "did you mean `status`?"
)]
#[case::a_scope(
    "scope = [\"pth=/tides/*\"]\nwhen = { number = \"all\", over = 5, of_last = \"5 minutes\" }",
    "did you mean `path`?"
)]
#[case::a_key(
    "when = { number = \"all\", above = 5, of_last = \"5 minutes\" }",
    "there is no setting `above` in `when`"
)]
#[case::a_percentile(
    "when = { duration = \"all\", percentile = 100, over = \"2 seconds\", of_last = \"5 minutes\" }",
    "a whole number from 1 to 99"
)]
#[case::a_percentile_of_nothing(
    "when = { number = \"all\", percentile = 95, over = 2, of_last = \"5 minutes\" }",
    "only durations have a percentile"
)]
#[case::a_usual_share(
    "when = { share = \"status=5xx\", over = \"200 % of usual\", of_last = \"5 minutes\" }",
    "only `number` and `transfer` are compared with what is usual"
)]
#[case::an_allowance_that_there_is_not(
    "when = { allowance = \"harbour\", over = \"80 %\" }",
    "`tides` is about an allowance that there is not"
)]
#[case::an_unknown_site("when = { unread = \"habour\", over = 3 }", "did you mean `harbour`?")]
#[case::a_certificate(
    "when = { certificate = \"tides.example\", under = \"14 days\" }",
    "there is no certificate for `tides.example`"
)]
#[case::the_wrong_bound(
    "when = { free_space = \".\", over = \"5 GB\" }",
    "`free_space` is compared with `under`"
)]
#[case::two_kinds(
    "when = { free_space = \".\", under = \"5 GB\", of_last = \"5 minutes\" }",
    "`of_last` has nothing to do with `free_space`"
)]
#[case::no_name(
    "when = { number = \"all\", over = 5, of_last = \"5 minutes\" }\n[[alert]]\nname = \" \"\nwhen = { number = \"all\", over = 5, of_last = \"5 minutes\" }",
    "this is no name"
)]
#[case::no_condition("scope = []", "this `alert` has no `when`")]
#[case::the_same_name(
    "when = { number = \"all\", over = 5, of_last = \"5 minutes\" }\n[[alert]]\nname = \"tides\"\nwhen = { number = \"all\", over = 5, of_last = \"5 minutes\" }",
    "two alerts are called `tides`"
)]
fn a_mistake_is_said_at_its_place(#[case] written: &str, #[case] expected: &str) {
    let place = Place::new();
    place.configure(&format!("\n[[alert]]\nname = \"tides\"\n{written}\n"));
    let done = exedra(&["check", "--config", &text(&place.config())]);
    let said = drawn(&done);
    assert!(!done.status.success() && said.contains(expected) && said.contains("exedra.toml:"), "{said}");
}

/// The demo's stories: every night a job takes the tide table away for four minutes, and a kiosk asks every second for three hours of
/// the last three days.
#[test]
fn the_stories_of_the_demo_raise_them_on_the_right_days_and_no_others() {
    let town = Town::open();
    let config = text(&town.config());
    let tried = |name: &str| -> Value {
        let done = exedra(&[
            "alert",
            "try",
            name,
            "--last",
            "34 days",
            "--as",
            "json",
            "--config",
            &config,
            "--console",
            &town.program.console,
        ]);
        assert!(done.status.success(), "{}", drawn(&done));
        serde_json::from_slice(&done.stdout).unwrap()
    };
    let rows = |trial: &Value| trial["table"]["rows"].as_array().unwrap().clone();
    let gone = rows(&tried("the tide table is gone"));
    assert!((33..=35).contains(&gone.len()), "each night once: {}", gone.len());
    for night in &gone {
        // From ten past three on, UTC.
        let minute = night["began"].as_i64().unwrap() / MINUTE % (24 * 60);
        assert!((190..195).contains(&minute), "{night}");
        assert!((0..=12).contains(&night["minutes"].as_i64().unwrap()), "{night}");
    }
    let kiosk = rows(&tried("one client asks too much"));
    assert_eq!(kiosk.len(), 3, "{kiosk:?}");
    for day in &kiosk {
        assert_eq!(day["client"], "203.0.113.77", "{day}");
        assert!((160..=200).contains(&day["minutes"].as_i64().unwrap()), "{day}");
    }
    assert!(rows(&tried("nobody comes")).is_empty(), "somebody always comes");
}

/// The same ten minutes of five weeks: the last one has a third of the requests.
#[test]
fn what_is_usual_is_what_the_same_minutes_had_in_the_weeks_before() {
    let place = Place::new();
    place.configure(
        r#"
[[alert]]
name = "fewer than usual"
when = { number = "all", under = "50 % of usual", of_last = "10 minutes" }
[[alert]]
name = "more than usual"
when = { number = "all", over = "200 % of usual", of_last = "10 minutes" }
"#,
    );
    let program = place.serve();
    let now = jiff::Timestamp::now().as_millisecond().div_euclid(MINUTE) * MINUTE;
    let mut lines = String::new();
    for week in (0..5).rev() {
        for ago in (5..65).rev() {
            let time = now - ago * MINUTE - week * 7 * 24 * 60 * MINUTE;
            let time = jiff::Timestamp::from_millisecond(time).unwrap().to_zoned(jiff::tz::TimeZone::UTC);
            let time = time.strftime("%d/%b/%Y:%H:%M:%S %z");
            let line = format!("192.0.2.1 - - [{time}] \"GET / HTTP/1.1\" 200 10 \"-\" \"-\"\n");
            // A third from half an hour ago on, and four times as much for a while before.
            let count = match (week, ago) {
                (0, 5..30) => 1,
                (0, 45..55) => 12,
                _ => 3,
            };
            lines += &line.repeat(count);
        }
    }
    place.write("edge.log", &lines);
    let done = program.command(&place, &["import", &text(&place.path("edge.log")), "--site", "harbour"]);
    assert!(done.status.success(), "{}", drawn(&done));
    let fewer = tried(&place, &program, "fewer than usual");
    let (began, minutes) = ago(&fewer, 0);
    // Half of the ten minutes and more must be of the poor ones; it ends when the log does, where usually there was none either.
    assert!((20..=26).contains(&began) && minutes >= 15, "{began} {minutes} {fewer}");
    let more = tried(&place, &program, "more than usual");
    assert_eq!(more["table"]["rows"].as_array().unwrap().len(), 1, "{more}");
    assert_eq!(more["table"]["rows"][0]["worst"], 120);
    assert!(more["condition"] == "more than 200 % of the usual requests within 10 minutes", "{more}");
}

#[test]
fn what_is_known_of_the_present_only_raises_alerts_too_and_cannot_be_tried_on_the_past() {
    let place = Place::new();
    place.configure(
        r#"
[[alert]]
name = "the disk is full"
when = { free_space = ".", under = "900 TB" }
tell = ["office"]
[[alert]]
name = "the disk is empty"
when = { free_space = ".", under = "1 B" }
[[alert]]
name = "most is sent"
when = { allowance = "harbour", over = "80 %" }
[[alert]]
name = "more will be sent"
when = { forecast = "harbour", over = "100 %" }
[[alert]]
name = "lines"
when = { unread = "all", over = 0 }
[[alert]]
name = "pages"
when = { query = "pages", over = 2 }
[[recipient]]
name    = "office"
command = ["tee", "told.json"]
"#,
    );
    let config = std::fs::read_to_string(place.config()).unwrap();
    let config = config.replacen("name = \"harbour\"\n", "name = \"harbour\"\nallowance = \"1 kB\"\n", 1);
    std::fs::write(place.config(), config).unwrap();
    let program = place.serve();
    for _ in 0..30 {
        program.get("harbour.example", "/").text().unwrap();
    }
    let states = || -> Vec<Value> {
        serde_json::from_str(&asked(&place, &program, &["alerts", "--as", "json"])).unwrap()
    };
    let raised = || -> Vec<String> {
        let raised = states().into_iter().filter(|one| !one["raised_since"].is_null());
        raised.map(|one| one["name"].as_str().unwrap().to_owned()).collect()
    };
    exedra_e2e::until("the disk is seen", || (raised() == ["the disk is full"]).then_some(()));
    let told = exedra_e2e::until("it is told", || {
        serde_json::from_str::<Value>(&std::fs::read_to_string(place.path("state/told.json")).ok()?).ok()
    });
    assert_eq!(
        (&told["kind"], &told["about"]["command"]),
        (&Value::from("raised"), &Value::from("exedra alerts"))
    );
    assert!(told["subject"].as_str().unwrap().ends_with(" free"), "{told}");
    let of = |name: &str| states().into_iter().find(|one| one["name"] == name).unwrap()["figure"].clone();
    assert_eq!(of("more will be sent"), "not known yet", "a month is not foretold from a minute");
    assert_eq!(of("lines"), "0 unread lines");
    assert_eq!(of("pages"), "not known yet", "nobody has kept such a query");
    let done = program.command(&place, &["alert", "try", "the disk is full"]);
    assert!(
        !done.status.success() && drawn(&done).contains("cannot be tried on the past"),
        "{}",
        drawn(&done)
    );
}

#[test]
fn rows_of_a_kept_query_raise_an_alert() {
    let place = Place::new();
    place.configure("");
    let program = place.serve();
    imported(&place, &program);
    let statement = "select client, count(*) as n from requests group by client having n > 20";
    let query = serde_json::json!({ "name": "busy-clients", "statement": statement });
    assert!(program.call(reqwest::Method::POST, "queries", Some(&query)).status().is_success());
    place.configure("[[alert]]\nname = \"busy\"\nwhen = { query = \"busy-clients\", over = 0 }\n");
    let done = program.command(&place, &["reload"]);
    assert!(done.status.success(), "{}", drawn(&done));
    let said = exedra_e2e::until("it is asked", || {
        let said = asked(&place, &program, &["alerts"]);
        said.contains("raised  busy").then_some(said)
    });
    assert!(said.contains("more than 0 rows of the query busy-clients within 60 minutes"), "{said}");
    assert!(said.contains("now 1 row;"), "one client is busy: {said}");
}
