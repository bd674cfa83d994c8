//! Headless Chromium, with a fresh profile, driven over WebDriver.

use crate::until;
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Command, Stdio};
use tempfile::TempDir;
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
        for argument in arguments {
            wanted.add_arg(argument).expect("an argument");
        }
        let window = WebDriver::new(format!("http://127.0.0.1:{port}"), wanted).await.expect("a browser");
        Browser { driver, _profile: profile, window }
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
