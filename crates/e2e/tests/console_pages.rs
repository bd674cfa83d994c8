//! The console's pages in Chromium, on the demo: their figures are those of the report, its stories are found by clicking, everything
//! works by keyboard, in every state, on windows of any width.

use exedra_e2e::Place;
use exedra_e2e::browser::{Browser, holds, run, script};
use exedra_e2e::town::Town;
use rstest::rstest;
use serde_json::Value;
use std::time::Duration;
use thirtyfour::prelude::*;

/// Chooses an option of a list.
async fn choose(browser: &Browser, list: &str, option: &str) {
    browser.click(By::XPath(format!("{list}//option[@value='{option}' or text()='{option}']"))).await;
}

/// Whatever is shown is of the scope that is asked for.
async fn settled(browser: &Browser) {
    let there = "document.querySelector('main [data-testid=figures]') && !document.querySelector('[data-testid=loading]') \
                 && !document.querySelector('[aria-busy=true]')";
    holds(browser, there).await;
}

/// Every table of a page: what its rows are about, and their figures.
const TABLES: &str = "
    for (const further of document.querySelectorAll('main details')) further.open = true;
    return new Promise((done) => setTimeout(() => {
        const tables = {};
        for (const table of document.querySelectorAll('main [data-table]')) {
            const rows = [...table.querySelectorAll('tr[data-row]')];
            const cells = (of) => [...of.querySelectorAll('[data-value]')].map((cell) => cell.dataset.value);
            const keys = (of) => [...of.querySelectorAll('[data-key]')].map((cell) => cell.dataset.key);
            tables[table.dataset.table] = rows.length
                ? rows.map((row) => ({ keys: keys(row), figures: cells(row) }))
                : [{ keys: [], figures: cells(table) }].filter((row) => row.figures.length);
        }
        done(tables);
    }, 300));";

/// Says of a page's figures whether they are the report's, table by table. Gives how many figures there were.
fn compare(page: &str, shown: &Value, report: &Value) -> usize {
    let mut compared = 0;
    for (name, rows) in shown.as_object().unwrap() {
        // What went wrong is told by another log.
        if name == "errors" {
            continue;
        }
        let wanted = report["tables"][name]["rows"]
            .as_array()
            .unwrap_or_else(|| panic!("{page}: {name} is in no report"));
        let rows = rows.as_array().unwrap();
        assert_eq!(rows.len(), wanted.len().min(12), "{page}: rows of {name}");
        for (row, wanted) in rows.iter().zip(wanted) {
            for figure in row["figures"].as_array().unwrap() {
                let (column, value) = figure.as_str().unwrap().split_once('=').unwrap();
                let wanted = &wanted[column];
                let same = match value.parse::<f64>() {
                    Ok(number) => {
                        wanted.as_f64().is_some_and(|wanted| (wanted - number).abs() <= number.abs() * 1e-9)
                    }
                    Err(_) => wanted.is_null() && value == "null",
                };
                assert!(same, "{page}: {name}: {column} is {value} and not {wanted}");
                compared += 1;
            }
            for key in row["keys"].as_array().unwrap() {
                let is_there = wanted.as_object().unwrap().values().any(|value| {
                    value.as_str().map_or_else(|| value.to_string(), str::to_owned) == key.as_str().unwrap()
                        || value.is_null() && key == ""
                });
                assert!(is_there, "{page}: {name}: {key} is not of {wanted}");
            }
        }
    }
    compared
}

