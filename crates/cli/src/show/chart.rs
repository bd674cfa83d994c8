//! A table as a picture: lines, bars, a heat map, small multiples, as [`exedra_common::tables::chart`] says.
//!
//! Bars and squares are ours to place; lines with their axes are the library's.

use super::fit::shorten;
use super::picture::{Drawn, FAINT, INK, LINES, MUTED, PAPER, SIZE, text};
use exedra_common::columns::{Kind, Unit};
use exedra_common::figures::{bytes, grouped, long_time};
use exedra_common::tables::chart::{Chart, Form};
use exedra_common::tables::{Cell, Table, TableColumn};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use std::collections::BTreeMap;

/// The picture of a table, as SVG.
///
/// # Errors
/// When the library cannot draw it, in its words.
pub fn svg(table: &Table, chart: &Chart, title: &str, zone: &TimeZone) -> Result<String, String> {
    let mut svg = String::new();
    let painting = Painting { table, chart, zone };
    painting.paint(title, &mut svg).map_err(|error| error.to_string())?;
    Ok(svg)
}

struct Painting<'p> {
    table: &'p Table,
    chart: &'p Chart,
    zone: &'p TimeZone,
}

type Area<'a> = DrawingArea<SVGBackend<'a>, Shift>;
/// A line: its name, and where it goes through.
type Line = (String, Vec<(f64, f64)>);

