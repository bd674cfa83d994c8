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
    "a condition has one of `share`, `number`, `transfer`, `one_client`"
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
