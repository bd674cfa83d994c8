//! `exedra layout`: how the lines of a log are understood, before anything is counted.
//!
//! Every layout is tried on the first lines, and one is made for those that none reads: its places are shown with what each was
//! taken for and why. Some lines are shown field by field: what they say, what is nothing, and where reading a line stopped
//! that does not fit.
//!
//! - [`trial`]: trying layouts on lines
//! - [`show`]: that as a page for the terminal

mod show;
mod trial;

use crate::failure::Failure;
use crate::form::Form;
use crate::sources::SourceOptions;
use crate::sources::bookmark::{Begun, open_from};
use crate::sources::packed::unpacked;
use clap::Args;
use exedra_common::scope::Scope;
use exedra_reading::logs::reader::LONGEST_LINE;
use exedra_reading::logs::search::Given;
use serde::Serialize;
use std::io::{BufRead, BufReader, Read};
use trial::Trial;

/// What `exedra layout` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    sources: SourceOptions,
    /// How many lines are shown field by field
    #[arg(long, value_name = "NUMBER", default_value = "2")]
    lines: usize,
    /// How many lines the layouts are tried on
    #[arg(long, value_name = "NUMBER", default_value = "1000")]
    tried: usize,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// What was found out about one source.
#[derive(Debug, Serialize)]
struct Understood {
    source: String,
    #[serde(flatten)]
    trial: Trial,
}

/// Tries and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let config = options.sources.config()?;
    let layouts = options.sources.layouts(config.as_ref())?;
    let mut all = Vec::new();
    for Begun { file, .. } in options.sources.files(config.as_ref(), None, &Scope::default())? {
        let lines = match &file.path {
            Some(path) => open_from(path, 0),
            None => unpacked(std::io::stdin()),
        };
        let lines = lines.and_then(|input| first_lines(input, options.tried));
        let lines = lines.map_err(|error| Failure(format!("{} cannot be read: {error}", file.name)))?;
        let given = Given { near: file.written(), durations: options.sources.durations };
        let trial = trial::of(&layouts, &lines, options.lines, &given);
        all.push(Understood { source: file.name, trial });
    }
    match options.form {
        Form::Json => crate::out::json(&all)?,
        Form::Text => {
            for (nth, Understood { source, trial }) in all.iter().enumerate() {
                let gap = if nth > 0 { "\n" } else { "" };
                crate::out::text!("{gap}{}", show::page(source, trial));
            }
        }
    }
    let unread: Vec<&str> =
        all.iter().filter(|one| one.trial.layout.is_none()).map(|one| one.source.as_str()).collect();
    match unread.is_empty() {
        true => Ok(()),
        false => Err(Failure(format!(
            "no layout fits {}: write one with --layout, as in --layout '{{client}} [{{time}}] \"{{method}} {{target}} {{protocol}}\" {{status}}'",
            unread.join(", ")
        ))),
    }
}

/// The first lines, without their ends; of one that is too long only a beginning that shows that it is.
fn first_lines(input: impl Read, most: usize) -> std::io::Result<Vec<Vec<u8>>> {
    let mut input = BufReader::new(input);
    let mut lines = Vec::new();
    while lines.len() < most {
        let mut line = Vec::new();
        if input.by_ref().take(LONGEST_LINE as u64 + 2).read_until(b'\n', &mut line)? == 0 {
            break;
        }
        if !line.ends_with(b"\n") && line.len() > LONGEST_LINE {
            input.skip_until(b'\n')?;
        }
        let without = line.strip_suffix(b"\n").unwrap_or(&line);
        let length = without.strip_suffix(b"\r").unwrap_or(without).len();
        line.truncate(length);
        lines.push(line);
    }
    Ok(lines)
}