/// Each page, each of its tables, in four scopes of days that are over.
#[test]
fn the_figures_of_every_page_are_those_of_the_report() {
    let town = Town::open();
    let zone = jiff::tz::TimeZone::get("Atlantic/Faroe").unwrap();
    let today = jiff::Zoned::now().with_time_zone(zone).date();
    let [from, until] = [9, 0].map(|days| today.saturating_sub(jiff::Span::new().days(days)).to_string());
    let scopes: [(&str, &[&str]); 4] = [
        ("", &[]),
        ("&site=lamp", &["--site", "lamp"]),
        ("&who=people&without=kind%3Dasset", &["--people", "--without", "kind=asset"]),
        ("&hours=Mon+8&only=status%3D200", &["--hours", "Mon 8", "--only", "status=200"]),
    ];
    run(async {
        let browser = town.signed_in(&[]).await;
        let mut compared = 0;
        for (parameters, options) in scopes {
            let period = ["--from", &from, "--until", &until];
            let all: [Value; 2] = tokio::task::block_in_place(|| {
                [[].as_slice(), &["--by", "bytes"]].map(|by| {
                    let show = ["traffic", "people", "trouble", "transfer"].map(|name| ["--show", name]);
                    // Further tables are made when they are asked for by name.
                    let further = FURTHER.iter().flat_map(|name| ["--show", name]);
                    let show: Vec<&str> = show.as_flattened().iter().copied().chain(further).collect();
                    town.report(&[&period, options, by, &show].concat())
                })
            });
            for page in ["traffic", "people", "trouble", "transfer"] {
                let address = town.at(&format!("{page}?period={from}..{until}{parameters}"));
                browser.window.goto(&address).await.unwrap();
                settled(&browser).await;
                let shown: Value = script(&browser, TABLES).await;
                let report = &all[usize::from(page == "transfer")];
                let figures = compare(&format!("{page}{parameters}"), &shown, report);
                assert!(figures > 3, "{page}{parameters}: {figures}");
                compared += figures;
                let total = match page {
                    "traffic" => "requests",
                    "people" => "visitors",
                    "trouble" => "errors",
                    _ => continue,
                };
                let large = browser.text_when(&format!("[data-testid=total-{total}]"), |_| true).await;
                let wanted = report["tables"]["totals"]["rows"][0][total].as_u64().unwrap();
                assert_eq!(large.replace(',', "").parse::<u64>().unwrap(), wanted, "{page}{parameters}");
            }
        }
        assert!(compared > 1000, "{compared}");
        browser.close().await;
    });
}

/// Tables that are made when somebody asks for them.
const FURTHER: [&str; 15] = [
    "totals",
    "months",
    "weekdays",
    "visit_lengths",
    "visit_pages",
    "hosts",
    "methods",
    "protocols",
    "queries",
    "last_pages",
    "agents",
    "users",
    "missing_links",
    "slow_minutes",
    "repeats",
];

/// What the town's past holds is found from the first page on, by clicking alone.
#[test]
fn the_stories_of_the_demo_are_found_by_clicking() {
    let town = Town::open();
    run(async {
        let browser = town.signed_in(&[]).await;
        let title = |wanted: &'static str| {
            let browser = &browser;
            async move {
                holds(browser, &format!("document.title === {wanted:?}")).await;
            }
        };
        title("Now · Exedra").await;
        let answer = browser.text_when("[data-testid=answer]", |text| !text.is_empty()).await;
        assert!(answer == "All is well" || answer.contains("need"), "{answer}");

        // The client that fetches one page every second.
        browser.click(By::LinkText("People")).await;
        settled(&browser).await;
        title("People · Last 7 days · Exedra").await;
        browser.click(By::Css("button[aria-label='trail: 203.0.113.77']")).await;
        let trail = browser.text_when("[data-testid=panel]", |text| text.contains("a minute")).await;
        assert!(
            trail.contains("What 203.0.113.77 did") && trail.contains("/tides/today.html?screen=2"),
            "{trail}"
        );
        assert!(trail.contains("60 a minute"), "{trail}");
        holds(&browser, "location.search.includes('trail=203.0.113.77')").await;
        browser.window.active_element().await.unwrap().send_keys(Key::Escape).await.unwrap();
        holds(&browser, "!document.querySelector('[data-testid=panel]')").await;
        let focused: String =
            script(&browser, "return document.activeElement.getAttribute('aria-label')").await;
        assert_eq!(focused, "trail: 203.0.113.77", "what opened it has the focus again");

        // The job that takes the tide table away every night, and the renamed folder that links still miss.
        browser.click(By::LinkText("Trouble")).await;
        settled(&browser).await;
        browser.click(By::XPath("//*[@data-testid='bursts']//button[text()='Missing or refused']")).await;
        browser.click(By::XPath("//*[@data-testid='bursts']//li//button")).await;
        // Where the kiosk asks in those minutes too, its days stand apart from the others.
        let is_repeated = |text: &str| text.contains("every day") || text.contains("also on");
        let before = browser.text_when("[data-testid=panel]", is_repeated).await;
        assert!(before.contains("/tides/today.html"), "{before}");
        browser.click(By::Css("[data-testid=panel] button[aria-label=Close]")).await;
        let missing = browser.text_when("[data-table=missing]", |text| text.contains("/mariners/")).await;
        assert!(missing.contains("from our own http://harbour.lindry.example/"), "{missing}");

        // The forum that embeds the museum's panorama, and the tour that eats the month's allowance.
        browser.click(By::LinkText("Transfer")).await;
        settled(&browser).await;
        browser
            .text_when("[data-table=embedding_sites]", |text| text.contains("boards.saltwater.example"))
            .await;
        let month =
            browser.text_when("[data-testid=month-lamp]", |text| text.contains("end of the month")).await;
        assert!(month.contains("of 8.00 GB"), "{month}");
        browser.text_when("[data-table=paths] tbody tr", |text| text.starts_with("/audio/tour.wav")).await;

        // A column leads to its day, a wedge to its hour, a value to itself; the way back leads back.
        browser.click(By::LinkText("Traffic")).await;
        settled(&browser).await;
        let chart = browser.window.find(By::Css("main svg[role=application]")).await.unwrap();
        chart.send_keys(Key::Left + Key::Left + Key::Shift + Key::Left).await.unwrap();
        chart.send_keys(Key::Enter).await.unwrap();
        holds(&browser, "/period=[0-9-]+\\.\\.[0-9-]+/.test(location.search)").await;
        settled(&browser).await;
        browser.click(By::Css("[data-wedge]:not([fill=none])")).await;
        let chip = browser.text_when("[data-testid=chip]", |text| text.contains("only")).await;
        assert!(chip.contains(char::is_numeric), "{chip}");
        settled(&browser).await;
        browser.window.back().await.unwrap();
        holds(&browser, "!document.querySelector('[data-testid=chip]')").await;
        browser.close().await;
    });
}

