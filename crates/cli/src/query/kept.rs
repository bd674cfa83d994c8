//! Statements with names: those that somebody kept on this machine, and those that came with the program.
//!
//! One's own lie beside other settings of the user, a file each: `queries/NAME.sql`, whose first comment is the question.

use crate::failure::Failure;
use crate::out::{QUIET, STRONG};
use exedra_common::text::nearest;
use exedra_query::library::{self, LIBRARY};
use exedra_query::parameters::Parameters;
use std::fs;
use std::path::PathBuf;

/// Whether something is the name of a statement and not one itself.
pub fn is_name(written: &str) -> bool {
    let is_plain = |letter: char| letter.is_ascii_alphanumeric() || letter == '-' || letter == '_';
    !written.is_empty() && written.chars().all(is_plain)
}

/// The statement of a name, with its usual values set where nobody set others.
pub fn statement(name: &str, parameters: &mut Parameters) -> Result<String, Failure> {
    if let Ok(own) = fs::read_to_string(path(name)?) {
        return Ok(own);
    }
    if let Some(kept) = library::named(name) {
        kept.parameters.iter().for_each(|(name, value)| parameters.set_usual(name, value));
        return Ok(kept.statement.to_owned());
    }
    let own = own()?;
    let names = LIBRARY.iter().map(|kept| kept.name).chain(own.iter().map(|(name, _)| name.as_str()));
    let near = nearest(name, names).map_or("; ".to_owned(), |near| format!("; did you mean {near}? "));
    Err(Failure(format!(
        "`{name}` is neither a statement nor the name of one{near}`exedra queries` lists the names there are"
    )))
}

/// Keeps a statement under a name.
pub fn keep(name: &str, statement: &str) -> Result<(), Failure> {
    if !is_name(name) {
        return Err(Failure(format!("`{name}` is no name of a query: letters, digits and dashes")));
    }
    if library::named(name).is_some() {
        return Err(Failure(format!("`{name}` came with the program: choose another name")));
    }
    let path = path(name)?;
    let folder = path.parent().map(PathBuf::from).unwrap_or_default();
    let failed = |error| Failure(format!("{} cannot be written: {error}", path.display()));
    fs::create_dir_all(&folder).map_err(failed)?;
    crate::out::file::replace(&path, format!("{}\n", statement.trim_end()).as_bytes())?;
    crate::out::note!("Kept: exedra query {name}");
    Ok(())
}

/// `exedra queries`: the names there are.
pub fn list() -> Result<(), Failure> {
    let own = own()?;
    if !own.is_empty() {
        crate::out::line!("{STRONG}Kept on this machine{STRONG:#}");
        for (name, statement) in &own {
            let first = statement.lines().map(str::trim).find(|line| !line.is_empty()).unwrap_or_default();
            crate::out::line!("  {name:<28} {QUIET}{}{QUIET:#}", first.trim_start_matches("--").trim());
        }
        crate::out::line!("");
    }
    crate::out::line!("{STRONG}Came with the program{STRONG:#}");
    for kept in LIBRARY {
        let set: Vec<String> =
            kept.parameters.iter().map(|(name, value)| format!("--set {name}={value}")).collect();
        crate::out::line!("  {:<28} {}  {QUIET}{}{QUIET:#}", kept.name, kept.question, set.join(" "));
    }
    crate::out::line!("\nexedra query NAME [SOURCE…] asks one; --show prints its statement, to be changed.");
    Ok(())
}

/// One's own, by name.
fn own() -> Result<Vec<(String, String)>, Failure> {
    let Ok(entries) = fs::read_dir(folder()?) else { return Ok(Vec::new()) };
    let mut own: Vec<(String, String)> = entries
        .filter_map(|entry| {
            let path = entry.ok()?.path();
            let name = path.file_stem()?.to_str()?.to_owned();
            let is_one = path.extension().is_some_and(|extension| extension == "sql") && is_name(&name);
            if is_one { Some((name, fs::read_to_string(&path).ok()?)) } else { None }
        })
        .collect();
    own.sort();
    Ok(own)
}

fn path(name: &str) -> Result<PathBuf, Failure> {
    Ok(folder()?.join(format!("{name}.sql")))
}

/// Where users keep their settings (XDG Base Directory Specification).
fn folder() -> Result<PathBuf, Failure> {
    let of = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let settings = of("XDG_CONFIG_HOME").or_else(|| Some(of("HOME")?.join(".config")));
    let settings = settings.ok_or_else(|| {
        Failure("neither HOME nor XDG_CONFIG_HOME says where statements are kept".to_owned())
    })?;
    Ok(settings.join("exedra/queries"))
}
