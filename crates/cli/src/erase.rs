//! `exedra erase`: one client out of the records and the logs of the running service.

use crate::failure::Failure;
use crate::form::Form;
use crate::out::{QUIET, STRONG};
use crate::service::Service;
use clap::Args;
use exedra_api::imports::{Erase, Erasure};
use exedra_common::figures::several;

/// What `exedra erase` takes.
#[derive(Args)]
pub struct Options {
    /// Whom: an address, or a network as in 192.0.2.0/24
    #[arg(long, value_name = "ADDRESS")]
    client: String,
    #[command(flatten)]
    service: Service,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// Has it erased, and says what was and what could not be.
pub fn run(options: &Options) -> Result<(), Failure> {
    let asked = Erase { client: options.client.clone() };
    let erased: Erasure = options.service.send_and_wait("erasures", &asked)?;
    match options.form {
        Form::Json => crate::out::json(&erased)?,
        Form::Text => print(&erased),
    }
    Ok(())
}

fn print(erased: &Erasure) {
    let Erasure { requests, log_lines, error_lines, files, remains } = erased;
    crate::out::line!("{STRONG}Erased{STRONG:#}");
    crate::out::line!("  {} from the records", several(*requests, "request", "requests"));
    let files = several(*files, "file", "files");
    crate::out::line!(
        "  {} of access logs and {} of the error log, in {files}",
        several(*log_lines, "line", "lines"),
        several(*error_lines, "line", "lines")
    );
    crate::out::line!("{STRONG}Not erased{STRONG:#}");
    for one in remains {
        crate::out::line!("  {QUIET}{one}{QUIET:#}");
    }
}
