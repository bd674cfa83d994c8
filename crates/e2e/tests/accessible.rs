//! Every page can be used by everybody, as far as rules can tell: WCAG 2.2 at level AA, in both themes, on wide and narrow windows.

use exedra_e2e::browser::Browser;
use exedra_e2e::{Place, exedra, text};
use rstest::rstest;

/// Opens each page and gathers what is wrong with it.
async fn barriers(browser: &Browser, pages: &[(&str, String, &str)]) -> Vec<String> {
    let mut all = Vec::new();
    for (name, address, ready) in pages {
        browser.window.goto(address).await.unwrap();
        browser.text_when(ready, |text| !text.is_empty()).await;
        all.extend(browser.barriers().await.into_iter().map(|barrier| format!("{name}: {barrier}")));
    }
    all
}

#[rstest]
#[case::wide("1280,800", "light")]
#[case::wide_and_dark("1280,800", "dark")]
#[case::narrow("400,800", "light")]
fn nothing_keeps_anybody_out(#[case] size: &str, #[case] theme: &str) {
    let place = Place::new();
    for name in ["lantern.svg", "stair & rail.svg", "older/first.svg"] {
        place.write(&format!("lamp/pictures/{name}"), "<svg xmlns=\"http://www.w3.org/2000/svg\"/>");
    }
    place.configure("listing = true\n[[site.rules]]\nname = \"gone\"\npath = \"/old/{*}\"\ngone = true\n");
    let program = place.serve();
    for path in ["/", "/tides/today.html", "/nowhere", "/notes.txt"] {
        for _ in 0..5 {
            program.ask("harbour.example", path, &[("Referer", "https://forum.example/thread")]);
        }
    }
    let report = place.path("report.html");
    exedra_e2e::until("the requests are recorded", || (program.recorded("harbour") >= 20).then_some(()));
    let logs = text(&place.generations("harbour")[0]);
    let made = exedra(&["report", "--as", "html", "--to", &text(&report), &logs]);
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let console = |path: &str| format!("http://{}{path}", program.console);
    let site = |host: &str, path: &str| {
        let port = program.sites.rsplit(':').next().unwrap();
        format!("http://{host}:{port}{path}")
    };
    let pages = [
        ("sign in", console("/"), "h1"),
        ("the first page", program.link.clone().unwrap(), "[data-testid=requests]"),
        ("traffic", console("/traffic"), "[data-testid=total-requests]"),
        ("sites", console("/sites"), "main h2"),
        ("one site", console("/sites?site=lamp"), "main h3"),
        ("a report", format!("file://{}", text(&report)), "[data-testid=total-requests]"),
        ("a listing", site("lamp.example", "/pictures/"), "h1"),
        ("an error", site("lamp.example", "/nowhere"), "h1"),
    ];
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let found = runtime.block_on(async {
        let colors = format!("--blink-settings=preferredColorScheme={}", if theme == "dark" { 0 } else { 1 });
        let hosts = "--host-resolver-rules=MAP *.example 127.0.0.1";
        let browser = Browser::open_with(&[&format!("--window-size={size}"), &colors, hosts]).await;
        let dark = "return matchMedia('(prefers-color-scheme: dark)').matches";
        let is_dark: bool = browser.window.execute(dark, Vec::new()).await.unwrap().convert().unwrap();
        assert_eq!(is_dark, theme == "dark");
        let found = barriers(&browser, &pages).await;
        browser.close().await;
        found
    });
    assert!(found.is_empty(), "{}", found.join("\n\n"));
}
