//! `exedra errors`: what went wrong, who met it, what was looked for, and why.
//!
//! Without sources it reads the log of errors of the service; with them the error logs of other servers. What is the same but for when
//! and for whom is put together.
//!
//! - [`own`]: of our service; [`foreign`]: of other servers

mod foreign;
mod own;

use crate::failure::Failure;
use crate::form::Form;
use crate::scope::ScopeOptions;
use clap::Args;
use exedra_answering::config::Config;
use exedra_reading::classify::Classifier;
use exedra_reading::errors::filter::EventFilter;
use jiff::tz::TimeZone;
use std::path::PathBuf;
use std::sync::Arc;

/// What `exedra errors` takes.
#[derive(Args)]
pub struct Options {
    /// Error logs of other servers: files, patterns, folders; without any, those of the service. Access logs beside them name how
    /// the requests were answered
    #[arg(value_name = "SOURCE")]
    sources: Vec<String>,
    /// The configuration that the service runs by; exedra.toml unless said otherwise
    #[arg(long, value_name = "FILE")]
    config: Option<PathBuf>,
    #[command(flatten)]
    scope: ScopeOptions,
    /// Only those answered with a status
    #[arg(long, value_name = "NUMBER")]
    status: Option<u16>,
    /// How many are shown
    #[arg(long, value_name = "NUMBER", default_value_t = 20)]
    top: usize,
    /// Show every one of our own by itself
    #[arg(long, conflicts_with = "sources")]
    each: bool,
    /// Also read rotated files
    #[arg(long, requires = "sources")]
    rotated: bool,
    /// The form of the answer: for people, or for programs (of our own the lines as they were written)
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// The filter of the scope that was asked for.
fn filter(options: &Options, config: Option<&Config>, zone: &TimeZone) -> Result<EventFilter, Failure> {
    let countries = options.scope.countries(config)?;
    let scope = ScopeOptions { site: Vec::new(), ..options.scope.clone() }.scope(zone)?;
    Ok(EventFilter::new(scope, Arc::new(Classifier { countries })))
}

/// Reads and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    match options.sources.is_empty() {
        true => own::run(options),
        false => foreign::run(options),
    }
}
