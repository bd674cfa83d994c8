//! Rows in the form that was asked for, as they come: nothing waits for the end but what must.

use super::Options;
use crate::failure::Failure;
use crate::out::QUIET;
use crate::out::file::NewFile;
use crate::show::fit::room;
use crate::show::lines::Lines;
use crate::show::{chart, picture};
use clap::ValueEnum;
use exedra_common::figures::several;
use exedra_common::tables::chart::{Form, charts};
use exedra_common::tables::rows::object;
use exedra_common::tables::{Cell, Table, csv};
use exedra_query::export::{self, FileOf};
use exedra_query::{Answer, QueryError, library};
use jiff::tz::TimeZone;
use std::io::Write;
use std::path::PathBuf;

/// The form of an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum QueryForm {
    /// For people
    Table,
    /// Comma-separated values
    Csv,
    /// One JSON array of objects
    Json,
    /// One JSON object on each line
    Ndjson,
    /// Parquet, into a file
    Parquet,
    /// A picture, into a file that ends with .svg or .png
    Chart,
}

/// How many rows decide how wide columns are.
const WIDTHS_OF: usize = 2_000;
/// How many rows are shown at a terminal where nobody asked for all.
const AT_A_TERMINAL: usize = 100;

/// How many rows a chart is made of.
const OF_A_CHART: usize = 100_000;

/// Says what is wrong with where an answer is to go, before anything is read.
pub fn check(options: &Options) -> Result<(), Failure> {
    let to = options.to.as_deref();
    match (options.form, to) {
        (QueryForm::Chart, Some(to)) => picture::check_name(to),
        (QueryForm::Chart, None) => {
            Err(Failure("a chart goes into a file: name it, as in --as chart --to chart.svg".to_owned()))
        }
        (QueryForm::Parquet, None) => {
            Err(Failure("Parquet goes into a file: name it, as in --as parquet --to rows.parquet".to_owned()))
        }
        _ if options.chart.is_some() && options.form != QueryForm::Chart => {
            Err(Failure("--chart says which chart is drawn: it goes with --as chart".to_owned()))
        }
        _ => Ok(()),
    }
}

/// Where rows go, and how.
pub struct Output {
    form: QueryForm,
    /// Nothing where they go to standard output.
    file: Option<NewFile>,
    table: Table,
    zone: TimeZone,
    width: usize,
    most: usize,
    /// Where a picture goes, which of all charts it is, and what stands over it.
    picture: (PathBuf, Option<Form>, String),
}

impl Output {
    /// Begins with a table that has no rows yet.
    pub fn begin(options: &Options, table: Table, zone: &TimeZone) -> Result<Self, Failure> {
        // A picture is made in one piece.
        let file = options.to.as_deref().filter(|_| options.form != QueryForm::Chart);
        let file = file.map(NewFile::begin).transpose()?;
        let is_at_terminal = file.is_none() && crate::out::is_at_terminal();
        let width = match room().filter(|_| !options.wide && options.to.is_none()) {
            Some(room) => room,
            None => usize::MAX,
        };
        let is_cut = is_at_terminal && options.form == QueryForm::Table && !options.all;
        let most = if is_cut { AT_A_TERMINAL } else { usize::MAX };
        let title = options.statement.as_deref().unwrap_or_default();
        let title = title.split_whitespace().collect::<Vec<_>>().join(" ");
        let title = library::named(&title).map_or(title, |kept| kept.question.to_owned());
        let picture = (options.to.clone().unwrap_or_default(), options.chart, title);
        Ok(Output { form: options.form, file, table, zone: zone.clone(), width, most, picture })
    }

    /// Writes all rows of an answer. Says whether all were read.
    pub fn answer(
        mut self,
        mut answer: Answer<'_>,
        goes_on: &dyn Fn() -> bool,
    ) -> Result<bool, super::Unanswered> {
        if self.form == QueryForm::Parquet {
            let mut parquet = FileOf::begin(export::Form::Parquet, &answer.schema())?;
            while let Some(batch) = answer.batch(goes_on)? {
                parquet.write(&batch)?;
                self.put(&parquet.take())?;
            }
            self.put(&parquet.finish()?)?;
            self.finish()?;
            return Ok(true);
        }
        let mut next = |rows: &mut Vec<Vec<Cell>>| -> Result<bool, QueryError> {
            match answer.rows(goes_on)? {
                Some(more) => {
                    rows.extend(more);
                    Ok(true)
                }
                None => Ok(false),
            }
        };
        let is_whole = self.rows(&mut next)?;
        self.finish()?;
        Ok(is_whole)
    }

    /// Writes all rows of a table that is there.
    pub fn table(mut self, rows: Vec<Vec<Cell>>) -> Result<bool, super::Unanswered> {
        let mut rows = Some(rows);
        let is_whole = self.rows(&mut |all| {
            let more = rows.take();
            let is_more = more.is_some();
            all.extend(more.into_iter().flatten());
            Ok(is_more)
        })?;
        self.finish()?;
        Ok(is_whole)
    }

    fn finish(self) -> Result<(), Failure> {
        self.file.map_or(Ok(()), NewFile::finish)
    }

