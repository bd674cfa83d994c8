//! A statement, carried out by the workers. Rows are printed as they come.

use crate::{Failure, functions, lake, print};
use arrow::array::RecordBatch;
use clap::{Args, ValueEnum};
use datafusion::error::DataFusionError;
use datafusion::prelude::SessionContext;
use exedra_common::columns::Kind;
use exedra_common::tables::{Cell, Measured, Table};
use exedra_common::text::clean;
use exedra_query::Statement;
use exedra_query::answer::{columns, rows};
use exedra_query::export::{FileOf, Form};
use exedra_query::wording::understood;
use futures_util::StreamExt;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::path::PathBuf;
use std::time::Duration;

/// How long the scheduler may take to be reached.
const PATIENCE: Duration = Duration::from_secs(5);

/// Where a statement is carried out, and over what.
#[derive(Args)]
pub struct Place {
    /// The folder of files that `exedra export` wrote, at the same place on all machines
    #[arg(long = "from", value_name = "DIR")]
    folder: PathBuf,
    /// Where the scheduler is
    #[arg(long, value_name = "HOST:PORT", default_value = "127.0.0.1:50050")]
    scheduler: String,
    /// The time zone whose days and hours are meant
    #[arg(long, value_name = "ZONE", default_value = "UTC")]
    zone: String,
}

/// What `exedra-cluster query` takes.
#[derive(Args)]
pub struct Options {
    /// A statement over the table `requests`
    statement: String,
    #[command(flatten)]
    place: Place,
    /// How rows are printed
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    form: Printed,
}

/// How rows are printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Printed {
    /// Values under each other
    Table,
    /// Comma-separated values
    Csv,
    /// One JSON object on each line
    Ndjson,
}

/// Asks, and prints the answer.
pub async fn run(options: Options) -> Result<(), Failure> {
    let session = options.place.session().await?;
    let form = match options.form {
        Printed::Table => {
            let table = options.place.table(&session, &options.statement).await?;
            return print(lines_of(&table, &options.place.zone()).as_bytes());
        }
        Printed::Csv => Form::Csv,
        Printed::Ndjson => Form::Ndjson,
    };
    let mut stream = answer(&session, &options.statement).await?;
    let mut file = FileOf::begin(form, &stream.schema()).map_err(|error| error.to_string())?;
    while let Some(batch) = stream.next().await {
        let batch = batch.map_err(|error| worded(&error, &options.statement))?;
        file.write(&batch).map_err(|error| error.to_string())?;
        print(&file.take())?;
    }
    print(&file.finish().map_err(|error| error.to_string())?)
}

impl Place {
    /// A session over the table, whose statements the workers carry out.
    pub async fn session(&self) -> Result<SessionContext, Failure> {
        let unreached = |why: String| {
            format!(
                "the scheduler at {} cannot be reached ({why}): `exedra-cluster scheduler` starts one",
                self.scheduler
            )
        };
        // The engine would try for long.
        match tokio::time::timeout(PATIENCE, tokio::net::TcpStream::connect(&self.scheduler)).await {
            Ok(Ok(_)) => {}
            Ok(Err(error)) => return Err(unreached(error.to_string())),
            Err(_) => return Err(unreached("no answer".to_owned())),
        }
        TimeZone::get(&self.zone)
            .map_err(|_| format!("`{}` is no time zone: write one as Europe/…, or UTC", self.zone))?;
        let state = functions::asking(&self.zone, &self.scheduler).map_err(|error| worded(&error, ""))?;
        let session = SessionContext::new_with_state(state);
        lake::register(&session, &self.folder, &self.zone)?;
        Ok(session)
    }

    /// The zone whose days are meant.
    pub fn zone(&self) -> TimeZone {
        TimeZone::get(&self.zone).unwrap_or(TimeZone::UTC)
    }

    /// All rows of an answer as a table.
    pub async fn table(&self, session: &SessionContext, statement: &str) -> Result<Table, Failure> {
        let mut stream = answer(session, statement).await?;
        let mut table = Table::new("result", "", columns(&stream.schema()));
        while let Some(batch) = stream.next().await {
            let batch: RecordBatch = batch.map_err(|error| worded(&error, statement))?;
            table.rows.extend(rows(&batch));
        }
        Ok(table)
    }
}

async fn answer(
    session: &SessionContext,
    statement: &str,
) -> Result<datafusion::execution::SendableRecordBatchStream, Failure> {
    let understood =
        Statement::understand(statement, &Default::default()).map_err(|wrong| wrong.to_string())?;
    let failed = |error: DataFusionError| worded(&error, statement);
    let plan = session.state().statement_to_plan(understood.parsed()).await.map_err(failed)?;
    session.execute_logical_plan(plan).await.map_err(failed)?.execute_stream().await.map_err(failed)
}

fn worded(error: &DataFusionError, statement: &str) -> Failure {
    understood(error, statement).to_string()
}

/// A table as lines, values under each other, figures to the right.
pub fn lines_of(table: &Table, zone: &TimeZone) -> String {
    let shown = |cell: &Cell, place: usize| match cell {
        Cell::Nothing => String::new(),
        Cell::Text(text) => clean(text).into_owned(),
        Cell::Decimal(number) => format!("{number:.3}"),
        Cell::Number(time) if table.columns[place].kind == Kind::Time => {
            let stamp = Timestamp::from_millisecond(*time as i64).unwrap_or_default();
            stamp.to_zoned(zone.clone()).strftime("%Y-%m-%d %H:%M:%S").to_string()
        }
        Cell::Number(number) => number.to_string(),
    };
    let head: Vec<String> = table.columns.iter().map(|column| column.title.clone()).collect();
    let mut lines = vec![head];
    lines.extend(
        table.rows.iter().map(|row| row.iter().enumerate().map(|(place, cell)| shown(cell, place)).collect()),
    );
    let width = |place: usize| lines.iter().map(|line| line[place].chars().count()).max().unwrap_or(0);
    let widths: Vec<usize> = (0..table.columns.len()).map(width).collect();
    let line = |line: &Vec<String>| {
        let value = |(place, text): (usize, &String)| {
            let room = " ".repeat(widths[place] - text.chars().count());
            let is_figure = table.columns[place].measure != Measured::Key;
            if is_figure { format!("{room}{text}") } else { format!("{text}{room}") }
        };
        let values: Vec<String> = line.iter().enumerate().map(value).collect();
        format!("{}\n", values.join("  ").trim_end())
    };
    lines.iter().map(line).collect()
}
