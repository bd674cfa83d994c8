//! Reading `exedra.toml`, and showing what is wrong with it where it is wrong.

use crate::failure::Failure;
use crate::out::ours;
use clap::Args;
use exedra_answering::config::Config;
use exedra_answering::config::diagnostic::draw;
use exedra_service::control::checking::{self, Checked, Depth};
use exedra_service::control::configuration::{self, Refused};
use std::path::{Path, PathBuf};

/// The configuration that a command is about, however somebody names it.
#[derive(Args)]
pub struct Named {
    /// The configuration
    #[arg(long, value_name = "FILE", default_value = "exedra.toml")]
    config: PathBuf,
    /// The same without the option
    #[arg(value_name = "CONFIGURATION", conflicts_with = "config")]
    alone: Option<PathBuf>,
}

impl Named {
    /// Its file.
    pub fn path(&self) -> &Path {
        self.alone.as_deref().unwrap_or(&self.config)
    }
}

/// Reads and understands a configuration.
pub fn read(path: &Path) -> Result<Config, Failure> {
    configuration::read(path).map_err(failure)
}

/// As [`read`], and checks everything that could keep it from coming into force.
pub fn read_to_serve(path: &Path) -> Result<Config, Failure> {
    let Checked { config, found } = checking::read(path, Depth::ToServe, None).map_err(failure)?;
    if !found.is_empty() {
        crate::out::note!("{}", ours(draw(&found, &config.sources, true).trim_end()));
    }
    Ok(config)
}

/// The text of a configuration, to be rehearsed or published.
pub fn text(path: &Path) -> Result<String, Failure> {
    let read = std::fs::read_to_string(path);
    read.map_err(|error| failure(Refused::Unreadable { path: path.to_owned(), error }))
}

/// Why a configuration was refused, drawn where it is wrong.
pub fn failure(refused: Refused) -> Failure {
    match &refused {
        Refused::Mistaken { found, sources } => {
            let words = refused.to_string();
            let words = words.strip_prefix("the").map_or(words.clone(), |rest| format!("The{rest}"));
            Failure(format!("{}{words}.", ours(&draw(found, sources, true))))
        }
        Refused::Unreadable { error, .. } => {
            let remedy = match error.kind() {
                std::io::ErrorKind::NotFound => "name another with --config",
                _ => "it must be a text file that this user may read",
            };
            Failure(format!("{refused}; {remedy}"))
        }
    }
}
