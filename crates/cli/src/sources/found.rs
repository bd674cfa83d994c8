//! What was named, as files: paths, wildcards, folders, names of sites, and rotated siblings.

use crate::Failure;
use exedra_core::config::Config;
use exedra_service::error_log::ERRORS;
use exedra_service::journal::generations::generations;
use std::collections::HashSet;
use std::path::{Path, PathBuf};

/// A file to be read, or standard input.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// What people are told it is.
    pub name: String,
    /// Where it lies; nowhere for standard input.
    pub path: Option<PathBuf>,
    /// Whether it was only found in a folder: what is no log there is passed over.
    pub incidental: bool,
}

impl Found {
    fn file(path: PathBuf, incidental: bool) -> Self {
        Found { name: path.display().to_string(), path: Some(path), incidental }
    }
}

/// The files behind some names, each once, in the order of the names. A name is a path, a pattern with `*`, `?` or `[…]`,
/// a folder, `-`, or a site of the configuration. `rotated` takes the siblings of files along, the oldest first.
pub fn find(names: &[String], rotated: bool, config: Option<&Config>) -> Result<Vec<Found>, Failure> {
    let mut all = Vec::new();
    for name in names {
        let path = Path::new(name);
        if name == "-" {
            all.push(Found { name: "standard input".to_owned(), path: None, incidental: false });
        } else if path.is_dir() {
            let mut files = files_in(path)?;
            files.sort();
            if files.is_empty() {
                return Err(Failure(format!("the folder {name} has no files in it")));
            }
            all.extend(files.into_iter().map(|path| Found::file(path, true)));
        } else if path.exists() {
            if rotated {
                all.extend(siblings(path)?.into_iter().map(|path| Found::file(path, false)));
            }
            all.push(Found::file(path.to_owned(), false));
        } else if let Some(site) = config.and_then(|config| logs_of(config, name)) {
            all.extend(site?.into_iter().map(|path| Found::file(path, false)));
        } else if name.contains(['*', '?', '[']) {
            let pattern = glob::glob(name).map_err(|error| {
                Failure(format!(
                    "the pattern {name} cannot be understood: {} (at {})",
                    error.msg,
                    error.pos + 1
                ))
            })?;
            let files: Vec<PathBuf> = pattern
                .filter_map(Result::ok)
                .filter(|path| path.is_file() && !tells_of_errors(path))
                .collect();
            if files.is_empty() {
                return Err(Failure(format!("no file fits the pattern {name}")));
            }
            all.extend(files.into_iter().map(|path| Found::file(path, false)));
        } else {
            return Err(Failure(missing(name, config)));
        }
    }
    let mut seen = HashSet::new();
    all.retain(|found| match &found.path {
        Some(path) => seen.insert(path.canonicalize().unwrap_or_else(|_| path.clone())),
        None => seen.insert(PathBuf::from("-")),
    });
    Ok(all)
}

fn missing(name: &str, config: Option<&Config>) -> String {
    let sites = config.map(|config| config.sites.iter().map(|site| site.name.value.as_str()));
    match sites {
        None => format!("there is no file {name}"),
        Some(sites) => {
            let sites: Vec<&str> = sites.collect();
            format!("there is no file {name}, and no such site in the configuration ({})", sites.join(", "))
        }
    }
}

/// The logs of a site, oldest first.
fn logs_of(config: &Config, name: &str) -> Option<Result<Vec<PathBuf>, Failure>> {
    let site = config.sites.iter().find(|site| site.name.value == name)?;
    let folder = &config.service.logs.value;
    Some(match generations(folder, &site.name.value) {
        Ok(found) if found.is_empty() => {
            Err(Failure(format!("the site {name} has no logs in {} yet", folder.display())))
        }
        Ok(found) => Ok(found.into_iter().map(|generation| generation.path).collect()),
        Err(error) => Err(Failure(format!("{} cannot be read: {error}", folder.display()))),
    })
}

fn files_in(folder: &Path) -> Result<Vec<PathBuf>, Failure> {
    let failed = |error| Failure(format!("{} cannot be read: {error}", folder.display()));
    let entries = std::fs::read_dir(folder).map_err(failed)?;
    let paths = entries.filter_map(|entry| Some(entry.ok()?.path()));
    let is_hidden =
        |path: &Path| path.file_name().is_none_or(|name| name.as_encoded_bytes().starts_with(b"."));
    Ok(paths.filter(|path| path.is_file() && !is_hidden(path) && !tells_of_errors(path)).collect())
}

