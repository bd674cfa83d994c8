//! Which charts a table makes: one small grammar, for pictures that the client draws and for the console alike.
//!
//! What a row is about says the form, and the figures say how high: a time and figures are lines; a category and a figure bars; two
//! categories and a figure a heat map; what would be too many lines in one picture, or figures of other kinds, small multiples
//! beside each other. The first chart is the one that fits best; whoever looks may choose another.
//!
//! ```
//! use exedra_common::columns::Kind;
//! use exedra_common::tables::chart::{Form, charts};
//! use exedra_common::tables::{Table, TableColumn};
//! let hour = TableColumn { kind: Kind::Time, ..TableColumn::text("hour", "hour") };
//! let mut table = Table::new("", "", [hour, TableColumn::sum("requests", "requests")]);
//! table.push([3_600_000.into(), 12.into()]);
//! table.push([7_200_000.into(), 15.into()]);
//! let chart = &charts(&table)[0];
//! assert_eq!((chart.form, chart.along.as_str(), &chart.figures[..]), (Form::Lines, "hour", &["requests".to_owned()][..]));
//! ```

use super::{Cell, Measured, Table, TableColumn};
use crate::columns::Kind;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use utoipa::ToSchema;

/// How many lines of one picture can be told apart.
const MOST_LINES: usize = 6;
/// How many small multiples stand beside each other.
const MOST_PANELS: usize = 12;
/// How many bars are drawn.
const MOST_BARS: usize = 40;
/// How many columns a table has that charts are made of: of more, nobody could say which are shown.
const MOST_COLUMNS: usize = 64;
/// How many of its figures may turn out to be what rows are about.
const MOST_ORDERED: usize = 3;
/// How many squares a heat map has along one side.
const MOST_SQUARES: usize = 60;

/// The form of a chart.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Form {
    /// Figures over time or along an order.
    Lines,
    /// A figure for each category.
    Bars,
    /// A figure for each pair of categories, as a shade.
    HeatMap,
    /// Lines, one picture for each category or figure.
    SmallMultiples,
}

impl Form {
    /// All of them.
    pub const ALL: [Form; 4] = [Form::Lines, Form::Bars, Form::HeatMap, Form::SmallMultiples];

    /// How much of it is drawn: lines, pictures, bars, or squares along a side.
    pub fn most(self) -> usize {
        match self {
            Form::Lines => MOST_LINES,
            Form::SmallMultiples => MOST_PANELS,
            Form::Bars => MOST_BARS,
            Form::HeatMap => MOST_SQUARES,
        }
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Form::Lines => "lines",
            Form::Bars => "bars",
            Form::HeatMap => "heat-map",
            Form::SmallMultiples => "small-multiples",
        }
    }
}

/// A chart of a table: which column stands where, by its name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Chart {
    /// Its form.
    pub form: Form,
    /// What stands along its main axis.
    pub along: String,
    /// What parts it: a line, a panel, or the other side of a heat map for each value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// What is drawn.
    pub figures: Vec<String>,
    /// How many lines, pictures, bars, or squares along a side are drawn: more are not told apart.
    pub most: u32,
}

/// The charts that a table makes, the one that fits best first; none where it has no figures, or nothing that they are of.
pub fn charts(table: &Table) -> Vec<Chart> {
    if table.rows.len() < 2 || table.columns.len() > MOST_COLUMNS {
        return Vec::new();
    }
    let shape = Shape::of(table);
    if shape.figures.is_empty() {
        return Vec::new();
    }
    let name = |column: &TableColumn| column.name.clone();
    let chart = |form, along: &TableColumn, by: Option<&TableColumn>, figures: &[&TableColumn]| Chart {
        form,
        along: name(along),
        by: by.map(name),
        figures: figures.iter().map(|column| name(column)).collect(),
        most: form.most() as u32,
    };
    let first = &shape.figures[..1];
    let alike = alike(&shape.figures);
    match (&shape.ordered[..], &shape.categories[..]) {
        // Figures over time.
        ([time, ..], []) => {
            let lines = chart(Form::Lines, time, None, &alike[..alike.len().min(MOST_LINES)]);
            let panels = chart(
                Form::SmallMultiples,
                time,
                None,
                &shape.figures[..shape.figures.len().min(MOST_PANELS)],
            );
            let bars = chart(Form::Bars, time, None, first);
            match shape.figures.len() {
                1 => vec![lines, bars],
                many if many == alike.len() => vec![lines, panels, bars],
                _ => vec![panels, lines, bars],
            }
        }
        // The same for each of some categories.
        ([time, ..], [category, ..]) => {
            let lines = chart(Form::Lines, time, Some(category), first);
            let panels = chart(Form::SmallMultiples, time, Some(category), first);
            let heat = chart(Form::HeatMap, time, Some(category), first);
            match distinct(table, category) <= MOST_LINES {
                true => vec![lines, panels, heat],
                false => vec![panels, heat, lines],
            }
        }
        ([], [category]) => {
            let mut all = vec![chart(Form::Bars, category, None, first)];
            if shape.figures.len() > 1 {
                let figures = &shape.figures[..shape.figures.len().min(MOST_PANELS)];
                all.push(chart(Form::SmallMultiples, category, None, figures));
            }
            all
        }
        ([], [category, other, ..]) => {
            vec![
                chart(Form::HeatMap, category, Some(other), first),
                chart(Form::Bars, category, Some(other), first),
            ]
        }
        ([], []) => Vec::new(),
    }
}

