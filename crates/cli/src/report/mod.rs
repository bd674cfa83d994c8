//! `exedra report`: what is in some logs.
//!
//! - [`reading`]: files in blocks, over threads
//! - [`text`]: a survey as a page for the terminal
//! - [`columns`]: the charts on it

mod columns;
mod reading;
mod text;

use crate::{Failure, Form};
use clap::Args;
use exedra_core::logs::Layout;
use exedra_core::scope::{Scope, filters, period};
use exedra_core::survey::{ReportOptions, SurveyPlan, SurveyReport, VisitorKey};
use jiff::tz::TimeZone;
use reading::Source;
use serde::Serialize;

/// What `exedra report` takes.
#[derive(Args)]
pub struct Options {
    /// Access logs; `-` is standard input
    #[arg(required = true, value_name = "FILE")]
    sources: Vec<String>,
    /// The form of the report
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
    /// Whose days and hours, as in Atlantic/Faroe
    #[arg(long, value_name = "ZONE", default_value = "UTC")]
    time_zone: String,
    /// First instant or day that counts, as in 2026-09-14 or 2026-09-14T08:30
    #[arg(long, value_name = "TIME")]
    from: Option<String>,
    /// First instant or day that no longer counts
    #[arg(long, value_name = "TIME")]
    until: Option<String>,
    /// A stretch up to now, as in "7 days"
    #[arg(long, value_name = "LENGTH", conflicts_with = "from")]
    last: Option<String>,
    /// Count only these requests, as in status=404 or 'path=/notices/*'
    #[arg(long, value_name = "COLUMN=VALUE")]
    only: Vec<String>,
    /// Leave these requests out
    #[arg(long, value_name = "COLUMN=VALUE")]
    without: Vec<String>,
    /// The layout of the lines, instead of looking for one: a name or a template
    #[arg(long, value_name = "LAYOUT")]
    layout: Option<String>,
    /// Length of the lists
    #[arg(long, value_name = "NUMBER")]
    top: Option<usize>,
    /// How many threads read
    #[arg(long, value_name = "NUMBER")]
    threads: Option<std::num::NonZeroUsize>,
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
    let zone = TimeZone::get(&options.time_zone).map_err(|_| {
        Failure(format!("there is no time zone `{}`: write a name as in Atlantic/Faroe", options.time_zone))
    })?;
    let plan = SurveyPlan { scope: scope(options, &zone)?, zone, key: random_key(), step: None };
    let layout = options.layout.as_deref().map(Layout::understand).transpose()?;
    let threads = options.threads.or(std::thread::available_parallelism().ok()).map_or(1, usize::from);
    let read = reading::read(&options.sources, layout, &plan, threads)?;
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
    match read.failures.is_empty() {
        true => Ok(()),
        false => Err(Failure(read.failures.join("\n"))),
    }
}

fn scope(options: &Options, zone: &TimeZone) -> Result<Scope, Failure> {
    let now = jiff::Timestamp::now().as_millisecond();
    let instant = |text: &Option<String>| text.as_deref().map(|text| period::instant(text, zone)).transpose();
    let from = match &options.last {
        Some(length) => Some(period::last(length, now, zone)?),
        None => instant(&options.from)?,
    };
    let filters = filters(&options.only, &options.without)?;
    Ok(Scope { sites: Vec::new(), from, until: instant(&options.until)?, filters })
}

fn random_key() -> VisitorKey {
    use std::hash::{BuildHasher, RandomState};
    VisitorKey([RandomState::new().hash_one(1), RandomState::new().hash_one(2)])
}

/// The width to write for: the terminal's, but no wider than reads well, and 100 where there is none.
fn width() -> usize {
    terminal_size::terminal_size().map_or(100, |(width, _)| usize::from(width.0).clamp(60, 100))
}
