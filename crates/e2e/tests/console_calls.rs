//! The calls that the console is made of: allowances, errors with their causes, hours of the week, reports to download, the files
//! of the configuration, and the next real request of a browser.

use exedra_e2e::{Place, Program, client, exedra, field, row, rows, text, total, until};
use reqwest::blocking::Response;
use serde_json::{Value, json};

/// Sends something with the token of this machine's clients.
fn send(program: &Program, place: &Place, call: &str, body: &Value) -> Response {
    let token = std::fs::read_to_string(place.path("state/client.token")).unwrap();
    let url = format!("http://{}/api/v1/{call}", program.console);
    client().post(url).bearer_auth(token).json(body).send().unwrap()
}

fn sent(program: &Program, place: &Place, call: &str, body: &Value) -> Value {
    let answer = send(program, place, call, body);
    assert!(answer.status().is_success(), "{call}: {}", answer.text().unwrap());
    answer.json().unwrap()
}

/// A log of so many days up to now, with a request at each noon and one of today's first minute.
fn log_of_days(days: i64, bytes: impl Fn(&jiff::Zoned) -> u64) -> String {
    let now = jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC);
    let line = |time: &jiff::Zoned, bytes: u64| {
        format!(
            "192.0.2.7 - - [{}] \"GET /tour.wav HTTP/1.1\" 200 {bytes} \"-\" \"LindryKiosk/1.2\"\n",
            time.strftime("%d/%b/%Y:%H:%M:%S %z")
        )
    };
    let midnight = now.start_of_day().unwrap();
    let noons = (1..=days).rev().map(|ago| {
        let noon = midnight.checked_sub(jiff::Span::new().days(ago)).unwrap();
        noon.checked_add(jiff::Span::new().hours(12)).unwrap()
    });
    noons.map(|noon| line(&noon, bytes(&noon))).chain([line(&midnight, 1)]).collect()
}

#[test]
fn a_month_is_told_against_its_allowance_with_what_is_expected() {
    let place = Place::new();
    let log = place.path("past.log");
    place.write("past.log", &log_of_days(60, |_| 1_000_000));
    place.configure("allowance = \"2 MB\"\n");
    let program = place.serve();
    let imported = program.command(&place, &["import", "--site", "lamp", &text(&log)]);
    assert!(imported.status.success(), "{}", String::from_utf8_lossy(&imported.stderr));
    until("all are recorded", || (program.recorded("lamp") == 61).then_some(()));

    let all = program.api("allowances");
    assert_eq!(all["of"].as_array().unwrap().len(), 2, "all together, and the one with an allowance");
    assert_eq!(all["of"][0]["allowance"], Value::Null);
    let month = &all["of"][1];
    assert_eq!((&month["site"], &month["allowance"]), (&json!("lamp"), &json!(2_000_000)));
    let now = jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC);
    let (day, length) = (now.day() as u64, now.date().last_of_month().day() as u64);
    assert_eq!(month["sent"], (day - 1) * 1_000_000 + 1);
    assert_eq!(month["sent"], all["of"][0]["sent"]);
    // Every day sends the same, at noon: what is left of today is a megabyte or nothing.
    let expected = month["forecast"]["expected"].as_u64().unwrap();
    let whole = length * 1_000_000;
    assert!((whole - 1_000_001..=whole + 1).contains(&expected), "{expected} of {whole}");
    let [least, most] = ["least", "most"].map(|name| month["forecast"][name].as_u64().unwrap());
    assert!(least <= expected && expected <= most && most - least < 100_000, "{least} {expected} {most}");
    let third = now.date().first_of_month().checked_add(jiff::Span::new().days(2)).unwrap().to_string();
    assert_eq!(month["forecast"]["runs_out"], third);
    let days = month["days"]["rows"].as_array().unwrap();
    assert_eq!(days.len() as u64, length);
    assert_eq!(days[length as usize - 1]["expected"], expected);

    let told = program.command(&place, &["allowance", "--site", "lamp"]);
    let words = String::from_utf8(told.stdout).unwrap();
    assert!(words.starts_with("lamp  ") && words.contains("of 2.00 MB sent"), "{words}");
    let end = if day > 3 {
        "more has been sent than is allowed".to_owned()
    } else {
        format!("runs out about {third}")
    };
    assert!(words.contains(&end), "{words}");

    // A site without one is told what is expected all the same.
    let harbour = program.api("allowances?site=harbour");
    assert_eq!((&harbour["of"][0]["site"], &harbour["of"][0]["sent"]), (&json!("harbour"), &json!(0)));
    assert_eq!(harbour["of"][0]["forecast"], Value::Null, "nothing is known of it");
    let wrong = std::fs::read_to_string(place.config()).unwrap().replace("\"2 MB\"", "\"2 crates\"");
    place.write("wrong.toml", &wrong);
    let checked = exedra(&["check", "--config", &text(&place.path("wrong.toml"))]);
    let words = [checked.stdout, checked.stderr].concat();
    let words = String::from_utf8_lossy(&words);
    assert!(!checked.status.success() && words.contains("`2 crates` is not a size"), "{words}");
}