/// The columns of a table by what they can be in a chart.
struct Shape<'t> {
    /// Times, and whole numbers in an order of their own.
    ordered: Vec<&'t TableColumn>,
    categories: Vec<&'t TableColumn>,
    figures: Vec<&'t TableColumn>,
}

impl<'t> Shape<'t> {
    fn of(table: &'t Table) -> Self {
        let mut shape = Shape { ordered: Vec::new(), categories: Vec::new(), figures: Vec::new() };
        let is_figure = |column: &TableColumn| {
            column.measure != Measured::Key && !matches!(column.kind, Kind::Text | Kind::Time | Kind::Date)
        };
        for column in &table.columns {
            match column.kind {
                Kind::Time | Kind::Date => shape.ordered.push(column),
                _ if is_figure(column) => shape.figures.push(column),
                _ => shape.categories.push(column),
            }
        }
        // Hours of the day, depths, classes: where what rows are about does not tell them apart, the first figures are a part of it.
        while shape.figures.len() > 1 && shape.ordered.len() < MOST_ORDERED && !shape.tells_apart(table) {
            shape.ordered.push(shape.figures.remove(0));
        }
        shape
    }

    /// Whether no two rows are about the same.
    fn tells_apart(&self, table: &Table) -> bool {
        let places: Vec<usize> = self
            .ordered
            .iter()
            .chain(&self.categories)
            .filter_map(|column| table.place(&column.name))
            .collect();
        let about =
            |row: &Vec<Cell>| places.iter().map(|place| format!("{:?}", row[*place])).collect::<Vec<_>>();
        !places.is_empty() && table.rows.iter().map(about).collect::<HashSet<_>>().len() == table.rows.len()
    }
}

/// Those of some figures that one axis can have: of the kind and unit of the first.
fn alike<'t>(figures: &[&'t TableColumn]) -> Vec<&'t TableColumn> {
    let Some(first) = figures.first() else { return Vec::new() };
    figures.iter().copied().filter(|one| (one.kind, one.unit) == (first.kind, first.unit)).collect()
}

/// How many different values a column has.
fn distinct(table: &Table, column: &TableColumn) -> usize {
    let Some(place) = table.place(&column.name) else { return 0 };
    let value = |row: &Vec<Cell>| row.get(place).map(|cell| format!("{cell:?}"));
    table.rows.iter().map(value).collect::<HashSet<_>>().len()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn table(columns: &str, rows: usize) -> Table {
        let column = |letter: char| {
            let name = letter.to_string();
            match letter {
                't' => TableColumn { kind: Kind::Time, ..TableColumn::text("t", "t") },
                'c' | 'd' | 'w' => TableColumn::text(&name, &name),
                's' => TableColumn::size(&name, &name),
                _ => TableColumn { measure: Measured::Level, ..TableColumn::sum(&name, &name) },
            }
        };
        let mut table = Table::new("", "", columns.chars().map(column));
        // One category alone tells rows apart.
        let kinds = if columns.contains(['t', 'd']) { 3 } else { rows as u64 };
        for row in 0..rows as u64 {
            let cell = |letter: char| match letter {
                'c' => Cell::Text(format!("c{}", row % kinds)),
                'd' => Cell::Text(format!("d{}", row % 9)),
                'w' => Cell::Text(format!("w{}", row % 3)),
                _ => Cell::Number(row),
            };
            table.push(columns.chars().map(cell));
        }
        table
    }

    #[rstest]
    #[case::time_and_figure("tn", &[Form::Lines, Form::Bars], None)]
    #[case::time_and_figures_alike("tnm", &[Form::Lines, Form::SmallMultiples, Form::Bars], None)]
    #[case::time_and_figures_of_other_kinds("tns", &[Form::SmallMultiples, Form::Lines, Form::Bars], None)]
    #[case::few_lines("tcn", &[Form::Lines, Form::SmallMultiples, Form::HeatMap], Some("c"))]
    #[case::many_lines("tdn", &[Form::SmallMultiples, Form::HeatMap, Form::Lines], Some("d"))]
    #[case::category("cn", &[Form::Bars], None)]
    #[case::two_categories("cdn", &[Form::HeatMap, Form::Bars], Some("d"))]
    #[case::hours_of_weekdays("wnm", &[Form::Lines, Form::SmallMultiples, Form::HeatMap], Some("w"))]
    #[case::an_order_of_its_own("nm", &[Form::Lines, Form::Bars], None)]
    #[case::figures_alone("n", &[], None)]
    #[case::categories_alone("cd", &[], None)]
    fn shapes(#[case] columns: &str, #[case] forms: &[Form], #[case] by: Option<&str>) {
        let charts = charts(&table(columns, 9));
        assert_eq!(charts.iter().map(|chart| chart.form).collect::<Vec<_>>(), forms);
        assert_eq!(charts.first().and_then(|chart| chart.by.as_deref()), by);
    }

    #[test]
    fn one_row_is_no_chart() {
        assert!(charts(&table("tn", 1)).is_empty());
    }

    /// Whatever is asked, which charts there are is soon known.
    #[test]
    fn tables_of_very_many_columns_have_none() {
        let figures = |columns: usize| {
            let column = |nth: usize| TableColumn::sum(&format!("n{nth}"), "n");
            let mut table = Table::new("", "", (0..columns).map(column));
            (0..9).for_each(|_| table.push((0..columns).map(|_| Cell::Number(7))));
            charts(&table)
        };
        assert!(figures(5_000).is_empty());
        assert_eq!(figures(60)[0].figures.len(), MOST_LINES);
    }
}
