//! The notices of everything inside the program: the crates that it is linked from, the packages of the console, and the data
//! and faces that were taken from others. Texts that are the same stand once, with all that they are for.

use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::Path;
use std::process::Command;

/// Something by others.
struct Part {
    /// Its name and version.
    name: String,
    /// Its licence, as an SPDX expression.
    licence: String,
    /// The texts that come with it.
    texts: Vec<String>,
}

/// Data and faces that lie in the repository: what they are, under which licence, and where their texts stand.
const TAKEN: [(&str, &str, &[&str]); 2] = [
    (
        "uap-core 0.18.0 (patterns of agents, converted to JSON)",
        "Apache-2.0",
        &["core/reading/src/classify/data/LICENSE-APACHE-agents"],
    ),
    (
        "the face of charts (Source Sans 3, Latin letters, converted)",
        "OFL-1.1",
        &["crates/cli/data/LICENSE-OFL-face"],
    ),
];

/// All notices, as one text.
pub fn notices(root: &Path, has_console: bool) -> io::Result<String> {
    let mut parts = crates(root)?;
    for (name, licence, files) in TAKEN {
        let texts =
            files.iter().map(|file| std::fs::read_to_string(root.join(file))).collect::<io::Result<_>>()?;
        parts.push(Part { name: name.to_owned(), licence: licence.to_owned(), texts });
    }
    if has_console {
        parts.extend(packages(root)?);
    }
    let mut out = String::from(
        "Exedra is there under the MIT licence or the Apache licence 2.0, as you like. It holds work by others:\n\n",
    );
    for part in &parts {
        out.push_str(&format!("  {:<60} {}\n", part.name, part.licence));
    }
    let mut for_whom: BTreeMap<String, BTreeSet<&str>> = BTreeMap::new();
    for part in &parts {
        for text in &part.texts {
            for_whom.entry(text.replace("\r\n", "\n").trim().to_owned()).or_default().insert(&part.name);
        }
    }
    for (text, names) in for_whom {
        let names: Vec<&str> = names.into_iter().collect();
        out.push_str(&format!("\n{}\n{}\n\n{text}\n", "─".repeat(72), names.join(", ")));
    }
    Ok(out)
}

/// The crates that the program is linked from.
fn crates(root: &Path) -> io::Result<Vec<Part>> {
    println!("cargo::rerun-if-changed={}", root.join("Cargo.lock").display());
    let cargo = std::env::var("CARGO").unwrap_or_else(|_| "cargo".to_owned());
    let target = std::env::var("TARGET").unwrap_or_default();
    let ask = |more: &[&str]| {
        let plain = ["metadata", "--format-version=1", "--locked", "--filter-platform", &target];
        Command::new(&cargo).args(plain).args(more).current_dir(root).output()
    };
    // What only tests need may not be there yet where nothing but the program has been built.
    let mut told = ask(&["--offline"])?;
    if !told.status.success() {
        told = ask(&[])?;
    }
    if !told.status.success() {
        let words = String::from_utf8_lossy(&told.stderr).into_owned();
        return Err(io::Error::other(format!("the licences of what is linked could not be listed: {words}")));
    }
    let told: Value = serde_json::from_slice(&told.stdout)?;
    let list = |value: &Value| value.as_array().cloned().unwrap_or_default();
    let text = |value: &Value, name: &str| value[name].as_str().unwrap_or_default().to_owned();
    let all: BTreeMap<String, Value> =
        list(&told["packages"]).into_iter().map(|package| (text(&package, "id"), package)).collect();
    let nodes: BTreeMap<String, Value> =
        list(&told["resolve"]["nodes"]).into_iter().map(|node| (text(&node, "id"), node)).collect();
    let own = all
        .iter()
        .filter(|(_, package)| package["name"] == env!("CARGO_PKG_NAME") && package["source"].is_null());
    let mut left: Vec<String> = own.map(|(id, _)| id.clone()).collect();
    let mut seen: BTreeSet<String> = BTreeSet::new();
    let mut parts = Vec::new();
    while let Some(id) = left.pop() {
        let Some(package) = all.get(&id).filter(|_| seen.insert(id.clone())) else { continue };
        // What only runs while the program is built is not inside it.
        let is_for_building = list(&package["targets"])
            .iter()
            .any(|target| list(&target["kind"]).iter().any(|kind| kind == "proc-macro"));
        if is_for_building {
            continue;
        }
        let linked = list(&nodes.get(&id).map_or(Value::Null, |node| node["deps"].clone()));
        let is_linked =
            |dependency: &Value| list(&dependency["dep_kinds"]).iter().any(|kind| kind["kind"].is_null());
        left.extend(
            linked
                .iter()
                .filter(|dependency| is_linked(dependency))
                .map(|dependency| text(dependency, "pkg")),
        );
        if !package["source"].is_null() {
            let folder = package["manifest_path"].as_str().map(Path::new).and_then(Path::parent);
            parts.push(Part {
                name: format!("{} {}", text(package, "name"), text(package, "version")),
                licence: text(package, "license"),
                texts: folder.map(texts_in).transpose()?.unwrap_or_default(),
            });
        }
    }
    parts.sort_by(|one, other| one.name.cmp(&other.name));
    Ok(parts)
}

/// The packages of the console.
fn packages(root: &Path) -> io::Result<Vec<Part>> {
    let lock = root.join("console/package-lock.json");
    println!("cargo::rerun-if-changed={}", lock.display());
    let lock: Value = serde_json::from_slice(&std::fs::read(lock)?)?;
    let all = lock["packages"].as_object().cloned().unwrap_or_default();
    let mut parts = Vec::new();
    for (path, package) in all {
        let Some((_, name)) = path.rsplit_once("node_modules/") else { continue };
        if package["dev"] == true || package["optional"] == true || package["devOptional"] == true {
            continue;
        }
        parts.push(Part {
            name: format!("{name} {}", package["version"].as_str().unwrap_or_default()),
            licence: package["license"].as_str().unwrap_or_default().to_owned(),
            texts: texts_in(&root.join("console").join(&path))?,
        });
    }
    Ok(parts)
}

/// The licences and notices that lie in a folder.
fn texts_in(folder: &Path) -> io::Result<Vec<String>> {
    let mut texts = Vec::new();
    let Ok(entries) = std::fs::read_dir(folder) else { return Ok(texts) };
    for entry in entries {
        let entry = entry?;
        let name = entry.file_name().to_string_lossy().to_ascii_uppercase();
        let is_notice = ["LICENSE", "LICENCE", "COPYING", "NOTICE", "UNLICENSE"]
            .iter()
            .any(|sign| name.starts_with(sign));
        if is_notice && entry.file_type()?.is_file() {
            // What is no text says nothing to anybody.
            texts.extend(std::fs::read_to_string(entry.path()).ok());
        }
    }
    texts.sort();
    Ok(texts)
}
