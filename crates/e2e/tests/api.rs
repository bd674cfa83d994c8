//! The API as its own description says it is: every call that is described answers as described, to those who may ask; nothing
//! else is there; and what is asked wrongly is answered with what to ask instead.

use exedra_e2e::{Place, Program, client, drawn, exedra, field, text};
use reqwest::Method;
use reqwest::blocking::Response;
use rstest::rstest;
use serde_json::{Value, json};

/// A call, with the token of this machine's clients or without.
fn call(program: &Program, place: &Place, method: Method, path: &str, body: Option<&Value>) -> Response {
    let token = std::fs::read_to_string(place.path("state/client.token")).unwrap();
    let call = client().request(method, format!("http://{}{path}", program.console)).bearer_auth(token);
    let call = match body {
        Some(body) => call.header("content-type", "application/json").body(body.to_string()),
        None => call,
    };
    call.send().unwrap()
}

fn description(program: &Program) -> Value {
    client().get(format!("http://{}/api/v1/openapi.json", program.console)).send().unwrap().json().unwrap()
}

/// Calls with their methods, in the order of the description.
fn calls(description: &Value) -> Vec<(Method, String, Value)> {
    let mut all = Vec::new();
    for (path, methods) in description["paths"].as_object().unwrap() {
        for (method, described) in methods.as_object().unwrap() {
            let method = Method::from_bytes(method.to_uppercase().as_bytes()).unwrap();
            all.push((method, path.clone(), described.clone()));
        }
    }
    all
}

/// What a call sends, where it sends anything.
fn body_of(method: &Method, path: &str) -> Option<Value> {
    match (method.as_str(), path) {
        ("POST", "/api/v1/explain") => Some(json!({ "url": "http://harbour.example/tides/today.html" })),
        ("POST", "/api/v1/sign-in") => Some(json!({ "name": "anna", "password": PASSWORD })),
        ("POST", "/api/v1/me/password") => Some(json!({ "password": PASSWORD, "new": "a tide table" })),
        ("POST", "/api/v1/accounts") => {
            Some(json!({ "name": "bera", "password": PASSWORD, "role": "viewer", "sites": ["harbour"] }))
        }
        ("POST", "/api/v1/accounts/{name}") => Some(json!({ "role": "operator" })),
        ("POST", "/api/v1/imports") => Some(json!({ "site": "lamp", "name": "edge.log", "known": "{}" })),
        ("POST", "/api/v1/erasures") => Some(json!({ "client": "192.0.2.77" })),
        ("POST", "/api/v1/trials") => Some(json!({ "url": "http://harbour.example/tides/today.html" })),
        ("POST", "/api/v1/configuration" | "/api/v1/configuration/check") => Some(json!({ "files": [] })),
        ("POST", "/api/v1/configuration/rules") => {
            Some(json!({ "site": "harbour", "path": "/old", "does": { "kind": "gone" } }))
        }
        ("POST", "/api/v1/query" | "/api/v1/query/check" | "/api/v1/query/file/{form}") => {
            Some(json!({ "statement": "select path, count(*) as n from requests group by path" }))
        }
        ("POST", "/api/v1/queries") => {
            Some(json!({ "name": "anna", "statement": "select count(*) from requests" }))
        }
        ("POST", "/api/v1/configuration/alerts" | "/api/v1/alerts/trial") => Some(json!({
            "name": "tides", "figure": "number", "of": "all", "bound": "over", "value": "5", "of_last": "5 minutes"
        })),
        ("POST", "/api/v1/alerts/{name}/silence") => Some(json!({ "time": "2 hours" })),
        ("POST", "/api/v1/findings/remedies") => Some(json!({ "findings": [] })),
        ("POST", "/api/v1/findings/{id}/aside") => Some(json!({ "reason": "known" })),
        ("POST", "/api/v1/rehearsals") => Some(json!({})),
        ("POST", "/api/v1/tokens") => Some(json!({ "label": "nightly", "role": "viewer", "days": 30 })),
        _ => None,
    }
}

const PASSWORD: &str = "harbour light";

/// A path with something in the place of what it names.
fn named(path: &str) -> String {
    let path = match path {
        "/api/v1/trail" => "/api/v1/trail?client=127.0.0.1",
        "/api/v1/query/file/{form}" => "/api/v1/query/file/csv",
        "/api/v1/sites/{name}/exposures" => "/api/v1/sites/harbour/exposures",
        "/api/v1/sites/{name}/weighing" => "/api/v1/sites/harbour/weighing?sample=20%20kB",
        path => path,
    };
    path.replace("{form}", "json")
        .replace("{number}", "1")
        .replace("{revision}", "1")
        .replace("{name}", "anna")
        .replace("{id}", "nobody")
}