#[test]
fn hours_of_the_week_are_a_scope_like_any_other() {
    let place = Place::new();
    let program = place.serve();
    // 2026-09-14 was a Monday.
    let times =
        ["14/Sep/2026:07:59:59", "14/Sep/2026:08:00:00", "14/Sep/2026:08:59:59", "15/Sep/2026:08:30:00"];
    let line = |time: &&str| {
        format!("192.0.2.7 - - [{time} +0000] \"GET / HTTP/1.1\" 200 7 \"-\" \"LindryKiosk/1.2\"\n")
    };
    let log = place.path("week.log");
    place.write("week.log", &times.iter().map(line).collect::<String>());
    assert!(program.command(&place, &["import", "--site", "lamp", &text(&log)]).status.success());
    until("all are recorded", || (program.recorded("lamp") == 4).then_some(()));
    for (hours, wanted) in [("Mon 8", 2), ("8", 3), ("Mon", 3), ("Mon 8&hours=Tue", 3), ("Sun", 0)] {
        let survey = program.api(&format!("survey?site=lamp&hours={}", hours.replace(' ', "+")));
        assert_eq!(*total(&survey, "requests"), wanted, "{hours}");
        let mut arguments = vec!["report", "--as", "json"];
        let options: Vec<&str> = hours.split("&hours=").collect();
        options.iter().for_each(|hours| arguments.extend(["--hours", hours]));
        let path = text(&log);
        arguments.push(&path);
        let report: Value = serde_json::from_slice(&exedra(&arguments).stdout).unwrap();
        assert_eq!(*total(&report, "requests"), wanted, "{hours}");
    }
    let answer = client().get(format!("http://{}/api/v1/survey?hours=noon", program.console));
    let token = std::fs::read_to_string(place.path("state/client.token")).unwrap();
    let answer = answer.bearer_auth(token).send().unwrap();
    assert_eq!(answer.status(), 400);
    assert!(answer.text().unwrap().contains("`noon` is no hour of the week"));
}

#[test]
fn errors_tell_their_causes_by_the_same_scope_as_requests() {
    let place = Place::new();
    let program = place.serve();
    for client in ["192.0.2.1", "192.0.2.2", "192.0.2.2"] {
        let client = format!("for={client}");
        let fields = [("Forwarded", client.as_str()), ("Referer", "https://forum.example/thread")];
        program.ask("harbour.example", "/lost?x=1", &fields).text().unwrap();
    }
    program.get("lamp.example", "/gone.html").text().unwrap();
    let errors = |scope: &str| program.api(&format!("errors?{scope}"));
    let all = until("all are written", || Some(errors("")).filter(|errors| errors["looked_at"] == 4));
    let found = rows_of(&all);
    assert_eq!(found.len(), 2);
    assert_eq!(
        (&found[0]["path"], &found[0]["times"], &found[0]["site"]),
        (&json!("/lost"), &json!(3), &json!("harbour"))
    );
    assert!(found[0]["cause"].as_str().unwrap().contains("there is nothing"), "{}", found[0]);
    assert!(found[0]["file"].as_str().unwrap().ends_with("harbour/lost"), "{}", found[0]);
    assert_eq!(
        all["table"]["details"][0][0],
        json!({ "count": 3, "label": "linked from", "text": "https://forum.example/thread" })
    );
    assert_eq!(all["table"]["total"]["times"], 4);
    for (scope, looked_at) in [
        ("site=lamp", 1),
        ("only=path%3D/lost", 3),
        ("only=status%3D5xx", 0),
        ("until=2020-01-01", 0),
        ("without=status%3D404", 0),
    ] {
        assert_eq!(errors(scope)["looked_at"], looked_at, "{scope}");
    }
    // The client tells the same.
    let told = exedra(&["errors", "--config", &text(&place.config())]);
    let words = String::from_utf8(told.stdout).unwrap();
    assert!(words.contains("3 times") && words.contains("harbour/lost"), "{words}");
}

