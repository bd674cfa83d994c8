//! Single requests as a table: its columns are those of the one list.

use super::{Cell, Table, TableColumn};
use crate::batch::RequestBatch;
use crate::columns::{Column, Derive};
use crate::dictionary::Dictionaries;

impl Table {
    /// An empty table of requests, with some columns of logs.
    pub fn of_requests(name: &str, title: &str, columns: impl IntoIterator<Item = Column>) -> Self {
        Table::new(name, title, columns.into_iter().map(TableColumn::of))
    }

    /// Appends one request of a batch. Columns that are none of logs stay empty.
    pub fn push_request(
        &mut self,
        batch: &RequestBatch,
        row: usize,
        texts: &Dictionaries,
        derive: &dyn Derive,
    ) {
        let cell = |column: &TableColumn| {
            let text = |column| batch.code(column, row).map(|code| texts.of(column).text(code));
            match column.filter.as_deref().and_then(Column::named) {
                Some(Column::Time) => u64::try_from(batch.time[row]).ok().into(),
                Some(Column::Text(column)) => text(column).into(),
                Some(Column::Number(column)) => batch.number(column, row).into(),
                Some(Column::Derived(column)) => {
                    let derived = text(column.base()).and_then(|text| derive.derive(column, text));
                    derived.map(std::borrow::Cow::into_owned).into()
                }
                None => Cell::Nothing,
            }
        };
        let cells: Vec<Cell> = self.columns.iter().map(cell).collect();
        self.rows.push(cells);
    }
}
