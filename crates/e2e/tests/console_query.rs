//! The page *Query* in Chromium, on the demo: a statement is written, corrected, run by the keyboard, seen as a table and as a chart,
//! narrowed, kept, handed on as a link, downloaded, and stopped.

use exedra_e2e::browser::{Browser, holds, run, script};
use exedra_e2e::town::Town;
use serde_json::Value;
use thirtyfour::prelude::*;

const STATEMENT: &str = "[data-testid=statement] .cm-content";

/// Writes a statement instead of the one that is there, key by key.
async fn write(browser: &Browser, statement: &str) {
    let editor = browser.window.query(By::Css(STATEMENT)).first().await.unwrap();
    editor.click().await.unwrap();
    editor.send_keys(Key::Control + "a").await.unwrap();
    editor.send_keys(statement).await.unwrap();
}

async fn run_it(browser: &Browser) {
    let editor = browser.window.find(By::Css(STATEMENT)).await.unwrap();
    editor.send_keys(Key::Control + Key::Enter).await.unwrap();
}

async fn written(browser: &Browser) -> String {
    script(browser, "return document.querySelector('[data-testid=statement] .cm-content').innerText").await
}

async fn answered(browser: &Browser) {
    holds(browser, "document.querySelector('[data-testid=answer]')").await;
}

#[test]
fn a_question_is_written_corrected_answered_and_handed_on() {
    let town = Town::open();
    run(async {
        let browser = town.signed_in(&[]).await;
        browser.window.goto(town.at("query")).await.unwrap();
        holds(&browser, "document.querySelector('[data-testid=statement] .cm-content')").await;

        // What is wrong is said before it is run, at its place, and nothing is written over what is typed.
        write(&browser, "select paht, count(*) as n from requests where status = 404 group by path order by n desc limit 5").await;
        let mistake = browser.text_when("[data-testid=mistake]", |text| !text.is_empty()).await;
        assert!(
            mistake.contains("there is no column `paht`") && mistake.contains("did you mean `path`?"),
            "{mistake}"
        );
        let marked: String =
            script(&browser, "return document.querySelector('.cm-lintRange-error')?.innerText ?? ''").await;
        assert_eq!(marked, "paht");

        write(&browser, "select path, count(*) as n from requests where status = 404 group by path order by n desc limit 5").await;
        run_it(&browser).await;
        answered(&browser).await;
        holds(&browser, "!document.querySelector('[data-testid=mistake]')").await;
        let rows: Value = script(
            &browser,
            "return [...document.querySelectorAll('[data-testid=rows] tbody tr')].map((row) => [row.cells[0].innerText, Number(row.cells[1].innerText)])",
        )
        .await;
        let report = town.report(&["--last", "30 days", "--only", "status=404", "--show", "missing"]);
        let wanted = &report["tables"]["missing"]["rows"];
        let rows = rows.as_array().unwrap();
        assert_eq!(rows.len(), 5);
        // The page asks of the period that it shows; the worst missing page is the same.
        assert!(rows[0][1].as_u64().unwrap() > 20, "{rows:?}");
        assert!(
            wanted.as_array().is_none_or(|all| all.iter().any(|row| row["path"] == rows[0][0])),
            "{rows:?} {wanted}"
        );

        // Bars stand over the table; a value narrows the scope, and the answer follows.
        holds(&browser, "document.querySelector('[data-testid=chart]')?.dataset.form === 'bars'").await;
        let address: String = script(&browser, "return location.search").await;
        assert!(address.contains("statement=select+path"), "{address}");
        browser.click(By::Css("[data-testid=rows] tbody tr:first-child button")).await;
        holds(&browser, "document.querySelectorAll('[data-testid=rows] tbody tr').length === 1").await;
        browser.window.back().await.unwrap();
        holds(&browser, "document.querySelectorAll('[data-testid=rows] tbody tr').length === 5").await;

        // A time makes lines; another form is chosen, and is in the address.
        write(&browser, "select every(time, '1 day') as day, site, count(*) as n from requests group by day, site order by day").await;
        run_it(&browser).await;
        holds(&browser, "document.querySelector('[data-testid=chart]')?.dataset.form === 'lines'").await;
        browser.click(By::XPath("//button[text()='Heat map']")).await;
        holds(&browser, "document.querySelector('[data-testid=chart]')?.dataset.form === 'heat-map'").await;
        let link: String =
            script(&browser, "return document.querySelector('[data-address]').dataset.address").await;
        assert!(link.contains("chart=heat-map") && link.contains("statement="), "{link}");

        // Whoever opens the link sees the same.
        let other = town.at(link.trim_start_matches('/'));
        browser.window.goto(&other).await.unwrap();
        holds(&browser, "document.querySelector('[data-testid=chart]')?.dataset.form === 'heat-map'").await;
        assert!(written(&browser).await.contains("every(time"));
        assert_eq!(browser.barriers().await, Vec::<String>::new());
        browser.close().await;
    });
}

