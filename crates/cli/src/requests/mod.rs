//! `exedra requests`: single requests, one line each.
//!
//! After the first page of a report people ask which requests those were. They are kept as they are read, as many as were asked
//! for: the newest, or those with most of something.
//!
//! - [`picked`]: the requests that are kept; [`show`]: their lines; [`follow`]: those that come in later

mod follow;
mod picked;
mod show;

use crate::failure::Failure;
use crate::scope::ScopeOptions;
use crate::show::fit::room;
use crate::sources::reading;
use crate::sources::{Asked, Progress, SourceOptions};
use clap::{Args, ValueEnum};
use exedra_common::columns::Kind;
use exedra_common::figures::grouped;
use exedra_common::scope::RowFilter;
use exedra_common::tables::{Cell, Table, TableColumn};
use exedra_common::text::nearest;
use exedra_common::{Column, Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use exedra_reading::classify::Classifier;
use exedra_reading::logs::mask::network;
use picked::{Picked, Picker};
use std::io::Write;
use std::sync::Arc;

/// What is shown where nobody said anything.
const USUAL: [&str; 7] = ["time", "client", "method", "path", "status", "bytes", "duration"];
/// How many requests are shown to people, and given to programs, where nobody said anything.
const FEW: usize = 200;
const MANY: usize = 100_000;

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
    let (columns, by) = (columns(&options.columns)?, order(&options.by)?);
    if options.follow && by != Column::Time {
        return Err(Failure("what comes in later comes last: --follow goes with --by time alone".to_owned()));
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
    let bases = columns.iter().chain([&by]).map(|column| column.base());
    let projection: Projection = bases.chain(scope.columns()).collect();
    let most = options.top.unwrap_or(if options.form == RequestsForm::Text { FEW } else { MANY });
    let form = Form { columns, classifier, masked: options.mask_clients };
    let filter = || RowFilter::new(scope.clone(), Arc::clone(&form.classifier) as _);
    let progress = Progress::of(&asked.files);
    let picker = || Picker::new(form.clone(), filter(), by, most);
    let mut read = reading::read(&asked, projection, &progress, picker)?;
    drop(progress);
    let mut picked = Picked::new(most);
    read.made.drain(..).for_each(|share| picked.merge(share));
    let (fitting, tried) = (picked.fitting, picked.tried);
    let mut table = form.table();
    table.rows = picked.into_rows(by == Column::Time);
    if options.columns.is_empty() && !options.follow {
        leave_out_what_nobody_says(&mut table);
    }
    let shown = table.rows.len() as u64;
    let width = if options.wide { usize::MAX } else { room().unwrap_or(usize::MAX) };
    let lines = show::Lines::new(&table, width, options.follow, &zone);
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
        RequestsForm::Csv => crate::out::octets(&crate::show::csv::table(&table)?, false)?,
        RequestsForm::Json => {
            let all: String = table.rows.iter().map(|row| show::object(&table, row)).collect();
            crate::out::octets(&all, true)?;
        }
    }
    let order = if by == Column::Time {
        "the newest".to_owned()
    } else {
        format!("those with the greatest {}", by.name())
    };
    match (fitting, shown) {
        (0, _) => crate::out::note!("None of {} requests fits.", grouped(tried)),
        (fitting, shown) if shown < fitting => crate::out::note!(
            "{} of {} requests, {order}: --top shows more.",
            grouped(shown),
            grouped(fitting)
        ),
        _ => {}
    }
    read.own_up()?;
    if options.follow {
        let also = follow::Follower::new(&asked, &read.read, projection, form.clone(), filter)?;
        return also.run(|table, row| {
            let line = match options.form {
                RequestsForm::Text => lines.line(row),
                RequestsForm::Csv => crate::show::csv::row(table, row)?,
                RequestsForm::Json => show::object(table, row),
            };
            match options.form {
                RequestsForm::Text => {
                    let mut out = crate::out::stdout();
                    out.write_all(line.as_bytes())?;
                    Ok(out.flush()?)
                }
                form => Ok(crate::out::octets(&line, form == RequestsForm::Json)?),
            }
        });
    }
    Ok(())
}

/// What is shown of requests, and how it is worked out.
#[derive(Debug, Clone)]
struct Form {
    columns: Vec<Column>,
    classifier: Arc<Classifier>,
    masked: bool,
}

impl Form {
    /// An empty table of requests.
    fn table(&self) -> Table {
        let column = |column: &Column| {
            // A program that is given a number must know what it counts.
            let name = match column.declaration().kind {
                Kind::Duration => column.declaration().stored,
                _ => column.name(),
            };
            TableColumn::of(*column).named(name, &column.name().replace('_', " "))
        };
        Table::new("requests", "", self.columns.iter().map(column))
    }

    /// The cells of a request.
    fn cells(&self, table: &mut Table, batch: &RequestBatch, row: usize, texts: &Dictionaries) -> Vec<Cell> {
        table.push_request(batch, row, texts, &*self.classifier);
        let mut cells = table.rows.pop().unwrap_or_default();
        if self.masked {
            for (column, cell) in self.columns.iter().zip(&mut cells) {
                match column {
                    Column::Text(TextColumn::Client) => {
                        *cell = cell.as_text().and_then(network).into();
                    }
                    Column::Text(TextColumn::User) => *cell = Cell::Nothing,
                    _ => {}
                }
            }
        }
        cells
    }
}

/// The columns that were asked for.
fn columns(asked: &[String]) -> Result<Vec<Column>, Failure> {
    let names = asked.iter().map(|name| name.trim()).filter(|name| !name.is_empty());
    let names: Vec<&str> = if asked.is_empty() { USUAL.to_vec() } else { names.collect() };
    names.into_iter().map(column).collect()
}

fn column(name: &str) -> Result<Column, Failure> {
    Column::named(name).ok_or_else(|| {
        let names = || Column::all().map(Column::name);
        let near = nearest(name, names()).map_or(".".to_owned(), |near| format!(": did you mean `{near}`?"));
        let names: Vec<&str> = names().collect();
        Failure(format!("there is no column `{name}`{near} There is {}", names.join(", ")))
    })
}

/// What they are sorted by.
fn order(name: &str) -> Result<Column, Failure> {
    match column(name)? {
        column @ (Column::Time | Column::Number(_)) => Ok(column),
        _ => {
            let figures = NumberColumn::ALL.iter().map(|column| Column::from(*column).name());
            let figures: Vec<&str> = ["time"].into_iter().chain(figures).collect();
            Err(Failure(format!(
                "requests cannot be sorted by `{name}`: sort them by {}",
                figures.join(", ")
            )))
        }
    }
}

/// Usual columns that are empty in all requests only take room.
fn leave_out_what_nobody_says(table: &mut Table) {
    let says = |place: usize| table.rows.iter().any(|row| row[place] != Cell::Nothing);
    let keep: Vec<bool> = (0..table.columns.len()).map(says).collect();
    if table.rows.is_empty() {
        return;
    }
    let mut places = keep.iter();
    table.columns.retain(|_| *places.next().unwrap_or(&true));
    for row in &mut table.rows {
        let mut places = keep.iter();
        row.retain(|_| *places.next().unwrap_or(&true));
    }
}
