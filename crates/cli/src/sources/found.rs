//! What was named, as files: paths, wildcards, folders, names of sites, and rotated siblings.

use crate::failure::Failure;
use exedra_answering::config::Config;
use exedra_common::Origin;
use exedra_service::logs::error_log::ERRORS;
use exedra_service::logs::journal::generations::generations;
use std::collections::{HashMap, HashSet};
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
    /// The site whose log it is, where that is known.
    pub site: Option<String>,
    /// The machine that wrote it, where that is known.
    pub server: Option<String>,
}

impl Found {
    /// A file that nothing more is known of.
    pub fn file(path: PathBuf, incidental: bool) -> Self {
        Found { name: path.display().to_string(), path: Some(path), incidental, site: None, server: None }
    }

    /// When it was last written to, or now where nobody knows: milliseconds since 1970 UTC.
    pub fn written(&self) -> Option<i64> {
        let modified = self.path.as_ref().and_then(|path| path.metadata().ok()?.modified().ok());
        let since = modified.unwrap_or_else(std::time::SystemTime::now).duration_since(std::time::UNIX_EPOCH);
        since.ok().and_then(|since| i64::try_from(since.as_millis()).ok())
    }

    /// What is known of it before it is read.
    pub fn origin(&self) -> Origin {
        Origin { site: self.site.clone(), server: self.server.clone(), source: Some(self.name.clone()) }
    }
}

/// The files behind some names, each once, in the order of the names. A name is a path, a pattern with `*`, `?` or `[…]`,
/// a folder, `-`, or a site of the configuration; `SERVER=NAME` says which machine wrote it. `rotated` takes the siblings of files along, the oldest first.
pub fn find(names: &[String], rotated: bool, config: Option<&Config>) -> Result<Vec<Found>, Failure> {
    let mut all: Vec<Found> = Vec::new();
    for named in names {
        let (server, name) = server_of(named);
        let path = Path::new(name);
        let before = all.len();
        if name == "-" {
            let name = "standard input".to_owned();
            all.push(Found { name, path: None, incidental: false, site: None, server: None });
        } else if path.is_dir() {
            let mut files = files_below(path)?;
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
            let of_site = |path| Found { site: Some(name.to_owned()), ..Found::file(path, false) };
            all.extend(site?.into_iter().map(of_site));
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
        if let Some(server) = server {
            all[before..].iter_mut().for_each(|found| found.server = Some(server.to_owned()));
        }
    }
    // A shell that fills in a pattern names it too: what failed would be counted twice.
    let is_ours = |found: &Found| found.path.as_deref().is_some_and(tells_of_errors);
    if let [only] = &all[..]
        && is_ours(only)
    {
        let name = &only.name;
        return Err(Failure(format!("{name} is the service's log of errors: `exedra errors` reads it")));
    }
    all.retain(|found| !is_ours(found));
    let mut seen = HashSet::new();
    all.retain(|found| match &found.path {
        Some(path) => seen.insert(path.canonicalize().unwrap_or_else(|_| path.clone())),
        None => seen.insert(PathBuf::from("-")),
    });
    tell_servers_apart(&mut all);
    if let Some(config) = config {
        tell_sites(&mut all, config);
    }
    Ok(all)
}

/// The machine that a name begins with, as in `quay=logs/access.log`, and the rest of it.
fn server_of(name: &str) -> (Option<&str>, &str) {
    match name.split_once('=') {
        Some((server, rest)) if !server.is_empty() && !server.contains('/') && !Path::new(name).exists() => {
            (Some(server), rest)
        }
        _ => (None, name),
    }
}

/// Where logs of one name lie in several folders, each folder is a machine's: `quay/access.log`, `pier/access.log`.
fn tell_servers_apart(all: &mut [Found]) {
    let folder = |found: &Found| Some(found.path.as_ref()?.parent()?.file_name()?.to_str()?.to_owned());
    let file = |found: &Found| Some(found.path.as_ref()?.file_name()?.to_str()?.to_owned());
    let mut folders: HashMap<String, HashSet<String>> = HashMap::new();
    for found in all.iter() {
        if let (Some(file), Some(folder)) = (file(found), folder(found)) {
            folders.entry(file).or_default().insert(folder);
        }
    }
    for found in all.iter_mut().filter(|found| found.server.is_none()) {
        if file(found).is_some_and(|file| folders.get(&file).is_some_and(|folders| folders.len() > 1)) {
            found.server = folder(found);
        }
    }
}

/// The site of the configuration whose log it is.
fn tell_sites(all: &mut [Found], config: &Config) {
    let folder = config.service.logs.value.canonicalize().ok();
    for found in all.iter_mut().filter(|found| found.site.is_none()) {
        let Some(path) = found.path.as_ref().and_then(|path| path.canonicalize().ok()) else { continue };
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let is_of = |site: &str| name.strip_prefix(site).is_some_and(|rest| rest.starts_with('.'));
        if path.parent() == folder.as_deref() {
            found.site = config.sites.iter().map(|site| site.name.value.clone()).find(|site| is_of(site));
        }
    }
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

/// How many files a folder may have, with all folders below it.
const MOST_FILES: usize = 100_000;

/// The files of a folder, without those that are hidden.
fn files_in(folder: &Path) -> Result<Vec<PathBuf>, Failure> {
    let (files, _) = entries_of(folder)?;
    Ok(files)
}

/// The files of a folder and of all folders below it. A link that leads back to where it stands is told of, and not followed again.
fn files_below(folder: &Path) -> Result<Vec<PathBuf>, Failure> {
    let mut seen: HashSet<PathBuf> = HashSet::new();
    let (mut files, mut folders) = (Vec::new(), vec![folder.to_owned()]);
    while let Some(next) = folders.pop() {
        if !seen.insert(next.canonicalize().unwrap_or_else(|_| next.clone())) {
            crate::out::note!(
                "{} is a link to a folder that is read already, and is not followed.",
                next.display()
            );
            continue;
        }
        let (here, below) = match entries_of(&next) {
            Ok(entries) => entries,
            // The folder that was named must be readable; one below it is told of.
            Err(failure) if next == folder => return Err(failure),
            Err(Failure(words)) => {
                crate::out::note!("{words}");
                continue;
            }
        };
        files.extend(here);
        folders.extend(below);
        if files.len() > MOST_FILES {
            let folder = folder.display();
            return Err(Failure(format!(
                "the folder {folder} has more than {MOST_FILES} files: name those that are logs"
            )));
        }
    }
    Ok(files)
}

/// The files of a folder, and its folders, without those that are hidden.
fn entries_of(folder: &Path) -> Result<(Vec<PathBuf>, Vec<PathBuf>), Failure> {
    let failed = |error| Failure(format!("{} cannot be read: {error}", folder.display()));
    let entries = std::fs::read_dir(folder).map_err(failed)?;
    let is_hidden =
        |path: &Path| path.file_name().is_none_or(|name| name.as_encoded_bytes().starts_with(b"."));
    let paths = entries.filter_map(|entry| Some(entry.ok()?.path())).filter(|path| !is_hidden(path));
    let (folders, rest): (Vec<PathBuf>, Vec<PathBuf>) = paths.partition(|path| path.is_dir());
    Ok((rest.into_iter().filter(|path| path.is_file() && !tells_of_errors(path)).collect(), folders))
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