#[test]
fn what_a_statement_is_made_of_stands_beside_it() {
    let town = Town::open();
    run(async {
        let browser = town.signed_in(&[]).await;
        browser.window.goto(town.at("query")).await.unwrap();
        holds(&browser, "document.querySelector('[data-testid=statement] .cm-content')").await;

        // A statement that came with the program is opened, and run only when somebody says so.
        browser.click(By::Css("[data-open=slowest-pages]")).await;
        holds(&browser, "document.querySelector('[data-testid=statement]').innerText.includes('p90_ms')")
            .await;
        assert!(
            !script::<bool>(&browser, "return Boolean(document.querySelector('[data-testid=answer]'))").await
        );
        browser.click(By::XPath("//button[text()='Run']")).await;
        answered(&browser).await;

        // Columns and their commonest values are inserted where one writes.
        write(&browser, "select count(*) from requests where ").await;
        browser.click(By::XPath("//button[@role='tab' and text()='Columns']")).await;
        browser.click(By::Css("[data-insert=status]")).await;
        assert!(written(&browser).await.trim_end().ends_with("where status"), "{}", written(&browser).await);
        browser.click(By::XPath("//button[@role='tab' and text()='Functions']")).await;
        holds(&browser, "document.querySelector('aside').innerText.includes('every(time, length)')").await;

        // What is offered waits: Enter is a new line and takes nothing.
        write(&browser, "select sta").await;
        holds(&browser, "document.querySelector('.cm-tooltip-autocomplete')?.innerText.includes('status')")
            .await;
        let editor = browser.window.find(By::Css(STATEMENT)).await.unwrap();
        editor.send_keys(Key::Enter + "").await.unwrap();
        assert_eq!(written(&browser).await.trim_end(), "select sta");

        // A statement is kept under a name, told with its owner, and removed.
        write(&browser, "select site, count(*) as n from requests group by site").await;
        browser.click(By::XPath("//button[@role='tab' and text()='Queries']")).await;
        let name = browser.window.find(By::Css("aside input[aria-label=Name]")).await.unwrap();
        name.send_keys("by-site").await.unwrap();
        browser.click(By::XPath("//button[text()='Keep']")).await;
        holds(&browser, "document.querySelector('[data-open=by-site]')").await;
        browser.click(By::Css("[aria-label='Remove by-site']")).await;
        holds(&browser, "!document.querySelector('[data-open=by-site]')").await;

        // One that takes long is stopped.
        write(&browser, "select count(*) from requests a, requests b where a.bytes + b.bytes = 7").await;
        run_it(&browser).await;
        browser.click(By::XPath("//button[text()='Cancel']")).await;
        browser.text_when("[data-testid=progress]", |text| text == "Cancelled.").await;
        // What was run is in the history.
        browser.click(By::XPath("//button[@role='tab' and text()='History']")).await;
        holds(&browser, "document.querySelector('aside').innerText.includes('p90_ms')").await;
        assert_eq!(browser.barriers().await, Vec::<String>::new());
        browser.close().await;
    });
}
