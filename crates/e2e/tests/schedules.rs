//! Scheduled reports: one that was missed is made once, of the days that it is about; it is sent to whoever is to have it, and kept.

use exedra_e2e::mail_server::MailServer;
use exedra_e2e::{Place, Program, drawn, exedra, text, until};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use rstest::rstest;
use serde_json::Value;

/// Imports so many requests of a path on a day so many days before a date.
fn import(place: &Place, program: &Program, date: Date, requests: &[(i64, &str, usize)]) {
    let mut lines = String::new();
    for (ago, path, count) in requests {
        let day = date.saturating_sub(ago.days());
        let time =
            day.at(12, 0, 0, 0).to_zoned(TimeZone::UTC).unwrap().strftime("%d/%b/%Y:%H:%M:%S %z").to_string();
        for nth in 0..*count {
            let client = nth % 200 + 1;
            lines += &format!("192.0.2.{client} - - [{time}] \"GET {path} HTTP/1.1\" 200 1000 \"-\" \"-\"\n");
        }
    }
    place.write("edge.log", &lines);
    let done = program.command(place, &["import", &text(&place.path("edge.log")), "--site", "harbour"]);
    assert!(done.status.success(), "{}", drawn(&done));
}

fn said(place: &Place, program: &Program, arguments: &[&str]) -> String {
    let done = program.command(place, arguments);
    assert!(done.status.success(), "{}", drawn(&done));
    String::from_utf8(done.stdout).unwrap()
}

#[test]
fn a_report_that_was_missed_is_made_once_and_sent_with_what_changed_most() {
    let server = MailServer::open(None);
    let place = Place::new();
    place.write("authority.pem", &server.root);
    let due = Timestamp::now().to_zoned(TimeZone::UTC) + 1.minute();
    place.configure(&format!(
        r#"
[mail]
server  = "localhost:{}"
from    = "exedra@lindry.example"
trusted = "authority.pem"
[[recipient]]
name = "office"
mail = "office@lindry.example"
[[report]]
name     = "each day"
every    = "day {}"
scope    = ["site=harbour"]
show     = ["paths", "clients"]
masked   = true
language = "fo"
folder   = "for the office"
tell     = ["office"]
"#,
        server.port,
        due.strftime("%H:%M"),
    ));
    let program = place.serve();
    import(
        &place,
        &program,
        due.date(),
        &[(1, "/tides/", 30), (1, "/fish/", 10), (2, "/tides/", 5), (2, "/fish/", 10), (3, "/old/", 9)],
    );
    until("it is known", || {
        program.api("jobs").as_array().unwrap().iter().any(|job| job["name"] == "reports").then_some(())
    });
    // Whoever is new waits for its time.
    assert!(said(&place, &program, &["schedule", "list"]).contains("each day"));
    assert_eq!(program.api("report-runs"), serde_json::json!([]));
    program.kill();
    drop(program);
    let due =
        due.round(jiff::ZonedRound::new().smallest(jiff::Unit::Minute).mode(jiff::RoundMode::Trunc)).unwrap();
    while Timestamp::now() <= due.timestamp() {
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    let yesterday = due.date().saturating_sub(1.days());
    for nth in 0..2 {
        let program = place.serve();
        let runs = until("it is made", || {
            Some(program.api("report-runs")).filter(|runs| runs.as_array().unwrap().len() == 1)
        });
        let run = &runs[0];
        assert_eq!(run["failure"], Value::Null, "{run}");
        assert_eq!(run["due"], due.timestamp().to_string());
        assert_eq!(run["days"], format!("{yesterday}..{}", due.date()));
        let summary = run["summary"].as_str().unwrap();
        assert!(summary.contains("40 requests (167 % more)"), "{summary}");
        assert!(summary.contains("What changed most:\n  /tides/: 30 requests, 5 before\n"), "{summary}");
        until("it is sent", || (program.api("messages")[0]["state"] == "delivered").then_some(()));
        if nth == 0 {
            let number = run["number"].to_string();
            said(&place, &program, &["schedule", "get", &number, "--out", &text(&place.path("got.html"))]);
            let got = std::fs::read_to_string(place.path("got.html")).unwrap();
            assert!(got.contains("data-language=\"fo\""), "its dates are in the language that was asked for");
            assert!(got.contains("192.0.2.0/24") && !got.contains("\"192.0.2.7\""), "it is masked");
            let copy = place.path("for the office").join(format!("each-day-{yesterday}.html"));
            assert_eq!(std::fs::read_to_string(copy).unwrap(), got);
            // Nothing is sent twice: everything is over before it is killed.
            assert_eq!(server.mails().len(), 1);
        }
        program.kill();
    }
    let mail = &server.mails()[0];
    assert!(
        mail.text.contains("Subject: each day: ") && mail.text.contains("What changed most:"),
        "{}",
        mail.text
    );
    assert!(mail.text.contains("Content-Disposition: attachment; filename=\"each-day-"), "{}", mail.text);
    assert_eq!(server.mails().len(), 1);

    // At once, where somebody wants that.
    let program = place.serve();
    let made = said(&place, &program, &["schedule", "run", "each day"]);
    assert!(made.contains("40 requests") && made.contains("exedra schedule get"), "{made}");
    let runs = said(&place, &program, &["schedule", "runs"]);
    assert_eq!(runs.matches("each day").count(), 2, "{runs}");
    let done = program.command(&place, &["schedule", "run", "each dya"]);
    assert!(
        drawn(&done).contains("there is no scheduled report `each dya`: did you mean `each day`?"),
        "{}",
        drawn(&done)
    );
}

#[test]
fn what_cannot_be_written_is_said() {
    let place = Place::new();
    place.write("taken", "");
    place.configure("[[report]]\nname = \"the week\"\nevery = \"monday 07:00\"\nfolder = \"taken\"\n");
    let program = place.serve();
    let done = program.command(&place, &["schedule", "run", "the week"]);
    assert!(!done.status.success() && drawn(&done).contains("cannot be written"), "{}", drawn(&done));
}

#[rstest]
#[case::a_time("every = \"mondays at 7\"", "`mondays at 7` is not when a report can be made")]
#[case::no_time("of = \"yesterday\"", "this `report` has no `every`")]
#[case::days("every = \"day 07:00\"\nof = \"last fortnight\"", "`last fortnight` is no stretch of days")]
#[case::a_section("every = \"day 07:00\"\nshow = [\"pathes\"]", "a report has no section `pathes`")]
#[case::a_language("every = \"day 07:00\"\nlanguage = \"faroese please\"", "is no tag of a language")]
#[case::nobody("every = \"day 07:00\"\ntell = [\"office\"]", "there is no recipient `office`")]
#[case::a_filter("every = \"day 07:00\"\nscope = [\"statsu=404\"]", "did you mean `status`?")]
#[case::twice(
    "every = \"day 07:00\"\n[[report]]\nname = \"the week\"\nevery = \"day 07:00\"",
    "two reports are called `the week`"
)]
fn a_mistake_is_said_at_its_place(#[case] written: &str, #[case] expected: &str) {
    let place = Place::new();
    place.configure(&format!("\n[[report]]\nname = \"the week\"\n{written}\n"));
    let done = exedra(&["check", "--config", &text(&place.config())]);
    let said = drawn(&done);
    assert!(!done.status.success() && said.contains(expected) && said.contains("exedra.toml:"), "{said}");
}
