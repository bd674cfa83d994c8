//! `exedra report`: what is in some logs.
//!
//! - [`prelude`]: what was different before a burst
//! - [`html`]: one file to be handed on
//! - [`page`]: it as a page for the terminal; [`when`]: the picture at its head

mod page;
mod prelude;
mod when;

use crate::failure::Failure;
use crate::scope::ScopeOptions;
use crate::service::{Reach, Service, encoded};
use crate::show::fit::width;
use crate::sources::bookmark::ALL;
use crate::sources::{Asked, Bookmark, Progress, Source, SourceOptions, reading};
use clap::{Args, ValueEnum};
use exedra_common::scope::{Scope, period};
use exedra_common::tables::csv;
use exedra_common::text::clean_json;
use exedra_reading::prelude::Preludes;
use exedra_reading::survey::report::{Against, Shown};
use exedra_reading::survey::{Measure, Report, ReportOptions, SurveyPlan, SurveyWorker, Surveys, VisitorKey};
use exedra_service::jobs::reports::page as report_page;
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
    /// What the lists are ranked by
    #[arg(long, value_name = "MEASURE", default_value = "requests")]
    by: By,
    /// Put another period beside this one: previous, or as in 2026-09-14, 2026-W38, 2026-09, 2026-09-01..2026-09-08
    #[arg(long, value_name = "PERIOD")]
    against: Option<String>,
    /// A request that takes longer is slow, as in "500 ms"
    #[arg(long, value_name = "LENGTH", default_value = "1s")]
    slow: String,
    /// Say what was different before a burst instead: of 5xx, 4xx, a status, slow, all, or a stretch as in
    /// 2026-09-14T10:00..2026-09-14T10:20
    #[arg(long, value_name = "BURST", conflicts_with_all = ["against", "resume", "show"])]
    prelude: Option<String>,
    /// Cut addresses to their networks (/24, /48) and leave out names of users, so that nothing finer is in the report
    #[arg(long)]
    mask_clients: bool,
    #[command(flatten)]
    reach: Reach,
}

/// What lists are ranked by.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum By {
    /// How often
    Requests,
    /// By how many: one address and agent within one day
    Visitors,
    /// How much was sent
    Bytes,
    /// How long the answers took, all together
    Time,
}

impl From<By> for Measure {
    fn from(by: By) -> Self {
        match by {
            By::Requests => Measure::Requests,
            By::Visitors => Measure::Visitors,
            By::Bytes => Measure::Bytes,
            By::Time => Measure::Time,
        }
    }
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
    /// One file for a browser, to be handed on
    Html,
}

/// A report as a program is given it: with what was read for it.
#[derive(Serialize)]
struct WithSources<'r> {
    sources: &'r [Source],
    #[serde(flatten)]
    report: &'r Report,
}

