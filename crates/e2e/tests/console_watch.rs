//! In Chromium: alerts on the pages Watch and Now, and what compression makes of a site's files on the page Sites.

use exedra_e2e::browser::{Browser, run};
use exedra_e2e::{Place, Program, drawn, text};
use thirtyfour::prelude::*;

/// One alert that nothing raises and one that is raised at once: nobody has come.
fn watched() -> Place {
    let place = Place::new();
    place.configure(
        r#"
[[alert]]
name  = "many failures"
scope = ["site=harbour"]
when  = { share = "status=5xx", over = "2 %", of_last = "5 minutes" }
[[alert]]
name  = "a crowd"
when  = { number = "all", over = 4, of_last = "5 minutes" }
tell  = ["office"]
[[recipient]]
name    = "office"
command = ["sh", "-c", "cat > told.json; test -e open"]
[[report]]
name  = "each day"
every = "day 07:00"
"#,
    );
    place
}

/// Nine requests of a minute that is over: an alert is about whole ones.
fn import_crowd(place: &Place, program: &Program) {
    let time = jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC) - jiff::Span::new().minutes(2);
    let time = time.strftime("%d/%b/%Y:%H:%M:%S %z");
    place.write("edge.log", &format!("192.0.2.7 - - [{time}] \"GET / HTTP/1.1\" 200 10\n").repeat(9));
    let imported = program.command(place, &["import", "--site", "harbour", &text(&place.path("edge.log"))]);
    assert!(imported.status.success(), "{}", drawn(&imported));
}

#[test]
fn alerts_are_seen_tried_and_lead_from_the_first_page_to_their_own() {
    let place = watched();
    let program = place.serve();
    import_crowd(&place, &program);
    run(async {
        let browser = Browser::open().await;
        browser.window.goto(program.link.clone().unwrap()).await.unwrap();
        browser.text_when("main", |text| text.contains("a crowd: 9")).await;
        browser.window.goto(format!("http://{}/watch", program.console)).await.unwrap();
        let raised = "[data-testid='alert-a crowd']";
        let text = browser.text_when(raised, |text| text.contains("raised")).await;
        assert!(text.contains("more than 4 requests within 5 minutes") && text.contains("since"), "{text}");
        let quiet = "[data-testid='alert-many failures']";
        browser.text_when(quiet, |text| text.contains("quiet") && text.contains("site=harbour")).await;
        browser.click(By::Css(format!("{raised} button"))).await;
        let tried = browser.text_when(raised, |text| text.contains("Raised 1 times")).await;
        assert!(tried.contains("goes on") && tried.contains("9 requests"), "{tried}");
        browser.click(By::Css(format!("{quiet} button"))).await;
        browser.text_when(quiet, |text| text.contains("It would not have been raised")).await;
        let barriers = browser.barriers().await;
        assert!(barriers.is_empty(), "{}", barriers.join("\n"));
        browser.close().await;
    });
}

#[test]
fn an_alert_is_seen_and_silenced_and_its_messages_are_tried_again() {
    let place = watched();
    let program = place.serve();
    import_crowd(&place, &program);
    run(async {
        let browser = Browser::open().await;
        browser.window.goto(program.link.clone().unwrap()).await.unwrap();
        browser.text_when("main", |text| text.contains("a crowd: 9")).await;
        browser.window.goto(format!("http://{}/watch", program.console)).await.unwrap();
        let (row, messages) = ("[data-testid='alert-a crowd']", "[data-testid=messages]");
        // The command fails until there is a file.
        let text = browser.text_when(messages, |text| text.contains("attempts: sh ended with")).await;
        assert!(text.contains("a crowd: 9 requests") && text.contains("message waits"), "{text}");
        place.write("state/open", "");
        browser.click(By::XPath("//*[@data-testid='messages']//button[text()='Try again']")).await;
        browser.text_when(messages, |text| text.contains("delivered")).await;
        browser.click(By::XPath("//*[@data-testid='messages']//button[text()='Send a trial message']")).await;
        browser.text_when(messages, |text| text.contains("arrived, in")).await;
        let told = std::fs::read_to_string(place.path("state/told.json")).unwrap();
        assert!(told.contains("\"kind\":\"trial\""), "{told}");
        browser.click(By::XPath("//button[text()='I have seen it']")).await;
        browser.text_when(row, |text| text.contains("seen by sign-in link")).await;
        browser
            .click(By::XPath("//*[@data-testid='alert-a crowd']//button[contains(., 'Silence for')]"))
            .await;
        browser.click(By::XPath("//*[@role='menuitem'][text()='8 hours']")).await;
        browser
            .text_when(row, |text| text.contains("silent until") && text.contains("by sign-in link"))
            .await;
        browser.click(By::XPath("//button[text()='End the silence']")).await;
        browser.text_when(row, |text| text.contains("tells office")).await;
        let history =
            browser.text_when("[data-testid=alert-history]", |text| text.contains("As a list (1)")).await;
        assert!(history.contains("a crowd"), "{history}");
        let reports = "[data-testid=schedules]";
        browser
            .text_when(reports, |text| text.contains("day 07:00 · yesterday") && text.contains("next"))
            .await;
        browser.click(By::XPath("//button[text()='Make it now']")).await;
        browser.text_when(reports, |text| text.contains("HTML,")).await;
        let barriers = browser.barriers().await;
        assert!(barriers.is_empty(), "{}", barriers.join("\n"));
        browser.close().await;
    });
}