/// Makes an account by the client.
fn account(program: &Program, place: &Place, arguments: &[&str]) {
    let config = text(&place.config());
    let whole =
        [&["account", "add"], arguments, &["--config", &config, "--console", &program.console]].concat();
    let mut child = std::process::Command::new(exedra_e2e::program())
        .args(whole)
        .stdin(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), PASSWORD.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
}

/// Signs in as a browser does, and gives the cookie.
fn session(program: &Program, name: &str) -> String {
    let call = client().post(format!("http://{}/api/v1/sign-in", program.console));
    let call = call.header("Origin", format!("http://{}", program.console));
    let answer = call.json(&json!({ "name": name, "password": PASSWORD })).send().unwrap();
    assert_eq!(answer.status(), 204);
    let cookie = field(&answer, "set-cookie").split(';').next().unwrap().to_owned();
    assert!(cookie.starts_with("exedra_session_"), "{cookie}");
    cookie
}

/// A schema of the description as one that stands alone.
fn schema(description: &Value, of: &Value) -> jsonschema::Validator {
    let mut whole = of.clone();
    whole["components"] = description["components"].clone();
    jsonschema::validator_for(&whole).unwrap()
}

#[test]
fn every_call_that_is_described_answers_as_described() {
    let place = Place::new();
    let program = place.serve();
    for target in ["/", "/tides/today.html", "/lost"] {
        program.get("harbour.example", target).text().unwrap();
    }
    let description = description(&program);
    let calls = calls(&description);
    assert!(calls.len() >= 20, "{}", calls.len());
    account(&program, &place, &["anna"]);
    for (method, path, described) in calls {
        let answer = call(&program, &place, method.clone(), &named(&path), body_of(&method, &path).as_ref());
        let status = answer.status().as_u16().to_string();
        let promised = &described["responses"][&status];
        assert!(promised.is_object(), "{method} {path}: {status} is not among {}", described["responses"]);
        let expected = match (method.as_str(), path.as_str()) {
            // By no page of the console.
            ("POST", "/api/v1/sign-in") => 403,
            ("POST", "/api/v1/me/password") => 409,
            ("POST", "/api/v1/imports/{id}/requests") => 400,
            ("DELETE", path) if path.ends_with("{id}") => 404,
            ("GET", "/api/v1/trials/{id}" | "/api/v1/query/progress") => 404,
            ("GET", "/api/v1/imports/{id}" | "/api/v1/alerts/{name}/trial") => 404,
            (_, "/api/v1/alerts/{name}/silence" | "/api/v1/alerts/{name}/acknowledgement") => 404,
            (
                "POST",
                "/api/v1/recipients/{name}/trial"
                | "/api/v1/messages/{number}/retry"
                | "/api/v1/scheduled-reports/{name}/run",
            ) => 404,
            ("GET", "/api/v1/report-runs/{number}/file" | "/api/v1/publications/{revision}/effect") => 404,
            _ => 200,
        };
        let is_expected =
            if expected == 200 { answer.status().is_success() } else { answer.status() == expected };
        assert!(is_expected, "{method} {path}: {status}");
        if expected != 200 {
            assert_eq!(field(&answer, "content-type"), "application/problem+json", "{path}");
            assert!(
                promised["content"].get("application/problem+json").is_some(),
                "{method} {path}: {status}"
            );
            continue;
        }
        if promised["content"].get("text/event-stream").is_some() {
            assert_eq!(field(&answer, "content-type"), "text/event-stream", "{path}");
            continue;
        }
        assert_eq!(field(&answer, "cache-control"), "no-store", "{path}");
        let text = answer.text().unwrap();
        match promised["content"]["application/json"].get("schema") {
            None => {
                let is_text = promised["content"].get("text/csv").is_some();
                assert!(is_text || text.is_empty(), "{method} {path}: {text}");
            }
            Some(of) => {
                let json: Value = serde_json::from_str(&text).unwrap();
                let wrong: Vec<String> =
                    schema(&description, of).iter_errors(&json).map(|error| error.to_string()).collect();
                assert!(wrong.is_empty(), "{method} {path}: {wrong:?}");
            }
        }
    }
}

