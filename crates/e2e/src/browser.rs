//! Headless Chromium, with a fresh profile, driven over WebDriver.

use crate::until;
use futures_util::StreamExt;
use serde_json::Value;
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;
use thirtyfour::bidi::events::AuthRequired;
use thirtyfour::bidi::modules::network::{AuthAction, ContinueWithAuth, InterceptPhase};
use thirtyfour::prelude::*;

/// A browser and its driver; both end with the test.
pub struct Browser {
    driver: Child,
    _profile: TempDir,
    /// The window.
    pub window: WebDriver,
}

impl Browser {
    /// Opens a window of 1280×800.
    pub async fn open() -> Self {
        Browser::open_with(&[]).await
    }

    /// The same, with some arguments more.
    pub async fn open_with(more: &[&str]) -> Self {
        crate::secure();
        let port = free_port();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver runs: apt-get install chromium chromium-driver");
        until("the driver listens", || TcpStream::connect(("127.0.0.1", port)).ok());
        let profile = tempfile::tempdir().expect("a profile");
        let mut wanted = DesiredCapabilities::chrome();
        let profile_argument = format!("--user-data-dir={}", profile.path().display());
        let arguments = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-dev-shm-usage",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--no-first-run",
            "--window-size=1280,800",
            &profile_argument,
        ];
        for argument in arguments.iter().chain(more) {
            wanted.add_arg(argument).expect("an argument");
        }
        wanted.enable_bidi().expect("to be told of what happens");
        let window = WebDriver::new(format!("http://127.0.0.1:{port}"), wanted).await.expect("a browser");
        Browser { driver, _profile: profile, window }
    }

    /// Goes to an address that asks for a name and a password, and cancels the question.
    pub async fn go_and_cancel(&self, address: &str) {
        let bidi = self.window.bidi().await.expect("to be told of what happens");
        let intercept = bidi.network().add_intercept(vec![InterceptPhase::AuthRequired], None).await;
        let intercept = intercept.expect("to be asked first");
        let _told = bidi.subscribe::<AuthRequired>().await.expect("to be told");
        let mut all = bidi.subscribe_raw();
        // By the same way as the answer to the question: the other one waits until the page is there.
        let context = self.window.window().await.expect("a window").to_string();
        let contexts = bidi.browsing_context();
        let go = contexts.navigate(context.as_str().into(), address, None);
        let cancel = async {
            let mut asked = all.next().await.expect("a question");
            while asked.method != "network.authRequired" {
                asked = all.next().await.expect("a question");
            }
            let request = asked.params["request"]["request"].as_str().expect("its request");
            let answer = ContinueWithAuth { request: request.into(), action: AuthAction::Cancel };
            bidi.send(answer).await.expect("cancelled");
        };
        let (gone, ()) = tokio::join!(go, cancel);
        gone.expect("a page");
        intercept.remove().await.expect("not asked any longer");
    }

    /// The text of an element once it is what is wanted.
    pub async fn text_when(&self, selector: &str, wanted: impl Fn(&str) -> bool) -> String {
        let began = std::time::Instant::now();
        let mut last = String::new();
        while began.elapsed() < crate::PATIENCE {
            if let Ok(found) = self.window.find(By::Css(selector)).await {
                last = found.text().await.unwrap_or_default();
                if wanted(&last) {
                    return last;
                }
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        panic!("in vain: {selector} is {last:?}");
    }

    /// Clicks on an element once it is there.
    pub async fn click(&self, by: By) {
        let found = self.window.query(by).first().await.expect("something to click on");
        found.click().await.expect("a click");
    }

    /// What keeps some people from using the page that is shown, by the rules of WCAG 2.2 at level AA: the rule, and
    /// where it is not kept.
    pub async fn barriers(&self) -> Vec<String> {
        const RUN: &str = "
            const done = arguments[arguments.length - 1];
            const rules = { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'] };
            axe.run(document, rules).then(
                (found) => done(found.violations.flatMap((rule) =>
                    rule.nodes.map((node) => `${rule.id}: ${node.target.join(' ')}: ${node.failureSummary}`))),
                (error) => done([String(error)]));";
        let rules = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js");
        let rules = std::fs::read_to_string(rules).expect("the console's packages: cargo xtask test");
        // As an expression of the page's own, so that the second script finds it.
        self.window.execute(format!("{rules}; window.axe = axe;"), Vec::new()).await.expect("the rules");
        let found = self.window.execute_async(RUN, Vec::new()).await.expect("a verdict");
        found.convert().expect("texts")
    }

    /// Closes the window.
    pub async fn close(self) {
        self.window.clone().quit().await.expect("closed");
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

fn free_port() -> u16 {
    let socket = TcpListener::bind("127.0.0.1:0").expect("a free port");
    socket.local_addr().expect("its address").port()
}

/// Runs a test that waits.
pub fn run<F: Future>(test: F) -> F::Output {
    tokio::runtime::Builder::new_multi_thread()
        .worker_threads(1)
        .enable_all()
        .build()
        .expect("a runtime")
        .block_on(test)
}

/// The result of a script.
pub async fn script<T: FromScript>(browser: &Browser, script: &str) -> T {
    let result = browser.window.execute(script, Vec::new()).await.expect("a result");
    T::of(result.json().clone())
}

/// What scripts give.
pub trait FromScript {
    /// Takes it.
    fn of(value: Value) -> Self;
}

impl FromScript for Value {
    fn of(value: Value) -> Self {
        value
    }
}

impl FromScript for bool {
    fn of(value: Value) -> Self {
        value.as_bool().expect("true or false")
    }
}

impl FromScript for i64 {
    fn of(value: Value) -> Self {
        value.as_i64().expect("a number")
    }
}

impl FromScript for String {
    fn of(value: Value) -> Self {
        value.as_str().expect("a text").to_owned()
    }
}

/// Waits until a script says so.
pub async fn holds(browser: &Browser, what: &str) {
    let began = Instant::now();
    while !script::<bool>(browser, &format!("return Boolean({what})")).await {
        assert!(began.elapsed() < crate::PATIENCE, "in vain: {what}");
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
}
