//! The records of the running service, asked by its API.

use super::output::{Output, QueryForm};
use super::{Options, Unanswered};
use crate::failure::Failure;
use crate::out::file::NewFile;
use crate::service::{Service, encoded};
use exedra_api::queries::{QueryAnswer, QueryQuestion};
use exedra_common::figures::several;
use exedra_query::parameters::Parameters;
use jiff::tz::TimeZone;
use std::io::Write;

/// How many rows are asked for in one piece.
const MOST_ROWS: u64 = 100_000;

/// Asks the service, and prints.
pub fn answer(options: &Options, statement: &str, parameters: &Parameters) -> Result<(), Unanswered> {
    if options.resume.is_some() {
        let words =
            "--resume works on logs: the records say by `time` what is new, as in where time > :since";
        return Err(Failure(words.to_owned()).into());
    }
    let service = Service::of_sources(&options.sources, &options.reach);
    let query = encoded(&options.scope.query()?);
    let question = QueryQuestion {
        statement: statement.to_owned(),
        parameters: parameters.all(),
        most: Some(MOST_ROWS),
        mask: options.mask_clients,
        id: String::new(),
    };
    let file_form = match options.form {
        QueryForm::Csv => Some("csv"),
        QueryForm::Ndjson => Some("ndjson"),
        QueryForm::Parquet => Some("parquet"),
        QueryForm::Table | QueryForm::Json | QueryForm::Chart => None,
    };
    if let Some(form) = file_form {
        let call = format!("query/file/{form}?{query}");
        return match &options.to {
            Some(to) => {
                let mut file = NewFile::begin(to)?;
                service.send_for_octets(&call, &question, |octets| Ok(file.write_all(octets)?))?;
                Ok(file.finish()?)
            }
            None => Ok(service.send_for_octets(&call, &question, |octets| {
                Ok(crate::out::octets(&String::from_utf8_lossy(octets), form == "ndjson")?)
            })?),
        };
    }
    let answer: QueryAnswer = service.send(&format!("query?{query}"), &question)?;
    let zone = TimeZone::get(&answer.time_zone).unwrap_or(TimeZone::UTC);
    let mut table = answer.table;
    let rows = std::mem::take(&mut table.rows);
    let count = rows.len() as u64;
    Output::begin(options, table, &zone)?.table(rows)?;
    if answer.has_more {
        let rows = several(count, "row", "rows");
        crate::out::note!("Only the first {rows}: --as csv, ndjson or parquet gives all.");
    }
    Ok(())
}
