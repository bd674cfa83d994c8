//! `exedra query`: one line of SQL, asked of logs as they lie there or of the records of the running service.
//!
//! - [`logs`]: logs as the engine reads them; [`output`]: rows in the form that was asked for, as they come
//! - [`records`]: the records of the running service; [`kept`]: statements with names
//! - [`diagnosed`]: what is wrong with a statement, drawn at its place
//! - [`functions`]: `exedra functions`

mod diagnosed;
pub mod functions;
pub mod kept;
pub mod logs;
mod output;
mod records;

use crate::failure::Failure;
use crate::report::random_key;
use crate::scope::ScopeOptions;
use crate::service::Reach;
use crate::sources::{Asked, Bookmark, SourceOptions};
use clap::Args;
use exedra_common::figures::{grouped, several};
use exedra_common::tables::chart::Form;
use exedra_query::parameters::Parameters;
use exedra_query::{Engine, Limits, QueryError, RequestsTable, Statement};
use exedra_reading::classify::Classifier;
use jiff::tz::TimeZone;
use logs::LogRequests;
use output::{Output, QueryForm};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// What `exedra query` takes.
#[derive(Args)]
pub struct Options {
    /// The statement, as in "select path, count(*) as n from requests group by path order by n desc limit 20"; or the name of one
    /// that `exedra queries` lists; - reads it from standard input
    #[arg(value_name = "STATEMENT")]
    statement: Option<String>,
    #[command(flatten)]
    sources: SourceOptions,
    #[command(flatten)]
    scope: ScopeOptions,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    form: QueryForm,
    /// Write the answer to a file instead of standard output
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
    /// Keep the statement under a name, to be asked again by it
    #[arg(long, value_name = "NAME")]
    keep: Option<String>,
    /// Print the statement of a name, and ask nothing
    #[arg(long)]
    show: bool,
    /// Which chart is drawn: the one that fits best unless said
    #[arg(long, value_name = "FORM", value_parser = chart_form)]
    chart: Option<Form>,
    /// A value for :NAME in the statement, as in since="7 days" or least=50; may be repeated
    #[arg(long, value_name = "NAME=VALUE")]
    set: Vec<String>,
    /// Read only what came since the last time this name was used
    #[arg(long, value_name = "NAME")]
    resume: Option<String>,
    /// Cut nothing to the width of the terminal
    #[arg(long)]
    wide: bool,
    /// Show all rows, also at a terminal
    #[arg(long)]
    all: bool,
    /// Write addresses as their networks and leave names of users out
    #[arg(long)]
    mask_clients: bool,
    /// How much memory the answer may be put together in, as in 512 MB; what does not fit goes into temporary files
    #[arg(long, value_name = "SIZE", default_value = "256 MB", value_parser = size)]
    memory: u64,
    /// How long it may take, as in 30 s; as long as it likes unless said
    #[arg(long, value_name = "LENGTH", value_parser = length)]
    time_limit: Option<Duration>,
    #[command(flatten)]
    reach: Reach,
}

fn size(text: &str) -> Result<u64, String> {
    let size = exedra_common::units::size(text);
    size.filter(|size| *size >= 16 << 20)
        .ok_or_else(|| "write a size of at least 16 MB, as in 512 MB".to_owned())
}

fn length(text: &str) -> Result<Duration, String> {
    exedra_common::units::duration(text)
        .ok_or_else(|| "write a length of time, as in 30 s or 5 min".to_owned())
}

/// Asks and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let mut parameters = Parameters::new(jiff::Timestamp::now().as_millisecond());
    for set in &options.set {
        parameters.set(set).map_err(Failure)?;
    }
    output::check(options)?;
    let written = written(options, &mut parameters)?;
    if options.show {
        crate::out::line!("{}", written.trim_end());
        return Ok(());
    }
    let names = Statement::names(&written);
    if let Some(useless) = parameters.names().find(|name| !names.iter().any(|known| known == name)) {
        return Err(Failure(format!(
            "the statement has no :{useless}, so that --set {useless}=… sets nothing"
        )));
    }
    if let Some(name) = &options.keep {
        // What its names stand for may be said later.
        let mut anything = parameters.clone();
        names.iter().for_each(|name| anything.set_usual(name, "1"));
        Statement::understand(&written, &anything).map_err(|wrong| diagnosed::failure(&wrong, &written))?;
        kept::keep(name, &written)?;
        if options.sources.sources.is_empty() {
            return Ok(());
        }
    }
    let statement =
        Statement::understand(&written, &parameters).map_err(|wrong| diagnosed::failure(&wrong, &written))?;
    let wanted = wanted();
    let goes_on = || wanted.load(Ordering::Relaxed);
    let answered = match options.sources.sources.is_empty() {
        true => records::answer(options, &written, &parameters),
        false => of_logs(options, &statement, &goes_on),
    };
    answered.map_err(|error| match error {
        Unanswered::Query(QueryError::Wrong(wrong)) => diagnosed::failure(&wrong, &written),
        Unanswered::Query(QueryError::Stopped) => Failure("Stopped: what was printed is not all.".to_owned()),
        Unanswered::Query(other) => Failure(other.to_string()),
        Unanswered::Other(failure) => failure,
    })
}