/// What is handed out in several forms is described with the media type of each.
#[test]
fn every_form_of_an_answer_is_described() {
    let place = Place::new();
    let program = place.serve();
    program.get("harbour.example", "/tides/today.html").text().unwrap();
    let description = description(&program);
    let mut tried = 0;
    for (method, path, described) in
        calls(&description).into_iter().filter(|(_, path, _)| path.contains("{form}"))
    {
        let parameters = described["parameters"].as_array().unwrap();
        let form = parameters.iter().find(|parameter| parameter["name"] == "form").unwrap();
        for form in form["schema"]["enum"].as_array().unwrap() {
            // A spreadsheet holds one section.
            let section = if path.ends_with("/report/{form}") { "?show=paths" } else { "" };
            let asked = path.replace("{form}", form.as_str().unwrap()) + section;
            let answer = call(&program, &place, method.clone(), &asked, body_of(&method, &path).as_ref());
            assert_eq!(answer.status(), 200, "{asked}");
            let media_type = field(&answer, "content-type").split(';').next().unwrap();
            let promised = &described["responses"]["200"]["content"];
            assert!(promised.get(media_type).is_some(), "{asked}: {media_type} is not among {promised}");
            tried += 1;
        }
    }
    assert!(tried >= 6, "{tried}");
}

#[test]
fn whoever_is_not_known_is_told_so_by_every_call_and_nothing_else() {
    let place = Place::new();
    let program = place.serve();
    let description = description(&program);
    for (method, path, described) in calls(&description) {
        if described.get("security").is_none() {
            assert!(
                ["/api/v1/sign-in", "/api/v1/health"].contains(&&*path),
                "{path} needs nobody to be known"
            );
            continue;
        }
        let path = named(&path);
        let stranger = client().request(method.clone(), format!("http://{}{path}", program.console));
        let stranger = stranger.bearer_auth("guessed").send().unwrap();
        assert_eq!(stranger.status(), 401, "{method} {path}");
        assert_eq!(field(&stranger, "content-type"), "application/problem+json");
        let problem: Value = stranger.json().unwrap();
        let of = &described["responses"]["401"]["content"]["application/problem+json"]["schema"];
        assert!(schema(&description, of).is_valid(&problem), "{path}: {problem}");
        assert!(problem["detail"].as_str().unwrap().contains("exedra sign-in"), "{problem}");
    }
    // What it cannot change, it has not changed.
    assert_eq!(program.api("revisions").as_array().unwrap().len(), 1);
}

/// Every call of the description, by somebody who may look at one site, from a foreign page, and under a foreign name.
#[test]
fn a_viewer_changes_nothing_and_no_foreign_page_acts() {
    let place = Place::new();
    let program = place.serve();
    account(&program, &place, &["vera", "--role", "viewer", "--site", "harbour"]);
    account(&program, &place, &["olav", "--role", "operator"]);
    let (viewer, operator) = (session(&program, "vera"), session(&program, "olav"));
    let own = format!("http://{}", program.console);
    let ask = |method: &Method, path: &str, cookie: &str, origin: &str, host: Option<&str>| {
        let call = client().request(method.clone(), format!("{own}{}", named(path)));
        let call = call.header("Cookie", cookie).header("Origin", origin);
        let call = host.into_iter().fold(call, |call, host| call.header("Host", host));
        match body_of(method, path) {
            Some(body) => call.json(&body).send().unwrap(),
            None => call.send().unwrap(),
        }
    };
    let mut tried = (0, 0);
    for (method, path, described) in calls(&description(&program)) {
        let answer = ask(&method, &path, &operator, &own, Some("attack.example"));
        assert_eq!(answer.status(), 421, "{method} {path}");
        if !method.is_safe() {
            let answer = ask(&method, &path, &operator, "http://attack.example", None);
            assert_eq!(answer.status(), 403, "{method} {path}");
        }
        // These end or begin sessions.
        if path.starts_with("/api/v1/sign-") || path == "/api/v1/me/password" {
            continue;
        }
        let answer = ask(&method, &path, &viewer, &own, None);
        let status = answer.status().as_u16();
        if described["x-role"] == "operator" {
            assert_eq!(status, 403, "{method} {path}");
            assert!(answer.text().unwrap().contains("operators"), "{path}");
            tried.0 += 1;
        } else {
            let missing = [
                "/api/v1/trials/{id}",
                "/api/v1/query/progress",
                "/api/v1/alerts/{name}/trial",
                "/api/v1/report-runs/{number}/file",
            ];
            let is_there = !missing.contains(&&*path);
            assert!(answer.status().is_success() == is_there, "{method} {path}: {status}");
            tried.1 += 1;
        }
        assert!(described["responses"][&status.to_string()].is_object(), "{method} {path}: {status}");
    }
    assert!(tried.0 >= 12 && tried.1 >= 5, "{tried:?}");
    // Only its own password may it change, and that ends its session.
    let answer = ask(&Method::POST, "/api/v1/me/password", &viewer, &own, None);
    assert_eq!(answer.status(), 204);
    assert_eq!(ask(&Method::GET, "/api/v1/me", &viewer, &own, None).status(), 401);
    let known = program.api("accounts");
    let names: Vec<&str> =
        known.as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["olav", "vera"]);
    assert_eq!(program.api("tokens").as_array().unwrap().len(), 1, "the one of this machine");
}