/// Reads and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let shown = Shown::understand(&options.show)?;
    if options.form == ReportForm::Csv && shown.names().len() != 1 {
        return Err(Failure("a table holds one section: name it, as in --as csv --show paths".to_owned()));
    }
    if options.sources.sources.is_empty() {
        return of_records(options, shown);
    }
    let config = options.sources.config()?;
    let zone = options.scope.zone(config.as_ref())?;
    let bookmark = options.resume.as_deref().map(Bookmark::open).transpose()?;
    let scope = options.scope.scope(&zone)?;
    let asked = Asked {
        files: options.sources.files(config.as_ref(), bookmark.as_ref(), &scope)?,
        layouts: options.sources.layouts(config.as_ref())?,
        durations: options.sources.durations,
        leaves_open_line: bookmark.is_some(),
        threads: options.sources.threads(),
    };
    if let Some(to) = &options.to {
        let read = asked.files.iter().filter_map(|begun| begun.file.path.as_deref());
        crate::out::file::refuse_to_overwrite(to, read)?;
    }
    let mut plan = SurveyPlan::new(scope, zone, random_key());
    plan.parts = shown.parts();
    plan.by = options.by.into();
    plan.slow = slow_threshold(&options.slow)?;
    plan.countries = options.scope.countries(config.as_ref())?;
    let hosts = config.iter().flat_map(|config| &config.sites).flat_map(|site| &site.hosts);
    let own_hosts: Vec<String> = hosts.map(|host| host.value.clone()).collect();
    if let Some(of) = &options.prelude {
        return told_prelude(options, &asked, &plan, of, &own_hosts);
    }
    let other = match &options.against {
        Some(period) => Some(SurveyPlan { scope: other_scope(&plan, period)?, ..plan.clone() }),
        None => None,
    };
    let plans: Vec<SurveyPlan> = [plan.clone()].into_iter().chain(other.clone()).collect();
    let surveys = Surveys::new(&plans);
    let progress = Progress::of(&asked.files);
    let mut read = reading::read(&asked, surveys.projection(), &progress, || SurveyWorker::new(&surveys))?;
    drop(progress);
    let mut surveys = surveys.finish().into_iter();
    let mut next = || {
        let survey = surveys.next().unwrap_or_default();
        if options.mask_clients { survey.masked(plan.key) } else { survey }
    };
    let survey = next();
    for (source, counts) in read.sources.iter_mut().zip(&survey.sources) {
        (source.requests, source.bytes) = (counts.requests, counts.bytes);
    }
    let shortens = !shown.is_chosen() && options.top.is_none();
    let names = shown.names().join(", ");
    let lengths = ReportOptions {
        // Programs are given whatever was counted, unless they ask for something in particular.
        shown: if shown.is_chosen() || options.form == ReportForm::Text {
            shown
        } else {
            Shown::everything()
        },
        top: top(options),
        referrers: referrers(options),
        own_hosts,
        origins: read.sources.iter().map(Source::origin).collect(),
    };
    let before = other.as_ref().map(|_| next());
    let against = other.as_ref().zip(before.as_ref());
    let against = against.map(|(plan, survey)| Against { scope: &plan.scope, survey });
    let mut report = Report::new(&survey, &plan, &lengths, against);
    report.masked = options.mask_clients;
    if !options.show.is_empty() && options.form != ReportForm::Text {
        report.caveats.push(format!("only what these sections need was counted: {names}"));
    }
    let lines = std::mem::take(&mut read.lines);
    report.lines = Some(if options.mask_clients { lines.without_examples() } else { lines });
    put(options, words(options, &report, &read.sources, shortens)?)?;
    // The program is about to end: to give back every text of it one by one would take longer than to make the report.
    std::mem::forget(survey);
    if let Some(bookmark) = bookmark {
        let unasked = asked.files.iter().filter(|begun| begun.read == ALL);
        let unasked = unasked.filter_map(|begun| Some((begun.file.path.clone()?, ALL)));
        let read = read.read.iter().filter_map(|(path, octets)| Some((path.clone()?, *octets)));
        bookmark.keep(&read.chain(unasked).collect::<Vec<_>>())?;
    }
    read.own_up()
}

/// A report in the form that was asked for.
fn words(options: &Options, report: &Report, sources: &[Source], shortens: bool) -> Result<String, Failure> {
    Ok(match options.form {
        ReportForm::Json => serde_json::to_string_pretty(&WithSources { sources, report })? + "\n",
        ReportForm::Html => {
            let json = serde_json::to_string(&WithSources { sources, report })?;
            report_page::page(&json, sources.first().map_or("Report", Source::short_name), None)?
        }
        ReportForm::Text => page::page(report, sources, shortens, width()),
        ReportForm::Csv => {
            let shown = Shown::understand(&options.show)?;
            csv::table(report.table(shown.names().first().copied().unwrap_or_default()))
        }
    })
}

/// Length of the lists.
fn top(options: &Options) -> usize {
    options.top.unwrap_or(match options.form {
        ReportForm::Text => 10,
        ReportForm::Html => 100,
        ReportForm::Json | ReportForm::Csv => 1000,
    })
}

/// Referrers under each missing page.
fn referrers(options: &Options) -> usize {
    if options.form == ReportForm::Text { 2 } else { ReportOptions::default().referrers }
}

