//! The console's parts, each in each of its states, on a page of their own (`console/test/parts.tsx`) that our own service
//! serves.

use exedra_common::figures;
use exedra_e2e::browser::{Browser, script};
use exedra_e2e::{Place, Program};
use rstest::rstest;
use thirtyfour::prelude::*;

/// The page, served, and a browser on it.
async fn opened(arguments: &[&str]) -> (Program, Place, Browser) {
    let place = Place::new();
    let built = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/dist-parts");
    place.configure(&format!(
        "[[site]]\nname = \"parts\"\nhosts = [\"parts.localhost\"]\nfolder = \"{built}\"\n"
    ));
    let program = place.serve();
    let hosts = "--host-resolver-rules=MAP *.localhost 127.0.0.1";
    let browser = Browser::open_with(&[arguments, &[hosts]].concat()).await;
    let port = program.sites.rsplit(':').next().expect("a port");
    let address = format!("http://parts.localhost:{port}/test/parts.html");
    browser.window.goto(address).await.expect("the page of parts");
    browser.text_when("h1", |text| text == "Parts").await;
    (program, place, browser)
}

fn run<F: std::future::Future>(test: F) -> F::Output {
    tokio::runtime::Runtime::new().expect("a runtime").block_on(test)
}

/// The texts of everything that a selector finds.
async fn texts(browser: &Browser, selector: &str) -> Vec<String> {
    let mut all = Vec::new();
    for element in browser.window.find_all(By::Css(selector)).await.expect("elements") {
        all.push(element.text().await.expect("a text"));
    }
    all
}

async fn text(browser: &Browser, selector: &str) -> String {
    browser
        .window
        .find(By::Css(selector))
        .await
        .unwrap_or_else(|_| panic!("{selector}"))
        .text()
        .await
        .expect("a text")
}

fn table(name: &str, more: &str) -> String {
    format!("[data-part='table {name}'] {more}")
}

#[test]
fn lists_are_cut_filtered_ordered_and_lengthened() {
    run(async {
        let (_program, _place, browser) = opened(&[]).await;
        let first = table("long", "tbody tr:first-child td:first-child");
        assert_eq!(texts(&browser, &table("long", "tbody tr")).await.len(), 12);
        assert!(
            text(&browser, &table("long", "section")).await.contains("260 more not listed, 12,345 requests")
        );
        assert!(text(&browser, &first).await.starts_with("/page-0"));

        browser.click(By::Css(table("long", "th:first-child button"))).await;
        assert!(text(&browser, &table("long", "th:first-child")).await.contains('↑'));
        browser.click(By::Css(table("long", "th:nth-child(2) button"))).await;
        browser.click(By::Css(table("long", "th:nth-child(2) button"))).await;
        browser.text_when(&first, |text| text.starts_with("/page-39")).await;

        let field = browser.window.find(By::Css(table("long", "input"))).await.expect("a field");
        field.send_keys("PAGE-1").await.expect("typed");
        browser.text_when(&first, |text| text.starts_with("/page-19")).await;
        assert_eq!(texts(&browser, &table("long", "tbody tr")).await.len(), 11);
        field.send_keys("nowhere").await.expect("typed");
        browser.text_when(&table("long", "section"), |text| text.contains("Nothing to list.")).await;
        field.send_keys(Key::Control + "a").await.expect("marked");
        field.send_keys(Key::Delete + "").await.expect("deleted");
        browser.click(By::XPath("//*[@data-part='table long']//button[text()='Show more']")).await;
        browser.text_when(&table("long", "tbody tr:nth-child(40)"), |text| !text.is_empty()).await;
        browser.close().await;
    });
}

#[test]
fn a_value_narrows_the_scope_exactly_and_with_alt_is_left_out() {
    run(async {
        let (_program, _place, browser) = opened(&[]).await;
        let asked = "[data-testid=asked]";
        browser.click(By::Css(table("odd", "tbody tr:nth-child(2) button"))).await;
        browser.text_when(asked, |text| text == "only path=/a\\,b\\*").await;
        browser.click(By::Css(table("odd", "tbody tr:nth-child(1) button"))).await;
        browser.text_when(asked, |text| text == "only path=").await;
        let value = browser
            .window
            .find(By::Css(table("ordinary", "tbody tr:nth-child(1) button")))
            .await
            .expect("a value");
        let chain = browser.window.action_chain().key_down(Key::Alt).click_element(&value).key_up(Key::Alt);
        chain.perform().await.expect("a click with Alt");
        browser.text_when(asked, |text| text == "without path=/page-0").await;
        browser.close().await;
    });
}

