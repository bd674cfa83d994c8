//! `exedra password`: the line that lets a user in, for the file of a realm.

use crate::Failure;
use clap::Args;
use exedra_service::certificates::made::write_private;
use exedra_service::guards::{hash, users};
use std::io::{BufRead, IsTerminal, Write};
use std::path::{Path, PathBuf};

/// What `exedra password` takes.
#[derive(Args)]
pub struct Options {
    /// Name of the user
    name: String,
    /// A file of users to put the line into, in place of the one the user has there
    #[arg(long, value_name = "FILE")]
    file: Option<PathBuf>,
}

/// Asks for a password, or takes it from standard input, and prints the line or puts it into a file.
pub fn run(options: &Options) -> Result<(), Failure> {
    let name = &options.name;
    if name.is_empty() || name.contains([':', '"', '\\', '\n']) {
        return Err(Failure(format!("`{name}` cannot be a user's name: no colons, quotes or backslashes")));
    }
    let password = ask()?;
    if password.is_empty() {
        return Err(Failure("a password cannot be empty".to_owned()));
    }
    let kept = hash(&password).ok_or_else(|| Failure("the password could not be hashed".to_owned()))?;
    let line = format!("\"{name}\" = \"{kept}\"");
    match &options.file {
        None => anstream::println!("{line}"),
        Some(file) => {
            put(file, name, &line)?;
            anstream::eprintln!("`{name}` may sign in by {}.", file.display());
        }
    }
    Ok(())
}

/// A line from standard input; from a terminal without showing what is typed.
fn ask() -> Result<String, Failure> {
    let input = std::io::stdin();
    let mut line = String::new();
    if !input.is_terminal() {
        input.lock().read_line(&mut line)?;
        return Ok(line.trim_end_matches(['\r', '\n']).to_owned());
    }
    use rustix::termios::{LocalModes, OptionalActions, tcgetattr, tcsetattr};
    anstream::eprint!("Password: ");
    std::io::stderr().flush()?;
    let shown = tcgetattr(&input)?;
    let mut hidden = shown.clone();
    hidden.local_modes.remove(LocalModes::ECHO);
    tcsetattr(&input, OptionalActions::Flush, &hidden)?;
    let read = input.lock().read_line(&mut line);
    tcsetattr(&input, OptionalActions::Flush, &shown)?;
    anstream::eprintln!();
    read?;
    Ok(line.trim_end_matches(['\r', '\n']).to_owned())
}

fn put(file: &Path, name: &str, line: &str) -> Result<(), Failure> {
    let text = match std::fs::read_to_string(file) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
        Err(error) => return Err(Failure(format!("{} cannot be read: {error}", file.display()))),
    };
    if !text.is_empty() {
        users::read(file)
            .map_err(|reason| Failure(format!("{} is no file of users: {reason}", file.display())))?;
    }
    let is_theirs = |known: &&str| {
        let key = known.split('=').next().unwrap_or_default().trim().trim_matches('"');
        key == name && !known.trim_start().starts_with('#')
    };
    let mut lines: Vec<&str> = text.lines().filter(|known| !is_theirs(known)).collect();
    lines.push(line);
    write_private(file, &(lines.join("\n") + "\n"))
        .map_err(|error| Failure(format!("{} cannot be written: {error}", file.display())))
}
