//! A report that is handed on as one file, looked at in a browser: beside another period, in a narrow window, and empty.

use exedra_e2e::browser::Browser;
use exedra_e2e::{exedra, text};
use serde_json::Value;

const PERSON: &str = "Mozilla/5.0 (X11; Linux x86_64; rv:146.0) Gecko/20100101 Firefox/146.0";
const PROGRAM: &str = "LeafTurner/0.9 (+https://leafturner.example/)";

fn line(day: u8, nth: u32, path: &str, agent: &str) -> String {
    let (hour, minute) = (8 + nth / 60, nth % 60);
    format!(
        "203.0.113.9 - - [{day:02}/Nov/2026:{hour:02}:{minute:02}:40 +0000] \"GET {path} HTTP/1.1\" 200 512 \"-\" \"{agent}\"\n"
    )
}

/// One day beside another. On the first, a quarter of the requests were made by programs, on the second half of them; there
/// were twice as many requests by people in all.
fn two_days() -> String {
    let mut log = String::new();
    for nth in 0..30 {
        log += &line(13, nth, "/tides/today.html", PERSON);
    }
    for nth in 30..40 {
        log += &line(13, nth, "/gone.html", PROGRAM);
    }
    for nth in 0..60 {
        log += &line(14, nth, "/tides/today.html", PERSON);
    }
    for nth in 60..120 {
        log += &line(14, nth, "/notices/the-path-of-a-notice-that-is-rather-long.html", PROGRAM);
    }
    log
}

#[test]
fn a_report_beside_another_period_in_a_narrow_window() {
    let folder = tempfile::tempdir().unwrap();
    let (log, page) = (folder.path().join("a.log"), folder.path().join("report.html"));
    std::fs::write(&log, two_days()).unwrap();
    let arguments =
        ["report", "--as", "html", "--to", &text(&page), "--day", "2026-11-14", "--against", "previous"];
    let made = exedra(&[&arguments[..], &["--time-zone", "UTC", &text(&log)]].concat());
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let runtime = tokio::runtime::Runtime::new().unwrap();
    runtime.block_on(async {
        let browser = Browser::open_with(&["--window-size=400,800"]).await;
        browser.window.goto(format!("file://{}", text(&page))).await.unwrap();
        let people = browser.text_when("#people", |text| text.contains("points")).await;
        // 75 % before and 50 % now: 25 points less, although there were twice as many.
        assert!(people.contains("−25.0 points") && people.contains("+25.0 points"), "{people}");
        let ask = async |script: &str| browser.window.execute(script, Vec::new()).await.unwrap().json().clone();
        let width = ask("return document.querySelector('section[aria-label=\"What was asked for\"] td').clientWidth").await;
        assert!(width.as_f64().unwrap() >= 140.0, "the path has room: {width}");
        // An address with a question in it leads there.
        browser.window.goto("about:blank").await.unwrap();
        browser.window.goto(format!("file://{}#trouble", text(&page))).await.unwrap();
        browser.text_when("#trouble", |text| !text.is_empty()).await;
        let top = ask("return document.getElementById('trouble').getBoundingClientRect().top").await;
        assert!(top.as_f64().unwrap() < 200.0, "{top}");
        let beyond = ask("return document.documentElement.scrollWidth - innerWidth").await;
        assert!(beyond.as_f64().unwrap() <= 0.0, "nothing is wider than the window: {beyond}");
        let csv = ask(
            "return decodeURIComponent(document.querySelector('section[aria-label=\"What changed most\"] a[download]').href)",
        )
        .await;
        assert!(csv.as_str().unwrap().contains("/gone.html,-10,10,0"), "what went is less than nothing: {csv}");
        let heads = ask("return [...document.querySelectorAll('main > section > h2')].map(head => head.textContent)").await;
        assert_eq!(heads, serde_json::json!(["Traffic", "People", "Trouble", "Transfer"]));
        let fan = ask("return document.querySelector('figure[data-fan]').dataset.fan").await;
        let fan: Vec<Vec<Option<f64>>> = serde_json::from_str(fan.as_str().unwrap()).unwrap();
        assert_eq!(fan[5][8], Some(60.0), "Saturday at eight, people only: {fan:?}");
        assert_eq!(fan[5][9], Some(0.0));
        browser.close().await;
    });
    let text_of = exedra(&["report", &text(&log)]);
    let drawn = String::from_utf8_lossy(&text_of.stdout).into_owned();
    let places = ["\nTraffic ─", "\nPeople ─", "\nTrouble ─"].map(|head| drawn.find(head));
    assert!(places.iter().all(Option::is_some) && places.is_sorted(), "{drawn}");
}

#[test]
fn an_empty_report_says_so_once() {
    let folder = tempfile::tempdir().unwrap();
    let (log, page) = (folder.path().join("a.log"), folder.path().join("report.html"));
    std::fs::write(&log, two_days()).unwrap();
    let made = exedra(&["report", "--as", "html", "--to", &text(&page), "--day", "2026-11-20", &text(&log)]);
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let runtime = tokio::runtime::Runtime::new().unwrap();
    runtime.block_on(async {
        let browser = Browser::open().await;
        browser.window.goto(format!("file://{}", text(&page))).await.unwrap();
        let whole = browser.text_when("body", |text| text.contains("Nothing was recorded")).await;
        assert_eq!(whole.matches("Nothing was recorded").count(), 1, "{whole}");
        assert!(!whole.contains("recorded.,"), "{whole}");
        let links: Value = browser
            .window
            .execute("return document.querySelectorAll('nav a').length", Vec::new())
            .await
            .unwrap()
            .json()
            .clone();
        assert_eq!(links, 0, "no part is linked that is not there");
        browser.close().await;
    });
}
