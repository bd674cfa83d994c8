//! What must be installed beside Rust and Node, and installing it from Debian's packages.

use crate::steps::{Failed, run};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// SQLite and Zstandard are C.
const COMPILER: [(&str, &str); 1] = [("cc", "gcc")];
/// The console is tested in a browser, the service is sent signals and given a full disk, the client a terminal.
const TESTS: [(&str, &str); 5] = [
    ("chromium", "chromium"),
    ("chromedriver", "chromium-driver"),
    ("kill", "procps"),
    ("script", "bsdutils"),
    ("mount", "mount"),
];

/// Servers are measured under a load from outside.
const LOADER: [(&str, &str); 2] = [("wrk", "wrk"), ("h2load", "nghttp2-client")];

/// A C compiler.
pub fn compiler() -> Result<(), Failed> {
    packages(&COMPILER)
}

/// Chromium and its driver, and what sends signals.
pub fn tests() -> Result<(), Failed> {
    packages(&TESTS)
}

/// A program that loads servers.
pub fn loader() -> Result<(), Failed> {
    packages(&LOADER)
}

/// Another engine for SQL, from PyPI, to be measured beside ours.
pub fn other_engine() -> Result<(), Failed> {
    packages(&[("python3", "python3"), ("pip3", "python3-pip")])?;
    let is_there = Command::new("python3").args(["-c", "import duckdb"]).stderr(Stdio::null()).status();
    if is_there.is_ok_and(|status| status.success()) {
        return Ok(());
    }
    let mut install = Command::new("pip3");
    install.args(["install", "--quiet", "--break-system-packages", "duckdb"]).stdout(Stdio::null());
    run("installing the engine to compare with", &mut install)
}

/// Where cargo builds.
pub fn target_folder(root: &Path) -> PathBuf {
    std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| root.join("target"), PathBuf::from)
}

/// Whether a program is there.
pub fn has(program: &str) -> bool {
    let answer = Command::new(program).arg("--version").stdout(Stdio::null()).stderr(Stdio::null()).status();
    // Some say their version with another status; that they can be run is what counts.
    answer.is_ok()
}

fn packages(needed: &[(&str, &str)]) -> Result<(), Failed> {
    let missing: Vec<&str> =
        needed.iter().filter(|(program, _)| !has(program)).map(|(_, package)| *package).collect();
    if missing.is_empty() {
        return Ok(());
    }
    let words = format!("these packages are missing: apt-get install {}", missing.join(" "));
    if !has("apt-get") || !is_root() {
        return Err(Failed(words));
    }
    let quiet = |command: &mut Command| {
        command.env("DEBIAN_FRONTEND", "noninteractive").stdout(Stdio::null());
    };
    let mut update = Command::new("apt-get");
    quiet(update.args(["update", "--quiet"]));
    run("looking for packages", &mut update)?;
    let mut install = Command::new("apt-get");
    let options = ["install", "--yes", "--quiet", "--no-install-recommends", "ca-certificates"];
    quiet(install.args(options).args(&missing));
    run(&format!("installing {}", missing.join(", ")), &mut install)
}

fn is_root() -> bool {
    let answer = Command::new("id").arg("--user").output();
    answer.is_ok_and(|answer| answer.stdout.trim_ascii() == b"0")
}
