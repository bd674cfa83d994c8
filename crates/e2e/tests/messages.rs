//! Messages: whoever is to be told is told, by each way, once per change and in order, over failures and kills; and what is written wrongly
//! is said at its place.

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use exedra_e2e::mail_server::MailServer;
use exedra_e2e::receiver::Receiver;
use exedra_e2e::{Place, Program, drawn, exedra, text, until};
use hmac::{Hmac, KeyInit, Mac};
use rstest::rstest;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};

const MINUTE: i64 = 60_000;

/// An alert that many requests raise, and one that nothing does.
const ALERTS: &str = r#"
[[alert]]
name  = "tides fail"
scope = ["site=harbour", "path=/tides/*"]
when  = { share = "status=5xx", over = "50 %", of_last = "5 minutes", requests = 5 }
ends_after = "1 minute"
tell  = ["office"]
"#;

/// Lines of requests of the minutes up to now: all of them fail.
fn failures(minutes: std::ops::Range<i64>) -> String {
    let now = jiff::Timestamp::now().as_millisecond().div_euclid(MINUTE) * MINUTE;
    let line = |ago: i64, nth: i64| {
        let time = jiff::Timestamp::from_millisecond(now - ago * MINUTE + nth * 1000).unwrap();
        let time = time.to_zoned(jiff::tz::TimeZone::UTC).strftime("%d/%b/%Y:%H:%M:%S %z").to_string();
        format!("192.0.2.{nth} - - [{time}] \"GET /tides/today.html HTTP/1.1\" 503 1000 \"-\" \"-\"\n")
    };
    minutes.rev().flat_map(|ago| (1..8).map(move |nth| (ago, nth))).map(|(ago, nth)| line(ago, nth)).collect()
}

fn import(place: &Place, program: &Program, name: &str, lines: &str) {
    place.write(name, lines);
    let done = program.command(place, &["import", &text(&place.path(name)), "--site", "harbour"]);
    assert!(done.status.success(), "{}", drawn(&done));
}

fn messages(program: &Program) -> Vec<Value> {
    program.api("messages").as_array().unwrap().clone()
}

fn said(place: &Place, program: &Program, arguments: &[&str]) -> String {
    let done = program.command(place, arguments);
    assert!(done.status.success(), "{}", drawn(&done));
    String::from_utf8(done.stdout).unwrap()
}

fn alert(name: &str) -> String {
    ALERTS.replace("tides fail", name)
}

fn recipient(way: &str) -> String {
    format!("\n[[recipient]]\nname = \"office\"\n{way}\n")
}

#[test]
fn a_webhook_is_told_with_evidence_and_a_signature_and_then_that_it_is_over() {
    let receiver = Receiver::open(204);
    let place = Place::new();
    place.write("office.key", "harbour light\n");
    let way = format!("webhook = \"{}\"\nkey_file = \"office.key\"", receiver.address);
    place.configure(&format!("{ALERTS}{}", recipient(&way)));
    let program = place.serve();
    import(&place, &program, "edge.log", &failures(0..10));
    let first = until("a message", || receiver.received().first().cloned());
    let told = first.json();
    assert_eq!((&told["kind"], &told["about"]["alert"]), (&json!("raised"), &json!("tides fail")), "{told}");
    assert_eq!(told["about"]["figure"], "100.0 % of requests");
    let behind = told["about"]["paths"][0]["requests"].as_u64().unwrap();
    assert!(told["about"]["paths"][0]["value"] == "/tides/today.html" && behind >= 35, "{told}");
    assert_eq!(told["about"]["clients"].as_array().unwrap().len(), 5);
    let words = told["text"].as_str().unwrap();
    assert!(
        words.contains("It watches for more than 50.0 % of requests with status=5xx within 5 minutes"),
        "{words}"
    );
    // The command that is named says the same.
    let command = told["about"]["command"].as_str().unwrap();
    let shell = command.replace("exedra ", &format!("{} ", text(&exedra_e2e::program())));
    let shell = format!("{shell} --config {} --console {}", text(&place.config()), program.console);
    let shown = std::process::Command::new("sh").args(["-c", &shell]).output().unwrap();
    assert_eq!(
        String::from_utf8_lossy(&shown.stdout).matches("/tides/today.html").count() as u64,
        behind,
        "{command}"
    );

    assert_eq!(first.target, "/alerts?key=secret");
    assert_eq!(first.field("idempotency-key"), format!("\"{}\"", told["id"].as_str().unwrap()));
    let digest = format!("sha-256=:{}:", BASE64_STANDARD.encode(Sha256::digest(first.body.as_bytes())));
    assert_eq!(first.field("content-digest"), digest);
    let parameters = first.field("signature-input").strip_prefix("exedra=").unwrap();
    let mut mac = Hmac::<Sha256>::new_from_slice(b"harbour light").unwrap();
    let lines = [
        "\"@method\": POST",
        &format!("\"@target-uri\": {}", receiver.address),
        &format!("\"content-digest\": {digest}"),
    ];
    mac.update(format!("{}\n\"@signature-params\": {parameters}", lines.join("\n")).as_bytes());
    let expected = BASE64_STANDARD.encode(mac.finalize().into_bytes());
    assert_eq!(first.field("signature"), format!("exedra=:{expected}:"));

    // The same minutes with many more requests that are answered: it is over, and was for whoever asks.
    import(&place, &program, "other.log", &failures(0..10).replace(" 503 ", " 200 ").repeat(3));
    let second = until("a second message", || receiver.received().get(1).cloned()).json();
    assert_eq!(
        (&second["kind"], &second["about"]["alert"]),
        (&json!("over"), &json!("tides fail")),
        "{second}"
    );
    let history = said(&place, &program, &["alert", "history", "tides fail"]);
    assert!(history.contains("its requests are no longer in the records"), "{history}");
    let listed = said(&place, &program, &["message", "list"]);
    assert!(listed.contains("delivered") && listed.contains("tides fail: 100.0 % of requests"), "{listed}");
    assert_eq!(receiver.received().len(), 2, "each change once");
}

