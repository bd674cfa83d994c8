//! Statements that ask for more than any machine has, one after the other, over the records of the demo: each is answered or refused
//! with a sentence, none makes the service grow past what questions may have, and the sites answer all the while.

use exedra_e2e::town::Town;
use reqwest::Method;
use serde_json::{Value, json};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

/// What the service may have at most, with its caches and what it keeps of the records, in octets.
const MOST: u64 = 1 << 30;

/// The name of each, and the statement.
fn hostile() -> Vec<(&'static str, String)> {
    let long = "y".repeat(30_000);
    let columns = |many: usize, each: &str| -> String {
        let all: Vec<String> = (0..many).map(|nth| format!("{each} as c{nth}")).collect();
        all.join(",")
    };
    let doubled = |first: &str, line: &str| -> String {
        let each =
            (1..60).map(|nth| format!(", t{nth} as ({})", line.replace("LAST", &format!("t{}", nth - 1))));
        format!("with t0 as ({first}){} select count(*) as n from t59", each.collect::<String>())
    };
    let of = |name, statement: &str| (name, statement.to_owned());
    vec![
        ("columns", format!("select {} from requests", columns(2_000, "path"))),
        ("figures", format!("select {} from requests", columns(1_500, "status"))),
        ("computed columns", format!("select {} from requests", columns(700, "upper(path) || agent"))),
        ("a long text", format!("select path, '{long}' as t from requests")),
        (
            "a long text in a case",
            format!("select max(case when status = 404 then '{long}' else path end) as t from requests"),
        ),
        (
            "a long text before the first",
            format!("select lag(path, 400000, '{long}') over (order by time) as t from requests"),
        ),
        (
            "a long text by a pattern",
            format!("select max(regexp_replace(path, '', '{}', 'g')) as t from requests", &long[..9_000]),
        ),
        of("texts of a group", "select length(string_agg(repeat(path, 1000), '')) as t from requests"),
        of(
            "all rows of a window",
            "select *, count(*) over () as n from requests, (select 1 from requests limit 20) b",
        ),
        ("tables that double", doubled("select 1 as x from requests", "select a.x from LAST a, LAST b")),
        (
            "sums that double",
            doubled("select bytes as x from requests", "select x + x as x from LAST where x > 1"),
        ),
        of("a pattern of each row", "select count(*) as n from requests where regexp_like(path, agent)"),
        of("a pattern too large", "select count(*) as n from requests where path ~ '(\\w{100}){100}'"),
        of(
            "groups of one",
            "select path, client, agent, time, count(*) as n from requests group by path, client, agent, time, bytes",
        ),
        of(
            "distinct texts",
            "select count(distinct concat(path, client, agent, cast(time as text))) as n from requests",
        ),
        of(
            "a sort of everything",
            "select agent, path, client, time from requests order by agent, path, client, time desc",
        ),
        of("times in a long form", "select max(to_char(time, repeat('%c', 15000))) as t from requests"),
    ]
}

#[test]
fn none_takes_the_service_down() {
    let town = Town::open();
    let program = &town.program;
    let (goes_on, answered) = (AtomicBool::new(true), AtomicU64::new(0));
    std::thread::scope(|scope| {
        scope.spawn(|| {
            while goes_on.load(Ordering::Relaxed) {
                assert_eq!(program.get("harbour.lindry.example", "/").status(), 200);
                answered.fetch_add(1, Ordering::Relaxed);
            }
        });
        for (name, statement) in hostile() {
            let question = json!({ "statement": statement, "most": 100_000 });
            let answer = program.call(Method::POST, "query", Some(&question));
            let status = answer.status();
            let told: Value = answer.json().unwrap_or_else(|error| panic!("{name}: {status}: {error}"));
            match status.as_u16() {
                200 => assert!(told["table"]["rows"].is_array(), "{name}: {told}"),
                400 | 422 => {
                    assert!(told["detail"].as_str().is_some_and(|words| words.len() > 20), "{name}: {told}")
                }
                other => panic!("{name}: {other}: {told}"),
            }
            println!("{name}: {status}, {} MB at most", program.peak() >> 20);
            assert!(program.peak() < MOST, "{name}: {} MB", program.peak() >> 20);
        }
        goes_on.store(false, Ordering::Relaxed);
    });
    assert!(answered.load(Ordering::Relaxed) > hostile().len() as u64);
    let all = json!({ "statement": "select count(*) as n from requests" });
    let told: Value = program.call(Method::POST, "query", Some(&all)).json().unwrap();
    assert!(told["table"]["rows"][0]["n"].as_u64() > Some(300_000), "{told}");
}
