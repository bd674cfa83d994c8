//! `exedra export`: requests as files for engines that run on many machines, cut by site and day.
//!
//! One day of one site is one file, put in place as a whole. `--resume` leaves out days that were exported before and the one that is
//! not over yet, so that a job that runs every night appends each day once. Machines that export into one folder have names of their
//! own, and so have their files.

use crate::failure::Failure;
use crate::out::file::NewFile;
use crate::query;
use crate::scope::ScopeOptions;
use crate::service::{Reach, Service, encoded};
use crate::sources::SourceOptions;
use clap::{Args, ValueEnum};
use exedra_api::queries::{QueryAnswer, QueryQuestion};
use exedra_common::figures::{bytes, several};
use exedra_common::tables::Cell;
use exedra_query::export::{Exported, Form, Partition, PartitionSink, Partitions, columns_of, statement};
use exedra_query::{Engine, Limits, QueryError, Statement};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::collections::BTreeSet;
use std::fs;
use std::io::Write;
use std::path::PathBuf;
use std::sync::atomic::Ordering;

/// What `exedra export` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    sources: SourceOptions,
    #[command(flatten)]
    scope: ScopeOptions,
    /// The folder that files go to, as DIR/site=harbour/day=2026-11-14/requests.parquet
    #[arg(long, value_name = "DIR")]
    to: PathBuf,
    /// The form of the files
    #[arg(long = "as", value_name = "FORM", default_value = "parquet")]
    form: ExportForm,
    /// Leave out days that were exported by this name, and the day that is not over yet; files have this name too
    #[arg(long, value_name = "NAME")]
    resume: Option<String>,
    /// Write addresses as their networks and leave names of users out
    #[arg(long)]
    mask_clients: bool,
    #[command(flatten)]
    reach: Reach,
}

/// The form of the files.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum ExportForm {
    /// Columns, compressed, with what engines need to read little of them
    Parquet,
    /// Comma-separated values
    Csv,
    /// One JSON object on each line
    Ndjson,
}

impl From<ExportForm> for Form {
    fn from(form: ExportForm) -> Self {
        match form {
            ExportForm::Parquet => Form::Parquet,
            ExportForm::Csv => Form::Csv,
            ExportForm::Ndjson => Form::Ndjson,
        }
    }
}

/// Exports.
pub fn run(options: &Options) -> Result<(), Failure> {
    if let Some(name) = options.resume.as_deref().filter(|name| !is_plain(name)) {
        return Err(Failure(format!(
            "`{name}` is no name of an export: letters, digits, dashes, dots and underscores"
        )));
    }
    fs::create_dir_all(&options.to)
        .map_err(|error| Failure(format!("{} cannot be made: {error}", options.to.display())))?;
    let exported = match options.sources.sources.is_empty() {
        true => of_records(options)?,
        false => of_logs(options)?,
    };
    let Exported { files, requests, octets } = exported;
    match files {
        0 => crate::out::note!("Nothing to export: no request fits that was not exported before."),
        _ => crate::out::line!(
            "{} of {} in {}, {}",
            several(requests, "request", "requests"),
            several(files, "day of a site", "days of sites"),
            options.to.display(),
            bytes(octets)
        ),
    }
    Ok(())
}

fn is_plain(name: &str) -> bool {
    let is_plain = |letter: char| letter.is_alphanumeric() || "-_.".contains(letter);
    !name.is_empty() && !name.starts_with('.') && name.chars().all(is_plain)
}

fn of_logs(options: &Options) -> Result<Exported, Failure> {
    let query::Opened { source, table, zone } = query::open(&options.sources, &options.scope, None, None)?;
    let table = table.masked(options.mask_clients);
    let failed = |error: QueryError| Failure(error.to_string());
    let engine = Engine::new(table, Limits::default(), || {}).map_err(failed)?;
    let wanted = query::wanted();
    let goes_on = || wanted.load(Ordering::Relaxed);
    let statement = Statement::understand(&statement(), &Default::default());
    let statement = statement.map_err(|wrong| failed(wrong.into()))?;
    let answer = engine.ask(&statement, &goes_on).map_err(failed)?;
    let folder = Folder::open(options, &zone)?;
    let exported =
        Partitions::new(options.form.into(), folder).write_all(answer, &goes_on).map_err(failed)?;
    drop(engine);
    if let Some(read) = source.read()? {
        read.own_up()?;
    }
    Ok(exported)
}

