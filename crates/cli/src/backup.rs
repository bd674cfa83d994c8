//! `exedra backup`, `exedra restore-backup`: both databases, whole, in a folder; and back from there.

use crate::failure::Failure;
use crate::service::whereabouts;
use clap::Args;
use exedra_common::figures::bytes;
use exedra_service::system::lock::{NoLock, StateLock};
use exedra_store::backup::{back_up, restore, verify};
use std::path::PathBuf;

/// What `exedra backup` takes.
#[derive(Args)]
pub struct BackupOptions {
    /// A folder that is not there yet
    #[arg(value_name = "FOLDER")]
    folder: PathBuf,
    /// The configuration that the service runs by
    #[arg(long, value_name = "FILE", default_value = "exedra.toml")]
    config: PathBuf,
}

/// What `exedra restore-backup` takes.
#[derive(Args)]
pub struct RestoreOptions {
    /// A folder that `exedra backup` has made
    #[arg(value_name = "FOLDER")]
    folder: PathBuf,
    /// The configuration that the service runs by
    #[arg(long, value_name = "FILE", default_value = "exedra.toml")]
    config: PathBuf,
    /// Only check whether the backup is complete and undamaged
    #[arg(long)]
    verify: bool,
}

/// Makes a backup; the service may run meanwhile.
pub fn make(options: &BackupOptions) -> Result<(), Failure> {
    let state = whereabouts(&options.config)?.state;
    if !state.join("exedra.db").exists() {
        let state = state.display();
        return Err(Failure(format!("there is nothing to back up: {state} holds no databases yet")));
    }
    let made = back_up(&state, &options.folder, jiff::Timestamp::now()).map_err(said)?;
    let files = made.files.iter().map(|file| format!("{} ({})", file.name, bytes(file.octets)));
    crate::out::line!(
        "{} holds {}, as they were on {}.",
        options.folder.display(),
        files.collect::<Vec<_>>().join(" and "),
        moment(&made.made)
    );
    crate::out::note!(
        "Logs, the configuration and certificates are files of their own: back them up as such."
    );
    Ok(())
}

/// Puts a backup in the place of the databases, which are kept beside it.
pub fn bring_back(options: &RestoreOptions) -> Result<(), Failure> {
    if options.verify {
        let backup = verify(&options.folder).map_err(said)?;
        crate::out::line!(
            "{} is complete and undamaged; it was made on {}.",
            options.folder.display(),
            moment(&backup.made)
        );
        return Ok(());
    }
    let state = whereabouts(&options.config)?.state;
    std::fs::create_dir_all(&state)?;
    let _lock = StateLock::of(&state).map_err(|why| match why {
        NoLock::Taken(process) if process.is_empty() => Failure("the service runs: stop it first".to_owned()),
        NoLock::Taken(process) => Failure(format!("the service runs (process {process}): stop it first")),
        NoLock::Failed(error) => Failure(format!("{} cannot be locked: {error}", state.display())),
    })?;
    let aside = restore(&options.folder, &state).map_err(said)?;
    crate::out::line!("Restored into {} from {}.", state.display(), options.folder.display());
    for path in aside {
        crate::out::note!(
            "The database that was there is kept as {}: delete it when you no longer need it.",
            path.display()
        );
    }
    crate::out::note!(
        "What has come into the logs since is read when the service starts, as far back as they are kept."
    );
    Ok(())
}

fn said(error: exedra_store::backup::BackupError) -> Failure {
    Failure(error.to_string())
}

/// A time (RFC 3339, UTC) as people read it.
fn moment(time: &str) -> String {
    time.replace('T', " ").trim_end_matches('Z').to_owned()
}
