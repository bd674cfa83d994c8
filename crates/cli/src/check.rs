//! `exedra check`: everything that can be found wrong with a configuration before it comes into force.

use crate::configuration;
use crate::failure::Failure;
use crate::form::Form;
use crate::out::{ATTENTION, TROUBLE, WELL, ours};
use clap::Args;
use exedra_answering::config::diagnostic::draw;
use exedra_answering::config::{Diagnostic, Sources};
use exedra_common::figures::several;
use exedra_service::console::sites::diagnostics;
use exedra_service::control::checking::{self, Checked, Depth};
use exedra_service::control::configuration::Refused;

/// What `exedra check` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    config: configuration::Named,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// Checks and prints. Fails when anything is an error.
pub fn run(options: &Options) -> Result<(), Failure> {
    let (found, sources) = match checking::read(options.config.path(), Depth::Thorough, None) {
        Ok(Checked { config, found }) => (found, config.sources),
        Err(Refused::Mistaken { found, sources }) => (found, sources),
        Err(unreadable) => return Err(configuration::failure(unreadable)),
    };
    match options.form {
        Form::Json => {
            crate::out::line!("{}", serde_json::to_string_pretty(&diagnostics(&found, &sources))?);
        }
        Form::Text => print(&found, &sources),
    }
    // What there is to say has been said.
    if found.iter().any(Diagnostic::is_error) { Err(Failure(String::new())) } else { Ok(()) }
}

fn print(found: &[Diagnostic], sources: &Sources) {
    crate::out::text!("{}", ours(&draw(found, sources, true)));
    let count = |errors: bool| -> u64 {
        let of_it = found.iter().filter(|diagnostic| diagnostic.is_error() == errors);
        of_it.map(|diagnostic| 1 + diagnostic.also as u64).sum()
    };
    let (errors, remarks) = (count(true), count(false));
    let remarks = if remarks == 0 { String::new() } else { several(remarks, "remark", "remarks") };
    match (errors, remarks.is_empty()) {
        (0, true) => crate::out::line!("{WELL}Nothing is wrong.{WELL:#}"),
        (0, false) => crate::out::line!("{ATTENTION}Nothing is wrong; {remarks}.{ATTENTION:#}"),
        (errors, none) => {
            let also = if none { String::new() } else { format!(", and {remarks}") };
            let errors = several(errors, "error", "errors");
            crate::out::line!("{TROUBLE}{errors}{also}. It does not come into force like this.{TROUBLE:#}");
        }
    }
}