    fn put(&mut self, octets: &[u8]) -> Result<(), Failure> {
        match &mut self.file {
            Some(file) => Ok(file.write_all(octets)?),
            None => Ok(()),
        }
    }

    fn rows(&mut self, next: &mut Next<'_>) -> Result<bool, super::Unanswered> {
        Ok(match self.form {
            QueryForm::Table => self.lines(next)?,
            QueryForm::Chart => {
                self.draw(next)?;
                true
            }
            form => {
                self.for_programs(form, next)?;
                true
            }
        })
    }

    /// As a picture.
    fn draw(&mut self, next: &mut Next<'_>) -> Result<(), super::Unanswered> {
        let mut rows = Vec::new();
        while rows.len() <= OF_A_CHART && next(&mut rows)? {}
        if rows.len() > OF_A_CHART {
            let words = format!("a chart is made of at most {OF_A_CHART} rows: group them, or add a limit");
            return Err(Failure(words).into());
        }
        self.table.rows = rows;
        let all = charts(&self.table);
        let (to, form, title) = &self.picture;
        let chart = all.iter().find(|chart| form.is_none_or(|form| chart.form == form));
        let Some(chart) = chart else {
            let words = match all.is_empty() {
                true if self.table.rows.is_empty() => "No row: there is nothing to draw.".to_owned(),
                true => "no chart can be made of this: select a time or a category beside a figure, in at least two rows, as in \
                         select every(time, '1 hour') as hour, count(*) as n from requests group by hour"
                    .to_owned(),
                false => format!(
                    "no such chart can be made of this: there is {}",
                    all.iter().map(|chart| chart.form.name()).collect::<Vec<_>>().join(", ")
                ),
            };
            return Err(Failure(words).into());
        };
        let svg = chart::svg(&self.table, chart, title, &self.zone)
            .map_err(|error| Failure(format!("the chart could not be drawn: {error}")))?;
        picture::write(&svg, to)?;
        Ok(())
    }

    /// For people. The first rows decide how wide columns are.
    fn lines(&mut self, next: &mut Next<'_>) -> Result<bool, super::Unanswered> {
        let mut rows = Vec::new();
        let mut more = true;
        while more && rows.len() <= WIDTHS_OF.min(self.most) {
            more = next(&mut rows)?;
        }
        let is_cut = rows.len() > self.most;
        rows.truncate(self.most);
        self.table.rows = rows;
        let lines = Lines::new(&self.table, self.width, false, &self.zone);
        let mut out: Box<dyn Write> = match &mut self.file {
            Some(file) => Box::new(file),
            None => Box::new(crate::out::stdout()),
        };
        let mut count = self.table.rows.len() as u64;
        if !self.table.columns.is_empty() {
            write_out(&mut out, &lines.heading())?;
        }
        for row in &self.table.rows {
            write_out(&mut out, &lines.line(row))?;
        }
        while more && !is_cut {
            let mut rows = Vec::new();
            more = next(&mut rows)?;
            count += rows.len() as u64;
            for row in &rows {
                write_out(&mut out, &lines.line(row))?;
            }
        }
        out.flush().map_err(Failure::from)?;
        drop(out);
        if lines.hidden() > 0 {
            crate::out::note!(
                "{QUIET}There is no room for the last {}: --wide shows all.{QUIET:#}",
                several(lines.hidden() as u64, "column", "columns")
            );
        }
        match (is_cut, count) {
            (true, count) => crate::out::note!(
                "{QUIET}The first {}: --all shows all, --as csv --to FILE keeps them.{QUIET:#}",
                several(count, "row", "rows")
            ),
            (false, 0) => crate::out::note!("No row."),
            _ => {}
        }
        Ok(!is_cut)
    }

    fn for_programs(&mut self, form: QueryForm, next: &mut Next<'_>) -> Result<(), super::Unanswered> {
        let is_json = form != QueryForm::Csv;
        let mut is_first = true;
        let mut put = |text: &str| -> Result<(), Failure> {
            match &mut self.file {
                Some(file) => Ok(file.write_all(text.as_bytes())?),
                None => Ok(crate::out::octets(text, is_json)?),
            }
        };
        match form {
            QueryForm::Csv => put(&csv::table(&self.table))?,
            QueryForm::Json => put("[")?,
            _ => {}
        }
        let mut rows = Vec::new();
        while next(&mut rows)? {
            let mut text = String::new();
            for row in &rows {
                match form {
                    QueryForm::Csv => text.push_str(&csv::row(&self.table, row)),
                    QueryForm::Json => {
                        text.push_str(if is_first { "\n" } else { ",\n" });
                        text.push_str(object(&self.table, row).trim_end());
                        is_first = false;
                    }
                    _ => text.push_str(&object(&self.table, row)),
                }
            }
            put(&text)?;
            rows.clear();
        }
        if form == QueryForm::Json {
            put("\n]\n")?;
        }
        Ok(())
    }
}

/// Gives further rows; says whether there were any.
type Next<'n> = dyn FnMut(&mut Vec<Vec<Cell>>) -> Result<bool, QueryError> + 'n;

fn write_out(out: &mut dyn Write, text: &str) -> Result<(), Failure> {
    Ok(out.write_all(text.as_bytes())?)
}
