//! The console: its packages, its checks, its build. Nothing is done twice for the same sources.

use crate::setup;
use crate::steps::{Failed, run};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::{Path, PathBuf};
use std::process::Command;

/// Builds `console/dist` and `console/dist-report`, if the console has changed since.
pub fn build(root: &Path) -> Result<(), Failed> {
    let console = root.join("console");
    let mark = setup::target_folder(root).join("console.built");
    let sources = fingerprint(&console)?;
    let built = std::fs::read_to_string(&mark).unwrap_or_default();
    let are_there = ["dist/index.html", "dist-report/report.html", "dist-parts/test/parts.html"]
        .iter()
        .all(|file| console.join(file).is_file());
    if built == sources && are_there {
        return Ok(());
    }
    install(&console)?;
    run("building the console", npm(&console).args(["run", "--silent", "build"]))?;
    let keep = || -> std::io::Result<()> {
        std::fs::create_dir_all(setup::target_folder(root))?;
        std::fs::write(&mark, &sources)
    };
    keep().map_err(|error| Failed(format!("{} cannot be written: {error}", mark.display())))
}

/// Checks its types.
pub fn check(root: &Path) -> Result<(), Failed> {
    let console = root.join("console");
    install(&console)?;
    run("types of the console", npm(&console).args(["run", "--silent", "check"]))
}

/// Makes its types of the API anew.
pub fn types(root: &Path) -> Result<(), Failed> {
    let console = root.join("console");
    install(&console)?;
    run("types of the API", npm(&console).args(["run", "--silent", "types"]))
}

fn install(console: &Path) -> Result<(), Failed> {
    if !setup::has("npm") {
        return Err(Failed("npm is missing: install Node.js 20 or newer, with npm".to_owned()));
    }
    let installed = console.join("node_modules/.package-lock.json");
    let age = |path: &Path| path.metadata().and_then(|file| file.modified()).ok();
    if age(&installed) >= age(&console.join("package-lock.json")) && installed.is_file() {
        return Ok(());
    }
    // Not `npm ci`: it insists on packages for other platforms, which a registry need not carry.
    let install = ["install", "--no-save", "--no-audit", "--no-fund", "--loglevel=error"];
    run("installing the console's packages", npm(console).args(install))
}

fn npm(console: &Path) -> Command {
    let mut command = Command::new("npm");
    command.current_dir(console);
    command
}

fn fingerprint(console: &Path) -> Result<String, Failed> {
    let mut files = Vec::new();
    for entry in std::fs::read_dir(console).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        // What is made, and what is fetched, is not what it is made from.
        match entry.path().is_dir() {
            true if name.starts_with("dist") || name == "node_modules" => {}
            true => collect(&entry.path(), &mut files),
            false => files.push(entry.path()),
        }
    }
    files.sort();
    let mut hasher = DefaultHasher::new();
    for file in files {
        let content = std::fs::read(&file)
            .map_err(|error| Failed(format!("{} cannot be read: {error}", file.display())))?;
        (file.strip_prefix(console).unwrap_or(&file), content).hash(&mut hasher);
    }
    Ok(format!("{:016x}", hasher.finish()))
}

fn collect(folder: &Path, files: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() {
            collect(&path, files);
        } else {
            files.push(path);
        }
    }
}