/// The bar: sites, periods, against what, filters typed and refused; and what people set for themselves.
#[test]
fn the_scope_is_changed_in_its_bar_and_is_in_the_address() {
    let town = Town::open();
    run(async {
        let browser = town.signed_in(&[]).await;
        let search = |wanted: &'static str| {
            let browser = &browser;
            async move {
                holds(
                    browser,
                    &format!("decodeURIComponent(location.search.replaceAll('+', ' ')).includes({wanted:?})"),
                )
                .await;
                settled(browser).await;
            }
        };
        browser.window.goto(town.at("traffic")).await.unwrap();
        settled(&browser).await;
        browser.click(By::XPath("//*[@aria-label='Sites']//button[text()='lamp']")).await;
        search("site=lamp").await;
        let more = browser
            .window
            .find(By::XPath("//*[@aria-label='Sites']//button[text()='harbour']"))
            .await
            .unwrap();
        let chain =
            browser.window.action_chain().key_down(Key::Control).click_element(&more).key_up(Key::Control);
        chain.perform().await.unwrap();
        search("site=lamp&site=harbour").await;
        browser.click(By::XPath("//*[@aria-label='Period']//*[text()='Month']")).await;
        let month = browser.text_when("[data-testid=period]", |text| text.ends_with(char::is_numeric)).await;
        browser.click(By::Css("[aria-label=Earlier]")).await;
        browser
            .text_when("[data-testid=period]", |text| text != month && text.ends_with(char::is_numeric))
            .await;
        let period: String =
            script(&browser, "return new URLSearchParams(location.search).get('period')").await;
        assert!(period.len() == 7 && period.starts_with("20"), "{period}");
        browser.click(By::Css("[aria-label='Compared with']")).await;
        browser.click(By::XPath("//*[@role='option'][.='With the period before']")).await;
        search("against=previous").await;
        browser.click(By::Css("[aria-label='People or crawlers']")).await;
        browser.click(By::XPath("//*[@role='option'][.='People only']")).await;
        search("who=people").await;

        // Another period, by its days.
        browser.click(By::Css("[aria-label^='Another period']")).await;
        browser.click(By::XPath("//button[text()='Last 30 days']")).await;
        search("period=30-days").await;
        browser.click(By::Css("[aria-label^='Another period']")).await;
        let days = "[...document.querySelectorAll('[data-date]:not([disabled])')]";
        holds(&browser, &format!("{days}.length > 3")).await;
        script::<Value>(&browser, &format!("{days}[1].click(); return null")).await;
        browser
            .text_when("[role=dialog], [data-radix-popper-content-wrapper]", |text| {
                text.contains("choose the last day")
            })
            .await;
        script::<Value>(&browser, &format!("{days}[2].click(); return null")).await;
        holds(&browser, "/period=2\\d\\d\\d-\\d\\d-\\d\\d\\.\\.2/.test(location.search)").await;
        settled(&browser).await;

        // A filter that cannot be meant says so where it is typed, and changes nothing.
        let field = browser.window.find(By::Css("[aria-label='Add a filter']")).await.unwrap();
        field.send_keys("stauts=404").await.unwrap();
        field.send_keys(Key::Enter).await.unwrap();
        let wrong = browser.text_when("[role=alert]", |text| !text.is_empty()).await;
        assert!(wrong.contains("there is no column `stauts`") && wrong.contains("`status`"), "{wrong}");
        assert!(script::<bool>(&browser, "return !location.search.includes('stauts')").await);
        field.send_keys(Key::Control + "a").await.unwrap();
        field.send_keys("stat").await.unwrap();
        browser.text_when("[role=listbox]", |text| text.contains("status=")).await;
        field.send_keys(Key::Down + "").await.unwrap();
        field.send_keys(Key::Enter).await.unwrap();
        holds(&browser, "document.querySelector(\"[aria-label='Add a filter']\").value === 'status='").await;
        field.send_keys("200").await.unwrap();
        field.send_keys(Key::Enter).await.unwrap();
        browser.text_when("[data-testid=chip]", |text| text.contains("status=200")).await;
        search("only=status=200").await;
        browser.click(By::Css("[aria-label='Remove filter status=200']")).await;
        holds(&browser, "!location.search.includes('status')").await;

        // What people set is remembered for them, and is not in the address.
        browser.click(By::Css("button[aria-label^=Settings]")).await;
        for (name, value) in
            [("Theme", "dark"), ("Rows of a list", "25"), ("Dates", "numbers"), ("Show", "lists")]
        {
            choose(&browser, &format!("//label[span='{name}']//select"), value).await;
        }
        browser.window.goto(town.at("traffic?period=30-days")).await.unwrap();
        settled(&browser).await;
        assert!(script::<bool>(&browser, "return document.documentElement.dataset.theme === 'dark' && getComputedStyle(document.body).backgroundColor === 'rgb(16, 24, 30)'").await);
        holds(&browser, "document.querySelectorAll('[data-table=paths] tr[data-row]').length === 25").await;
        assert!(
            script::<bool>(&browser, "return !document.querySelector('main svg[role=application]')").await
        );

        // What is no page says so, and which there are.
        browser.window.goto(town.at("weather")).await.unwrap();
        let told = browser.text_when("main", |text| text.contains("no page")).await;
        assert!(told.contains("“weather”") && told.contains("Trouble"), "{told}");
        browser.close().await;
    });
}

