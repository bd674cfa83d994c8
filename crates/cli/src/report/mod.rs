//! `exedra report`: what is in some logs.
//!
//! - [`reading`]: files in blocks, over threads; [`progress`]: how far that has come
//! - [`sections`]: what it can be made of; [`table`]: one of them as comma-separated values
//! - [`text`]: a survey as a page for the terminal
//! - [`columns`]: the charts on it

mod columns;
mod progress;
mod reading;
mod sections;
mod table;
mod text;

use crate::Failure;
use crate::scope::ScopeOptions;
use crate::sources::bookmark::ALL;
use crate::sources::{Bookmark, SourceOptions};
use clap::{Args, ValueEnum};
use exedra_core::survey::{ReportOptions, SurveyPlan, SurveyReport, VisitorKey};
use progress::Progress;
use reading::{Asked, Source};
use sections::Shown;
use serde::Serialize;
use std::io::Write;
use std::path::PathBuf;

/// What `exedra report` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    sources: SourceOptions,
    #[command(flatten)]
    scope: ScopeOptions,
    /// The form of the report
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: ReportForm,
    /// What to show: questions (traffic, people, trouble, transfer) or single sections (paths, crawlers, …)
    #[arg(long, value_name = "SECTION", value_delimiter = ',')]
    show: Vec<String>,
    /// Write it to a file instead of showing it
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
    /// Read only what is new since the last reading with this bookmark, also when logs were rotated since
    #[arg(long, value_name = "BOOKMARK")]
    resume: Option<String>,
    /// Length of the lists
    #[arg(long, value_name = "NUMBER")]
    top: Option<usize>,
}

/// The form of a report.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum ReportForm {
    /// For people, at a terminal
    Text,
    /// For programs
    Json,
    /// One section for spreadsheets
    Csv,
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
    let mut shown = Shown::understand(&options.show)?;
    shown.shortens &= options.top.is_none();
    if options.form == ReportForm::Csv && (options.show.is_empty() || shown.names().len() != 1) {
        return Err(Failure("a table holds one section: name it, as in --as csv --show paths".to_owned()));
    }
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
    let hosts = config.iter().flat_map(|config| &config.sites).flat_map(|site| &site.hosts);
    let lengths = ReportOptions {
        top: options.top.unwrap_or(if options.form == ReportForm::Text { 10 } else { 1000 }),
        referrers: if options.form == ReportForm::Text { 2 } else { ReportOptions::default().referrers },
        own_hosts: hosts.map(|host| host.value.clone()).collect(),
    };
    let mut report = SurveyReport::new(&read.survey, &plan, &lengths);
    report.lines = Some(read.lines);
    let words = match options.form {
        ReportForm::Json => {
            serde_json::to_string_pretty(&Report { sources: &read.sources, report: &report })? + "\n"
        }
        ReportForm::Text => text::page(&report, &read.sources, &shown, width()),
        ReportForm::Csv => table::table(&report, shown.names()[0])?,
    };
    match &options.to {
        Some(path) => {
            let plain = anstream::adapter::strip_str(&words).to_string();
            std::fs::write(path, plain)
                .map_err(|error| Failure(format!("{} cannot be written: {error}", path.display())))?;
        }
        None => anstream::stdout().write_all(words.as_bytes())?,
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
