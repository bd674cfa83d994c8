//! `exedra sign-in`: a fresh link to the console, for whoever may read the state folder.

use crate::configuration;
use crate::failure::Failure;
use clap::Args;
use exedra_service::run::{console_address, sign_in_link};
use exedra_store::{Purpose, Secrets};
use std::path::PathBuf;

/// What `exedra sign-in` takes.
#[derive(Args)]
pub struct Options {
    /// The configuration
    #[arg(long, value_name = "FILE", default_value = "exedra.toml")]
    config: PathBuf,
    /// End all sessions and links first, and replace the token of clients on this machine
    #[arg(long)]
    revoke: bool,
}

/// Prints the link.
pub fn run(options: &Options) -> Result<(), Failure> {
    let config = configuration::read(&options.config)?;
    let state = &config.service.state.value;
    if !state.join("exedra.db").exists() {
        let words =
            format!("the service has not run with this configuration yet: {} is empty", state.display());
        return Err(Failure(words));
    }
    let secrets = Secrets::of_another(state);
    let now = jiff::Timestamp::now().as_second();
    if options.revoke {
        let sessions = secrets.revoke(Purpose::Session)?;
        let links = secrets.revoke(Purpose::Link)?;
        exedra_service::run::renew_token(&secrets, state)?;
        crate::out::note!(
            "{sessions} sessions and {links} links no longer open anything; clients have a new token"
        );
    }
    let service = &config.service;
    let console = console_address(service.console.value, service.console_https);
    let link = sign_in_link(&secrets, &console, now)?;
    crate::out::line!("{link}");
    Ok(())
}
