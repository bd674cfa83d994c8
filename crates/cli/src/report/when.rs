//! When requests came: a picture of days, and one of hours.

use crate::out::{CHART, QUIET, STRONG};
use crate::show::columns::columns;
use exedra_common::figures::grouped;
use exedra_common::tables::Table;
use jiff::civil::Date;

/// Height of the charts in letters.
const HEIGHT: usize = 6;
/// Width of the chart of hours, with the space before it.
const HOURS: usize = 24 + 4;

/// Days and hours side by side.
pub fn when(by_day: &Table, by_hour: &Table, width: usize) -> String {
    let mut out = String::new();
    let mut line = |line: &str| {
        out.push_str(line.trim_end());
        out.push('\n');
    };
    let room = width.saturating_sub(HOURS + 2);
    let (days, each) = calendar_days(by_day, room);
    line("");
    line(&format!("{STRONG}When{STRONG:#}  {QUIET}requests{QUIET:#}"));
    let stretch = (room / days.len().max(1)).clamp(1, 3);
    let left = columns(&days.iter().flat_map(|day| vec![day.1; stretch]).collect::<Vec<_>>(), HEIGHT);
    let hours: Vec<u64> = (0..by_hour.rows.len()).map(|row| by_hour.number(row, "requests")).collect();
    let right = columns(&hours, HEIGHT);
    let unit = if each == 1 { "by day".to_owned() } else { format!("by {each} days") };
    let peak = days.iter().map(|day| day.1).max().unwrap_or(0);
    let note = format!("{unit}, at most {}", grouped(peak));
    let drawn = days.len() * stretch;
    let wide = drawn.max(note.len());
    for (left, right) in left.iter().zip(&right) {
        let gap = " ".repeat(wide - drawn + 4);
        line(&format!("  {CHART}{left}{CHART:#}{gap}{CHART}{right}{CHART:#}"));
    }
    // Which year it was is said where there is more than one.
    let years = |day: Option<&(Date, u64)>| day.map(|(date, _)| date.year());
    let form = if years(days.first()) == years(days.last()) { "%-d %b" } else { "%-d %b %Y" };
    let date =
        |date: Option<&(Date, u64)>| date.map_or(String::new(), |(date, _)| date.strftime(form).to_string());
    let (first, last) = (date(days.first()), date(days.last()));
    let axis = match drawn > first.len() + last.len() + 1 {
        true => format!("{first}{last:>rest$}", rest = drawn - first.len()),
        false => first,
    };
    let busiest = hours.iter().copied().max().unwrap_or(0);
    line(&format!("  {QUIET}{axis:<wide$}    0     6     12    18   23{QUIET:#}"));
    line(&format!("  {QUIET}{note:<wide$}    by hour, at most {}{QUIET:#}", grouped(busiest)));
    out
}

/// Days from the first to the last, those without requests too; several together where room is short.
fn calendar_days(by_day: &Table, room: usize) -> (Vec<(Date, u64)>, usize) {
    let date = |row: usize| by_day.cell(row, "day")?.as_text()?.parse::<Date>().ok();
    let rows = by_day.rows.len();
    let (Some(first), Some(last)) = (date(0), rows.checked_sub(1).and_then(date)) else {
        return (Vec::new(), 1);
    };
    let length = (last - first).get_days() as usize + 1;
    let each = length.div_ceil(room.max(1));
    let mut days: Vec<(Date, u64)> = (0..length.div_ceil(each))
        .map(|column| (first.saturating_add(jiff::Span::new().days((column * each) as i64)), 0))
        .collect();
    for row in 0..rows {
        let place = date(row).map_or(0, |day| (day - first).get_days() as usize / each);
        days[place].1 += by_day.number(row, "requests");
    }
    (days, each)
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::tables::{Cell, TableColumn};

    fn days(days: &[(&str, u64)]) -> Table {
        let mut table = Table::new(
            "days",
            "",
            [TableColumn::text("day", "day"), TableColumn::sum("requests", "requests")],
        );
        days.iter().for_each(|(day, requests)| table.push([Cell::from(*day), (*requests).into()]));
        table
    }

    #[test]
    fn days_without_requests_stand_too() {
        let (found, each) = calendar_days(&days(&[("2026-02-27", 3), ("2026-03-02", 5)]), 10);
        assert_eq!(found.iter().map(|day| day.1).collect::<Vec<_>>(), [3, 0, 0, 5]);
        assert_eq!(each, 1);
        let (found, each) = calendar_days(&days(&[("2026-01-01", 3), ("2026-12-31", 5)]), 50);
        assert_eq!((found.len(), each), (46, 8));
    }
}