fn rows_of(errors: &Value) -> Vec<Value> {
    errors["table"]["rows"].as_array().unwrap().clone()
}

#[test]
fn a_scope_is_downloaded_in_three_forms_with_addresses_cut() {
    let place = Place::new();
    let program = place.serve();
    for client in ["203.0.113.77", "203.0.113.78"] {
        program
            .ask("harbour.example", "/tides/today.html", &[("Forwarded", &format!("for={client}"))])
            .text()
            .unwrap();
    }
    until("both are recorded", || (program.recorded("harbour") == 2).then_some(()));
    let token = std::fs::read_to_string(place.path("state/client.token")).unwrap();
    let take = |call: &str| {
        let url = format!("http://{}/api/v1/report/{call}", program.console);
        client().get(url).bearer_auth(&token).send().unwrap()
    };
    let page = take("html?site=harbour&mask=true");
    assert_eq!(field(&page, "content-type"), "text/html; charset=utf-8");
    assert_eq!(field(&page, "content-disposition"), "attachment; filename=\"report-harbour.html\"");
    let page = page.text().unwrap();
    assert!(
        page.contains("/tides/today.html") && page.contains("203.0.113.0") && !page.contains("203.0.113.77")
    );
    let json: Value = take("json?site=harbour").json().unwrap();
    assert_eq!(json["tables"], program.api("survey?site=harbour")["tables"]);
    let list = take("csv?show=clients&mask");
    assert_eq!(field(&list, "content-type"), "text/csv; charset=utf-8");
    let lines = list.text().unwrap();
    assert!(
        lines.starts_with("client,") && lines.contains("203.0.113.0") && !lines.contains(".77"),
        "{lines}"
    );
    let whole = take("csv");
    assert_eq!(whole.status(), 400);
    assert!(whole.text().unwrap().contains("show=paths"));
    assert_eq!(take("pdf").status(), 400);
}

