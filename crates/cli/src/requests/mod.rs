//! `exedra requests`: single requests, one line each.
//!
//! After the first page of a report people ask which requests those were. They are kept as they are read, as many as were asked
//! for: the newest, or those with most of something.
//!
//! - [`follow`]: those that come to a log later; [`told`]: those that come to the records. Their lines are those of [`lines`]

mod follow;
mod told;

use crate::failure::Failure;
use crate::scope::ScopeOptions;
use crate::service::{Reach, Service, encoded};
use crate::show::fit::room;
use crate::show::lines;
use crate::sources::filtered::Filtered;
use crate::sources::reading;
use crate::sources::{Asked, Progress, SourceOptions};
use clap::{Args, ValueEnum};
use exedra_api::Requests;
use exedra_common::Column;
use exedra_common::figures::{grouped, several};
use exedra_common::scope::RowFilter;
use exedra_common::tables::{Cell, Table};
use exedra_common::tables::{csv, rows};
use exedra_reading::classify::Classifier;
use exedra_reading::requests::{Picker, RequestColumns, leave_out_what_nobody_says, order};
use jiff::tz::TimeZone;
use std::io::Write;
use std::sync::Arc;

/// How many requests are shown to people, and given to programs, where nobody said anything.
const FEW: usize = 200;
const MANY: usize = 100_000;
/// How many requests the records give at a time, and how many of one order altogether.
const PAGE: usize = 10_000;
const MOST_OF_RECORDS: usize = 20_000;

/// What `exedra requests` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    sources: SourceOptions,
    #[command(flatten)]
    scope: ScopeOptions,
    /// What is shown of each, as in time,client,path,status,duration: any columns that `exedra columns` lists
    #[arg(long, value_name = "COLUMNS", value_delimiter = ',')]
    columns: Vec<String>,
    /// The order: time, the newest last; or a column of figures, the greatest first
    #[arg(long, value_name = "COLUMN", default_value = "time")]
    by: String,
    /// How many at most: 200 for people and 100,000 for programs unless said otherwise
    #[arg(long, value_name = "NUMBER")]
    top: Option<usize>,
    /// Go on with those that come in
    #[arg(long)]
    follow: bool,
    /// Write addresses as their networks and leave names of users out
    #[arg(long)]
    mask_clients: bool,
    /// Cut nothing to the width of the terminal
    #[arg(long)]
    wide: bool,
    /// The form of the answer; json is one object on each line
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: RequestsForm,
    #[command(flatten)]
    reach: Reach,
}

/// The form of the answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum RequestsForm {
    /// For people, at a terminal
    Text,
    /// Comma-separated values
    Csv,
    /// One JSON object on each line
    Json,
}

/// Reads and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let by = order(&options.by)?;
    if options.follow && by != Column::Time {
        return Err(Failure("what comes in later comes last: --follow goes with --by time alone".to_owned()));
    }
    if options.sources.sources.is_empty() {
        return of_records(options, by);
    }
    let config = options.sources.config()?;
    let zone = options.scope.zone(config.as_ref())?;
    let scope = options.scope.scope(&zone)?;
    let classifier = Arc::new(Classifier { countries: options.scope.countries(config.as_ref())? });
    let asked = Asked {
        files: options.sources.files(config.as_ref(), None, &scope)?,
        layouts: options.sources.layouts(config.as_ref())?,
        durations: options.sources.durations,
        leaves_open_line: options.follow,
        threads: options.sources.threads(),
    };
    let listed = RequestColumns::understand(&options.columns, Arc::clone(&classifier), options.mask_clients)?;
    let projection = listed.projection(by).with(scope.columns().collect());
    let most = most(options);
    let filter = || RowFilter::new(scope.clone(), Arc::clone(&classifier) as _);
    let progress = Progress::of(&asked.files);
    let sink = || Filtered::new(filter(), Picker::new(listed.clone(), by, most), Picker::add);
    let mut read = reading::read(&asked, projection, &progress, sink)?;
    drop(progress);
    let (mut picked, mut tried) = (Picker::new(listed.clone(), by, most).finish(), 0);
    for (share, looked_at) in read.made.drain(..) {
        picked.merge(share.finish());
        tried += looked_at;
    }
    let (mut table, fitting) = picked.into_table();
    if options.columns.is_empty() && !options.follow {
        leave_out_what_nobody_says(&mut table);
    }
    let lines = print(options, &table, (fitting, tried), &zone)?;
    read.own_up()?;
    if options.follow {
        let also = follow::Follower::new(&asked, &read.read, projection, listed, filter)?;
        return also.run(|table, row| put(options.form, &lines, table, row));
    }
    Ok(())
}