#[test]
fn mail_goes_out_secured_and_signed_in_and_its_server_is_believed_only_where_it_is_known() {
    let server = MailServer::open(Some(("exedra", "herring")));
    let place = Place::new();
    place.write("mail.password", "herring\n");
    place.write("authority.pem", &server.root);
    let mail = |more: &str| {
        format!(
            "\n[mail]\nserver = \"localhost:{}\"\nfrom = \"exedra@lindry.example\"\nuser = \"exedra\"\npassword_file = \"mail.password\"\n{more}\n",
            server.port
        )
    };
    let office = recipient("mail = [\"office@lindry.example\", \"night@lindry.example\"]");
    place.configure(&format!("{}{ALERTS}{office}", mail("trusted = \"authority.pem\"")));
    let program = place.serve();
    import(&place, &program, "edge.log", &failures(0..10));
    let sent = until("a mail", || server.mails().first().cloned());
    assert!(sent.is_secured && sent.to == ["office@lindry.example", "night@lindry.example"], "{sent:?}");
    let message =
        until("it was delivered", || messages(&program).into_iter().find(|one| one["state"] == "delivered"));
    let id = message["id"].as_str().unwrap();
    for field in [
        "Subject: tides fail: 100.0 % of requests".to_owned(),
        format!("Message-ID: <{id}@lindry.example>"),
        "Auto-Submitted: auto-generated".to_owned(),
        "From: exedra@lindry.example".to_owned(),
    ] {
        assert!(sent.text.contains(&field), "{field} in {}", sent.text);
    }
    assert!(sent.text.contains("Paths behind it:"), "{}", sent.text);

    // A trial is told of at once, and says what is wrong.
    let tried = said(&place, &program, &["message", "try", "office"]);
    assert!(tried.contains("delivered  office (office@lindry.example, night@lindry.example)"), "{tried}");
    server.answer("550 no such mailbox");
    let done = program.command(&place, &["message", "try", "office"]);
    assert!(!done.status.success() && drawn(&done).contains("no such mailbox"), "{}", drawn(&done));
    place.write("mail.password", "haddock\n");
    let done = program.command(&place, &["message", "try", "office"]);
    assert!(!done.status.success() && drawn(&done).contains("535"), "{}", drawn(&done));
    place.write("mail.password", "herring\n");
    let known = server.mails().len();
    place.configure(&format!("{}{ALERTS}{office}", mail("")));
    said(&place, &program, &["reload"]);
    let done = program.command(&place, &["message", "try", "office"]);
    assert!(!done.status.success(), "nobody vouches for its certificate: {}", drawn(&done));
    assert_eq!(server.mails().len(), known);
    let done = program.command(&place, &["message", "try", "offce"]);
    assert!(
        drawn(&done).contains("there is no recipient `offce`: did you mean `office`?"),
        "{}",
        drawn(&done)
    );
}