#[test]
fn files_are_checked_published_and_taken_back_and_nobodys_change_is_lost() {
    let place = Place::new();
    place.configure("");
    let program = place.serve();
    let files = program.api("configuration");
    assert_eq!((&files["revision"], files["files"].as_array().unwrap().len()), (&json!(1), 1));
    let file = &files["files"][0];
    assert_eq!(file["text"], file["in_force"]);
    let (name, before) = (file["name"].as_str().unwrap(), file["text"].as_str().unwrap());
    let draft = |text: &str, version: &Value| json!({ "files": [{ "name": name, "text": text, "version": version }] });

    // What is wrong is found before anything is written, at its place.
    let wrong = before.replace("main_host", "main_hots");
    let checked = sent(&program, &place, "configuration/check", &draft(&wrong, &Value::Null));
    assert_eq!(checked["is_sound"], false);
    let found = &checked["found"][0];
    let line = 1 + before.lines().position(|line| line.starts_with("main_host")).unwrap();
    assert_eq!(
        (&found["severity"], &found["line"], &found["column"]),
        (&json!("error"), &json!(line), &json!(1))
    );
    assert!(found["remedy"].as_str().unwrap().contains("main_host"), "{found}");
    let published = sent(&program, &place, "configuration", &draft(&wrong, &file["version"]));
    assert_eq!(published["in_force"], false);
    assert!(published["reason"].as_str().unwrap().contains("one mistake"), "{published}");
    assert_eq!(std::fs::read_to_string(place.config()).unwrap(), before, "the file stays as it was");

    // A rule is written into the text, checked, and published: in force at once, nothing else touched.
    let rule = json!({ "site": "lamp", "name": "moved", "path": "/old/{rest*}",
                       "does": { "kind": "redirect", "to": "/{rest}", "status": 308 } });
    let written = sent(&program, &place, "configuration/rules", &rule);
    let after = written["text"].as_str().unwrap();
    assert!(after.starts_with(before.trim_end()), "{after}");
    assert_eq!(after.lines().nth(written["line"].as_u64().unwrap() as usize - 1), Some("[[site.rules]]"));
    assert_eq!(std::fs::read_to_string(place.config()).unwrap(), before, "nothing is saved yet");
    assert_eq!(program.get("lamp.example", "/old/oil").status(), 404);
    let checked = sent(&program, &place, "configuration/check", &draft(after, &Value::Null));
    assert_eq!(checked["is_sound"], true, "{checked}");
    let published = sent(&program, &place, "configuration", &draft(after, &file["version"]));
    assert_eq!((&published["in_force"], &published["revision"]), (&json!(true), &json!(2)));
    let moved = program.get("lamp.example", "/old/oil");
    assert_eq!((moved.status().as_u16(), field(&moved, "location")), (308, "http://lamp.example/oil"));

    // Whoever began before that does not write over it.
    let stale = send(&program, &place, "configuration", &draft(before, &file["version"]));
    assert_eq!(stale.status(), 409);
    assert!(stale.text().unwrap().contains("has been changed since"));
    let blind = send(&program, &place, "configuration", &draft(before, &Value::Null));
    assert_eq!(blind.status(), 400);
    let foreign = json!({ "files": [{ "name": "/etc/hostname", "text": "x", "version": "y" }] });
    for call in ["configuration", "configuration/check"] {
        let refused = send(&program, &place, call, &foreign);
        assert_eq!(refused.status(), 400, "{call}");
        assert!(refused.text().unwrap().contains("is no file of the configuration"), "{call}");
    }

    // What was in force can be read, and brought back.
    let first = program.api("revisions/1");
    assert_eq!(first["files"][0]["text"], before);
    let back = sent(&program, &place, "revisions/1/restore", &json!({}));
    assert_eq!(back["in_force"], true);
    assert_eq!(program.get("lamp.example", "/old/oil").status(), 404);
    assert_eq!(std::fs::read_to_string(place.config()).unwrap(), before);
    let changes = program.api("changes");
    let what: Vec<&str> = rows_named(&changes, "what");
    assert!(what.contains(&"POST /configuration"), "{what:?}");
    assert!(!what.iter().any(|what| what.ends_with("/check") || what.ends_with("/rules")), "{what:?}");

    let none = json!({ "site": "lighthouse", "path": "/", "does": { "kind": "gone" } });
    assert!(send(&program, &place, "configuration/rules", &none).text().unwrap().contains("`lighthouse`"));
}

fn rows_named<'c>(changes: &'c Value, name: &str) -> Vec<&'c str> {
    changes.as_array().unwrap().iter().filter_map(|change| change[name].as_str()).collect()
}