impl Painting<'_> {
    fn paint(&self, title: &str, svg: &mut String) -> Drawn {
        let root = SVGBackend::with_string(svg, SIZE).into_drawing_area();
        root.fill(&PAPER)?;
        root.draw_text(&shorten(title, 100), &text(20, &INK), (28, 20))?;
        let (_, area) = root.split_vertically(56);
        match self.chart.form {
            Form::Lines => self.lines(&area.margin(4, 20, 20, 28), &self.all_lines(), true, None)?,
            Form::SmallMultiples => self.panels(&area.margin(4, 16, 16, 16))?,
            Form::Bars => self.bars(&area)?,
            Form::HeatMap => self.squares(&area)?,
        }
        root.present()?;
        Ok(())
    }

    fn column(&self, name: &str) -> Option<(usize, &TableColumn)> {
        let place = self.table.place(name)?;
        Some((place, &self.table.columns[place]))
    }

    fn along(&self) -> Option<(usize, &TableColumn)> {
        self.column(&self.chart.along)
    }

    /// Where a row stands along the main axis.
    fn position(&self, nth: usize, row: &[Cell]) -> f64 {
        let Some((place, column)) = self.along() else { return nth as f64 };
        match (column.kind, &row[place]) {
            (Kind::Date, Cell::Text(day)) => match day.parse::<Date>() {
                Ok(day) => {
                    day.to_zoned(TimeZone::UTC).map_or(0.0, |day| day.timestamp().as_millisecond() as f64)
                }
                Err(_) => nth as f64,
            },
            (_, cell) => cell.as_f64().unwrap_or(nth as f64),
        }
    }

    /// All lines of the chart: one for each figure, or one for each value of what parts it.
    fn all_lines(&self) -> Vec<Line> {
        let rows = || self.table.rows.iter().enumerate();
        let of = |name: &str| self.column(name).map_or(0, |(place, _)| place);
        let mut lines: Vec<Line> = match &self.chart.by {
            Some(by) => {
                let (by, figure) = (of(by), of(self.chart.figures.first().map_or("", String::as_str)));
                let mut parted: BTreeMap<String, Vec<(f64, f64)>> = BTreeMap::new();
                for (nth, row) in rows() {
                    let Some(value) = row[figure].as_f64() else { continue };
                    let name = self.value(by, &row[by]);
                    parted.entry(name).or_default().push((self.position(nth, row), value));
                }
                // The largest first, so that what is left out is the least.
                let mut parted: Vec<Line> = parted.into_iter().collect();
                let sum = |line: &Line| line.1.iter().map(|point| point.1).sum::<f64>();
                parted.sort_by(|one, other| sum(other).total_cmp(&sum(one)));
                parted
            }
            None => {
                let figure = |name: &String| {
                    let place = of(name);
                    let points =
                        rows().filter_map(|(nth, row)| Some((self.position(nth, row), row[place].as_f64()?)));
                    (name.clone(), points.collect())
                };
                self.chart.figures.iter().map(figure).collect()
            }
        };
        for (_, points) in &mut lines {
            points.sort_by(|one, other| one.0.total_cmp(&other.0));
        }
        lines
    }

    /// Lines with their axes. Small ones have few marks and no names; `most` is what is highest where several pictures have one scale.
    fn lines(&self, area: &Area<'_>, lines: &[Line], is_large: bool, most: Option<f64>) -> Drawn {
        let lines = &lines[..lines.len().min(self.chart.form.most())];
        let points = || lines.iter().flat_map(|(_, points)| points);
        let least = points().map(|point| point.0).fold(f64::MAX, f64::min);
        let last = points().map(|point| point.0).fold(f64::MIN, f64::max);
        let most = most.unwrap_or_else(|| points().map(|point| point.1).fold(0.0, f64::max));
        let lowest = points().map(|point| point.1).fold(0.0, f64::min);
        if least > last {
            return Ok(());
        }
        let (right, sizes) = if is_large { (150, (36, 76)) } else { (6, (22, 54)) };
        let right = if lines.len() > 1 { right } else { 16 };
        let inner = area.margin(4, 4, 4, right);
        let last = if last > least { last } else { least + 1.0 };
        let mut chart = ChartBuilder::on(&inner)
            .x_label_area_size(sizes.0)
            .y_label_area_size(sizes.1)
            .build_cartesian_2d(least..last, lowest..(most * 1.05).max(lowest + 1e-9))?;
        let figure = self.figure().map(|(_, column)| column);
        let (x_labels, y_labels) = if is_large { (8, 6) } else { (3, 3) };
        let letters = if is_large { 13 } else { 11 };
        chart
            .configure_mesh()
            .disable_x_mesh()
            .light_line_style(TRANSPARENT)
            .bold_line_style(FAINT)
            .axis_style(MUTED)
            .label_style(text(letters, &MUTED))
            .x_labels(x_labels)
            .y_labels(y_labels)
            .x_label_formatter(&|at| self.instant(*at, last - least))
            .y_label_formatter(&|value| figure.map_or(String::new(), |column| amount(column, *value)))
            .draw()?;
        let mut ends = Vec::new();
        for ((name, points), colour) in lines.iter().zip(LINES) {
            chart.draw_series(LineSeries::new(points.iter().copied(), colour.stroke_width(2)))?;
            if let [point] = points[..] {
                chart.draw_series([Circle::new(point, 3, colour.filled())])?;
            }
            if let Some(end) = points.last() {
                ends.push((chart.backend_coord(end), name, colour));
            }
        }
        if is_large && lines.len() > 1 {
            // Names at the ends of their lines, kept from lying on each other.
            ends.sort_by_key(|((_, y), ..)| *y);
            let mut taken = i32::MIN;
            for ((x, y), name, colour) in ends {
                let lower = taken.saturating_add(17).max(y);
                taken = lower;
                let style = text(14, &colour).pos(Pos::new(HPos::Left, VPos::Center));
                // Places of the chart are those of the whole picture.
                area.root_draw(&shorten(name, 18), &style, (x + 8, lower))?;
            }
        }
        Ok(())
    }

    /// Pictures beside each other, each with its name: of each value with one scale, or of each figure with its own.
    fn panels(&self, area: &Area<'_>) -> Drawn {
        let lines = self.all_lines();
        let shown = &lines[..lines.len().min(self.chart.form.most())];
        let columns = match shown.len() {
            0..=3 => shown.len().max(1),
            4 => 2,
            5..=9 => 3,
            _ => 4,
        };
        let rows = shown.len().div_ceil(columns).max(1);
        let most = shown.iter().flat_map(|(_, points)| points).map(|point| point.1).fold(0.0, f64::max);
        let one_scale = self.chart.by.is_some().then_some(most);
        for (line, panel) in shown.iter().zip(area.split_evenly((rows, columns))) {
            panel.draw_text(&shorten(&line.0, 34), &text(14, &INK), (14, 6))?;
            let (_, below) = panel.split_vertically(24);
            let of_figure = Painting { chart: &self.of_figure(&line.0), ..*self };
            of_figure.lines(&below, std::slice::from_ref(line), false, one_scale)?;
        }
        Ok(())
    }

    /// The same chart of one figure alone, where the figures are what parts it.
    fn of_figure(&self, name: &str) -> Chart {
        match self.chart.by {
            Some(_) => self.chart.clone(),
            None => Chart { figures: vec![name.to_owned()], ..self.chart.clone() },
        }
    }

    fn figure(&self) -> Option<(usize, &TableColumn)> {
        self.column(self.chart.figures.first()?)
    }

    /// A bar for each category, the rows in their order.
    fn bars(&self, area: &Area<'_>) -> Drawn {
        let (Some((along, _)), Some((figure, column))) = (self.along(), self.figure()) else { return Ok(()) };
        let rows = &self.table.rows[..self.table.rows.len().min(self.chart.form.most())];
        let most = rows.iter().filter_map(|row| row[figure].as_f64()).fold(0.0, f64::max).max(1e-9);
        let (width, height) = area.dim_in_pixel();
        let step = (f64::from(height - 24) / rows.len().max(1) as f64).min(34.0);
        let letters = (step * 0.6).clamp(9.0, 15.0) as u32;
        let (left, right) = (300i32, width as i32 - 110);
        for (nth, row) in rows.iter().enumerate() {
            let top = (nth as f64 * step) as i32;
            let middle = top + (step / 2.0) as i32;
            let name = match &self.chart.by {
                Some(by) => {
                    let by = self.column(by).map_or(along, |(place, _)| place);
                    format!("{}  {}", self.value(along, &row[along]), self.value(by, &row[by]))
                }
                None => self.value(along, &row[along]),
            };
            let named = text(letters, &INK).pos(Pos::new(HPos::Right, VPos::Center));
            area.draw_text(&shorten(&name, 44), &named, (left - 10, middle))?;
            let value = row[figure].as_f64().unwrap_or(0.0);
            let length = (f64::from(right - left) * value.max(0.0) / most) as i32;
            let thick = (step * 0.62).max(2.0) as i32;
            let bar = [(left, middle - thick / 2), (left + length.max(1), middle + (thick + 1) / 2)];
            area.draw(&Rectangle::new(bar, LINES[0].filled()))?;
            let said = text(letters, &MUTED).pos(Pos::new(HPos::Left, VPos::Center));
            area.draw_text(&amount(column, value), &said, (left + length + 8, middle))?;
        }
        self.left_out(area, self.table.rows.len(), self.chart.form.most())
    }

    /// A square for each pair, the darker the more.
    fn squares(&self, area: &Area<'_>) -> Drawn {
        let (Some((along, _)), Some((figure, column))) = (self.along(), self.figure()) else { return Ok(()) };
        let by = self.chart.by.as_deref().and_then(|by| self.column(by)).map_or(along, |(place, _)| place);
        let (mut across, mut down): (Vec<String>, Vec<String>) = Default::default();
        let mut values: BTreeMap<(usize, usize), f64> = BTreeMap::new();
        let mut rows: Vec<(f64, &Vec<Cell>)> =
            self.table.rows.iter().enumerate().map(|(nth, row)| (self.position(nth, row), row)).collect();
        rows.sort_by(|one, other| one.0.total_cmp(&other.0));
        let span = rows.last().map_or(0.0, |last| last.0) - rows.first().map_or(0.0, |first| first.0);
        let place = |names: &mut Vec<String>, name: String| {
            names.iter().position(|known| *known == name).unwrap_or_else(|| {
                names.push(name);
                names.len() - 1
            })
        };
        for (at, row) in rows {
            let name = match self.along().is_some_and(|(_, column)| column.kind == Kind::Time) {
                true => self.instant(at, span),
                false => self.value(along, &row[along]),
            };
            let (x, y) = (place(&mut across, name), place(&mut down, self.value(by, &row[by])));
            if let Some(value) = row[figure].as_f64() {
                *values.entry((x, y)).or_default() += value;
            }
        }
        let most = values.values().copied().fold(0.0, f64::max).max(1e-9);
        let (width, height) = area.dim_in_pixel();
        let (left, top) = (230i32, 6i32);
        let (columns, lines) =
            (across.len().min(self.chart.form.most()), down.len().min(self.chart.form.most()));
        let wide = f64::from(width as i32 - left - 30) / columns.max(1) as f64;
        let high = (f64::from(height as i32 - top - 70) / lines.max(1) as f64).min(40.0);
        let corner = |x: usize, y: usize| (left + (x as f64 * wide) as i32, top + (y as f64 * high) as i32);
        for ((x, y), value) in values.iter().filter(|((x, y), _)| *x < columns && *y < lines) {
            let (one, other) = (corner(*x, *y), corner(x + 1, y + 1));
            // The eye takes squares of the share for even steps.
            let shade = LINES[0].mix(0.08 + 0.92 * (value / most).max(0.0).sqrt());
            area.draw(&Rectangle::new([one, (other.0 - 1, other.1 - 1)], shade.filled()))?;
        }
        let every =
            |many: usize, room: f64, needed: f64| ((needed / room).ceil() as usize).clamp(1, many.max(1));
        let named = text(12, &INK).pos(Pos::new(HPos::Right, VPos::Center));
        for y in (0..lines).step_by(every(lines, high, 13.0)) {
            let at = (left - 8, corner(0, y).1 + (high / 2.0) as i32);
            area.draw_text(&shorten(&down[y], 36), &named, at)?;
        }
        let longest = across.iter().take(columns).map(|name| name.chars().count()).max().unwrap_or(1).min(18);
        let below = text(12, &MUTED).pos(Pos::new(HPos::Center, VPos::Top));
        for x in (0..columns).step_by(every(columns, wide, longest as f64 * 7.0 + 8.0)) {
            let at = (corner(x, 0).0 + (wide / 2.0) as i32, corner(0, lines).1 + 6);
            area.draw_text(&shorten(&across[x], 18), &below, at)?;
        }
        let words = format!("the darkest is {}", amount(column, most));
        area.draw_text(&words, &text(12, &MUTED), (left, corner(0, lines).1 + 30))?;
        self.left_out(area, down.len().max(across.len()), self.chart.form.most())
    }

    /// Says what there was no room for.
    fn left_out(&self, area: &Area<'_>, all: usize, most: usize) -> Drawn {
        if all > most {
            let (width, height) = area.dim_in_pixel();
            let words = format!("the first {most} of {all}");
            let style = text(12, &MUTED).pos(Pos::new(HPos::Right, VPos::Bottom));
            area.draw_text(&words, &style, (width as i32 - 20, height as i32 - 6))?;
        }
        Ok(())
    }

    /// A value as it is written beside a chart.
    fn value(&self, place: usize, cell: &Cell) -> String {
        match (self.table.columns[place].kind, cell) {
            (_, Cell::Nothing) => "nothing".to_owned(),
            (Kind::Time, Cell::Number(time)) => self.written(*time as f64, "%Y-%m-%d %H:%M"),
            (_, Cell::Number(number)) => number.to_string(),
            (_, Cell::Decimal(number)) => format!("{number:.2}"),
            (_, Cell::Text(text)) => text.clone(),
        }
    }

    /// A place along the main axis, as finely as its whole length needs.
    fn instant(&self, at: f64, span: f64) -> String {
        const DAY: f64 = 86_400_000.0;
        match self.along().map(|(_, column)| column.kind) {
            Some(Kind::Time | Kind::Date) => {
                let codes = match span / DAY {
                    days if days > 300.0 => "%b %Y",
                    days if days > 3.0 => "%-d %b",
                    days if days > 1.0 => "%a %H:%M",
                    _ => "%H:%M",
                };
                self.written(at, codes)
            }
            _ => format!("{at:.0}"),
        }
    }

    fn written(&self, at: f64, codes: &str) -> String {
        let is_date = self.along().is_some_and(|(_, column)| column.kind == Kind::Date);
        let zone = if is_date { TimeZone::UTC } else { self.zone.clone() };
        let stamp = Timestamp::from_millisecond(at as i64).unwrap_or_default();
        stamp.to_zoned(zone).strftime(codes).to_string()
    }
}