const PAGES: [&str; 7] = ["", "traffic", "people", "trouble", "transfer", "sites", "watch"];

/// Signed out, empty, loading, failing and stale: each page in each of them.
#[test]
fn every_page_has_a_state_for_everything_that_can_be() {
    let place = Place::new();
    let program = place.serve();
    run(async {
        let browser = Browser::open().await;
        let window = &browser.window;
        let at = |page: &str| format!("http://{}/{page}", program.console);
        for page in PAGES {
            window.goto(at(page)).await.unwrap();
            browser.text_when("h1", |title| title == "Sign in").await;
        }
        window.goto(program.link.clone().unwrap()).await.unwrap();
        // Nothing has been asked for yet.
        let empty = [
            "No request came",
            "No requests in this scope",
            "Nobody came",
            "Nothing failed",
            "Nothing was sent",
            "Try a request",
            "Sources",
        ];
        for (page, words) in PAGES.into_iter().zip(empty) {
            window.goto(at(page)).await.unwrap();
            settled(&browser).await;
            browser.text_when("main", |text| text.contains(words)).await;
            assert!(
                script::<bool>(&browser, "return !document.querySelector('[role=alert]')").await,
                "{page}"
            );
        }
        // What is asked of the service is held back or refused, as a test wishes.
        const HOLD: &str = "
            const ask = window.fetch;
            Object.assign(window, { held: [], passes: false });
            const isFrame = (what) => ['/status', '/me'].some((call) => String(what).endsWith(call));
            window.fetch = (what, how) => window.passes || isFrame(what) ? ask(what, how) : new Promise((come) => window.held.push({
                pass: () => come(ask(what, how)),
                refuse: () => come(new Response(JSON.stringify({ detail: 'the disk is gone' }), { status: 400 })),
            }));
            return null";
        let ways = [("watch", "traffic"), ("watch", "people"), ("watch", "trouble"), ("watch", "transfer")];
        for (from, page) in ways.into_iter().chain([("traffic", "sites"), ("sites", "watch"), ("watch", "")])
        {
            window.goto(at(from)).await.unwrap();
            settled(&browser).await;
            script::<Value>(&browser, HOLD).await;
            let go = format!(
                "[...document.querySelectorAll('nav a')].find((link) => link.pathname === '/{page}').click(); return null"
            );
            script::<Value>(&browser, &go).await;
            browser.text_when("main [data-testid=loading]", |text| text.contains("Counting")).await;
            holds(&browser, "window.held.length > 0").await;
            // Whatever the page asks for is refused.
            let refuse = "window.refusing = setInterval(() => window.held.splice(0).forEach((call) => call.refuse()), 20); return null";
            script::<Value>(&browser, refuse).await;
            let alert = browser.text_when("main [role=alert]", |text| !text.is_empty()).await;
            assert!(alert.contains("the disk is gone") && alert.contains("Try again"), "{page}: {alert}");
            script::<Value>(&browser, "clearInterval(window.refusing); window.passes = true; return null")
                .await;
            while let Ok(again) = window.find(By::XPath("//main//button[text()='Try again']")).await {
                // It may be gone meanwhile: that is what is waited for.
                let _ = again.click().await;
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
            settled(&browser).await;
        }
        // What cannot be asked any more stays, and is said to be old.
        window.goto(at("")).await.unwrap();
        settled(&browser).await;
        script::<Value>(&browser, "window.fetch = () => Promise.reject(new Error('gone')); return null")
            .await;
        browser.text_when("[data-testid=stale]", |text| text.contains("Not up to date")).await;
        assert!(
            script::<bool>(&browser, "return Boolean(document.querySelector('[data-testid=requests]'))")
                .await
        );
        browser.close().await;
    });
}

/// Nothing sticks out to the side, and nobody is kept out, on any page: also with its panels and menus open.
#[rstest]
#[case::narrow("380,800", "1")]
#[case::usual("1280,800", "0")]
#[case::wide("2560,1400", "1")]
fn every_page_fits_its_window_and_keeps_nobody_out(#[case] size: &str, #[case] theme: &str) {
    let town = Town::open();
    run(async {
        let theme = format!("--blink-settings=preferredColorScheme={theme}");
        let browser = town.signed_in(&[&format!("--window-size={size}"), &theme]).await;
        let mut found = Vec::new();
        let addresses = [
            "",
            "traffic?period=30-days&against=previous&only=status%3D200",
            "people?trail=203.0.113.77",
            "trouble?period=30-days",
            "transfer",
            "sites?site=harbour",
            "sites?view=files",
            "sites?view=revisions",
            "watch",
            "weather",
        ];
        for address in addresses {
            browser.window.goto(town.at(address)).await.unwrap();
            match address {
                "weather" => holds(&browser, "document.querySelector('main h1')").await,
                "sites?view=files" => holds(&browser, "document.querySelector('.cm-content')").await,
                _ => settled(&browser).await,
            }
            let wider: i64 = script(
                &browser,
                "return document.documentElement.scrollWidth - document.documentElement.clientWidth",
            )
            .await;
            assert_eq!(wider, 0, "{address} at {size}");
            found.extend(browser.barriers().await.into_iter().map(|barrier| format!("{address}: {barrier}")));
        }
        browser.window.goto(town.at("traffic")).await.unwrap();
        settled(&browser).await;
        for opener in [
            "button[aria-label^=Settings]",
            "[aria-label^='Another period']",
            "[data-table=paths] button[aria-expanded]",
        ] {
            browser.click(By::Css(opener)).await;
            holds(
                &browser,
                &format!("document.querySelector({opener:?}).getAttribute('aria-expanded') === 'true'"),
            )
            .await;
            found.extend(browser.barriers().await.into_iter().map(|barrier| format!("{opener}: {barrier}")));
            browser.window.active_element().await.unwrap().send_keys(Key::Escape).await.unwrap();
        }
        assert!(found.is_empty(), "{}", found.join("\n\n"));
        browser.close().await;
    });
}

/// From the first page to a narrowed list and back, without a mouse.
#[test]
fn the_keyboard_alone_is_enough() {
    let town = Town::open();
    run(async {
        let browser = town.signed_in(&[]).await;
        let tab_to = |wanted: &'static str| {
            let browser = &browser;
            async move {
                for _ in 0..120 {
                    browser.window.active_element().await.unwrap().send_keys(Key::Tab + "").await.unwrap();
                    if script::<bool>(
                        browser,
                        &format!("const at = document.activeElement; return Boolean({wanted})"),
                    )
                    .await
                    {
                        let seen: bool = script(
                            browser,
                            "return getComputedStyle(document.activeElement).outlineStyle !== 'none'",
                        )
                        .await;
                        assert!(seen, "the focus is seen: {wanted}");
                        return;
                    }
                }
                panic!("not reached: {wanted}");
            }
        };
        let press = |key: Key| {
            let browser = &browser;
            async move { browser.window.active_element().await.unwrap().send_keys(key + "").await.unwrap() }
        };
        tab_to("at.textContent === 'Traffic' && at.tagName === 'A'").await;
        press(Key::Enter).await;
        settled(&browser).await;
        tab_to("at.textContent === 'lamp'").await;
        press(Key::Enter).await;
        holds(&browser, "location.search.includes('site=lamp')").await;
        settled(&browser).await;
        tab_to("at.getAttribute('role') === 'application'").await;
        // Yesterday: just after midnight there is nothing of today.
        press(Key::Left).await;
        press(Key::Left).await;
        press(Key::Enter).await;
        holds(&browser, "location.search.includes('period=')").await;
        settled(&browser).await;
        tab_to("at.title === '/'").await;
        press(Key::Enter).await;
        browser.text_when("[data-testid=chip]", |text| text.contains("path=/")).await;
        settled(&browser).await;
        browser.close().await;
    });
}