#[test]
fn tables_say_what_they_have_what_they_lack_and_what_was_before() {
    run(async {
        let (_program, _place, browser) = opened(&[]).await;
        let empty = text(&browser, &table("empty", "section")).await;
        assert!(empty.contains("Nothing has happened.") && empty.contains("Nothing to list."), "{empty}");
        assert!(empty.contains("The log has no sizes."), "{empty}");
        assert!(text(&browser, &table("odd", "tbody tr:nth-child(1)")).await.starts_with("not known"));
        assert!(text(&browser, &table("details", "tbody")).await.contains("from /elsewhere"));
        let facts = text(&browser, &table("facts", "dl")).await;
        assert!(facts.contains("12,345") && facts.contains("−50 %") && facts.contains("10.0 MB"), "{facts}");
        let rows = texts(&browser, &table("compared", "tbody tr")).await;
        assert!(
            rows[0].contains("+100 %") && rows[1].contains("±0 %") && rows[2].contains("new"),
            "{rows:?}"
        );

        // What is downloaded is the table, with every figure whole.
        let link = browser.window.find(By::Css(table("odd", "a[download]"))).await.expect("a link");
        let data = link.attr("href").await.expect("an address").expect("one");
        let script = "return decodeURIComponent(arguments[0].split(',').slice(1).join(','))";
        let csv: String =
            browser.window.execute(script, vec![data.into()]).await.expect("text").convert().expect("text");
        let lines: Vec<&str> = csv.lines().collect();
        assert_eq!(lines[..3], ["path,requests,bytes", ",3,", "\"/a,b*\",2,0"]);
        browser.close().await;
    });
}

/// Where a list has little room, figures give way and never what they are about.
#[test]
fn what_a_row_is_about_always_has_room() {
    run(async {
        let (_program, _place, browser) = opened(&[]).await;
        let shown = |part: &str| format!("[data-part='{part}'] tbody td:not(:last-child)");
        let width = "return arguments[0].getBoundingClientRect().width";
        for (part, figures) in [("table many figures", 6), ("half a page", 2)] {
            // But for the mark that opens the row.
            let cells = browser.window.find_all(By::Css(shown(part))).await.expect("cells");
            let first = cells[0].to_json().expect("an element");
            let width: f64 =
                browser.window.execute(width, vec![first]).await.expect("a width").convert().expect("one");
            assert!(width > 150.0, "{part}: {width}");
            let mut visible = 0;
            for cell in &cells[1..] {
                visible += usize::from(cell.is_displayed().await.expect("whether it is shown"));
            }
            assert_eq!(visible, figures, "{part}");
        }
        // What has no room is there when the row is opened.
        browser.click(By::Css("[data-part='half a page'] button[aria-expanded]")).await;
        let opened = browser.text_when("[data-part='half a page'] [data-testid=open-row]", |_| true).await;
        assert!(["path", "/tides/today.html", "b", "f"].iter().all(|name| opened.contains(name)), "{opened}");
        browser.click(By::XPath("//*[@data-part='table ordinary']//button[@aria-expanded]")).await;
        browser
            .click(By::XPath("//*[@data-part='table ordinary']//button[text()='Without this path']"))
            .await;
        browser.text_when("[data-testid=asked]", |text| text == "without path=/page-0").await;
        browser.close().await;
    });
}

#[test]
fn states_and_changes_are_said_in_words() {
    run(async {
        let (_program, _place, browser) = opened(&[]).await;
        assert_eq!(text(&browser, "[data-part=loading]").await.trim(), "Counting…");
        let failing = text(&browser, "[data-part=failing] [role=alert]").await;
        assert!(
            failing.contains("This could not be counted.") && failing.contains("the disk is gone"),
            "{failing}"
        );
        browser.click(By::Css("[data-part=failing] button")).await;
        browser.text_when("[data-testid=again]", |text| text == "1").await;
        assert!(text(&browser, "[data-part=stale] [role=status]").await.contains("Not up to date"));
        assert!(!text(&browser, "[data-part=waiting] [role=status]").await.is_empty());
        let changes = texts(&browser, "[data-change]").await;
        assert_eq!(changes, ["+50 %", "−50 %", "±0 %", "×20", "new", "–", "+10.0 points"]);
        browser.close().await;
    });
}

