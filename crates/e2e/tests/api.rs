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
    client().get(format!("http://{}/api/openapi.json", program.console)).send().unwrap().json().unwrap()
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
fn body_of(path: &str) -> Option<Value> {
    (path == "/api/explain").then(|| json!({ "url": "http://harbour.example/tides/today.html" }))
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
    assert!(calls.len() >= 10, "{}", calls.len());
    for (method, path, described) in calls {
        let path = path.replace("{number}", "1");
        let answer = call(&program, &place, method.clone(), &path, body_of(&path).as_ref());
        let status = answer.status().as_u16().to_string();
        let promised = &described["responses"][&status];
        assert!(promised.is_object(), "{method} {path}: {status} is not among {}", described["responses"]);
        assert!(answer.status().is_success(), "{method} {path}: {status}");
        assert_eq!(field(&answer, "cache-control"), "no-store", "{path}");
        let text = answer.text().unwrap();
        match promised["content"]["application/json"].get("schema") {
            None => assert_eq!(text, "", "{method} {path}"),
            Some(of) => {
                let json: Value = serde_json::from_str(&text).unwrap();
                let wrong: Vec<String> =
                    schema(&description, of).iter_errors(&json).map(|error| error.to_string()).collect();
                assert!(wrong.is_empty(), "{method} {path}: {wrong:?}");
            }
        }
    }
}

#[test]
fn whoever_is_not_known_is_told_so_by_every_call_and_nothing_else() {
    let place = Place::new();
    let program = place.serve();
    let description = description(&program);
    for (method, path, described) in calls(&description) {
        let path = path.replace("{number}", "1");
        let stranger = client().request(method.clone(), format!("http://{}{path}", program.console));
        let stranger = stranger.bearer_auth("guessed").send().unwrap();
        assert_eq!(stranger.status(), 401, "{method} {path}");
        assert_eq!(field(&stranger, "content-type"), "application/problem+json");
        let problem: Value = stranger.json().unwrap();
        let of = &described["responses"]["401"]["content"]["application/json"]["schema"];
        assert!(schema(&description, of).is_valid(&problem), "{path}: {problem}");
        assert!(problem["detail"].as_str().unwrap().contains("exedra sign-in"), "{problem}");
    }
    // What it cannot change, it has not changed.
    assert_eq!(program.api("revisions").as_array().unwrap().len(), 1);
}

#[test]
fn other_methods_and_other_calls_are_refused() {
    let place = Place::new();
    let program = place.serve();
    let description = description(&program);
    for (method, path, _) in calls(&description) {
        let path = path.replace("{number}", "1");
        let other = if method == Method::GET { Method::DELETE } else { Method::GET };
        let answer = call(&program, &place, other.clone(), &path, None);
        assert_eq!(answer.status(), 405, "{other} {path}");
    }
    let nowhere = call(&program, &place, Method::GET, "/api/surveys", None);
    assert_eq!(nowhere.status(), 404);
    assert!(nowhere.text().unwrap().contains("/api/openapi.json"));
}

#[rstest]
#[case("/api/now?sit=harbour", "did you mean `site`?")]
#[case("/api/now?last=1h", "there is: site")]
#[case("/api/now?site=harbor", "did you mean `harbour`?")]
#[case("/api/survey?lst=7+days", "did you mean `last`?")]
#[case("/api/survey?last=7+dais", "`7 dais` is not a stretch of time")]
#[case("/api/survey?day=today&day=yesterday", "`day` is given more than once")]
#[case("/api/survey?only=statsu%3D404", "did you mean `status`?")]
#[case("/api/survey?only=kind%3Dpages", "page")]
#[case("/api/survey?without=status", "is not a filter")]
#[case("/api/survey?show=pathes", "paths")]
#[case("/api/survey?top=-1", "0 to 10000")]
#[case("/api/survey?people=perhaps", "neither true nor false")]
#[case("/api/survey?step=second", "minute, hour or day")]
#[case("/api/survey?from=2026-02-30", "is not a time")]
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
        let call = client().post(format!("http://{}/api/explain", program.console)).bearer_auth(&token);
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