/// What is fetched before the first page is there, as it goes over the wire.
#[test]
fn the_first_view_is_small_and_other_pages_come_when_they_are_asked_for() {
    let place = Place::new();
    let program = place.serve();
    run(async {
        let browser = Browser::open().await;
        browser.window.goto(program.link.clone().unwrap()).await.unwrap();
        settled(&browser).await;
        // But for what is counted: that is another with every record.
        const FETCHED: &str = "
            const all = performance.getEntriesByType('resource').concat(performance.getEntriesByType('navigation'));
            return all.filter((entry) => !new URL(entry.name).pathname.startsWith('/api/'))
                .map((entry) => [new URL(entry.name).pathname, entry.encodedBodySize]);";
        let fetched: Value = script(&browser, FETCHED).await;
        let all = fetched.as_array().unwrap();
        let octets: u64 = all.iter().filter_map(|entry| entry[1].as_u64()).sum();
        assert!(octets > 50_000 && octets < 150_000, "{octets}: {fetched}");
        assert!(!all.iter().any(|entry| entry[0].as_str().unwrap().contains("editor")), "{fetched}");
        browser.close().await;
    });
}

/// The files are changed in the browser: what is wrong is marked as one writes, a rule is added by a form, published, and taken back.
#[test]
fn the_configuration_is_changed_checked_published_and_taken_back() {
    let place = Place::new();
    place.configure("");
    let program = place.serve();
    let before = std::fs::read_to_string(place.config()).unwrap();
    run(async {
        let browser = Browser::open().await;
        let window = &browser.window;
        window.goto(program.link.clone().unwrap()).await.unwrap();
        settled(&browser).await;
        window.goto(format!("http://{}/sites?view=files", program.console)).await.unwrap();
        browser.text_when("[data-testid=verdict]", |text| text.contains("it can come into force")).await;

        let editor = window.find(By::Css(".cm-content")).await.unwrap();
        editor.click().await.unwrap();
        editor.send_keys(Key::Control + Key::End).await.unwrap();
        editor.send_keys("listign = true").await.unwrap();
        let verdict =
            browser.text_when("[data-testid=verdict]", |text| text.contains("cannot come into force")).await;
        assert!(verdict.contains("1 error"), "{verdict}");
        browser.text_when("main", |text| text.contains("there is no setting `listign`")).await;
        holds(&browser, "document.querySelector('.cm-lint-marker-error')").await;
        let publish = window.find(By::XPath("//button[text()='Publish']")).await.unwrap();
        assert!(!publish.is_enabled().await.unwrap());
        browser.click(By::XPath("//button[text()='Discard my changes']")).await;
        browser.text_when("[data-testid=difference-figures]", |text| text == "As in force.").await;

        // Settings are offered as one writes.
        editor.click().await.unwrap();
        editor.send_keys(Key::Control + Key::End).await.unwrap();
        editor.send_keys("folder_s").await.unwrap();
        browser.text_when(".cm-tooltip-autocomplete", |text| text.contains("folder_settings")).await;
        editor.send_keys(Key::Escape).await.unwrap();
        browser.click(By::XPath("//button[text()='Discard my changes']")).await;

        for (name, value) in [("path", "old/{rest*}"), ("to", "/{rest}"), ("name", "moved")] {
            window
                .find(By::Css(format!("input[name={name}]")))
                .await
                .unwrap()
                .send_keys(value)
                .await
                .unwrap();
        }
        choose(&browser, "//select[@name='site']", "lamp").await;
        browser.click(By::XPath("//button[text()='Write it into the file']")).await;
        browser.text_when("form", |text| text.contains("Written at line")).await;
        browser.text_when("[data-testid=difference-figures]", |text| text.contains("lines more")).await;
        browser.text_when("[data-testid=verdict]", |text| text.contains("it can come into force")).await;
        browser.click(By::XPath("//button[text()='Compare with what is in force']")).await;
        let difference =
            browser.text_when("[data-testid=difference]", |text| text.contains("[[site.rules]]")).await;
        assert!(difference.contains("/old/{rest*}"), "{difference}");
        browser.click(By::XPath("//button[text()='Publish']")).await;
        browser.text_when("[data-testid=outcome]", |text| text.contains("Revision 2 is in force")).await;
        let status =
            tokio::task::block_in_place(|| program.get("lamp.example", "/old/oil").status().as_u16());
        assert_eq!(status, 308);

        browser.click(By::XPath("//button[text()='Revisions']")).await;
        browser.click(By::XPath("//*[@data-testid='revision-1']//button[text()='Restore']")).await;
        browser.click(By::XPath("//button[text()='Yes, restore it']")).await;
        browser.text_when("[data-testid=outcome]", |text| text.contains("is in force")).await;
        assert_eq!(std::fs::read_to_string(place.config()).unwrap(), before);

        // The next real request of somebody's own browser.
        window.goto(format!("http://{}/sites?site=lamp", program.console)).await.unwrap();
        browser.click(By::XPath("//button[starts-with(., 'Capture my browser')]")).await;
        let address = browser.text_when("[data-testid=trial-address]", |text| text.starts_with("http")).await;
        let target = format!("/{}", address.splitn(4, '/').nth(3).unwrap());
        let fields = [("User-Agent", "LindryKiosk/1.2"), ("Forwarded", "for=203.0.113.9")];
        tokio::task::block_in_place(|| program.ask("lamp.example", &target, &fields).text().unwrap());
        let came = browser.text_when("[data-testid=came]", |text| text.contains("It came from")).await;
        assert!(
            came.contains("203.0.113.9") && came.contains("LindryKiosk/1.2") && came.contains("200"),
            "{came}"
        );
        browser.close().await;
    });
}
