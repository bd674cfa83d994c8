//! Port Lindry, as `exedra demo` opens it.

use crate::browser::Browser;
use crate::{Program, exedra, text, until};
use serde_json::Value;
use std::path::PathBuf;
use tempfile::TempDir;

/// The demo with its past in the records.
pub struct Town {
    /// The service.
    pub program: Program,
    folder: TempDir,
}

impl Town {
    /// Opens it, and waits for its past.
    pub fn open() -> Self {
        let folder = tempfile::tempdir().expect("the town");
        let town = text(&folder.path().join("town"));
        let mut arguments = vec!["demo", "--quiet", "--folder", &town];
        for listener in ["--sites", "--console", "--secured"] {
            arguments.extend([listener, "127.0.0.1:0"]);
        }
        let program = Program::start(&arguments, folder.path().join("town/state"));
        let all = |site: &str| {
            let log = folder.path().join(format!("town/state/logs/{site}.000001.log"));
            std::fs::read_to_string(log).expect("the town").lines().count() as u64
        };
        for site in ["harbour", "lamp", "records"] {
            let lines = all(site);
            until("the past is recorded", || (program.recorded(site) == lines).then_some(()));
        }
        Town { program, folder }
    }

    /// Its configuration.
    pub fn config(&self) -> PathBuf {
        self.folder.path().join("town/exedra.toml")
    }

    /// A report of the logs in a scope, as JSON.
    pub fn report(&self, options: &[&str]) -> Value {
        let logs = text(&self.folder.path().join("town/state/logs"));
        let logs: Vec<String> =
            ["harbour", "lamp", "records"].iter().map(|site| format!("{logs}/{site}.000001.log")).collect();
        let config = text(&self.config());
        let mut all = vec!["report", "--as", "json", "--top", "200", "--config", &config];
        all.extend(options);
        all.extend(logs.iter().map(String::as_str));
        let made = exedra(&all);
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        serde_json::from_slice(&made.stdout).expect("the town")
    }

    /// A window that is signed in.
    pub async fn signed_in(&self, arguments: &[&str]) -> Browser {
        let browser = Browser::open_with(arguments).await;
        browser.window.goto(self.program.link.clone().expect("the town")).await.expect("the town");
        browser.text_when("[data-testid=requests]", |text| !text.is_empty()).await;
        browser
    }

    /// The address of a page of the console.
    pub fn at(&self, path: &str) -> String {
        format!("http://{}/{path}", self.program.console)
    }
}
