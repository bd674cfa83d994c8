//! Logs that tests make, as what an engine asks.

use exedra_common::scope::RowFilter;
use exedra_common::tables::Table;
use exedra_common::{Dictionaries, Origin, Projection, RequestBatch};
use exedra_query::parameters::Parameters;
use exedra_query::{
    Engine, QueryError, Reading, RequestReader, RequestSource, SourceError, Statement, TextsAre,
};
use exedra_reading::logs::{Layout, LineFilter, LineReader};
use exedra_reading::survey::VisitorKey;
use jiff::tz::TimeZone;

/// Logs of sites, as a source.
#[derive(Debug)]
pub struct Logs(pub Vec<(Origin, String)>);

struct LogsReader {
    logs: Vec<(Origin, String)>,
    projection: Projection,
    filter: RowFilter,
}

impl RequestSource for Logs {
    fn begin(&self, reading: Reading) -> Result<Vec<Box<dyn RequestReader>>, SourceError> {
        let of = |logs: &[(Origin, String)]| -> Box<dyn RequestReader> {
            Box::new(LogsReader {
                logs: logs.to_vec(),
                projection: reading.projection.with(reading.filter.projection()),
                filter: reading.filter.clone(),
            })
        };
        match reading.threads {
            1 => Ok(vec![of(&self.0)]),
            _ => Ok(self.0.chunks(1).map(of).collect()),
        }
    }
}

impl RequestReader for LogsReader {
    fn read(
        &mut self,
        batch: &mut RequestBatch,
        texts: &mut Dictionaries,
    ) -> Result<Option<TextsAre>, SourceError> {
        let Some((origin, log)) = self.logs.pop() else { return Ok(None) };
        let layouts = [Layout::understand("full").unwrap()];
        let mut reader = LineReader::new(&layouts, self.projection).of(&origin);
        let mut filter = LineFilter::new(&self.filter);
        let took = reader.read_matching(log.as_bytes(), 0, &mut 0, &mut filter, batch, texts);
        assert_eq!((took, reader.unread.lines()), (log.len(), 0), "{:?}", reader.unread);
        Ok(Some(TextsAre::Known))
    }
}

pub const KEY: VisitorKey = VisitorKey([7, 9]);

pub fn zone() -> TimeZone {
    TimeZone::get("Atlantic/Faroe").unwrap()
}

pub fn asked(engine: &Engine, statement: &str) -> Result<Table, QueryError> {
    let statement = Statement::understand(statement, &Parameters::default())?;
    Ok(engine.ask(&statement, &|| true)?.into_table(usize::MAX, &|| true)?.0)
}