/// Whoever may see some sites is shown nothing of the others: neither figures nor names.
#[test]
fn a_viewer_of_one_site_sees_nothing_of_another() {
    let place = Place::new();
    let program = place.serve();
    for (host, target) in [
        ("harbour.example", "/tides/today.html"),
        ("lamp.example", "/"),
        ("lamp.example", "/nowhere"),
        ("harbour.example", "/lost"),
    ] {
        program.get(host, target).text().unwrap();
    }
    exedra_e2e::until("all are recorded", || {
        (program.recorded("lamp") == 2 && program.recorded("harbour") == 2).then_some(())
    });
    account(&program, &place, &["vera", "--site", "harbour"]);
    let cookie = session(&program, "vera");
    let ask = |call: &str| {
        let call =
            client().get(format!("http://{}/api/v1/{call}", program.console)).header("Cookie", &cookie);
        let answer = call.send().unwrap();
        (answer.status().as_u16(), answer.text().unwrap())
    };
    for call in [
        "status",
        "now",
        "survey",
        "sites",
        "me",
        "requests?columns=site,path",
        "sources",
        "errors",
        "report/json",
    ] {
        let (status, text) = ask(call);
        assert_eq!(status, 200, "{call}");
        assert!(text.contains("harbour"), "{call}");
        assert!(!text.contains("lamp"), "{call} names another site");
    }
    let survey: Value = serde_json::from_str(&ask("survey").1).unwrap();
    assert_eq!(survey["tables"]["totals"]["rows"][0]["requests"], 2);
    let (status, text) = ask("survey?site=lamp");
    assert!(status == 400 && text.contains("there is harbour"), "{text}");
}

#[test]
fn whoever_guesses_waits_and_what_was_changed_is_written_down() {
    let place = Place::new();
    let program = place.serve();
    account(&program, &place, &["olav", "--role", "operator"]);
    let guess = |password: &str| {
        let call = client().post(format!("http://{}/api/v1/sign-in", program.console));
        let call = call.header("Origin", format!("http://{}", program.console));
        call.json(&json!({ "name": "olav", "password": password })).send().unwrap()
    };
    let begun = std::time::Instant::now();
    assert_eq!(guess("tide").status(), 401);
    assert_eq!(guess("tide").status(), 401);
    assert_eq!(guess(PASSWORD).status(), 204);
    // A quarter of a second, then twice that.
    assert!(begun.elapsed().as_millis() >= 750, "{:?}", begun.elapsed());
    let changes = exedra_e2e::until("all is written down", || {
        let changes = program.api("changes");
        (changes.as_array().unwrap().len() == 2).then_some(changes)
    });
    let told: Vec<_> = changes
        .as_array()
        .unwrap()
        .iter()
        .rev()
        .map(|one| {
            (one["who"].as_str().unwrap(), one["status"].as_u64().unwrap(), one["detail"].as_str().unwrap())
        })
        .collect();
    // Whoever fails is in the error log, and does not push out what was changed.
    assert_eq!(told, [("token: this machine", 201, "olav, operator"), ("olav", 204, "signed in")]);
    assert_eq!(changes[0]["client"], "127.0.0.1");
    // By the client, as people read it.
    let listed = drawn(&program.command(&place, &["changes"]));
    assert!(listed.contains("POST sign-in") && listed.contains("signed in"), "{listed}");
    let listed = drawn(&program.command(&place, &["account", "sessions"]));
    assert!(listed.contains("olav"), "{listed}");
    drawn(&program.command(&place, &["account", "remove", "olav"]));
    assert_eq!(program.api("sessions").as_array().unwrap().len(), 0, "it ends its sessions");
}