/// Prints one request that has come in.
fn put(form: RequestsForm, lines: &lines::Lines, table: &Table, row: &[Cell]) -> Result<(), Failure> {
    let line = match form {
        RequestsForm::Text => lines.line(row),
        RequestsForm::Csv => csv::row(table, row),
        RequestsForm::Json => rows::object(table, row),
    };
    match form {
        RequestsForm::Text => {
            let mut out = crate::out::stdout();
            out.write_all(line.as_bytes())?;
            Ok(out.flush()?)
        }
        form => Ok(crate::out::octets(&line, form == RequestsForm::Json)?),
    }
}

/// Requests of the records of the running service, where no log is named.
fn of_records(options: &Options, by: Column) -> Result<(), Failure> {
    let service = Service::of_sources(&options.sources, &options.reach);
    let mut query = options.scope.query()?;
    query.extend(options.columns.iter().map(|column| ("columns", column.clone())));
    query.push(("by", options.by.clone()));
    query.extend(options.mask_clients.then(|| ("mask", "true".to_owned())));
    let most = most(options);
    let mut all: Option<Requests> = None;
    // The records give so many at a time. The newest come last, and so does the page before.
    loop {
        let skip = all.as_ref().map_or(0, |all| all.table.rows.len());
        let mut query = query.clone();
        query.push(("top", most.saturating_sub(skip).min(PAGE).to_string()));
        query.push(("skip", skip.to_string()));
        let page: Requests = service.get(&format!("requests?{}", encoded(&query)))?;
        let is_last =
            page.table.rows.len() < PAGE || skip + page.table.rows.len() >= most.min(MOST_OF_RECORDS);
        all = Some(match all {
            None => page,
            Some(mut all) => {
                match by {
                    Column::Time => drop(all.table.rows.splice(0..0, page.table.rows)),
                    _ => all.table.rows.extend(page.table.rows),
                }
                all
            }
        });
        if is_last {
            break;
        }
    }
    let Some(mut all) = all else { return Ok(()) };
    if options.columns.is_empty() && !options.follow {
        leave_out_what_nobody_says(&mut all.table);
    }
    let zone = TimeZone::get(&all.time_zone).unwrap_or(TimeZone::UTC);
    let lines = print(options, &all.table, (all.fitting, all.tried), &zone)?;
    match options.follow {
        true => told::follow(&service, query, &all, |table, row| put(options.form, &lines, table, row)),
        false => Ok(()),
    }
}

/// How many are shown at most.
fn most(options: &Options) -> usize {
    options.top.unwrap_or(if options.form == RequestsForm::Text { FEW } else { MANY })
}

/// Prints requests, of so many that fit and so many that were looked at. Gives how their lines are laid out.
fn print(
    options: &Options,
    table: &Table,
    (fitting, tried): (u64, u64),
    zone: &TimeZone,
) -> Result<lines::Lines, Failure> {
    let shown = table.rows.len() as u64;
    let width = if options.wide { usize::MAX } else { room().unwrap_or(usize::MAX) };
    let lines = lines::Lines::new(table, width, options.follow, zone);
    match options.form {
        RequestsForm::Text => {
            let mut out = crate::out::stdout();
            if shown > 0 || options.follow {
                out.write_all(lines.heading().as_bytes())?;
            }
            for row in &table.rows {
                out.write_all(lines.line(row).as_bytes())?;
            }
            out.flush()?;
        }
        RequestsForm::Csv => crate::out::octets(&csv::table(table), false)?,
        RequestsForm::Json => {
            let all: String = table.rows.iter().map(|row| rows::object(table, row)).collect();
            crate::out::octets(&all, true)?;
        }
    }
    if options.form == RequestsForm::Text && lines.hidden() > 0 {
        let hidden = several(lines.hidden() as u64, "column", "columns");
        crate::out::note!("There is no room for the last {hidden}: --wide shows all.");
    }
    let order = if options.by == "time" {
        "the newest".to_owned()
    } else {
        format!("those with the greatest {}", options.by)
    };
    match (fitting, shown) {
        (0, _) => crate::out::note!("None of {} requests fits.", grouped(tried)),
        (fitting, shown)
            if shown < fitting && shown == MOST_OF_RECORDS as u64 && options.sources.sources.is_empty() =>
        {
            crate::out::note!(
                "{} of {} requests, {order}: the records give no more of one order; narrow the period, or name a log.",
                grouped(shown),
                grouped(fitting)
            );
        }
        (fitting, shown) if shown < fitting => crate::out::note!(
            "{} of {} requests, {order}: --top shows more.",
            grouped(shown),
            grouped(fitting)
        ),
        _ => {}
    }
    Ok(lines)
}
