//! `exedra audit`: walks a site as a stranger would, and names what should not be reachable.

use crate::configuration;
use crate::failure::Failure;
use crate::form::Form;
use crate::out::{QUIET, STRONG};
use clap::Args;
use exedra_answering::audit;
use exedra_common::figures::several;
use exedra_service::content::disk::Disk;
use exedra_service::control::exposure::{Exposure, Walked, walk};
use exedra_service::control::on_disk::OnDisk;
use exedra_service::system::Clock;
use std::path::PathBuf;
use std::sync::Arc;

/// What `exedra audit` takes.
#[derive(Args)]
pub struct Options {
    /// Name of a site
    site: String,
    /// The configuration
    #[arg(long, value_name = "FILE", default_value = "exedra.toml")]
    config: PathBuf,
    /// Leave out a kind of exposure, as in listing
    #[arg(long, value_name = "KIND")]
    without: Vec<String>,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// Walks and prints. Fails when something is exposed.
pub fn run(options: &Options) -> Result<(), Failure> {
    let config = configuration::read_to_serve(&options.config)?;
    let id = config.site_named(&options.site)?;
    let kinds = || audit::KINDS.iter().map(|kind| kind.name).chain([audit::LISTING.name]);
    if let Some(unknown) = options.without.iter().find(|name| !kinds().any(|kind| kind == name.as_str())) {
        let all: Vec<&str> = kinds().collect();
        return Err(Failure(format!("there is no kind `{unknown}`: there is {}", all.join(", "))));
    }
    let disk = Arc::new(Disk::open(&config, Clock::new())?);
    let mut walk = walk(&OnDisk::of_strangers(&config, disk), id, &|| true);
    walk.found.retain(|exposure| !options.without.iter().any(|name| name == exposure.kind));
    match options.form {
        Form::Json => crate::out::json(&walk.found)?,
        Form::Text => print(&options.site, &walk),
    }
    match walk.found.len() as u64 {
        0 => Ok(()),
        count => Err(Failure(format!("{} exposed", several(count, "thing is", "things are")))),
    }
}

fn print(site: &str, walk: &Walked) {
    crate::out::line!(
        "{STRONG}{site}{STRONG:#}  {QUIET}{} reachable{QUIET:#}",
        several(walk.files, "file", "files")
    );
    for kind in audit::KINDS.iter().chain([&audit::LISTING]).map(|kind| kind.name) {
        let of_kind: Vec<&Exposure> = walk.found.iter().filter(|exposure| exposure.kind == kind).collect();
        if of_kind.is_empty() {
            continue;
        }
        crate::out::line!("\n{STRONG}{kind}{STRONG:#}  {}", of_kind[0].reason);
        for exposure in &of_kind {
            crate::out::line!("  {}", exposure.address);
        }
        crate::out::line!("  {QUIET}{}{QUIET:#}", of_kind[0].remedy);
    }
    crate::out::line!("{}", if walk.found.is_empty() { "Nothing is exposed." } else { "" });
}
