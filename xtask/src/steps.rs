//! Running a program, and saying what it was for.

use std::path::Path;
use std::process::Command;
use std::time::Instant;

/// A step that failed: the words for whoever ran it.
pub struct Failed(pub String);

/// Runs a program, its output passed on.
pub fn run(what: &str, command: &mut Command) -> Result<(), Failed> {
    eprintln!("── {what}");
    let began = Instant::now();
    let name = command.get_program().to_string_lossy().into_owned();
    let status =
        command.status().map_err(|error| Failed(format!("{what}: {name} cannot be run: {error}")))?;
    match status.success() {
        true => {
            eprintln!("── {what}: {:.1} s", began.elapsed().as_secs_f64());
            Ok(())
        }
        false => Err(Failed(format!("{what} failed: {name} ended with {status}"))),
    }
}

/// The cargo that runs us.
pub fn cargo(root: &Path) -> Command {
    let mut command = Command::new(std::env::var_os("CARGO").unwrap_or("cargo".into()));
    command.current_dir(root);
    command
}