/// Drawing by places of the whole picture.
trait RootDraw {
    fn root_draw(&self, words: &str, style: &TextStyle<'_>, at: (i32, i32)) -> Drawn;
}

impl RootDraw for Area<'_> {
    fn root_draw(&self, words: &str, style: &TextStyle<'_>, at: (i32, i32)) -> Drawn {
        let (across, down) = self.get_pixel_range();
        self.draw_text(words, style, (at.0 - across.start, at.1 - down.start))?;
        Ok(())
    }
}

/// A figure as short as an axis wants it.
fn amount(column: &TableColumn, value: f64) -> String {
    match (column.kind, column.unit) {
        (_, Unit::Bytes) => bytes(value.max(0.0) as u64),
        (Kind::Duration, unit) | (Kind::Integer, unit @ Unit::Milliseconds) => {
            long_time(value * unit.nanoseconds() as f64 / 1e6)
        }
        (_, Unit::None) if value.fract().abs() > 1e-9 && value.abs() < 100.0 => {
            let digits = if value.abs() < 1.0 { 3 } else { 1 };
            format!("{value:.digits$}")
        }
        _ if value < 0.0 => format!("−{}", grouped(-value as u64)),
        _ => grouped(value as u64),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::tables::chart::charts;

    fn table() -> Table {
        let hour = TableColumn { kind: Kind::Time, ..TableColumn::text("hour", "hour") };
        let columns = [hour, TableColumn::text("site", "site"), TableColumn::sum("requests", "requests")];
        let mut table = Table::new("", "", columns);
        for hour in 0..24u64 {
            for (nth, site) in ["harbour", "<lamp>"].into_iter().enumerate() {
                let requests = hour * (nth as u64 + 1);
                table.push([(hour * 3_600_000).into(), site.into(), requests.into()]);
            }
        }
        table
    }

    #[test]
    fn every_form_is_drawn_and_names_what_it_shows() {
        let table = table();
        for chart in charts(&table) {
            let drawn = svg(&table, &chart, "by hour & site", &TimeZone::UTC).unwrap();
            assert!(drawn.contains("harbour"), "{chart:?}");
            assert!(drawn.contains("&lt;lamp&gt;") && !drawn.contains("<lamp>"), "{chart:?}");
            let tree = resvg::usvg::Tree::from_str(&drawn, &resvg::usvg::Options::default());
            assert!(tree.is_ok(), "{chart:?}");
        }
    }

    #[test]
    fn bars_are_as_long_as_their_figures() {
        let mut table = Table::new("", "", [TableColumn::text("path", "path"), TableColumn::sum("n", "n")]);
        table.push(["/a".into(), 100.into()]);
        table.push(["/b".into(), 50.into()]);
        let drawn = svg(&table, &charts(&table)[0], "", &TimeZone::UTC).unwrap();
        let width = |nth: usize| -> f64 {
            let bars = drawn.match_indices("<rect").map(|(at, _)| &drawn[at..]);
            // The first is what is drawn on.
            let bar = bars.skip(1).nth(nth).unwrap();
            bar.split("width=\"").nth(1).unwrap().split('"').next().unwrap().parse().unwrap()
        };
        assert!((width(0) / width(1) - 2.0).abs() < 0.02, "{} {}", width(0), width(1));
    }
}
