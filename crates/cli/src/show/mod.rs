//! Tables as people and programs are shown them, whatever they are about.
//!
//! - [`text`]: at a terminal; for spreadsheets there is `tables::csv`
//! - [`lines`]: any number of rows, a line each; [`listing`]: what the service knows, a line each
//! - [`cells`]: single values
//! - [`columns`]: charts of letters
//! - [`chart`]: a table as a picture; [`picture`]: what all pictures have in common
//! - [`fit`]: texts cut to the width there is

pub mod cells;
pub mod chart;
pub mod columns;
pub mod fit;
pub mod lines;
pub mod listing;
pub mod picture;
pub mod text;

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::tables::{Cell, Table, TableColumn};
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    fn table() -> impl Strategy<Value = Table> {
        let rows = proptest::collection::vec(
            ("/[a-z=+@,\"\\\\]{1,12}", 0u64..1 << 40, proptest::option::of(0u64..1 << 40)),
            1..20,
        );
        (rows, 0usize..20, any::<bool>()).prop_map(|(rows, length, measured)| {
            let columns = [
                TableColumn::text("path", "path"),
                TableColumn::sum("requests", "requests"),
                TableColumn::size("bytes", "bytes sent"),
            ];
            let level = TableColumn::level("p90_ms", "90 % in", exedra_common::columns::Unit::Milliseconds);
            let columns = columns.into_iter().chain(measured.then_some(level));
            let mut table = Table::new("paths", "What was asked for", columns);
            for (path, requests, bytes) in rows {
                table.push([
                    Cell::from(path),
                    requests.into(),
                    bytes.into(),
                    Cell::Decimal(requests as f64 / 8.0),
                ]);
            }
            table.cut(length);
            table.total_of_rows();
            table
        })
    }

    proptest! {
        /// Every form has every row, and the same figures: whatever is asked of one can be asked of another.
        #[test]
        fn tables_say_the_same_in_all_forms(table in table()) {
            let json = serde_json::to_string(&table).unwrap();
            prop_assert_eq!(&serde_json::from_str::<Table>(&json).unwrap(), &table);

            let text = exedra_common::tables::csv::table(&table);
            let mut reader = ::csv::Reader::from_reader(text.as_bytes());
            let heading: Vec<String> = reader.headers().unwrap().iter().map(str::to_owned).collect();
            let names: Vec<String> = table.columns.iter().map(|column| column.name.clone()).collect();
            prop_assert_eq!(heading, names);
            let records: Vec<_> = reader.records().map(Result::unwrap).collect();
            prop_assert_eq!(records.len(), table.rows.len());

            let drawing = text::Drawing { width: 200, zone: &TimeZone::UTC, rows: usize::MAX, more: "--top" };
            let drawn = crate::out::shown(&drawing.table(&table), false);
            let mut lines = drawn.lines();
            for (row, record) in table.rows.iter().zip(&records) {
                let (path, requests) = (row[0].as_text().unwrap(), row[1].as_u64().unwrap());
                prop_assert_eq!(record[0].trim_start_matches('\''), path);
                prop_assert_eq!(record[1].parse::<u64>().unwrap(), requests);
                let figure = exedra_common::figures::grouped(requests);
                let shown = exedra_common::text::clean_value(path);
                let is_row = |line: &&str| line.contains(&figure) && line.ends_with(&*shown);
                prop_assert!(lines.any(|line| is_row(&line)), "{requests} {path} in order in {drawn}");
            }
            let rest = format!("in {} more", table.rest.rows);
            prop_assert_eq!(drawn.contains(&rest), table.rest.rows > 0 && !table.is_empty());
        }
    }
}