#[test]
fn charts_are_walked_by_keys_and_say_each_value() {
    run(async {
        let (_program, _place, browser) = opened(&[]).await;
        let columns = |count: usize, more: &str| format!("[data-part='columns {count}'] {more}");
        assert!(
            browser.window.find_all(By::Css(columns(0, "svg g[opacity]"))).await.expect("none").is_empty()
        );
        assert_eq!(
            browser.window.find_all(By::Css(columns(120, "svg g[opacity]"))).await.expect("all").len(),
            120
        );
        let chart = browser.window.find(By::Css(columns(120, "svg"))).await.expect("a chart");
        chart.send_keys(Key::Left + Key::Left).await.expect("keys");
        let value = |text: &str| text.contains("day 118: 1,185") && text.contains("before 118");
        browser.text_when(&columns(120, "p"), value).await;
        chart.send_keys(Key::Enter).await.expect("a key");
        browser.text_when("[data-testid=asked]", |text| text == "chosen day 118 to day 118").await;
        // With Shift several are meant, and what they have together is said.
        chart.send_keys(Key::Shift + Key::Left).await.expect("keys");
        browser.text_when(&columns(120, "p"), |text| text.contains("day 117 – day 118: 2,360")).await;
        chart.send_keys(Key::Enter).await.expect("a key");
        browser.text_when("[data-testid=asked]", |text| text == "chosen day 117 to day 118").await;
        let empty = text(&browser, &columns(0, "svg")).await;
        assert!(empty.contains("nothing happened"), "{empty}");
        let written = columns(1, "details");
        browser.click(By::Css(format!("{written} summary"))).await;
        browser.text_when(&format!("{written} tbody"), |text| text == "day 0 0 5 0").await;

        let fan = browser.window.find(By::Css("[data-part='week fan'] svg")).await.expect("a fan");
        fan.send_keys(Key::Right + Key::Up).await.expect("keys");
        browser.text_when("[data-part='week fan'] figcaption", |text| text.contains("Tue 00:00: 0")).await;
        fan.send_keys(Key::Left + Key::Up).await.expect("keys");
        browser.text_when("[data-part='week fan'] figcaption", |text| text.contains("Wed 23:00: 46")).await;
        fan.send_keys(Key::Enter).await.expect("a key");
        browser.text_when("[data-testid=asked]", |text| text == "hours Wed 23").await;
        // Nothing was looked at on Sunday.
        fan.send_keys(Key::Down + Key::Down + Key::Down).await.expect("keys");
        browser
            .text_when("[data-part='week fan'] figcaption", |text| text.contains("Sun 23:00: no such day"))
            .await;
        browser.close().await;
    });
}

#[test]
fn values_are_written_as_people_read_them() {
    run(async {
        let (_program, _place, browser) = opened(&[]).await;
        let mut found = Vec::new();
        for element in browser.window.find_all(By::Css("dd[data-value]")).await.expect("values") {
            let name = element.attr("data-value").await.expect("a name").expect("one");
            found.push(format!("{name}: {}", element.text().await.expect("a text")));
        }
        let expected = [
            "bytes 0: 0 B",
            "bytes 999: 999 B",
            "bytes 10 MB: 10.0 MB",
            "count: 1,234,567",
            "percent of nothing: –",
            "percent: 12.5 %",
            "a length of time: 250 ms",
            "shifted over a month: 2026-02-28",
            "cut: 12",
            "nothing as a key: not known",
            "nothing as a figure: –",
            "milliseconds: 2.5 s",
            "a status: 1404",
            "a filter: path=/a\\,b\\*\\\\c",
            "a filter for nothing: referrer=",
            "grown from nothing: null",
            "not compared: undefined",
            "names that begin alike: /registers/1871/pages/",
            "cut where others are alike: …/a-very-long-name.png",
            "a week: 2026-W53",
            "its Monday: 2026-12-28",
            "a year before the 29th: 2027-02-28",
            "an instant before the clocks change: 2026-03-29T00:30",
            "an instant of the new clock: 7200000",
            "no period: undefined",
            "no week: undefined",
            "a period and back: true",
            "the month before: 2026-02",
            "the days before: 2026-09-01..2026-09-08",
            "and back again: 7-days",
            "the hours before: 2026-09-01T07:30..2026-09-01T10:00",
            "the week of those: 2026-W38",
            "a year's span: {\"from\":\"2026-01-01\",\"until\":\"2027-01-01\"}",
            "columns offered: status= host=",
            "values offered: !kind=page,asset",
            "values that were seen: path=/tides/ path=/tides/today.html",
            "an address: /traffic?site=harbour&hours=Mon+8&only=path%3D%2Fa%26b&period=2026-W38&who=people&trail=192.0.2.7",
        ];
        assert_eq!(found, expected);
        browser.close().await;
    });
}

