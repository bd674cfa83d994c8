//! `exedra sources`: where the records of the running service come from.

use crate::failure::Failure;
use crate::form::Form;
use crate::out::{ATTENTION, QUIET};
use crate::service::{Service, encoded};
use clap::Args;
use exedra_api::{Source, SourceKind};
use exedra_common::figures::{bytes, grouped};
use exedra_service::logs::access_log::NO_SITE;
use unicode_width::UnicodeWidthStr;

/// What `exedra sources` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    service: Service,
    /// Only this site; may be repeated
    #[arg(long, value_name = "NAME")]
    site: Vec<String>,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// Asks and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let query: Vec<(&str, String)> = options.site.iter().map(|site| ("site", site.clone())).collect();
    let sources: Vec<Source> = options.service.get(&format!("sources?{}", encoded(&query)))?;
    match options.form {
        Form::Json => crate::out::json(&sources)?,
        Form::Text => print(&sources),
    }
    Ok(())
}

fn print(sources: &[Source]) {
    if sources.is_empty() {
        return crate::out::line!("Nothing has been logged or imported.");
    }
    let site_of = |source: &Source| match source.site.as_str() {
        NO_SITE => "(no site)".to_owned(),
        site => site.to_owned(),
    };
    let width = |of: &dyn Fn(&Source) -> String, title: &str| {
        sources.iter().map(|source| of(source).width()).chain([title.len()]).max().unwrap_or(0)
    };
    let (site, name) = (width(&site_of, "site"), width(&|source| source.name.clone(), "source"));
    crate::out::line!(
        "{:<site$}  {:<name$}  {:>13}  {:>9}  {:>9}",
        "site",
        "source",
        "requests",
        "unread",
        "lag"
    );
    for source in sources {
        let state = match source.kind {
            _ if source.incomplete => format!("  {ATTENTION}damaged since: read again{ATTENTION:#}"),
            SourceKind::Import => format!("  {QUIET}imported{QUIET:#}"),
            SourceKind::Log if source.is_written => format!("  {QUIET}being written{QUIET:#}"),
            SourceKind::Log => String::new(),
        };
        let lag = if source.lag > 0 { bytes(source.lag) } else { "0".to_owned() };
        crate::out::line!(
            "{:<site$}  {:<name$}  {:>13}  {:>9}  {lag:>9}{state}",
            site_of(source),
            source.name,
            grouped(source.requests),
            grouped(source.unread),
        );
    }
}
