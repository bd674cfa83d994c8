//! In Chromium, on the demo: each of its stories is found, remedied, rehearsed and published from the page Now, and is gone; in no more than
//! three clicks from the finding to the rehearsed change.

use exedra_e2e::browser::{Browser, run};
use exedra_e2e::town::Town;
use exedra_e2e::until;
use serde_json::Value;
use thirtyfour::prelude::*;

/// Stories that the configuration helps with: the kind, and how what was found begins to be told.
const STORIES: [(&str, &str, &str); 5] = [
    ("missing_page", "/mariners/ has moved to /notices/", "Found, was missing"),
    ("hammering", "LeafTurner", "Over the limit (429)"),
    ("hammering", "LindryKiosk", "Over the limit (429)"),
    ("embedded", "pages of boards.saltwater.example", "Refused"),
    ("large_file", "/audio/tour.wav is", "allowance is used up differs"),
];

/// Asks the API while a browser is driven.
fn api(town: &Town, call: &str) -> Value {
    tokio::task::block_in_place(|| town.program.api(call))
}

/// The finding of a kind whose title begins so.
fn finding(town: &Town, kind: &str, begins: &str) -> Option<Value> {
    let told = api(town, "findings");
    let findings = told["findings"].as_array().unwrap().clone();
    findings.into_iter().find(|one| one["kind"] == kind && one["title"].as_str().unwrap().starts_with(begins))
}

fn button(words: &str) -> By {
    By::XPath(format!("//*[@data-testid='panel']//button[text()='{words}']"))
}

async fn show_all(browser: &Browser) {
    browser.text_when("[data-testid=findings]", |text| text.contains("What deserves attention")).await;
    if let Ok(more) = browser
        .window
        .find(By::XPath("//*[@data-testid='findings']//button[contains(text(), ' more')]"))
        .await
    {
        more.click().await.unwrap();
    }
}

#[test]
fn each_story_of_the_town_is_found_rehearsed_published_and_gone() {
    let town = Town::open();
    run(async {
        let browser = town.signed_in(&[]).await;
        for (kind, begins, differs) in STORIES {
            let told = finding(&town, kind, begins).unwrap_or_else(|| panic!("{begins} is found"));
            browser.window.goto(format!("http://{}/", town.program.console)).await.unwrap();
            show_all(&browser).await;
            // The first click opens it, the second rehearses its remedy.
            browser
                .click(By::XPath(format!("//*[@data-testid='findings']//a[starts-with(text(), '{begins}')]")))
                .await;
            let panel = "[data-testid=panel]";
            let text = browser.text_when(panel, |text| text.contains("Rehearse")).await;
            // The period goes on while the page is opened: what it shows was so before or is so now.
            let now = finding(&town, kind, begins).unwrap_or_else(|| panic!("{begins} is still found"));
            let has_cost = |told: &Value| text.contains(told["cost"].as_str().unwrap());
            assert!((has_cost(&told) || has_cost(&now)) && text.contains("Remedy"), "{told} {now}: {text}");
            browser.click(button("Rehearse")).await;
            let text = browser
                .text_when("[data-testid=rehearsed]", |text| {
                    text.contains("recorded requests run through both")
                })
                .await;
            assert!(text.contains(differs), "{begins}: {text}");
            let is_worse = text.contains("Somebody would be worse off");
            assert_eq!(is_worse, kind == "embedded", "readers of the other site are people too: {text}");
            browser.click(button(if is_worse { "Publish anyway" } else { "Publish" })).await;
            browser
                .text_when("[data-testid=published]", |text| {
                    text.contains("is in force") && text.contains("Watched")
                })
                .await;
            assert!(finding(&town, kind, begins).is_none(), "{begins} is gone");
        }
        let barriers = browser.barriers().await;
        assert!(barriers.is_empty(), "{}", barriers.join("\n"));

        browser.window.goto(format!("http://{}/sites?view=published", town.program.console)).await.unwrap();
        let main = browser
            .text_when("main", |text| {
                text.contains("What became of it") || text.contains("Nothing would be different")
            })
            .await;
        for (_, begins, _) in STORIES {
            assert!(main.contains(begins), "{begins} in {main}");
        }
        let barriers = browser.barriers().await;
        assert!(barriers.is_empty(), "{}", barriers.join("\n"));
        // The first one is taken back, with one click.
        let newest = api(&town, "publications")[0]["revision"].as_i64().unwrap();
        browser.click(By::XPath("//button[text()='Take back']")).await;
        until("it is taken back", || {
            let told = api(&town, "publications");
            (told[0]["revision"] == newest && told[0]["state"] == "taken back").then_some(())
        });
        browser.close().await;
    });
}

#[test]
fn findings_stand_on_the_pages_they_belong_to_and_are_set_aside() {
    let town = Town::open();
    run(async {
        let browser = town.signed_in(&[]).await;
        let address = |page: &str| format!("http://{}/{page}", town.program.console);
        browser.window.goto(address("trouble")).await.unwrap();
        let text = browser.text_when("[data-testid=findings]", |text| text.contains("/mariners/")).await;
        assert!(
            text.contains("is missing for some minutes at about") && !text.contains("saltwater"),
            "{text}"
        );
        browser.window.goto(address("transfer")).await.unwrap();
        let text = browser
            .text_when("[data-testid=findings]", |text| text.contains("boards.saltwater.example"))
            .await;
        assert!(!text.contains("/mariners/"), "{text}");
        // Two together: one change of both.
        for begins in ["LeafTurner", "LindryKiosk"] {
            browser
                .click(By::XPath(format!(
                    "//input[@type='checkbox'][starts-with(@aria-label, 'Choose: {begins}')]"
                )))
                .await;
        }
        browser.click(By::XPath("//button[text()='Open 2 together']")).await;
        let text = browser
            .text_when("[data-testid=panel]", |text| {
                text.contains("2 findings together") && text.contains("asks too much")
            })
            .await;
        assert!(
            text.contains("LeafTurner asks too much") && text.contains("203.0.113.77 asks too much"),
            "{text}"
        );
        browser.window.goto(address("trouble?finding=")).await.unwrap();
        browser
            .click(By::XPath("//*[@data-testid='findings']//a[starts-with(text(), '/tides/today.html')]"))
            .await;
        browser.text_when("[data-testid=panel]", |text| text.contains("rename it at the end")).await;
        browser.click(By::XPath("//*[@data-testid='panel']//summary[text()='Set aside']")).await;
        let reason = browser.window.find(By::Css("[data-testid=panel] form input")).await.unwrap();
        reason.send_keys("the job is rewritten next week").await.unwrap();
        browser.click(By::XPath("//*[@data-testid='panel']//form//button[text()='Set aside']")).await;
        browser
            .text_when("[data-testid=findings]", |text| !text.contains("is missing for some minutes"))
            .await;
        let told = api(&town, "findings");
        assert_eq!(told["set_aside"][0]["reason"], "the job is rewritten next week");
        browser.close().await;
    });
}