/// Why there is no answer: the question, or what is around it.
enum Unanswered {
    Query(QueryError),
    Other(Failure),
}

impl From<QueryError> for Unanswered {
    fn from(error: QueryError) -> Self {
        Unanswered::Query(error)
    }
}

impl From<Failure> for Unanswered {
    fn from(failure: Failure) -> Self {
        Unanswered::Other(failure)
    }
}

/// The statement that was given.
fn written(options: &Options, parameters: &mut Parameters) -> Result<String, Failure> {
    match options.statement.as_deref() {
        None => Err(Failure(
            "write a statement: exedra query \"select status, count(*) as n from requests group by status\" access.log\n\
             `exedra columns` lists the columns of requests, `exedra functions` what can be made of them."
                .to_owned(),
        )),
        Some("-") => Ok(std::io::read_to_string(std::io::stdin())?),
        Some(name) if kept::is_name(name) => kept::statement(name, parameters),
        Some(written) => Ok(written.to_owned()),
    }
}

fn chart_form(name: &str) -> Result<Form, String> {
    let names = || Form::ALL.iter().map(|form| form.name());
    let found = Form::ALL.into_iter().find(|form| form.name() == name);
    found.ok_or_else(|| format!("a chart is one of {}", names().collect::<Vec<_>>().join(", ")))
}

/// Whether somebody still waits: until Ctrl-C.
pub fn wanted() -> Arc<AtomicBool> {
    let wanted = Arc::new(AtomicBool::new(true));
    let known = Arc::clone(&wanted);
    std::thread::spawn(move || {
        let Ok(runtime) = tokio::runtime::Builder::new_current_thread().enable_io().build() else { return };
        runtime.block_on(async {
            if tokio::signal::ctrl_c().await.is_ok() {
                known.store(false, Ordering::Relaxed);
            }
            // Whoever says it twice means at once.
            if tokio::signal::ctrl_c().await.is_ok() {
                std::process::exit(130);
            }
        });
    });
    wanted
}

fn of_logs(options: &Options, statement: &Statement, goes_on: &dyn Fn() -> bool) -> Result<(), Unanswered> {
    let bookmark = options.resume.as_deref().map(Bookmark::open).transpose()?;
    let Opened { source, table, zone } =
        open(&options.sources, &options.scope, bookmark.as_ref(), options.to.as_deref())?;
    let table = table.masked(options.mask_clients);
    crate::sources::load::stand_back_when_high();
    let engine = Engine::new(table, limits(options), || {})?;
    let answer = engine.ask(statement, goes_on)?;
    let output = Output::begin(options, answer.table(), &zone)?;
    let is_whole = output.answer(answer, goes_on)?;
    drop(engine);
    if let Some(read) = source.read()? {
        if read.lines.unread > 0 {
            crate::out::note!(
                "{} of {} could not be read: `exedra report` says why.",
                grouped(read.lines.unread),
                several(read.lines.read + read.lines.unread, "line", "lines")
            );
        }
        if let Some(bookmark) = bookmark.filter(|_| is_whole) {
            let read = read.read.iter().filter_map(|(path, octets)| Some((path.clone()?, *octets)));
            bookmark.keep(&read.collect::<Vec<_>>())?;
        }
        read.own_up()?;
    }
    Ok(())
}

/// Logs as a table.
pub struct Opened {
    /// The logs.
    pub source: Arc<LogRequests>,
    /// The table over them.
    pub table: RequestsTable,
    /// Whose days and hours.
    pub zone: TimeZone,
}

/// Opens logs as a table, from where a bookmark lies.
pub fn open(
    sources: &SourceOptions,
    scope: &ScopeOptions,
    bookmark: Option<&Bookmark>,
    to: Option<&Path>,
) -> Result<Opened, Failure> {
    let config = sources.config()?;
    let zone = scope.zone(config.as_ref())?;
    let classifier = Arc::new(Classifier { countries: scope.countries(config.as_ref())? });
    let scope = scope.scope(&zone)?;
    let files = sources.files(config.as_ref(), bookmark, &scope)?;
    if let Some(to) = to {
        let read = files.iter().filter_map(|begun| begun.file.path.as_deref());
        crate::out::file::refuse_to_overwrite(to, read)?;
    }
    let asked = Asked {
        files,
        layouts: sources.layouts(config.as_ref())?,
        durations: sources.durations,
        leaves_open_line: bookmark.is_some(),
        threads: sources.threads(),
    };
    let threads = asked.threads;
    let source = Arc::new(LogRequests::new(asked));
    let table = RequestsTable::new(Arc::clone(&source) as _, (scope, zone.clone()), classifier, random_key());
    Ok(Opened { source, table: table.on_threads(threads), zone })
}

fn limits(options: &Options) -> Limits {
    Limits {
        memory: usize::try_from(options.memory).unwrap_or(usize::MAX),
        time: options.time_limit,
        ..Limits::default()
    }
}