/// The report of the records of the running service, where no log is named.
fn of_records(options: &Options, shown: Shown) -> Result<(), Failure> {
    if options.resume.is_some() {
        let words = "--resume works on logs: name a log, or a site";
        return Err(Failure(words.to_owned()));
    }
    let mut query = options.scope.query()?;
    let service = Service::of_sources(&options.sources, &options.reach);
    if let Some(of) = &options.prelude {
        query.push(("of", of.clone()));
        query.push(("slow", options.slow.clone()));
        query.extend(options.top.map(|top| ("top", top.to_string())));
        query.extend(options.mask_clients.then(|| ("mask", "true".to_owned())));
        let told: Preludes = service.get(&format!("preludes?{}", encoded(&query)))?;
        return put(options, prelude::words(&told, prelude_as_json(options)?)?);
    }
    query.extend(options.show.iter().map(|section| ("show", section.clone())));
    query.push(("top", top(options).to_string()));
    query.push(("referrers", referrers(options).to_string()));
    query.push(("slow", options.slow.clone()));
    query.extend(options.by.to_possible_value().map(|by| ("by", by.get_name().to_owned())));
    query.extend(options.against.iter().map(|period| ("against", period.clone())));
    query.extend(options.mask_clients.then(|| ("mask", "true".to_owned())));
    let report: Report = service.get(&format!("survey?{}", encoded(&query)))?;
    let shortens = !shown.is_chosen() && options.top.is_none();
    put(options, words(options, &report, &[], shortens)?)
}

/// The prelude of a burst, in place of a report.
fn told_prelude(
    options: &Options,
    asked: &Asked,
    plan: &SurveyPlan,
    of: &str,
    own_hosts: &[String],
) -> Result<(), Failure> {
    let as_json = prelude_as_json(options)?;
    let (told, read) = prelude::found(asked, plan, of, options.top, options.mask_clients, own_hosts)?;
    put(options, prelude::words(&told, as_json)?)?;
    read.own_up()
}

/// Whether a prelude is for programs.
fn prelude_as_json(options: &Options) -> Result<bool, Failure> {
    match options.form {
        ReportForm::Text => Ok(false),
        ReportForm::Json => Ok(true),
        ReportForm::Csv | ReportForm::Html => {
            Err(Failure("a prelude is sentences: ask for --as text or --as json".to_owned()))
        }
    }
}

/// Writes to wherever it was asked for: aside first, so that a file there is replaced as a whole or not at all.
fn put(options: &Options, words: String) -> Result<(), Failure> {
    let words = match options.form {
        ReportForm::Json => clean_json(&words).into_owned(),
        ReportForm::Text if options.to.is_some() => crate::out::shown(&words, false),
        _ => words,
    };
    match &options.to {
        Some(path) => crate::out::file::replace(path, words.as_bytes()),
        None if options.form == ReportForm::Text => Ok(crate::out::stdout().write_all(words.as_bytes())?),
        None => Ok(crate::out::octets(&words, options.form == ReportForm::Json)?),
    }
}

/// The same requests in another period.
fn other_scope(plan: &SurveyPlan, period: &str) -> Result<Scope, Failure> {
    let now = jiff::Timestamp::now().as_millisecond();
    let (from, until) = period::other(period, (plan.scope.from, plan.scope.until), now, &plan.zone)?;
    Ok(Scope { from: Some(from), until: Some(until), ..plan.scope.clone() })
}

/// A length of time in microseconds.
fn slow_threshold(text: &str) -> Result<u64, Failure> {
    let length = exedra_common::units::duration(text).ok_or_else(|| {
        Failure(format!("`{text}` is not a length of time: write one as in \"500 ms\" or 2s"))
    })?;
    Ok(u64::try_from(length.as_micros()).unwrap_or(u64::MAX - 1))
}

/// A key that makes visitors numbers, another one in every run.
pub fn random_key() -> VisitorKey {
    use std::hash::{BuildHasher, RandomState};
    VisitorKey([RandomState::new().hash_one(1), RandomState::new().hash_one(2)])
}
