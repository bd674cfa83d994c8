//! Requests that come in while somebody looks: logs are read on as they grow ([`crate::sources::growing`]).

use crate::failure::Failure;
use crate::sources::Asked;
use crate::sources::bookmark::ALL;
use crate::sources::growing::{EVERY, Growing};
use exedra_common::scope::RowFilter;
use exedra_common::tables::{Cell, Table};
use exedra_common::{Dictionaries, Projection};
use exedra_reading::requests::RequestColumns;
use std::path::PathBuf;

/// Whoever reads on.
pub struct Follower<'a> {
    asked: &'a Asked,
    projection: Projection,
    listed: RequestColumns,
    table: Table,
    filter: RowFilter,
    texts: Dictionaries,
    files: Vec<Growing>,
}

impl<'a> Follower<'a> {
    /// Goes on where files were read to.
    pub fn new(
        asked: &'a Asked,
        read: &[(Option<PathBuf>, u64)],
        projection: Projection,
        listed: RequestColumns,
        filter: impl Fn() -> RowFilter,
    ) -> Result<Self, Failure> {
        let open = read.iter().filter(|(_, read)| *read != ALL);
        let files: Vec<Growing> =
            open.filter_map(|(path, read)| Growing::open(path.clone()?, *read)).collect();
        if files.is_empty() {
            let reason =
                "none of these sources is a log that grows: standard input and compressed logs have an end";
            return Err(Failure(format!("there is nothing to follow: {reason}")));
        }
        let (table, filter, texts) = (listed.table(), filter(), Dictionaries::default());
        Ok(Follower { asked, projection, listed, table, filter, texts, files })
    }

    /// Reads on until whoever reads the output has gone.
    pub fn run(mut self, mut put: impl FnMut(&Table, &[Cell]) -> Result<(), Failure>) -> Result<(), Failure> {
        loop {
            let mut all: Vec<(i64, Vec<Cell>)> = Vec::new();
            let mut is_quiet = true;
            for place in 0..self.files.len() {
                is_quiet &= !self.read(place, &mut all);
            }
            // Logs that grow at the same time are told in order as far as they were read together.
            all.sort_by_key(|(time, _)| *time);
            all.iter().try_for_each(|(_, cells)| put(&self.table, cells))?;
            if is_quiet {
                std::thread::sleep(EVERY);
            }
        }
    }

    fn read(&mut self, place: usize, all: &mut Vec<(i64, Vec<Cell>)>) -> bool {
        let Follower { asked, projection, listed, table, filter, texts, files } = self;
        let growing = &mut files[place];
        let has_grown = growing.read_batches(asked, *projection, texts, |batch, texts| {
            for row in (0..batch.rows()).filter(|row| filter.keeps(&batch, *row, texts)).collect::<Vec<_>>() {
                all.push((batch.time[row], listed.cells(table, &batch, row, texts)));
            }
        });
        if let Some(remark) = growing.remark() {
            crate::out::note!("{remark}");
        }
        if texts.are_full() {
            *texts = Dictionaries::default();
            filter.forget();
        }
        has_grown
    }
}