#[test]
fn a_site_is_weighed_on_its_page_and_its_settings_are_given() {
    let place = Place::new();
    let program = place.serve();
    run(async {
        let browser = Browser::open().await;
        browser.window.goto(program.link.clone().unwrap()).await.unwrap();
        browser.text_when("main", |text| !text.is_empty()).await;
        browser.window.goto(format!("http://{}/sites?site=harbour", program.console)).await.unwrap();
        browser.click(By::Css("[data-testid=weighing] button")).await;
        let text = browser.text_when("[data-testid=weighing]", |text| text.contains("[site.compress]")).await;
        assert!(text.contains("effort 11") && text.contains("text/html"), "{text}");
        browser.text_when("[data-testid=codec-br]", |text| text.contains("% remain")).await;
        let barriers = browser.barriers().await;
        assert!(barriers.is_empty(), "{}", barriers.join("\n"));
        browser.close().await;
    });
}

#[test]
fn a_new_alert_is_tried_and_put_into_the_configuration() {
    let place = watched();
    let program = place.serve();
    import_crowd(&place, &program);
    run(async {
        let browser = Browser::open().await;
        browser.window.goto(program.link.clone().unwrap()).await.unwrap();
        browser.text_when("main", |text| text.contains("a crowd: 9")).await;
        browser.window.goto(format!("http://{}/watch", program.console)).await.unwrap();
        browser.click(By::XPath("//button[text()='New alert']")).await;
        let form = "[data-testid=new-alert]";
        browser.text_when(form, |text| text.contains("Put it into the configuration")).await;
        let field = |label: &str| {
            By::XPath(format!("//*[@data-testid='new-alert']//label[starts-with(., '{label}')]/input"))
        };
        let write = async |label: &str, text: &str| {
            let found = browser.window.find(field(label)).await.unwrap();
            found.click().await.unwrap();
            found.send_keys(Key::Control + "a").await.unwrap();
            found.send_keys(text).await.unwrap();
        };
        write("Name", "any page at all").await;
        write("Which fit", "statsu=200").await;
        write("Of at least", "1").await;
        browser.click(By::XPath("//*[@data-testid='new-alert']//button[@type='submit']")).await;
        browser.text_when(form, |text| text.contains("did you mean `status`?")).await;
        write("Which fit", "status=200").await;
        browser.click(By::XPath("//*[@data-testid='new-alert']//button[@type='submit']")).await;
        browser
            .text_when(form, |text| {
                text.contains("Raised 1 times") && text.contains("more than 2.0 % of requests")
            })
            .await;
        let barriers = browser.barriers().await;
        assert!(barriers.is_empty(), "{}", barriers.join("\n"));
        browser.click(By::XPath("//button[text()='Put it into the configuration']")).await;
        let row = "[data-testid='alert-any page at all']";
        browser.text_when(row, |text| text.contains("raised") && text.contains("of 1 request or more")).await;
        browser.close().await;
    });
    let config = std::fs::read_to_string(place.config()).unwrap();
    let written = "[[alert]]\nname = \"any page at all\"\nwhen = { share = \"status=200\", over = \"2 %\", of_last = \"5 minutes\", requests = 1 }\n";
    assert!(config.contains(written), "{config}");
}