/// A program elsewhere has a token of its own, which opens no more than it should and ends.
#[test]
fn a_token_opens_what_it_is_made_for() {
    let place = Place::new();
    let program = place.serve();
    let secret = {
        let made = program.command(&place, &["token", "add", "nightly report", "--site", "harbour"]);
        String::from_utf8(made.stdout).unwrap().trim().to_owned()
    };
    let unused = program.api("tokens");
    assert!(unused.as_array().unwrap().iter().any(|token| token["used"].is_null()), "{unused}");
    let ask = |arguments: &[&str]| {
        let all = [arguments, &["--console", &program.console]].concat();
        std::process::Command::new(exedra_e2e::program())
            .args(all)
            .env("EXEDRA_TOKEN", &secret)
            .output()
            .unwrap()
    };
    let status = ask(&["status", "--as", "json"]);
    assert!(status.status.success(), "{}", drawn(&status));
    let shown: Value = serde_json::from_slice(&status.stdout).unwrap();
    assert_eq!(shown["sites"].as_array().unwrap().len(), 1);
    let refused = ask(&["reload"]);
    assert!(
        !refused.status.success() && drawn(&refused).contains("Only operators may make this call"),
        "{}",
        drawn(&refused)
    );
    let tokens = program.api("tokens");
    let id = |label: &str| {
        let found = tokens.as_array().unwrap().iter().find(|token| token["label"] == label).unwrap();
        found["id"].as_str().unwrap().to_owned()
    };
    assert!(tokens.as_array().unwrap().iter().all(|token| token["used"].is_string()), "{tokens}");
    let own = program.command(&place, &["token", "end", &id("this machine")]);
    assert!(drawn(&own).contains("exedra sign-in --revoke"), "{}", drawn(&own));
    let id = id("nightly report");
    assert!(program.command(&place, &["token", "end", &id]).status.success());
    assert!(drawn(&ask(&["status"])).contains("Not signed in"));
}

/// Read by a parser that is not ours; whoever comes through a proxy is not here.
#[test]
fn figures_for_programs_are_open_metrics() {
    let place = Place::new();
    let program = place.serve();
    for target in ["/", "/", "/lost"] {
        program.get("harbour.example", target).text().unwrap();
    }
    exedra_e2e::until("all are recorded", || (program.recorded("harbour") == 3).then_some(()));
    let ask = |fields: &[(&str, &str)]| {
        let call = client().get(format!("http://{}/metrics", program.console));
        fields.iter().fold(call, |call, (name, value)| call.header(*name, *value)).send().unwrap()
    };
    let answer = ask(&[]);
    let media_type = field(&answer, "content-type").to_owned();
    assert_eq!(media_type, "application/openmetrics-text; version=1.0.0; charset=utf-8");
    let text = answer.text().unwrap();
    let parsed = openmetrics_parser::openmetrics::parse_openmetrics(&text).unwrap();
    assert!(parsed.families.len() >= 12 && parsed.families.contains_key("exedra_log_lost_lines"));
    for line in
        ["exedra_requests_total 3", "exedra_recorded_requests{site=\"harbour\"} 3", "exedra_troubles 0"]
    {
        assert!(text.lines().any(|one| one == line), "{line}: {text}");
    }
    assert_eq!(ask(&[("X-Forwarded-For", "192.0.2.1")]).status(), 401);
    let token = program.command(&place, &["token", "add", "watching", "--site", "lamp"]);
    let bearer = format!("Bearer {}", String::from_utf8(token.stdout).unwrap().trim());
    let of_lamp = ask(&[("X-Forwarded-For", "192.0.2.1"), ("Authorization", &bearer)]).text().unwrap();
    assert!(of_lamp.contains("site=\"lamp\"") && !of_lamp.contains("harbour"));
}

#[test]
fn other_methods_and_other_calls_are_refused() {
    let place = Place::new();
    let program = place.serve();
    let description = description(&program);
    for (_, path, _) in calls(&description) {
        let answer = call(&program, &place, Method::PATCH, &named(&path), None);
        assert_eq!(answer.status(), 405, "{path}");
    }
    let nowhere = call(&program, &place, Method::GET, "/api/v1/surveys", None);
    assert_eq!(nowhere.status(), 404);
    assert!(nowhere.text().unwrap().contains("/api/v1/openapi.json"));
}

