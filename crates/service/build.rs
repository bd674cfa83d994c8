//! Puts the built console into the program: every file of `console/dist`, with its Brotli form beside it; and the page of reports.
//!
//! Without a built console (a plain `cargo check`) the list is empty, and the service says so in its place.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};

fn main() -> std::io::Result<()> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/dist");
    println!("cargo::rerun-if-changed={}", root.display());
    let mut files = Vec::new();
    if root.is_dir() {
        collect(&root, &mut files)?;
    }
    files.sort();
    let mut list = String::from("&[\n");
    for file in files.iter().filter(|file| file.extension().is_none_or(|extension| extension != "br")) {
        let name = file.strip_prefix(&root).unwrap_or(file).to_string_lossy().replace('\\', "/");
        let packed = PathBuf::from(format!("{}.br", file.display()));
        let packed = match packed.is_file() {
            true => format!("Some(include_bytes!({:?}))", packed.display().to_string()),
            false => "None".to_owned(),
        };
        let plain = file.display().to_string();
        let _ =
            writeln!(list, "Asset {{ name: {name:?}, plain: include_bytes!({plain:?}), brotli: {packed} }},");
    }
    list.push_str("]\n");
    let out = PathBuf::from(std::env::var("OUT_DIR").unwrap_or_default());
    let page = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/dist-report/report.html");
    println!("cargo::rerun-if-changed={}", page.display());
    let words = match page.is_file() {
        true => format!("Some(include_str!({:?}))", page.display().to_string()),
        false => "None".to_owned(),
    };
    std::fs::write(out.join("report_page.rs"), words)?;
    std::fs::write(out.join("assets.rs"), list)
}

fn collect(folder: &Path, files: &mut Vec<PathBuf>) -> std::io::Result<()> {
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        if path.is_dir() {
            collect(&path, files)?;
        } else {
            files.push(path);
        }
    }
    Ok(())
}