#[test]
fn the_next_real_request_is_told_once_with_all_its_facts() {
    let place = Place::new();
    place
        .configure("[[site.rules]]\nname = \"kiosks\"\nwhen = { agent = \"LindryKiosk/*\" }\nrefuse = 403\n");
    let program = place.serve();
    let port = program.sites.rsplit(':').next().unwrap();
    let url = format!("http://lamp.example:{port}/tides/?day=1");
    let begun = sent(&program, &place, "trials", &json!({ "url": url }));
    let address = begun["address"].as_str().unwrap();
    let target = address.strip_prefix(&format!("http://lamp.example:{port}")).unwrap();
    assert!(target.ends_with("/tides/?day=1"), "{address}");
    let id = begun["id"].as_str().unwrap();
    assert_eq!(program.api(&format!("trials/{id}"))["explanation"], Value::Null);
    // Nothing of an address tells another one.
    assert_eq!(program.get("lamp.example", "/.trial/0123456789abcdef/tides/").status(), 404);

    let fields =
        [("User-Agent", "LindryKiosk/1.2"), ("Forwarded", "for=203.0.113.9"), ("Cookie", "tongue=fo; x=<b>")];
    let told = program.ask("lamp.example", target, &fields);
    assert_eq!((told.status().as_u16(), field(&told, "cache-control")), (200, "no-store"));
    let page = told.text().unwrap();
    assert!(page.contains("403") && page.contains("kiosks") && page.contains("203.0.113.9"), "{page}");
    assert!(page.contains("&lt;b&gt;") && !page.contains("<b>x"), "{page}");
    let explanation = &program.api(&format!("trials/{id}"))["explanation"];
    let fact = |name: &str| {
        let facts = explanation["facts"].as_array().unwrap().iter();
        facts.clone().find(|fact| fact["name"] == name).map(|fact| fact["value"].clone()).unwrap()
    };
    assert_eq!(
        (fact("path"), fact("query"), fact("client")),
        (json!("/tides/"), json!("day=1"), json!("203.0.113.9"))
    );
    assert_eq!((fact("cookie:tongue"), fact("protocol")), (json!("fo"), json!("HTTP/1.1")));
    assert_eq!((&explanation["answer"]["status"], &explanation["site"]), (&json!(403), &json!("lamp")));

    // It works once; whoever comes later finds what there is under such a path.
    assert_eq!(program.ask("lamp.example", target, &[]).status(), 404);
    let unknown = send(&program, &place, "trials", &json!({ "url": "http://elsewhere.example/" }));
    assert_eq!(unknown.status(), 400);
    assert!(unknown.text().unwrap().contains("no site answers to `elsewhere.example`"));
}

#[test]
fn logs_of_several_machines_are_told_apart_in_the_records() {
    let place = Place::new();
    let program = place.serve();
    for (server, days) in [("quay", 2), ("mole", 4)] {
        let log = place.path(&format!("{server}.log"));
        place.write(&format!("{server}.log"), &log_of_days(days, |_| 10));
        let source = format!("{server}={}", text(&log));
        assert!(program.command(&place, &["import", "--site", "lamp", &source]).status.success());
    }
    until("all are recorded", || (program.recorded("lamp") == 8).then_some(()));
    for (server, wanted) in [("quay", 3), ("mole", 5), ("pier", 0)] {
        assert_eq!(*total(&program.api(&format!("survey?server={server}")), "requests"), wanted, "{server}");
    }
    let sources = program.api("sources?site=lamp");
    let servers: Vec<&str> = rows_named(&sources, "server");
    assert!(servers.contains(&"quay") && servers.contains(&"mole") && servers.len() == 2, "{servers:?}");
}

/// Requests of several sites are told apart also where their days are closed and counted once for all.
#[test]
fn sites_are_told_apart_in_what_is_recorded() {
    let place = Place::new();
    let program = place.serve();
    for (site, days) in [("harbour", 3), ("lamp", 5)] {
        let log = place.path(&format!("{site}-past.log"));
        place.write(&format!("{site}-past.log"), &log_of_days(days, |_| 10));
        assert!(program.command(&place, &["import", "--site", site, &text(&log)]).status.success());
    }
    let told = until("both are told", || {
        let survey = program.api("survey?show=sites");
        (rows(&survey, "sites").len() == 2).then_some(survey)
    });
    let of = |site: &str| row(&told, "sites", "site", site)["requests"].clone();
    assert_eq!((of("harbour"), of("lamp")), (json!(4), json!(6)));
    let alone = program.api("survey?show=sites&site=lamp");
    assert_eq!(rows(&alone, "sites").len(), 1);
}