#[test]
fn a_command_is_run_with_the_message_and_its_failure_is_said_until_it_succeeds() {
    let place = Place::new();
    place.write("told.sh", "#!/bin/sh\ncat > told.json\necho \"$EXEDRA_KIND $EXEDRA_SUBJECT\" > told.txt\ntest -e open || { echo 'the office is closed' >&2; exit 3; }\n");
    let script = format!("cd {} && sh told.sh", text(place.folder.path()));
    place.configure(&format!("{ALERTS}{}", recipient(&format!("command = [\"sh\", \"-c\", \"{script}\"]"))));
    let program = place.serve();
    import(&place, &program, "edge.log", &failures(0..10));
    let failed = until("three attempts", || {
        messages(&program).into_iter().find(|one| one["attempts"].as_i64() >= Some(3))
    });
    assert_eq!(failed["state"], "waiting");
    let failure = failed["failure"].as_str().unwrap();
    assert!(failure.contains("exit status: 3: the office is closed"), "{failure}");
    let status = said(&place, &program, &["status"]);
    assert!(status.contains("messages to `office` cannot be delivered at the moment"), "{status}");
    place.write("open", "");
    said(&place, &program, &["message", "retry", &failed["number"].to_string()]);
    until("it is delivered", || messages(&program).into_iter().find(|one| one["state"] == "delivered"));
    let told: Value =
        serde_json::from_str(&std::fs::read_to_string(place.path("told.json")).unwrap()).unwrap();
    assert_eq!((&told["kind"], &told["id"]), (&json!("raised"), &failed["id"]));
    assert_eq!(
        std::fs::read_to_string(place.path("told.txt")).unwrap().trim(),
        "raised tides fail: 100.0 % of requests"
    );
    let status = said(&place, &program, &["status"]);
    assert!(!status.contains("cannot be delivered"), "{status}");
}

/// Who may change the configuration by the API may not thereby run programs.
#[test]
fn a_command_is_taken_from_the_files_and_not_from_the_console() {
    let place = Place::new();
    place.configure(&recipient("command = [\"true\"]"));
    let program = place.serve();
    let files = program.api("configuration")["files"].clone();
    let text = files[0]["text"].as_str().unwrap();
    let draft = |text: String| json!({ "files": [{ "name": files[0]["name"], "version": files[0]["version"], "text": text }] });
    let changed = draft(text.replace("[\"true\"]", "[\"touch\", \"here\"]"));
    let publish = |draft: &Value| {
        program.call(reqwest::Method::POST, "configuration", Some(draft)).json::<Value>().unwrap()
    };
    let refused = publish(&changed);
    assert!(refused.to_string().contains("a command can be set in the files only"), "{refused}");
    let checked: Value =
        program.call(reqwest::Method::POST, "configuration/check", Some(&changed)).json().unwrap();
    assert!(checked["is_sound"] == false && checked.to_string().contains("in the files only"), "{checked}");
    // What has been there before may stay, whatever else is changed.
    let taken = publish(&draft(format!("{text}# one line more\n")));
    assert!(!taken.to_string().contains("in the files only"), "{taken}");
}

