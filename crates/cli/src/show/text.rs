//! A table at a terminal.
//!
//! Where one figure leads and adds up, each row has its share and a bar; where there are more figures, they stand in columns
//! under their titles; a single row without a name is a few lines. What a row is about comes last, so that figures align and
//! long names are cut where they end.

use super::cells::{change, is_key, key, shown};
use super::columns::bar;
use super::fit::shorten;
use crate::out::{CHART, QUIET, STRONG, TROUBLE};
use exedra_common::columns::Kind;
use exedra_common::figures::{grouped, several, share};
use exedra_common::tables::{Cell, Measured, Table, TableColumn};
use jiff::tz::TimeZone;
use unicode_width::UnicodeWidthStr;

/// How a table is drawn.
pub struct Drawing<'d> {
    /// The width there is.
    pub width: usize,
    /// Whose days and hours.
    pub zone: &'d TimeZone,
    /// How many rows at most.
    pub rows: usize,
    /// How to see more.
    pub more: &'d str,
}

/// Length of the bar of a row.
const BAR: usize = 12;

impl Drawing<'_> {
    /// The table with its title, each line ended; nothing where it has no rows.
    pub fn table(&self, table: &Table) -> String {
        if table.is_empty() {
            return String::new();
        }
        let figures: Vec<usize> = places(table, |column| !is_key(column) && !column.minor);
        let mut out = String::from("\n");
        if !table.columns.iter().any(is_key) {
            self.title(table, "", &mut out);
            self.facts(table, &figures, &mut out);
            return out;
        }
        let main = table.main();
        let leads = main.filter(|main| table.columns[*main].measure == Measured::Sum && figures.len() <= 2);
        let length = table.rows.len().min(self.rows);
        match leads {
            Some(main) => {
                let beside = figures.iter().copied().find(|place| *place != main);
                let compares = if table.before.is_empty() { "" } else { ", change" };
                let titles = match beside {
                    Some(beside) => format!(
                        "{}, share{compares}, {}",
                        table.columns[main].title, table.columns[beside].title
                    ),
                    None => format!("{}, share{compares}", table.columns[main].title),
                };
                self.title(table, &titles, &mut out);
                for row in 0..length {
                    self.ranked(table, row, main, beside, &mut out);
                    self.details(table, row, &mut out);
                }
            }
            None => {
                self.title(table, "", &mut out);
                self.columns(table, &figures, main, length, &mut out);
            }
        }
        self.rest(table, length, &mut out);
        out
    }

    fn title(&self, table: &Table, titles: &str, out: &mut String) {
        let title = &table.title;
        let beside = match (&*table.about, table.order.as_deref()) {
            ("", _) => titles.to_owned(),
            (about, Some(by)) if !matches!(by, "requests" | "visits" | "slow") => {
                let by = table.place(by).map_or(by, |place| &*table.columns[place].title);
                format!("{about}, by {by}")
            }
            (about, _) => about.to_owned(),
        };
        let line = match &*beside {
            "" => format!("{STRONG}{title}{STRONG:#}"),
            beside if title.width() + beside.width() + 2 <= self.width => {
                format!("{STRONG}{title}{STRONG:#}  {QUIET}{beside}{QUIET:#}")
            }
            beside => {
                let wrapped = wrapped(beside, self.width);
                format!("{STRONG}{title}{STRONG:#}\n{QUIET}{}{QUIET:#}", wrapped.join("\n"))
            }
        };
        push(out, &line);
    }

    /// A single row without a name: each figure on a line of its own.
    fn facts(&self, table: &Table, figures: &[usize], out: &mut String) {
        let Some(row) = table.rows.first() else { return };
        for place in figures {
            let column = &table.columns[*place];
            let changed =
                table.change(0, *place).map_or(String::new(), |changed| format!("  {}", change(&changed)));
            let figure = shown(column, &row[*place], self.zone);
            push(
                out,
                &format!("  {STRONG}{figure:>10}{STRONG:#}  {}{QUIET}{changed}{QUIET:#}", column.title),
            );
        }
    }

    fn ranked(&self, table: &Table, row: usize, main: usize, beside: Option<usize>, out: &mut String) {
        let cells = &table.rows[row];
        let value = |row: &[Cell]| row[main].as_f64().unwrap_or(0.0);
        let most = table.rows.iter().map(|row| value(row)).fold(0.0, f64::max);
        let (value, all) = (value(cells) as u64, table.all(main) as u64);
        let bar = bar(value, most as u64, BAR);
        let pad = " ".repeat(BAR - bar.width().min(BAR));
        let changed = match table.before.is_empty() {
            true => String::new(),
            false => {
                let changed = table.change(row, main).map_or(String::new(), |changed| change(&changed));
                format!("{QUIET}{changed:>8}{QUIET:#}  ")
            }
        };
        let beside =
            beside.map_or(String::new(), |place| shown(&table.columns[place], &cells[place], self.zone));
        let room = self.width.saturating_sub(if table.before.is_empty() { 47 } else { 57 });
        let name = name(table, cells, self.zone, room);
        let figure = shown(&table.columns[main], &cells[main], self.zone);
        let share = share(value, all);
        push(
            out,
            &format!(
                "  {figure:>10}  {QUIET}{share:>7}{QUIET:#}  {changed}{CHART}{bar}{CHART:#}{pad}  {beside:>8}  {name}"
            ),
        );
    }

    fn details(&self, table: &Table, row: usize, out: &mut String) {
        for detail in table.details.get(row).into_iter().flatten() {
            let count = grouped(detail.count);
            let room = self.width.saturating_sub(24 + detail.label.width());
            let text = format!("{} {}", detail.label, shorten(&detail.text, room));
            push(out, &format!("  {:>10}  {QUIET}{count:>8} {}{QUIET:#}", "", text.trim()));
        }
    }

    fn columns(
        &self,
        table: &Table,
        figures: &[usize],
        main: Option<usize>,
        length: usize,
        out: &mut String,
    ) {
        let compares = !table.before.is_empty();
        let everything = table.total.iter().any(|cell| *cell != Cell::Nothing);
        let rows = &table.rows[..length];
        let widths: Vec<usize> = figures
            .iter()
            .map(|place| {
                let column = &table.columns[*place];
                let cells = rows.iter().chain([&table.total]).filter_map(|row| row.get(*place));
                let widest = cells.map(|cell| shown(column, cell, self.zone).width()).max().unwrap_or(0);
                widest.max(column.title.width()).max(if *place == figures[0] { 10 } else { 8 })
            })
            .collect();
        let line = |cells: &dyn Fn(usize) -> String, changed: &str, name: &str| {
            let mut line = String::new();
            for (place, width) in figures.iter().zip(&widths) {
                line.push_str(&format!("  {:>width$}", cells(*place)));
                if compares && Some(*place) == main {
                    line.push_str(&format!("  {QUIET}{changed:>8}{QUIET:#}"));
                }
            }
            format!("{line}  {name}")
        };
        let used = widths.iter().map(|width| width + 2).sum::<usize>() + 2 + if compares { 10 } else { 0 };
        let room = self.width.saturating_sub(used);
        let titles = |place: usize| format!("{QUIET}{}{QUIET:#}", table.columns[place].title);
        // Styles have no width: titles are padded before they are styled.
        let mut heading = String::new();
        for (place, width) in figures.iter().zip(&widths) {
            let pad = " ".repeat(width.saturating_sub(table.columns[*place].title.width()));
            heading.push_str(&format!("  {pad}{}", titles(*place)));
            if compares && Some(*place) == main {
                heading.push_str(&format!("  {QUIET}{:>8}{QUIET:#}", "change"));
            }
        }
        push(out, &heading);
        if everything {
            let cell = |place: usize| shown(&table.columns[place], &table.total[place], self.zone);
            let changed = main
                .and_then(|main| table.total_change(main))
                .map_or(String::new(), |changed| change(&changed));
            push(out, &line(&cell, &changed, "everything"));
        }
        for (nth, row) in rows.iter().enumerate() {
            let cell = |place: usize| shown(&table.columns[place], &row[place], self.zone);
            let changed = main
                .and_then(|main| table.change(nth, main))
                .map_or(String::new(), |changed| change(&changed));
            push(out, &line(&cell, &changed, &name(table, row, self.zone, room)));
            self.details(table, nth, out);
        }
    }

    /// What is not shown, in rows that were cut off here and before.
    fn rest(&self, table: &Table, length: usize, out: &mut String) {
        let left = &table.rows[length..];
        let rows = table.rest.rows + left.len() as u64;
        if rows == 0 {
            return;
        }
        // What the rest weighs is not always known: requests are.
        let known = |place: &usize| {
            table.columns[*place].measure == Measured::Sum
                && (table.rest.cells.is_empty() || table.rest.cells[*place] != Cell::Nothing)
        };
        let main = table.main().into_iter().chain(0..table.columns.len()).find(known);
        let more = self.more;
        let line = match main {
            Some(place) => {
                let column: &TableColumn = &table.columns[place];
                let mut sum = table.rest.cells.get(place).cloned().unwrap_or_default();
                left.iter().for_each(|row| sum.add(&row[place]));
                let unit =
                    if Some(place) == table.main() { String::new() } else { format!("{} ", column.title) };
                format!(
                    "{:>10}  {unit}in {} more: {more} shows further",
                    shown(column, &sum, self.zone),
                    grouped(rows)
                )
            }
            None => format!("{:>10}  {}: {more} shows further", "", several(rows, "row more", "rows more")),
        };
        push(out, &format!("  {QUIET}{line}{QUIET:#}"));
    }
}

/// The places of some columns.
fn places(table: &Table, wanted: impl Fn(&TableColumn) -> bool) -> Vec<usize> {
    (0..table.columns.len()).filter(|place| wanted(&table.columns[*place])).collect()
}

/// What a row is about, cut to the room there is; failures stand out.
fn name(table: &Table, row: &[Cell], zone: &TimeZone, room: usize) -> String {
    let name = shorten(&key(table, row, zone), room);
    let status = table.columns.iter().zip(row).find(|(column, _)| column.filter.as_deref() == Some("status"));
    let failed =
        status.is_some_and(|(column, cell)| column.kind == Kind::Integer && cell.as_u64() >= Some(500));
    if failed { format!("{TROUBLE}{name}{TROUBLE:#}") } else { name }
}

/// A sentence in lines no wider than there is room.
pub fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    for word in text.split(' ') {
        let last = lines.last_mut().map_or(0, |line| line.width());
        match lines.last_mut() {
            Some(line) if last > 0 && last + 1 + word.width() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            Some(line) if last == 0 => line.push_str(&shorten(word, width)),
            _ => lines.push(shorten(word, width)),
        }
    }
    lines
}

fn push(out: &mut String, line: &str) {
    out.push_str(line.trim_end());
    out.push('\n');
}
