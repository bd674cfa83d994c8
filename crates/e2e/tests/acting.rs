//! From what the logs show to a change, and to what became of it, by the client alone: found, remedied, rehearsed, published, watched.

use exedra_e2e::{Place, Program, client, drawn, exedra, text, until};
use reqwest::Method;
use serde_json::{Value, json};
use std::process::Output;

const PERSON: &str = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0";

/// People ask for a path of the harbour, each from an address of their own.
fn visit(program: &Program, path: &str, people: std::ops::Range<u32>) {
    let http = client();
    for person in people {
        let asked = http.get(format!("http://{}{path}", program.sites)).header("host", "harbour.example");
        let asked = asked.header("forwarded", format!("for=198.18.{}.{}", person / 250, person % 250));
        asked.header("user-agent", PERSON).send().unwrap();
    }
}

/// A folder that has moved, and people who still ask for it where it was.
fn moved(more: &str) -> (Place, Program) {
    let place = Place::new();
    for name in ["fog", "ice", "buoys"] {
        place.write(&format!("harbour/notices/{name}.html"), &format!("<title>{name}</title>"));
    }
    place.configure("");
    let config = std::fs::read_to_string(place.config()).unwrap();
    place.write("exedra.toml", &config.replacen("[service]\n", &format!("[service]\n{more}"), 1));
    let program = place.serve();
    for name in ["fog", "ice", "buoys"] {
        visit(&program, &format!("/mariners/{name}.html"), 0..12);
    }
    until("all are recorded", || (program.recorded("harbour") == 36).then_some(()));
    (place, program)
}

fn of(program: &Program, arguments: &[&str]) -> Output {
    exedra(&[arguments, &["--console", &program.console]].concat())
}

fn json(output: &Output) -> Value {
    serde_json::from_slice(&output.stdout).unwrap_or_else(|_| panic!("{}", drawn(output)))
}

#[test]
fn a_finding_becomes_a_change_and_is_gone() {
    let (place, program) = moved("");
    let config = text(&place.config());
    let found = program.command(&place, &["findings", "--as", "json"]);
    assert_eq!(found.status.code(), Some(1), "there is something: {}", drawn(&found));
    let findings = json(&found);
    let first = &findings["findings"][0];
    assert_eq!((&first["kind"], &first["people"]), (&json!("missing_page"), &json!(12)), "{findings}");
    let id = first["id"].as_str().unwrap();
    let shown = drawn(&program.command(&place, &["finding", "show", id]));
    for said in [
        "12 people did not find what they asked for",
        "/mariners/ has moved to /notices/",
        "+ redirect",
        "exedra report --site harbour",
    ] {
        assert!(shown.contains(said), "{said} in {shown}");
    }
    // The figure is that of the report, and of the log.
    let report = program.command(
        &place,
        &["report", "--as", "json", "--people", "--show", "missing", "--only", "path=/mariners/*"],
    );
    let requests: u64 = json(&report)["tables"]["missing"]["rows"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| row["requests"].as_u64().unwrap())
        .sum();
    assert_eq!(first["requests"], requests);
    assert_eq!(
        place
            .log("harbour")
            .iter()
            .filter(|line| line.contains("/mariners/") && line.contains(" 404 "))
            .count() as u64,
        requests
    );

    let changed = text(&place.path("changed.toml"));
    let written = program.command(&place, &["finding", "remedy", id, "--to", &changed]);
    assert!(written.status.success(), "{}", drawn(&written));
    let rehearsed = of(&program, &["rehearse", "--config", &changed]);
    assert!(
        rehearsed.status.success()
            && drawn(&rehearsed).contains("Found, was missing  36 requests  12 people"),
        "{}",
        drawn(&rehearsed)
    );
    let published = of(&program, &["publish", "--config", &changed, "--reason", "the notices moved"]);
    assert!(
        published.status.success() && drawn(&published).contains("revision 2 is in force"),
        "{}",
        drawn(&published)
    );
    assert_eq!(std::fs::read_to_string(&config).unwrap(), std::fs::read_to_string(&changed).unwrap());
    let answer = client()
        .get(format!("http://{}/mariners/fog.html", program.sites))
        .header("host", "harbour.example")
        .send()
        .unwrap();
    assert_eq!(
        (
            answer.status().as_u16(),
            answer.headers()["location"].to_str().unwrap().ends_with("/notices/fog.html")
        ),
        (307, true)
    );
    let again = program.command(&place, &["findings"]);
    assert!(
        again.status.success() && drawn(&again).contains("Nothing deserves attention"),
        "{}",
        drawn(&again)
    );

    visit(&program, "/mariners/ice.html", 0..5);
    let effect = until("the effect is seen", || {
        let effect = json(&program.command(&place, &["effect", "--as", "json"]));
        let row = effect["table"]["rows"][0].clone();
        (row["requests"].as_u64() >= Some(6)).then_some((effect, row))
    });
    let (effect, row) = effect;
    assert_eq!((&row["failing"], &row["promised"]), (&json!(0), &json!(0)), "{effect}");
    assert_eq!(
        (&effect["publication"]["reason"], &effect["publication"]["in_force"]),
        (&json!("the notices moved"), &json!(true))
    );
    let listed = drawn(&program.command(&place, &["publications"]));
    assert!(listed.contains("the notices moved") && listed.contains("watched"), "{listed}");
}