#[test]
fn whoever_does_not_answer_gets_all_in_order_afterwards_and_repeats_are_known() {
    let receiver = Receiver::open(503);
    let place = Place::new();
    let names: Vec<String> = (0..8).map(|nth| format!("tides {nth}")).collect();
    let alerts: String = names.iter().map(|name| alert(name)).collect();
    place.configure(&format!("{alerts}{}", recipient(&format!("webhook = \"{}\"", receiver.address))));
    let program = place.serve();
    import(&place, &program, "edge.log", &failures(0..10));
    until("some attempts", || (receiver.received().len() >= 3).then_some(()));
    let waiting = program.api("recipients");
    assert!(
        waiting[0]["waiting"] == 8 && waiting[0]["failure"].as_str().unwrap().contains("503"),
        "{waiting}"
    );
    assert_eq!(
        waiting[0]["to"].as_str().unwrap().split("//").nth(1).unwrap().split('/').nth(1),
        Some("…"),
        "{waiting}"
    );
    receiver.answer(200);
    until("all", || (receiver.taken().len() == 8).then_some(()));
    let first = receiver.received()[0].json()["id"].clone();
    assert!(receiver.received().iter().filter(|one| one.json()["id"] == first).count() >= 3, "repeats");
    let told: Vec<String> = receiver
        .received()
        .iter()
        .filter(|one| one.status == 200)
        .map(|one| one.json()["about"]["alert"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(told, names);
}

#[test]
fn people_are_told_many_changes_in_one_mail() {
    let server = MailServer::open(None);
    let place = Place::new();
    place.write("authority.pem", &server.root);
    let mail = format!(
        "\n[mail]\nserver = \"localhost:{}\"\nfrom = \"exedra@lindry.example\"\ntrusted = \"authority.pem\"\n",
        server.port
    );
    let alerts: String = (0..6).map(|nth| alert(&format!("tides {nth}"))).collect();
    place.configure(&format!("{mail}{alerts}{}", recipient("mail = \"office@lindry.example\"")));
    let program = place.serve();
    import(&place, &program, "edge.log", &failures(0..10));
    let sent = until("a mail", || server.mails().first().cloned());
    assert!(
        sent.text.contains("Subject: tides 0: 100.0 % of requests, and 5 more changes of alerts"),
        "{}",
        sent.text
    );
    until("all are done", || messages(&program).iter().all(|one| one["state"] != "waiting").then_some(()));
    assert_eq!(server.mails().len(), 1);
    let states: Vec<Value> = messages(&program).into_iter().map(|one| one["state"].clone()).collect();
    assert_eq!(states.iter().filter(|state| **state == "gathered").count(), 6, "{states:?}");
}

#[test]
fn quiet_hours_and_silences_hold_back_and_people_say_what_they_saw() {
    let receiver = Receiver::open(204);
    let place = Place::new();
    let quiet = jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC);
    let hours = format!("{}-{}", quiet.hour(), (quiet.hour() + 1) % 24);
    let tells = alert("tides fail at night").replace("[\"office\"]", "[\"night\"]");
    let night = recipient(&format!("webhook = \"{}\"\nquiet = \"{hours}\"", receiver.address))
        .replace("office", "night");
    place.configure(&format!(
        "{ALERTS}{tells}{night}{}",
        recipient(&format!("webhook = \"{}\"", receiver.address))
    ));
    let program = place.serve();
    until("it has been looked at", || {
        let done = program
            .command(&place, &["alert", "silence", "tides fail", "--for", "3 hours", "--reason", "we know"]);
        done.status.success().then_some(())
    });
    import(&place, &program, "edge.log", &failures(0..10));
    let waiting = until("the night's message", || messages(&program).into_iter().next());
    assert_eq!((&waiting["recipient"], &waiting["state"]), (&json!("night"), &json!("waiting")));
    let until_then: jiff::Timestamp = waiting["next"].as_str().unwrap().parse().unwrap();
    let until_then = until_then.to_zoned(jiff::tz::TimeZone::UTC);
    assert_eq!(
        (until_then.hour(), until_then.minute()),
        ((quiet.hour() + 2) % 24, 0),
        "both hours are meant"
    );
    let alerts = said(&place, &program, &["alerts"]);
    assert!(
        alerts.contains("raised  tides fail") && alerts.contains("by token: this machine: we know"),
        "{alerts}"
    );
    said(&place, &program, &["alert", "acknowledge", "tides fail"]);
    assert!(said(&place, &program, &["alerts"]).contains("seen by token: this machine"));
    assert!(receiver.received().is_empty(), "nobody was told");
    // The silence ends, and it is still raised.
    said(&place, &program, &["alert", "silence", "tides fail", "--end"]);
    let told = until("it is told of again", || receiver.received().first().cloned()).json();
    assert!(told["subject"] == "tides fail: still raised, 100.0 % of requests", "{told}");
    let done = program.command(&place, &["alert", "silence", "tides fail", "--for", "3 apples"]);
    assert!(drawn(&done).contains("write it as in `2 hours`"), "{}", drawn(&done));
}

/// Killed between the decision and the delivery, again and again: each message arrives, and what arrives twice says so.
#[test]
fn no_message_is_lost_by_kills() {
    const KILLS: usize = 100;
    let receiver = Receiver::open(503);
    let place = Place::new();
    let configure = |count: usize| {
        let alerts: String = (0..count).map(|nth| alert(&format!("tides {nth}"))).collect();
        place.configure(&format!("{alerts}{}", recipient(&format!("webhook = \"{}\"", receiver.address))));
    };
    configure(0);
    let program = place.serve();
    import(&place, &program, "edge.log", &failures(0..15));
    program.kill();
    drop(program);
    for nth in 1..=KILLS {
        configure(nth);
        receiver.answer(if nth % 3 == 0 { 200 } else { 503 });
        let program = place.serve();
        until("the decision", || {
            let told = messages(&program);
            told.first()
                .filter(|one| one["subject"].as_str().unwrap().contains(&format!("tides {}:", nth - 1)))
                .map(drop)
        });
        program.kill();
    }
    receiver.answer(200);
    let program = place.serve();
    until("all were taken", || (receiver.taken().len() == KILLS).then_some(()));
    until("all are delivered", || {
        messages(&program).iter().all(|one| one["state"] == "delivered").then_some(())
    });
    let told: Vec<Value> = receiver
        .received()
        .iter()
        .filter(|one| one.status == 200)
        .map(|one| one.json()["about"]["alert"].clone())
        .collect();
    let mut once = told.clone();
    once.dedup();
    let expected: Vec<Value> = (0..KILLS).map(|nth| json!(format!("tides {nth}"))).collect();
    assert_eq!(once, expected, "in order, and repeats are next to each other");
}

#[rstest]
#[case::no_way("name = \"office\"", "a recipient has one of `mail`, `webhook`, `command`")]
#[case::two_ways(
    "name = \"office\"\nwebhook = \"https://a.example/\"\ncommand = [\"true\"]",
    "it has more than one"
)]
#[case::no_server("name = \"office\"\nmail = \"office@lindry.example\"", "no server takes mail")]
#[case::an_address(
    "name = \"office\"\nmail = \"office at lindry\"",
    "`office at lindry` is not an address of mail"
)]
#[case::a_webhook(
    "name = \"office\"\nwebhook = \"office.example\"",
    "`office.example` is not where a webhook can be"
)]
#[case::a_key("name = \"office\"\ncommand = [\"true\"]\nkey_file = \"key\"", "only a webhook is signed")]
#[case::hours("name = \"office\"\ncommand = [\"true\"]\nquiet = \"22-26\"", "`22-26` is no hour of the week")]
#[case::nobody("name = \"office\"\ncommand = []", "no program is named")]
#[case::twice(
    "name = \"office\"\ncommand = [\"true\"]\n[[recipient]]\nname = \"office\"\ncommand = [\"true\"]",
    "two recipients are called `office`"
)]
#[case::unknown("name = \"ofice\"\ncommand = [\"true\"]", "there is no recipient `office`")]
#[case::a_password(
    "name = \"office\"\ncommand = [\"true\"]\n[mail]\nserver = \"smtp.lindry.example\"\nfrom = \"a@lindry.example\"\nuser = \"exedra\"",
    "signing in needs a password"
)]
#[case::in_the_open(
    "name = \"office\"\ncommand = [\"true\"]\n[mail]\nserver = \"smtp.lindry.example\"\nfrom = \"a@lindry.example\"\nuser = \"exedra\"\npassword_file = \"p\"\nencryption = \"none\"",
    "a password would be sent unencrypted"
)]
fn a_mistake_is_said_at_its_place(#[case] written: &str, #[case] expected: &str) {
    let place = Place::new();
    place.configure(&format!("{ALERTS}\n[[recipient]]\n{written}\n"));
    let done = exedra(&["check", "--config", &text(&place.config())]);
    let said = drawn(&done);
    assert!(!done.status.success() && said.contains(expected) && said.contains("exedra.toml:"), "{said}");
}

#[test]
fn whoever_could_not_be_told_is_remarked_upon_before() {
    let place = Place::new();
    place.configure(
        r#"
[mail]
server        = "smtp.lindry.example"
from          = "exedra@lindry.example"
user          = "exedra"
password_file = "mail.password"
[[recipient]]
name = "office"
mail = "office@lindry.example"
[[recipient]]
name     = "duty"
webhook  = "http://duty.lindry.example/alerts"
key_file = "duty.key"
[[recipient]]
name    = "siren"
command = ["no-such-siren"]
[[report]]
name  = "the week"
every = "monday 07:00"
tell  = ["office", "duty"]
"#,
    );
    let said = drawn(&exedra(&["check", "--config", &text(&place.config())]));
    for expected in [
        "the password ",
        "the key ",
        "there is no program `no-such-siren`",
        "this webhook is sent unencrypted",
        "nobody tells `siren` anything",
    ] {
        assert!(said.contains(expected), "{expected}: {said}");
    }
    assert!(!said.contains("nobody tells `office`"), "{said}");
}