#[rstest]
#[case("/api/v1/now?sit=harbour", "did you mean `site`?")]
#[case("/api/v1/now?last=1h", "there is: site")]
#[case("/api/v1/now?site=harbor", "did you mean `harbour`?")]
#[case("/api/v1/survey?lst=7+days", "did you mean `last`?")]
#[case("/api/v1/survey?last=7+dais", "`7 dais` is not a stretch of time")]
#[case("/api/v1/survey?day=today&day=yesterday", "`day` is given more than once")]
#[case("/api/v1/survey?only=statsu%3D404", "did you mean `status`?")]
#[case("/api/v1/survey?only=kind%3Dpages", "page")]
#[case("/api/v1/survey?without=status", "is not a filter")]
#[case("/api/v1/survey?show=pathes", "paths")]
#[case("/api/v1/survey?top=-1", "0 to 10000")]
#[case("/api/v1/survey?people=perhaps", "neither true nor false")]
#[case("/api/v1/survey?step=second", "minute, hour or day")]
#[case("/api/v1/survey?from=2026-02-30", "is not a time")]
fn what_is_asked_wrongly_is_answered_with_what_to_ask_instead(#[case] path: &str, #[case] words: &str) {
    let place = Place::new();
    let program = place.serve();
    let answer = call(&program, &place, Method::GET, path, None);
    assert_eq!(answer.status(), 400, "{path}");
    let problem: Value = answer.json().unwrap();
    assert!(problem["detail"].as_str().unwrap().contains(words), "{problem}");
}

#[test]
fn a_call_asks_in_the_words_of_the_clients_options_and_says_the_same() {
    let place = Place::new();
    let program = place.serve();
    for target in ["/", "/", "/tides/today.html", "/lost", "/lost?again", "/notes.txt"] {
        program.get("harbour.example", target).text().unwrap();
    }
    exedra_e2e::until("all are recorded", || (program.recorded("harbour") == 6).then_some(()));
    let config = text(&place.config());
    for (query, options) in [
        ("only=status%3D404", &["--only", "status=404"][..]),
        ("only=status%3D404&only=path%3D/lost", &["--only", "status=404", "--only", "path=/lost"]),
        ("without=path%3D*.txt&last=2h", &["--without", "path=*.txt", "--last", "2h"]),
        (
            "day=today&show=totals&show=statuses",
            &["--day", "today", "--show", "totals", "--show", "statuses"],
        ),
    ] {
        let called = program.api(&format!("survey?site=harbour&{query}"));
        let mut arguments = vec!["report", "harbour", "--config", &config, "--as", "json"];
        arguments.extend(options);
        let printed = exedra(&arguments);
        assert!(printed.status.success(), "{}", drawn(&printed));
        let printed: Value = serde_json::from_slice(&printed.stdout).unwrap();
        for table in ["totals", "statuses"] {
            assert_eq!(called["tables"][table]["rows"], printed["tables"][table]["rows"], "{query}");
        }
    }
}

#[test]
fn a_body_that_cannot_be_read_is_refused_and_harms_nobody() {
    let place = Place::new();
    let program = place.serve();
    let token = std::fs::read_to_string(place.path("state/client.token")).unwrap();
    let huge = format!("{{\"url\": \"http://harbour.example/{}\"}}", "a".repeat(8 << 20));
    for (body, media_type, expected) in [
        ("{\"url\": 7}", "application/json", 422),
        ("{\"url\"", "application/json", 400),
        ("url=x", "application/x-www-form-urlencoded", 415),
        (huge.as_str(), "application/json", 413),
    ] {
        let call = client().post(format!("http://{}/api/v1/explain", program.console)).bearer_auth(&token);
        let answer = call.header("content-type", media_type).body(body.to_owned()).send();
        // Whoever is refused for the length of what it sends may find the connection closed under it.
        if let Ok(answer) = answer {
            assert_eq!(answer.status(), expected, "{media_type} of {} octets", body.len());
            assert_eq!(field(&answer, "content-type"), "application/problem+json");
            let problem: Value = answer.json().unwrap();
            assert!(!problem["detail"].as_str().unwrap().is_empty(), "{problem}");
        }
    }
    assert_eq!(program.api("status")["sites"].as_array().unwrap().len(), 2);
}
