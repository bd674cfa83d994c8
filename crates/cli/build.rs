//! Puts the page of `exedra report --as html` into the program: `console/dist-report/report.html`.
//!
//! Without a built console (a plain `cargo check`) there is none, and the command says so.

use std::path::Path;

fn main() -> std::io::Result<()> {
    let page = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/dist-report/report.html");
    println!("cargo::rerun-if-changed={}", page.display());
    let words = match page.is_file() {
        true => format!("Some(include_str!({:?}))", page.display().to_string()),
        false => "None".to_owned(),
    };
    std::fs::write(Path::new(&std::env::var("OUT_DIR").unwrap_or_default()).join("report_page.rs"), words)
}