/// Whether it is our own log of errors: whoever means all logs does not mean to count what failed twice.
fn tells_of_errors(path: &Path) -> bool {
    let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
    name.strip_prefix(ERRORS).is_some_and(|rest| rest.starts_with('.'))
}

/// The rotated siblings of a log, oldest first: `access.log.1`, `access.log.2.gz`, `access.log-20260914`,
/// `access-2026-09-14.log.zst`.
pub fn siblings(log: &Path) -> Result<Vec<PathBuf>, Failure> {
    let folder = match log.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    };
    let Some(name) = log.file_name().and_then(|name| name.to_str()) else { return Ok(Vec::new()) };
    let mut found: Vec<(std::time::SystemTime, PathBuf)> = files_in(folder)?
        .into_iter()
        .filter(|path| {
            path.file_name().and_then(|other| other.to_str()).is_some_and(|other| is_sibling(name, other))
        })
        .map(|path| {
            (path.metadata().and_then(|found| found.modified()).unwrap_or(std::time::UNIX_EPOCH), path)
        })
        .collect();
    found.sort();
    // Named as the log was, so that a log in this folder has siblings without `./` before them.
    let named = |path: PathBuf| match log.parent() {
        Some(folder) if folder.as_os_str().is_empty() => path.strip_prefix("./").unwrap_or(&path).to_owned(),
        _ => path,
    };
    Ok(found.into_iter().map(|(_, path)| named(path)).collect())
}

fn is_sibling(name: &str, other: &str) -> bool {
    let other =
        [".gz", ".zst", ".bz2", ".xz"].iter().find_map(|end| other.strip_suffix(end)).unwrap_or(other);
    let is_mark = |text: &str| {
        text.len() > 1
            && text.starts_with(['.', '-', '_'])
            && text.bytes().all(|octet| octet.is_ascii_digit() || b".-_T".contains(&octet))
            && text.bytes().any(|octet| octet.is_ascii_digit())
    };
    let after = other.strip_prefix(name).is_some_and(is_mark);
    let within = name.rsplit_once('.').is_some_and(|(stem, end)| {
        let rest = other.strip_prefix(stem).and_then(|rest| rest.strip_suffix(end)?.strip_suffix('.'));
        rest.is_some_and(is_mark)
    });
    after || within
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("access.log", "access.log.1", true)]
    #[case("access.log", "access.log.12.gz", true)]
    #[case("access.log", "access.log-20260914.xz", true)]
    #[case("access.log", "access-2026-09-14.log.zst", true)]
    #[case("access.log", "access.log", false)]
    #[case("access.log", "access.log.old", false)]
    #[case("access.log", "access2.log", false)]
    #[case("access.log", "other-access.log.1", false)]
    #[case("access", "access.1", true)]
    fn rotated_names(#[case] log: &str, #[case] other: &str, #[case] expected: bool) {
        assert_eq!(is_sibling(log, other), expected);
    }

    #[test]
    fn names_become_files_each_once() {
        let folder = tempfile::tempdir().unwrap();
        for name in ["a.log", "b.log", "a.log.1", ".hidden", "c.txt"] {
            std::fs::write(folder.path().join(name), "x\n").unwrap();
        }
        let path = |name: &str| folder.path().join(name).display().to_string();
        let names = |asked: &[String], rotated| -> Vec<String> {
            let found = find(asked, rotated, None).ok().unwrap();
            found.iter().map(|found| found.name.rsplit('/').next().unwrap().to_owned()).collect()
        };
        assert_eq!(names(&[path("*.log"), path("a.log")], false), ["a.log", "b.log"]);
        assert_eq!(names(&[path("a.log")], true), ["a.log.1", "a.log"]);
        assert_eq!(names(&[path("")], false), ["a.log", "a.log.1", "b.log", "c.txt"]);
        let nothing = find(&[path("*.gone")], false, None).err().unwrap();
        assert!(nothing.0.starts_with("no file fits the pattern "), "{}", nothing.0);
    }
}
