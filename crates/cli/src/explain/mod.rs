//! `exedra explain`: how a request would be answered, and why.
//!
//! - [`live`]: asked of the running service, and compared
//! - [`show`]: all of it for people

mod live;
mod show;

use crate::configuration;
use crate::failure::Failure;
use crate::form::Form;
use clap::Args;
use exedra_answering::config::Config;
use exedra_api::explaining::{Ask, Explanation};
use exedra_service::control::explaining::asked::Described;
use exedra_service::control::explaining::explain;
use exedra_service::control::on_disk::OnDisk;
use serde::Serialize;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

/// How many redirects are followed.
const MOST_HOPS: usize = 20;

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
    /// Show all facts of the request, under the names that rules use
    #[arg(long)]
    facts: bool,
    /// Show the settings in effect at that place, and where each was decided
    #[arg(long)]
    settings: bool,
    /// Follow redirects to the end
    #[arg(long)]
    follow: bool,
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

/// Everything there is to say of a request, and what the running service says.
#[derive(Serialize)]
struct Explained {
    #[serde(flatten)]
    explanation: Explanation,
    #[serde(skip_serializing_if = "Option::is_none")]
    live: Option<live::Compared>,
}

/// Explains and prints. Fails when the running service disagrees, or redirects do not end.
pub fn run(options: &Options) -> Result<(), Failure> {
    let config = configuration::read(&options.config)?;
    let client = options.client.map(|client| client.to_string()).unwrap_or_default();
    let ask = Ask {
        url: options.url.clone(),
        method: options.method.clone(),
        headers: options.headers.clone(),
        client,
    };
    let all = follow(options, &config, ask)?;
    let is_endless = options.follow
        && all.last().is_some_and(|last| next(&last.explanation).is_some() && leads_here(&config, last));
    match (options.form, options.follow) {
        (Form::Json, true) => crate::out::json(&all)?,
        (Form::Json, false) => crate::out::json(&all[0])?,
        (Form::Text, _) => {
            for (nth, explained) in all.iter().enumerate() {
                if nth > 0 {
                    crate::out::line!();
                }
                show::print(explained, options)?;
            }
        }
    }
    if is_endless {
        return Err(Failure(format!("After {} addresses there is no end to it.", all.len())));
    }
    match all.iter().any(|explained| explained.live.as_ref().is_some_and(|live| !live.agrees)) {
        true => Err(Failure("The running service answers otherwise.".to_owned())),
        false => Ok(()),
    }
}

/// The request, and those that its redirects lead to.
fn follow(options: &Options, config: &Config, mut ask: Ask) -> Result<Vec<Explained>, Failure> {
    let disk = OnDisk::alone(config)?;
    let mut all: Vec<Explained> = Vec::new();
    loop {
        let described = Described::understand(&ask).map_err(Failure)?;
        let explanation = explain(&disk, &described);
        let live = match options.live {
            true => Some(live::compare(config, &described, &explanation.answer, options.at)?),
            false => None,
        };
        let location = next(&explanation);
        let been_there = all.iter().any(|before| before.explanation.request == explanation.request);
        all.push(Explained { explanation, live });
        let Some(url) = location.filter(|_| options.follow && !been_there && all.len() < MOST_HOPS) else {
            return Ok(all);
        };
        ask.url = url;
        if all.last().is_some_and(|last| !leads_here(config, last)) {
            return Ok(all);
        }
    }
}

/// Whether a redirect leads to one of our own sites.
fn leads_here(config: &Config, explained: &Explained) -> bool {
    next(&explained.explanation)
        .is_some_and(|url| exedra_answering::answer::absolute::leads_to(config, &url).is_some())
}

/// The address that an answer leads to.
fn next(explanation: &Explanation) -> Option<String> {
    let location = explanation.answer.header("location")?;
    let request = &explanation.request;
    Some(match location.starts_with('/') {
        true => format!("{}://{}{location}", request.scheme, request.authority),
        false => location.to_owned(),
    })
}