/// Day by day, each asked of the records alone: what is read for one is nothing of the others.
fn of_records(options: &Options) -> Result<Exported, Failure> {
    let service = Service::of_sources(&options.sources, &options.reach);
    let query = encoded(&options.scope.query()?);
    let ask = |statement: String| QueryQuestion {
        statement,
        mask: options.mask_clients,
        most: Some(100_000),
        ..QueryQuestion::default()
    };
    let days = "select site, to_char(time, '%Y-%m-%d') as day, count(*) as requests from requests group by site, day order by site, day";
    let days: QueryAnswer = service.send(&format!("query?{query}"), &ask(days.to_owned()))?;
    if days.has_more {
        let words = "there are more than 100,000 days of sites: narrow the period or name sites, and export the rest after that";
        return Err(Failure(words.to_owned()));
    }
    let zone = TimeZone::get(&days.time_zone).unwrap_or(TimeZone::UTC);
    let mut folder = Folder::open(options, &zone)?;
    let form: Form = options.form.into();
    let mut exported = Exported::default();
    for row in &days.table.rows {
        let text = |place: usize| row.get(place).and_then(Cell::as_text).map(str::to_owned);
        let partition = Partition { site: text(0), day: text(1) };
        if !folder.begins(&partition)? {
            continue;
        }
        let site = match &partition.site {
            Some(site) => format!("site = '{}'", site.replace('\'', "''")),
            None => "site is null".to_owned(),
        };
        let statement = format!(
            "select {} from requests where {site} and {} order by time",
            columns_of(),
            within(partition.day.as_deref(), &zone)
        );
        service.send_for_octets(
            &format!("query/file/{}?{query}", form.name()),
            &ask(statement),
            |octets| {
                exported.octets += octets.len() as u64;
                folder.put(octets)
            },
        )?;
        folder.ends()?;
        exported.files += 1;
        exported.requests += row.get(2).and_then(Cell::as_u64).unwrap_or(0);
    }
    Ok(exported)
}

/// That an instant is within a day of a zone.
fn within(day: Option<&str>, zone: &TimeZone) -> String {
    let begin = |day: Date| day.to_zoned(zone.clone()).ok().map(|begin| begin.timestamp());
    let bounds = day.and_then(|day| {
        let day: Date = day.parse().ok()?;
        Some((begin(day)?, begin(day.tomorrow().ok()?)?))
    });
    match bounds {
        Some((from, until)) => format!("time >= '{from}' and time < '{until}'"),
        None => "time is null".to_owned(),
    }
}

/// The folder of an export.
struct Folder {
    root: PathBuf,
    /// The name of each file.
    name: String,
    /// Where it stands what was exported, where that is to be left out.
    list: Option<PathBuf>,
    known: BTreeSet<String>,
    /// The first day that is not over yet.
    today: String,
    open: Option<(String, NewFile)>,
}

impl Folder {
    fn open(options: &Options, zone: &TimeZone) -> Result<Self, Failure> {
        let form: Form = options.form.into();
        let name = options.resume.as_deref().unwrap_or("requests");
        // Engines that read folders leave out what begins with a dot.
        let list = options.resume.as_deref().map(|name| options.to.join(format!(".exported-{name}")));
        let known = match &list {
            Some(list) if list.exists() => fs::read_to_string(list)?.lines().map(str::to_owned).collect(),
            _ => BTreeSet::new(),
        };
        let today = jiff::Timestamp::now().to_zoned(zone.clone()).date().to_string();
        let name = format!("{name}.{}", form.name());
        Ok(Folder { root: options.to.clone(), name, list, known, today, open: None })
    }

    /// Begins the file of a partition, where it is wanted.
    fn begins(&mut self, of: &Partition) -> Result<bool, Failure> {
        let folder = of.folder();
        let is_over = of.day.as_ref().is_none_or(|day| *day < self.today);
        if self.list.is_some() && (!is_over || self.known.contains(&folder)) {
            return Ok(false);
        }
        let path = self.root.join(&folder);
        fs::create_dir_all(&path)
            .map_err(|error| Failure(format!("{} cannot be made: {error}", path.display())))?;
        self.open = Some((folder, NewFile::begin(&path.join(&self.name))?));
        Ok(true)
    }

    fn put(&mut self, octets: &[u8]) -> Result<(), Failure> {
        match &mut self.open {
            Some((_, file)) => Ok(file.write_all(octets)?),
            None => Ok(()),
        }
    }

    /// Puts the file in place, and then says so in the list: whoever is stopped in between exports the same once more, in its place.
    fn ends(&mut self) -> Result<(), Failure> {
        let Some((folder, file)) = self.open.take() else { return Ok(()) };
        file.finish()?;
        if let Some(list) = &self.list {
            self.known.insert(folder);
            let all: Vec<&str> = self.known.iter().map(String::as_str).collect();
            crate::out::file::replace(list, format!("{}\n", all.join("\n")).as_bytes())?;
        }
        Ok(())
    }
}

impl PartitionSink for Folder {
    fn begin(&mut self, of: &Partition) -> Result<bool, QueryError> {
        self.begins(of).map_err(|failure| QueryError::Source(failure.0))
    }

    fn write(&mut self, octets: &[u8]) -> Result<(), QueryError> {
        self.put(octets).map_err(|failure| QueryError::Source(failure.0))
    }

    fn finish(&mut self) -> Result<(), QueryError> {
        self.ends().map_err(|failure| QueryError::Source(failure.0))
    }
}
