//! `exedra report`: what is in some logs.
//!
//! - [`reading`]: files in blocks, over threads; [`progress`]: how far that has come
//! - [`text`]: a survey as a page for the terminal
//! - [`columns`]: the charts on it

mod columns;
mod progress;
mod reading;
mod text;

use crate::scope::ScopeOptions;
use crate::sources::bookmark::ALL;
use crate::sources::{Bookmark, SourceOptions};
use crate::{Failure, Form};
use clap::Args;
use exedra_core::survey::{ReportOptions, SurveyPlan, SurveyReport, VisitorKey};
use progress::Progress;
use reading::{Asked, Source};
use serde::Serialize;

/// What `exedra report` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    sources: SourceOptions,
    #[command(flatten)]
    scope: ScopeOptions,
    /// The form of the report
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
    /// Read only what is new since the last reading with this bookmark, also when logs were rotated since
    #[arg(long, value_name = "BOOKMARK")]
    resume: Option<String>,
    /// Length of the lists
    #[arg(long, value_name = "NUMBER")]
    top: Option<usize>,
}

/// A report as a program is given it.
#[derive(Serialize)]
struct Report<'r> {
    sources: &'r [Source],
    #[serde(flatten)]
    report: &'r SurveyReport,
}

/// Reads and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let config = options.sources.config()?;
    let zone = options.scope.zone(config.as_ref())?;
    let plan = SurveyPlan { scope: options.scope.scope(&zone)?, zone, key: random_key(), step: None };
    let bookmark = options.resume.as_deref().map(Bookmark::open).transpose()?;
    let asked = Asked {
        files: options.sources.files(config.as_ref(), bookmark.as_ref())?,
        layouts: options.sources.layouts(config.as_ref())?,
        leaves_open_line: bookmark.is_some(),
        threads: options.sources.threads(),
    };
    let read = reading::read(&asked, &plan, &Progress::of(&asked.files))?;
    let lengths = match options.form {
        Form::Text => ReportOptions { top: options.top.unwrap_or(10), referrers: 2 },
        Form::Json => ReportOptions { top: options.top.unwrap_or(1000), ..ReportOptions::default() },
    };
    let mut report = SurveyReport::new(&read.survey, &plan, &lengths);
    report.lines = Some(read.lines);
    match options.form {
        Form::Json => {
            let json = Report { sources: &read.sources, report: &report };
            anstream::println!("{}", serde_json::to_string_pretty(&json)?);
        }
        Form::Text => anstream::print!("{}", text::page(&report, &read.sources, width())),
    }
    if !read.passed_over.is_empty() {
        anstream::eprintln!("No logs, and passed over: {}.", read.passed_over.join(", "));
    }
    if let Some(bookmark) = bookmark {
        let unasked = asked.files.iter().filter(|begun| begun.read == ALL);
        let unasked = unasked.filter_map(|begun| Some((begun.file.path.clone()?, ALL)));
        let read = read.read.iter().filter_map(|(path, octets)| Some((path.clone()?, *octets)));
        bookmark.keep(&read.chain(unasked).collect::<Vec<_>>())?;
    }
    match read.failures.is_empty() {
        true => Ok(()),
        false => Err(Failure(read.failures.join("\n"))),
    }
}

fn random_key() -> VisitorKey {
    use std::hash::{BuildHasher, RandomState};
    VisitorKey([RandomState::new().hash_one(1), RandomState::new().hash_one(2)])
}

/// The width to write for: the terminal's, but no wider than reads well, and 100 where there is none.
fn width() -> usize {
    terminal_size::terminal_size().map_or(100, |(width, _)| usize::from(width.0).clamp(60, 100))
}