#[test]
fn what_is_set_aside_is_not_told_until_it_should_be() {
    let (place, program) = moved("");
    let first = |program: &Program| json(&program.command(&place, &["findings", "--as", "json"]));
    let id = first(&program)["findings"][0]["id"].as_str().unwrap().to_owned();
    let aside = ["finding", "set-aside", &id, "--reason", "known", "--until-doubled"];
    let told = program.command(&place, &aside);
    assert!(told.status.success() && drawn(&told).contains("until it doubles"), "{}", drawn(&told));
    let after = first(&program);
    assert!(after["findings"].as_array().unwrap().is_empty(), "{after}");
    assert_eq!(
        (&after["set_aside"][0]["reason"], &after["set_aside"][0]["is_found"]),
        (&json!("known"), &json!(true))
    );
    let asked = drawn(&program.command(&place, &["finding", "show", &id]));
    assert!(asked.contains("is set aside until it doubles (known)"), "{asked}");
    // Twice as many people, and it is told again; a minute is how long what was found is remembered.
    let narrowed = ["findings", "--as", "json", "--only", "path=/mariners/*"];
    for name in ["fog", "ice", "buoys"] {
        visit(&program, &format!("/mariners/{name}.html"), 100..113);
    }
    until("all are recorded", || (program.recorded("harbour") == 36 + 39).then_some(()));
    let doubled = json(&program.command(&place, &narrowed));
    assert_eq!(
        (&doubled["findings"][0]["id"], &doubled["findings"][0]["people"]),
        (&json!(id), &json!(25)),
        "{doubled}"
    );
    assert!(program.command(&place, &["finding", "bring-back", &id]).status.success());
    let wrong = program.command(&place, &["finding", "bring-back", &id]);
    assert!(!wrong.status.success() && drawn(&wrong).contains("no finding"), "{}", drawn(&wrong));
    let near = program.command(&place, &["finding", "show", &format!("{id}x")]);
    assert!(drawn(&near).contains("did you mean"), "{}", drawn(&near));
    let hasty = program.call(Method::POST, &format!("findings/{id}/aside"), Some(&json!({ "reason": " " })));
    assert_eq!(hasty.status(), 400);
}

/// A change rehearsed on too little, and then people come whom it does harm.
#[test]
fn a_change_that_fails_more_than_promised_is_said_and_taken_back() {
    for (setting, state) in [("", "failing"), ("take_back = true\n", "taken back")] {
        let (place, program) = moved(setting);
        let before = std::fs::read_to_string(place.config()).unwrap();
        visit(&program, "/", 0..40);
        visit(&program, "/tides/today.html", 0..40);
        until("all are recorded", || (program.recorded("harbour") == 116).then_some(()));
        let rule =
            "\n[[site.rules]]\npath = \"/tides/{*}\"\nserve = \"/nowhere\"\n\n[[site]]\nname = \"lamp\"";
        place.write("changed.toml", &before.replace("\n[[site]]\nname = \"lamp\"", rule));
        let changed = text(&place.path("changed.toml"));
        let published =
            of(&program, &["publish", "--config", &changed, "--reason", "a bad day", "--only", "path=/"]);
        assert!(published.status.success(), "{}", drawn(&published));
        // What was missing before is not the change's doing, and neither told nor counted.
        visit(&program, "/mariners/fog.html", 0..30);
        until("it is seen", || {
            visit(&program, "/tides/today.html", 0..30);
            let all = json(&program.command(&place, &["publications", "--as", "json"]));
            (all[0]["state"] == state).then_some(())
        });
        let told = json(&program.command(&place, &["publications", "--as", "json"]));
        assert!(
            told[0]["said"].as_str().unwrap().contains("requests failed since it was published"),
            "{told}"
        );
        let text = std::fs::read_to_string(place.config()).unwrap();
        assert_eq!(text == before, state == "taken back", "{told}");
        if state == "taken back" {
            let answer = client()
                .get(format!("http://{}/tides/today.html", program.sites))
                .header("host", "harbour.example")
                .send()
                .unwrap();
            assert_eq!(answer.status(), 200, "it is there again");
        }
    }
}

/// Whoever would be worse off is asked about first; what is wrong is never published.
#[test]
fn nothing_is_published_unseen() {
    let (place, program) = moved("");
    let before = std::fs::read_to_string(place.config()).unwrap();
    visit(&program, "/tides/today.html", 0..3);
    until("all are recorded", || (program.recorded("harbour") == 39).then_some(()));
    let with = |rule: &str| {
        let rule = format!("\n[[site.rules]]\n{rule}\n\n[[site]]\nname = \"lamp\"");
        place.write("changed.toml", &before.replace("\n[[site]]\nname = \"lamp\"", &rule));
        text(&place.path("changed.toml"))
    };
    let refused = of(&program, &["publish", "--config", &with("path = \"/tides/{*}\"\nrefuse = 403")]);
    assert!(!refused.status.success() && drawn(&refused).contains("--anyway"), "{}", drawn(&refused));
    let mistaken = of(&program, &["publish", "--config", &with("redirekt = \"/\""), "--anyway"]);
    assert!(
        !mistaken.status.success() && drawn(&mistaken).contains("did you mean `redirect`?"),
        "{}",
        drawn(&mistaken)
    );
    assert_eq!(std::fs::read_to_string(place.config()).unwrap(), before);
    assert_eq!(program.api("revisions").as_array().unwrap().len(), 1);
    let anyway =
        of(&program, &["publish", "--config", &with("path = \"/tides/{*}\"\nrefuse = 403"), "--anyway"]);
    assert!(anyway.status.success(), "{}", drawn(&anyway));
    let back = program.command(&place, &["restore", "1"]);
    assert!(back.status.success(), "{}", drawn(&back));
    let told = program.api("publications");
    assert_eq!((&told[0]["state"], &told[0]["in_force"]), (&json!("taken back"), &json!(false)), "{told}");
    assert!(told[0]["said"].as_str().unwrap().contains("revision 1 is in force again"), "{told}");
}
