//! Reading `exedra.toml`, and showing what is wrong with it where it is wrong.

use crate::Failure;
use exedra_core::config::diagnostic::draw;
use exedra_core::config::{Config, Severity, understand};
use std::path::Path;

/// Reads and understands a configuration.
pub fn read(path: &Path) -> Result<Config, Failure> {
    understood(path).map(|(config, _)| config)
}

/// As [`read`], with the text that places in it are octets of.
pub fn read_with_text(path: &Path) -> Result<(Config, String), Failure> {
    understood(path)
}

/// As [`read`], and makes sure that the folders it names are there.
pub fn read_to_serve(path: &Path) -> Result<Config, Failure> {
    let (config, text) = understood(path)?;
    let found = exedra_service::preflight(&config);
    let drawn = draw(&found, &path.display().to_string(), &text, colour());
    if found.iter().any(|diagnostic| diagnostic.severity == Severity::Error) {
        return Err(Failure(format!("{drawn}The service does not start.")));
    }
    anstream::eprint!("{drawn}");
    Ok(config)
}

fn understood(path: &Path) -> Result<(Config, String), Failure> {
    let text = std::fs::read_to_string(path).map_err(|error| {
        let remedy = match error.kind() {
            std::io::ErrorKind::NotFound => "name another with --config",
            _ => "it must be a text file that this user may read",
        };
        Failure(format!("the configuration {} cannot be read: {error}; {remedy}", path.display()))
    })?;
    let base = path.parent().unwrap_or(Path::new(""));
    match understand(&text, base) {
        Ok(config) => Ok((config, text)),
        Err(found) => {
            let drawn = draw(&found, &path.display().to_string(), &text, colour());
            let count = match found.len() {
                1 => "one mistake".to_owned(),
                count => format!("{count} mistakes"),
            };
            Err(Failure(format!("{drawn}The configuration has {count} and does not come into force.")))
        }
    }
}

/// Whether standard error shows colours.
fn colour() -> bool {
    anstream::AutoStream::choice(&std::io::stderr()) != anstream::ColorChoice::Never
}
