//! Reading `exedra.toml`, and showing what is wrong with it where it is wrong.

use crate::failure::Failure;
use crate::out::ours;
use exedra_answering::config::Config;
use exedra_answering::config::diagnostic::draw;
use exedra_service::control::checking::{self, Checked, Depth};
use exedra_service::control::configuration::{self, Refused};
use std::path::Path;

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