/// A figure in the console is the one that the client prints, to the last letter, also where half of a digit is rounded.
#[test]
fn figures_are_those_that_the_client_writes() {
    run(async {
        let (_program, _place, browser) = opened(&[]).await;
        let near = |number: u64| [number.saturating_sub(1), number, number + 1];
        let powers = (0..16).flat_map(|power| [1, 2, 5, 9].map(|digit| digit * 10_u64.pow(power)));
        // Halves of the last digit that is shown, and what is far from a power of ten.
        let some = (0..400).map(|nth: u64| nth * nth * nth * 125 + nth % 7);
        let whole: Vec<u64> = powers.flat_map(near).chain(some).collect();
        let fractions: Vec<f64> = whole.iter().map(|number| *number as f64 / 8.0).collect();
        let parts: Vec<(u64, u64)> =
            (0..=400).map(|part| (part, 400)).chain([(1, 3), (5, 0), (7, 7)]).collect();
        let call = format!(
            "const [whole, fractions, parts] = {};
             const of = window.figures;
             return [whole.map(of.count), whole.map(of.bytes), parts.map(([part, all]) => of.percent(part, all)),
                 fractions.map(of.milliseconds), fractions.map(of.longTime), fractions.map(of.duration)]",
            serde_json::to_string(&(&whole, &fractions, &parts)).expect("JSON")
        );
        let told: serde_json::Value = script(&browser, &call).await;
        let told: Vec<Vec<String>> = serde_json::from_value(told).expect("texts");
        let of_whole = |written: fn(u64) -> String| whole.iter().map(|number| written(*number)).collect();
        let of_fractions =
            |written: fn(f64) -> String| fractions.iter().map(|number| written(*number)).collect();
        let expected: [Vec<String>; 6] = [
            of_whole(figures::grouped),
            of_whole(figures::bytes),
            parts.iter().map(|(part, all)| figures::share(*part, *all)).collect(),
            of_fractions(figures::milliseconds),
            of_fractions(figures::long_time),
            of_fractions(figures::duration),
        ];
        for (nth, (told, expected)) in told.iter().zip(&expected).enumerate() {
            assert_eq!(told.len(), expected.len());
            for (place, (told, expected)) in told.iter().zip(expected).enumerate() {
                assert_eq!(
                    told,
                    expected,
                    "list {nth}: {} {}",
                    whole.get(place).unwrap_or(&0),
                    fractions.get(place).unwrap_or(&0.0)
                );
            }
        }
        assert_eq!(figures::share(1, 400), "0.3 %");
        browser.close().await;
    });
}

/// What is said first on the page Now, by what has happened; the worst first, each with where it leads.
#[test]
fn what_needs_somebody_is_named_and_nothing_else() {
    run(async {
        let (_program, _place, browser) = opened(&[]).await;
        let mut named = Vec::new();
        for element in browser.window.find_all(By::Css("[data-need]")).await.expect("needs") {
            let name = element.attr("data-need").await.expect("a name").expect("one");
            named.push(format!("{name} = {}", element.text().await.expect("a text")));
        }
        let expected = [
            "nothing = ",
            "few failures = ",
            "a small share of failures = ",
            "many failures = trouble: 10 of 1,000 requests failed (5xx) in the last hour: 1.0 % → trouble",
            "a full disk = trouble: The log of lamp cannot be written: No space left on device. → watch | \
             trouble: The log of lamp has lost 3 lines since the start. → watch",
            "unread lines = attention: 12 lines of the log of lamp could not be read → watch",
            "records behind = attention: The records are 5.00 MB behind the logs: lamp → watch",
            "records a little behind = ",
            "a certificate that ends = attention: The certificate of lamp.example ends in 13 days → sites",
            "a certificate that lasts = ",
            "a certificate that has ended = trouble: The certificate of lamp.example has ended → sites",
            "a certificate made here = ",
            "an allowance that lasts = ",
            "an allowance that does not = attention: lamp will have sent about 9.00 GB of 8.00 GB this month: the allowance \
             runs out about Mon 28 Sept → transfer",
            "an allowance that is used up = trouble: lamp has sent 9.00 GB this month, more than its allowance of 8.00 GB → transfer",
            "remarks on the configuration = ",
            "errors in the configuration = trouble: The configuration's files have an error: they would not come into force → sites",
            "the worst first = trouble: 50 of 100 requests failed (5xx) in the last hour: 50.0 % → trouble | attention: lamp \
             will have sent about 9.00 GB of 8.00 GB this month: the allowance runs out about Mon 28 Sept → transfer",
        ];
        assert_eq!(named, expected);
        browser.close().await;
    });
}

#[rstest]
#[case::light("1")]
#[case::dark("0")]
fn no_part_keeps_anybody_out_in_any_state(#[case] theme: &str) {
    run(async {
        let theme = format!("--blink-settings=preferredColorScheme={theme}");
        let (_program, _place, browser) = opened(&[&theme, "--window-size=400,800"]).await;
        let found = browser.barriers().await;
        assert!(found.is_empty(), "{}", found.join("\n"));
        browser.close().await;
    });
}
