//! `exedra password`: the line that lets a user in, for the file of a realm.

use crate::failure::Failure;
use clap::Args;
use exedra_service::access::guards::{hash, users};
use exedra_service::system::whole::{make_private_folder, write_private};
use std::io::{BufRead, IsTerminal};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
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
    let password = ask("Password: ")?;
    if password.is_empty() {
        return Err(Failure("a password cannot be empty".to_owned()));
    }
    let kept = hash(&password).ok_or_else(|| Failure("the password could not be hashed".to_owned()))?;
    let line = format!("\"{name}\" = \"{kept}\"");
    match &options.file {
        None => crate::out::line!("{line}"),
        Some(file) => {
            put(file, name, &line)?;
            crate::out::note!("`{name}` may sign in by {}.", file.display());
            say_who_reads(file);
        }
    }
    Ok(())
}

/// A line from standard input; from a terminal without showing what is typed.
pub fn ask(words: &str) -> Result<String, Failure> {
    let input = std::io::stdin();
    let mut line = String::new();
    if !input.is_terminal() {
        input.lock().read_line(&mut line)?;
        return Ok(line.trim_end_matches(['\r', '\n']).to_owned());
    }
    use rustix::termios::{LocalModes, OptionalActions, tcgetattr, tcsetattr};
    crate::out::ask(words)?;
    let shown = tcgetattr(&input)?;
    let mut hidden = shown.clone();
    hidden.local_modes.remove(LocalModes::ECHO);
    tcsetattr(&input, OptionalActions::Flush, &hidden)?;
    let read = input.lock().read_line(&mut line);
    tcsetattr(&input, OptionalActions::Flush, &shown)?;
    crate::out::note!("");
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
    make_folder(file)?;
    let owner = owner(file)?;
    write_owned(file, &(lines.join("\n") + "\n"), owner)
        .map_err(|error| Failure(format!("{} cannot be written: {error}", file.display())))
}

/// Makes the folder of a file, where it is not there: for whoever the one belongs to that it comes to lie in.
fn make_folder(file: &Path) -> Result<(), Failure> {
    let missing: Vec<&Path> = file
        .ancestors()
        .skip(1)
        .take_while(|folder| !folder.as_os_str().is_empty() && !folder.exists())
        .collect();
    for folder in missing.iter().rev() {
        let above = folder.parent().filter(|above| !above.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let made = make_private_folder(folder).and_then(|()| {
            let owner = std::fs::metadata(above)?;
            std::os::unix::fs::chown(folder, Some(owner.uid()), Some(owner.gid()))
        });
        made.map_err(|error| Failure(format!("the folder {} cannot be made: {error}", folder.display())))?;
    }
    Ok(())
}

/// Who must be able to read a file, and in which mode: as it is; a new one as its folder, which is the service's.
struct Owner {
    user: u32,
    group: u32,
    mode: u32,
}

fn owner(file: &Path) -> Result<Owner, Failure> {
    if let Ok(there) = std::fs::metadata(file) {
        return Ok(Owner { user: there.uid(), group: there.gid(), mode: there.mode() & 0o777 });
    }
    let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let folder_found = std::fs::metadata(folder)
        .map_err(|error| Failure(format!("{} is no folder to write to: {error}", folder.display())))?;
    Ok(Owner { user: folder_found.uid(), group: folder_found.gid(), mode: 0o600 })
}

/// Writes a file as a whole, and makes it its owner's: whoever runs this as root writes it for the service.
fn write_owned(file: &Path, text: &str, owner: Owner) -> std::io::Result<()> {
    let target = if file.is_symlink() { file.canonicalize()? } else { file.to_owned() };
    write_private(&target, text)?;
    let written = std::fs::metadata(&target)?;
    if (written.uid(), written.gid()) != (owner.user, owner.group) {
        std::os::unix::fs::chown(&target, Some(owner.user), Some(owner.group))?;
    }
    std::fs::set_permissions(&target, std::fs::Permissions::from_mode(owner.mode))
}

/// Says who can read a file, where that may be another than the service.
fn say_who_reads(file: &Path) {
    let Ok(there) = std::fs::metadata(file) else { return };
    let name = std::fs::read_to_string("/etc/passwd").ok().and_then(|all| {
        let user = all.lines().find(|line| line.split(':').nth(2) == Some(&there.uid().to_string()))?;
        Some(user.split(':').next()?.to_owned())
    });
    let name = name.unwrap_or_else(|| there.uid().to_string());
    crate::out::note!(
        "The service must run as a user who can read it: it belongs to `{name}`, mode {:o}.",
        there.mode() & 0o777
    );
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_of_users_stays_its_owners_and_a_new_one_is_its_folders() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("staff.toml");
        let line = |name: &str| format!("\"{name}\" = \"{}\"", hash("tide").unwrap());
        assert!(put(&file, "anna", &line("anna")).is_ok());
        let mode = || std::fs::metadata(&file).unwrap().mode() & 0o777;
        assert_eq!(mode(), 0o600);
        std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o640)).unwrap();
        // Only root can give files away.
        let other = std::os::unix::fs::chown(&file, Some(12_345), Some(54_321)).is_ok();
        assert!(put(&file, "bera", &line("bera")).is_ok());
        let there = std::fs::metadata(&file).unwrap();
        assert!(mode() == 0o640 && (!other || (there.uid(), there.gid()) == (12_345, 54_321)));
        assert_eq!(std::fs::read_to_string(&file).unwrap().lines().count(), 2);
    }
}
