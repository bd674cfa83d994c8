//! Rows as lines, as many as there are: values under each other, figures to the right, long texts cut in their middle to what fits.
//!
//! Single requests are shown so, and what statements select.

use super::cells::shown;
use super::fit::shorten;
use crate::out::{QUIET, TROUBLE};
use exedra_common::columns::Kind;
use exedra_common::tables::{Cell, Measured, Table, TableColumn};
use jiff::tz::TimeZone;
use unicode_width::UnicodeWidthStr;

/// A text that is longer than this may be cut; shorter ones are whole.
const LONG: usize = 24;
/// Where there is no room for that, they are cut to this.
const SHORT: usize = 10;
/// What stands between two values.
const GAP: usize = 2;
/// How wide texts of requests that are still to come may be expected to be.
const EXPECTED: usize = 30;

/// How lines are laid out.
pub struct Lines {
    columns: Vec<TableColumn>,
    widths: Vec<usize>,
    /// How many of the last columns there is no room for.
    hidden: usize,
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
        // The widest texts give way first, and none more than others; then what stands last has no room.
        let all =
            |widths: &[usize]| widths.iter().map(|width| width + GAP).sum::<usize>().saturating_sub(GAP);
        for least in [LONG, SHORT] {
            while all(&widths) > room {
                let widest = (0..widths.len())
                    .filter(|place| table.columns[*place].kind == Kind::Text && widths[*place] > least)
                    .max_by_key(|place| widths[*place]);
                match widest {
                    Some(place) => widths[place] -= 1,
                    None => break,
                }
            }
        }
        while widths.len() > 1 && all(&widths) > room {
            widths.pop();
        }
        let hidden = table.columns.len() - widths.len();
        Lines {
            columns: table.columns.clone(),
            widths,
            hidden,
            whole: room == usize::MAX,
            zone: zone.clone(),
        }
    }

    /// The titles of the columns.
    pub fn heading(&self) -> String {
        let titles = self.columns.iter().map(|column| column.title.clone());
        format!("{QUIET}{}{QUIET:#}\n", self.aligned(titles))
    }

    /// How many of the last columns there is no room for.
    pub fn hidden(&self) -> usize {
        self.hidden
    }

    /// The line of a row; requests that failed stand out.
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
                // What is no status and no other key is a figure.
                Kind::Integer if column.measure != Measured::Key => line.extend([pad.as_str(), &value]),
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
        (Kind::Integer, Cell::Decimal(number)) => decimal(*number),
        (_, cell) => shown(column, cell, zone),
    }
}

/// A number with a fraction, in as few digits as say it to a thousandth, or to three digits where it is less.
fn decimal(number: f64) -> String {
    let digits = match number.abs() {
        small if small > 0.0 && small < 0.1 => 2 - small.log10().floor() as i32,
        _ => 3,
    };
    let written = format!("{number:.*}", usize::try_from(digits.clamp(0, 12)).unwrap_or(3));
    match written.contains('.') {
        true => written.trim_end_matches('0').trim_end_matches('.').to_owned(),
        false => written,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::tables::rows::object;
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

    proptest::proptest! {
        /// A law: however many columns there are and however wide their values, no line is wider than there is room, each column that is
        /// shown stands under its title, and it is told how many are not.
        #[test]
        fn no_line_is_wider_than_there_is_room(
            rows in proptest::collection::vec(proptest::collection::vec(("[a-z/道]{0,70}", 0_u64..1 << 50), 1..9), 1..6),
            room in 40_usize..200,
        ) {
            let pairs = rows.iter().map(Vec::len).min().unwrap_or(0);
            let text = |nth: usize| TableColumn::text(&format!("t{nth}"), &format!("text {nth}"));
            let figure = |nth: usize| TableColumn::sum(&format!("f{nth}"), &format!("figure {nth}"));
            let mut table = Table::new("result", "", (0..pairs).flat_map(|nth| [text(nth), figure(nth)]));
            for row in &rows {
                table.push(row[..pairs].iter().flat_map(|(text, number)| [Cell::from(text.clone()), (*number).into()]));
            }
            let lines = Lines::new(&table, room, false, &TimeZone::UTC);
            let plain = |line: String| crate::out::shown(&line, false).trim_end().to_owned();
            let heading = plain(lines.heading());
            let shown = table.columns.len() - lines.hidden();
            proptest::prop_assert_eq!((0..pairs).filter(|nth| heading.contains(&format!("figure {nth}"))).count(), shown / 2);
            for row in &table.rows {
                let line = plain(lines.line(row));
                proptest::prop_assert!(line.width() <= room, "{} in {}: {}", line.width(), room, line);
                if lines.hidden() == 0 && heading.width() >= line.width() {
                    // Figures end where their titles do.
                    let last = row.last().and_then(Cell::as_u64).unwrap_or_default().to_string();
                    proptest::prop_assert!(line.ends_with(&last), "{} {}", line, last);
                }
            }
        }
    }

    #[rstest::rstest]
    #[case(0.5, "0.5")]
    #[case(-12.0, "-12")]
    #[case(1234.56789, "1234.568")]
    #[case(0.000_123_456, "0.000123")]
    #[case(0.0, "0")]
    fn fractions_have_the_digits_that_matter(#[case] number: f64, #[case] written: &str) {
        assert_eq!(decimal(number), written);
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
