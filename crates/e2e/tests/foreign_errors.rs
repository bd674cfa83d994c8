//! `exedra errors SOURCE…`: error logs of other servers, beside their access logs.

use exedra_e2e::{drawn, exedra, text};
use rstest::rstest;
use serde_json::Value;
use std::path::Path;

/// When, in seconds after five, a client and a path: three times one, twice another.
const EVENTS: [(u32, &str, &str); 5] = [
    (1, "192.0.2.1", "/old/berths.html"),
    (2, "192.0.2.2", "/old/berths.html"),
    (3, "192.0.2.1", "/fog.html"),
    (4, "192.0.2.1", "/old/berths.html"),
    (5, "192.0.2.9", "/fog.html"),
];

type Form = fn(u32, &str, &str) -> String;

const LOGS: [(&str, Form); 4] = [
    ("plain", |second, client, path| {
        format!(
            "2026/11/14 05:00:0{second} [error] <812> #{second} nothing at \"/srv/www{path}\" (not found), client: {client}, host: \"a.example\", request: \"GET {path} HTTP/1.1\", referrer: \"https://b.example/links\"\n"
        )
    }),
    ("brackets", |second, client, path| {
        format!(
            "[Sat Nov 14 05:00:0{second}.123456 2026] [files:error] [pid 81{second}] [client {client}:5123{second}] nothing lies at: /srv/www{path}, referrer: https://b.example/links\n"
        )
    }),
    ("traces", |second, client, path| {
        format!(
            "2026-11-14 05:00:0{second},250 ERROR [http-{second}] handler - uri={path} client={client} no such thing referer=https://b.example/links\n\tat one\n\tat two\n"
        )
    }),
    ("json", |second, client, path| {
        format!(
            "{{\"ts\":\"2026-11-14T05:00:0{second}Z\",\"level\":\"error\",\"msg\":\"no such thing\",\"request\":{{\"remote_ip\":\"{client}\",\"uri\":\"{path}\",\"headers\":{{\"Referer\":[\"x\"]}}}}}}\n"
        )
    }),
];

fn write(folder: &Path, form: Form) -> String {
    let path = folder.join("errors.log");
    let lines: String = EVENTS.iter().map(|(second, client, asked)| form(*second, client, asked)).collect();
    std::fs::write(&path, lines).unwrap();
    text(&path)
}

fn told(arguments: &[&str]) -> Vec<Value> {
    let output = exedra(&[&["errors", "--as", "json"], arguments].concat());
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).unwrap()
}

/// How often, for which path or file, by how many.
fn figures(told: &[Value]) -> Vec<(u64, String, usize)> {
    let figure = |one: &Value| {
        let path = one["path"].as_str().or(one["looked_for"].as_str()).unwrap();
        let path = path.strip_prefix("/srv/www").unwrap_or(path).to_owned();
        (one["times"].as_u64().unwrap(), path, one["clients"].as_array().unwrap().len())
    };
    told.iter().map(figure).collect()
}

#[test]
fn what_is_the_same_is_put_together_in_whatever_form_it_is_written() {
    let folder = tempfile::tempdir().unwrap();
    for (name, form) in LOGS {
        let path = write(folder.path(), form);
        let all = told(&[&path]);
        let expected = [(3, "/old/berths.html".to_owned(), 2), (2, "/fog.html".to_owned(), 2)];
        assert_eq!(figures(&all), expected, "{name}: {all:?}");
        assert_eq!(
            (&all[0]["level"], all[0]["first"].as_str().unwrap().get(..19)),
            (&"error".into(), Some("2026-11-14T05:00:01"))
        );
        if name == "traces" {
            assert_eq!(all[0]["more_lines"].as_array().unwrap().len(), 2);
        }
        if name != "json" {
            assert_eq!(all[0]["referrers"][0][0], "https://b.example/links", "{name}");
        }
        let page = drawn(&exedra(&["errors", &path]));
        assert!(page.starts_with("5 events in 1 error log, 2 different"), "{page}");
    }
}

#[rstest]
#[case::filter(&["--only", "path=/fog.html"], &[(2, "/fog.html", 2)])]
#[case::client(&["--without", "client=192.0.2.1"], &[(1, "/fog.html", 1), (1, "/old/berths.html", 1)])]
#[case::period(&["--from", "2026-11-14T05:00:04"], &[(1, "/fog.html", 1), (1, "/old/berths.html", 1)])]
fn the_same_scope_as_of_requests(#[case] scope: &[&str], #[case] expected: &[(u64, &str, usize)]) {
    let folder = tempfile::tempdir().unwrap();
    let path = write(folder.path(), LOGS[0].1);
    let expected: Vec<(u64, String, usize)> =
        expected.iter().map(|(times, path, clients)| (*times, (*path).to_owned(), *clients)).collect();
    assert_eq!(figures(&told(&[scope, &[&path]].concat())), expected);
}

#[test]
fn the_request_of_the_access_log_says_how_it_was_answered() {
    let folder = tempfile::tempdir().unwrap();
    let path = write(folder.path(), LOGS[0].1);
    let access = folder.path().join("access.log");
    let line = |(second, client, asked): &(u32, &str, &str)| {
        format!(
            "{client} - - [14/Nov/2026:05:00:0{second} +0000] \"GET {asked} HTTP/1.1\" 404 5 \"-\" \"Boat/1\"\n"
        )
    };
    std::fs::write(&access, EVENTS.iter().map(line).collect::<String>()).unwrap();
    let all = told(&[&path, &text(&access)]);
    assert!(all.iter().all(|one| one["status"] == 404), "{all:?}");
    assert!(told(&[&path]).iter().all(|one| one["status"].is_null()));
}

#[test]
fn logs_of_the_other_kind_are_named_as_that() {
    let folder = tempfile::tempdir().unwrap();
    let path = write(folder.path(), LOGS[0].1);
    let said = |arguments: &[&str]| String::from_utf8(exedra(arguments).stderr).unwrap();
    assert!(
        said(&["report", &path])
            .contains(&format!("is an error log and holds no requests: `exedra errors {path}` reads it"))
    );
    let access = folder.path().join("access.log");
    std::fs::write(&access, "192.0.2.1 - - [14/Nov/2026:05:00:01 +0000] \"GET / HTTP/1.1\" 200 5\n").unwrap();
    assert!(said(&["errors", &text(&access)]).contains("these are logs of requests"));
    let nothing = said(&["errors", "--only", "path=/nowhere", &path]);
    assert!(nothing.contains("None of 5 events fits."), "{nothing}");
}
