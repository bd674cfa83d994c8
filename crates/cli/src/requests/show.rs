//! Single requests as lines: values under each other, figures to the right, long texts cut in their middle to what fits.

use crate::out::{QUIET, TROUBLE};
use crate::show::cells::shown;
use crate::show::fit::shorten;
use exedra_common::columns::Kind;
use exedra_common::tables::{Cell, Table, TableColumn};
use jiff::tz::TimeZone;
use unicode_width::UnicodeWidthStr;

/// A text that is longer than this may be cut; shorter ones are whole.
const LONG: usize = 24;
/// What stands between two values.
const GAP: usize = 2;
/// How wide texts of requests that are still to come may be expected to be.
const EXPECTED: usize = 30;

/// How lines are laid out.
pub struct Lines {
    columns: Vec<TableColumn>,
    widths: Vec<usize>,
    /// Whether nothing is cut, however long it is.
    whole: bool,
    zone: TimeZone,
}

impl Lines {
    /// Lines wide enough for a table, and no wider than there is room.
    /// `more` says whether others will come.
    pub fn new(table: &Table, room: usize, more: bool, zone: &TimeZone) -> Self {
        let width = |place: usize| {
            let column = &table.columns[place];
            let cells = table.rows.iter().map(|row| value(column, &row[place], zone).width());
            let expected = match (more, column.kind, column.filter.as_deref()) {
                (false, ..) => 0,
                (true, Kind::Time, _) => 19,
                (true, Kind::Text, Some("client")) => 15,
                (true, Kind::Text, Some("path" | "agent" | "referrer")) => EXPECTED,
                (true, ..) => 8,
            };
            cells.max().unwrap_or(0).max(column.title.width()).max(expected)
        };
        let mut widths: Vec<usize> = (0..table.columns.len()).map(width).collect();
        // The widest texts give way first, and none more than others.
        loop {
            let all = widths.iter().map(|width| width + GAP).sum::<usize>() - GAP.min(widths.len() * GAP);
            let widest = (0..widths.len())
                .filter(|place| table.columns[*place].kind == Kind::Text && widths[*place] > LONG)
                .max_by_key(|place| widths[*place]);
            match widest {
                Some(place) if all > room => widths[place] -= 1,
                _ => break,
            }
        }
        Lines { columns: table.columns.clone(), widths, whole: room == usize::MAX, zone: zone.clone() }
    }

    /// The titles of the columns.
    pub fn heading(&self) -> String {
        let titles = self.columns.iter().map(|column| column.title.clone());
        format!("{QUIET}{}{QUIET:#}\n", self.aligned(titles))
    }

    /// The line of a request; failures stand out.
    pub fn line(&self, row: &[Cell]) -> String {
        let values = self.columns.iter().zip(row).map(|(column, cell)| value(column, cell, &self.zone));
        let line = self.aligned(values);
        let failed = self.columns.iter().zip(row).any(|(column, cell)| {
            column.filter.as_deref() == Some("status") && cell.as_u64().is_some_and(|status| status >= 500)
        });
        if failed { format!("{TROUBLE}{line}{TROUBLE:#}\n") } else { format!("{line}\n") }
    }

    fn aligned(&self, values: impl Iterator<Item = String>) -> String {
        let mut line = String::new();
        for ((column, width), value) in self.columns.iter().zip(&self.widths).zip(values) {
            if !line.is_empty() {
                line.push_str(&" ".repeat(GAP));
            }
            let value = if self.whole { value } else { shorten(&value, *width) };
            let pad = " ".repeat(width.saturating_sub(value.width()));
            match column.kind {
                Kind::Size | Kind::Duration => line.extend([pad.as_str(), &value]),
                _ => line.extend([value.as_str(), &pad]),
            }
        }
        line.trim_end().to_owned()
    }
}

/// A value; times to the second, which tables of many do not need.
fn value(column: &TableColumn, cell: &Cell, zone: &TimeZone) -> String {
    match (column.kind, cell) {
        (Kind::Time, Cell::Number(time)) => {
            let stamp =
                i64::try_from(*time).ok().and_then(|time| jiff::Timestamp::from_millisecond(time).ok());
            stamp.unwrap_or_default().to_zoned(zone.clone()).strftime("%Y-%m-%d %H:%M:%S").to_string()
        }
        (Kind::Integer, Cell::Number(number)) => number.to_string(),
        (_, cell) => shown(column, cell, zone),
    }
}

/// A request as an object of JSON on a line of its own. Logs of such lines can be read again.
pub fn object(table: &Table, row: &[Cell]) -> String {
    let value = |(column, cell): (&TableColumn, &Cell)| {
        let value = match (column.kind, cell) {
            (Kind::Time, Cell::Number(time)) => {
                let stamp =
                    i64::try_from(*time).ok().and_then(|time| jiff::Timestamp::from_millisecond(time).ok());
                serde_json::Value::from(format!("{:.3}", stamp.unwrap_or_default()))
            }
            (_, cell) => serde_json::to_value(cell).unwrap_or_default(),
        };
        format!("{}:{value}", serde_json::Value::from(&*column.name))
    };
    let members: Vec<String> = table.columns.iter().zip(row).map(value).collect();
    format!("{{{}}}\n", members.join(","))
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::{Column, NumberColumn, TextColumn};

    fn table() -> Table {
        let columns = [
            Column::Time,
            Column::Text(TextColumn::Client),
            Column::Text(TextColumn::Path),
            Column::Number(NumberColumn::Status),
            Column::Number(NumberColumn::Bytes),
        ];
        let mut table = Table::of_requests("requests", "", columns);
        let row = |path: &str, status: u64| -> [Cell; 5] {
            [
                1_794_633_160_250_u64.into(),
                "192.0.2.1".into(),
                path.into(),
                status.into(),
                2_500_000_u64.into(),
            ]
        };
        table.push(row("/tides", 200));
        table.push(row("/notices/2026/a-path-that-is-longer-than-there-is-room-on-any-line.html", 503));
        table
    }

    #[test]
    fn lines_fit_and_what_is_cut_is_seen() {
        let table = table();
        let lines = Lines::new(&table, 80, false, &TimeZone::UTC);
        let drawn: Vec<String> =
            table.rows.iter().map(|row| crate::out::shown(&lines.line(row), false)).collect();
        assert!(drawn[0].starts_with("2026-11-14 05:12:40  192.0.2.1  /tides "), "{}", drawn[0]);
        assert!(drawn[1].contains('…') && drawn[1].trim_end().width() <= 80, "{}", drawn[1]);
        let wide = Lines::new(&table, usize::MAX, false, &TimeZone::UTC);
        assert!(wide.line(&table.rows[1]).contains("longer-than-there-is-room-on-any-line.html"));
    }

    #[test]
    fn objects_have_one_line_each() {
        let table = table();
        let line = object(&table, &table.rows[0]);
        let object: serde_json::Value = serde_json::from_str(&line).unwrap();
        assert_eq!((line.matches('\n').count(), &object["time"]), (1, &"2026-11-14T05:12:40.250Z".into()));
        assert_eq!((&object["status"], &object["bytes"]), (&200.into(), &2_500_000.into()));
    }
}
