//! `exedra explain`: how a request would be answered, and why.
//!
//! - [`asked`]: the request, as it is described on the command line
//! - [`offline`]: decided by the configuration and the disk, every step written down
//! - [`live`]: asked of the running service, and compared
//! - [`show`]: all of it for people

mod asked;
mod live;
mod offline;
mod show;

use crate::{Failure, Form, configuration};
use asked::Asked;
use clap::Args;
use serde::Serialize;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

/// What `exedra explain` takes.
#[derive(Args)]
pub struct Options {
    /// The address asked for, as in http://harbour.example/tides/?day=1
    url: String,
    /// The configuration
    #[arg(long, value_name = "FILE", default_value = "exedra.toml")]
    config: PathBuf,
    /// The method
    #[arg(long, value_name = "METHOD", default_value = "GET")]
    method: String,
    /// A header field of the request, as in 'Range: bytes=0-99'; may be repeated, and replaces the one assumed
    #[arg(long = "header", value_name = "NAME: VALUE")]
    headers: Vec<String>,
    /// Address of the client
    #[arg(long, value_name = "ADDRESS")]
    client: Option<IpAddr>,
    /// Ask the running service as well, and say whether the two agree
    #[arg(long)]
    live: bool,
    /// Where the running service answers, when it is not the configuration's first listener
    #[arg(long, value_name = "ADDRESS", requires = "live")]
    at: Option<SocketAddr>,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// Everything there is to say of a request.
#[derive(Serialize)]
struct Explanation {
    request: Asked,
    site: Option<String>,
    steps: Vec<offline::Step>,
    codecs: Vec<offline::Codec>,
    answer: offline::Outcome,
    #[serde(skip_serializing_if = "Option::is_none")]
    live: Option<live::Compared>,
}

/// Explains and prints. Fails when the running service disagrees.
pub fn run(options: &Options) -> Result<(), Failure> {
    let request = Asked::understand(options)?;
    let (config, text) = configuration::read_with_text(&options.config)?;
    let file = options.config.display().to_string();
    let (site, steps, codecs, answer) = offline::decide(&config, &request, &file, &text)?;
    let live = match options.live {
        true => Some(live::compare(&config, &request, &answer, options.at)?),
        false => None,
    };
    let explanation = Explanation { request, site, steps, codecs, answer, live };
    match options.form {
        Form::Json => anstream::println!("{}", serde_json::to_string_pretty(&explanation)?),
        Form::Text => show::print(&explanation)?,
    }
    match explanation.live {
        Some(live) if !live.agrees => Err(Failure("The running service answers otherwise.".to_owned())),
        _ => Ok(()),
    }
}
