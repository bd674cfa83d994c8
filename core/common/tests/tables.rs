//! Tables of any shape: cut, compared and sent over the wire, they keep what they add up to.

use exedra_common::columns::Unit;
use exedra_common::tables::{Cell, Detail, Measured, Table, TableColumn, TableWire, compare};
use proptest::collection::vec;
use proptest::prelude::*;

/// A table of paths with two figures that add up, one that does not, and details.
fn table() -> impl Strategy<Value = Table> {
    let row = (
        "[a-f]{1,2}",
        0u64..1000,
        prop::option::of(0u64..1_000_000),
        prop::option::of((0u32..400).prop_map(|quarters| f64::from(quarters) / 4.0)),
    );
    (vec(row, 0..12), any::<bool>()).prop_map(|(rows, has_details)| {
        let columns = [
            TableColumn::text("path", "path"),
            TableColumn::sum("requests", "requests"),
            TableColumn::size("bytes", "bytes sent").minor(),
            TableColumn::level("p90_ms", "90 % in", Unit::Milliseconds),
        ];
        let mut table = Table::new("paths", "What was asked for", columns);
        let mut known = Vec::new();
        for (path, requests, bytes, time) in rows {
            if known.contains(&path) {
                continue;
            }
            table.push([Cell::from(path.as_str()), requests.into(), bytes.into(), time.into()]);
            if has_details {
                let detail = Detail { count: requests, label: "from".to_owned(), text: path.clone() };
                table.details.push(vec![detail]);
            }
            known.push(path);
        }
        table.order = Some("requests".to_owned());
        table.total_of_rows();
        table
    })
}

fn sum(table: &Table, name: &str) -> u64 {
    let place = table.place(name).unwrap();
    table.rows.iter().chain([&table.rest.cells]).filter_map(|row| row.get(place)?.as_u64()).sum()
}

proptest! {
    #[test]
    fn what_is_cut_off_is_in_the_rest(table in table(), length in 0usize..12, again in 0usize..12) {
        let mut cut = table.clone();
        cut.cut(length);
        cut.cut(again);
        let shown = table.rows.len().min(length).min(again);
        prop_assert_eq!(cut.rows.len(), shown);
        prop_assert_eq!(cut.rest.rows as usize, table.rows.len() - shown);
        prop_assert_eq!(sum(&cut, "requests"), sum(&table, "requests"));
        prop_assert_eq!(sum(&cut, "bytes"), sum(&table, "bytes"));
        prop_assert!(cut.details.len() <= shown);
        let place = table.place("requests").unwrap();
        prop_assert_eq!(cut.all(place), table.all(place));
        let level = cut.place("p90_ms").unwrap();
        prop_assert!(cut.rest.cells.get(level).is_none_or(|cell| *cell == Cell::Nothing), "levels do not add up");
        cut.total.clear();
        prop_assert_eq!(cut.all(place), table.all(place), "without a total the rows say it");
    }

    #[test]
    fn a_table_comes_back_from_the_wire_as_it_was(mut table in table(), other in table(), length in 0usize..12) {
        compare(&mut table, &other);
        table.cut(length);
        let json = serde_json::to_string(&table).unwrap();
        let wire: TableWire = serde_json::from_str(&json).unwrap();
        let again = Table::from(wire);
        prop_assert_eq!(&again.rows, &table.rows);
        prop_assert_eq!(&again.columns, &table.columns);
        prop_assert_eq!(&again.details, &table.details);
        prop_assert_eq!(&again.unknown, &table.unknown);
        prop_assert_eq!(again.rest.rows, table.rest.rows);
        for row in 0..table.rows.len() {
            for place in 0..table.columns.len() {
                prop_assert_eq!(again.change(row, place), table.change(row, place));
            }
        }
        // Twice over the wire is as good as once.
        prop_assert_eq!(serde_json::to_string(&again).unwrap(), json);
    }

    #[test]
    fn figures_stand_beside_those_of_the_same_row(mut now in table(), then in table()) {
        compare(&mut now, &then);
        let requests = now.place("requests").unwrap();
        for row in 0..now.rows.len() {
            let key = now.rows[row][0].clone();
            let before = then.rows.iter().find(|other| other[0] == key);
            let change = now.change(row, requests).unwrap();
            let was = before.map_or(0, |other| other[requests].as_u64().unwrap());
            prop_assert_eq!(change.before, was as f64, "what was not there was none");
            let is = now.number(row, "requests");
            prop_assert_eq!(change.difference, is as f64 - was as f64);
            prop_assert_eq!(change.ratio, (was > 0).then(|| (is as f64 - was as f64) / was as f64));
            let level = now.place("p90_ms").unwrap();
            let known = before.and_then(|other| other[level].as_f64());
            prop_assert_eq!(now.change(row, level).map(|change| change.before), known, "a level that was not there is unknown");
        }
        // Of nothing there is no total, and so no change of it.
        let total = now.total_change(requests).map(|total| total.before as u64);
        prop_assert_eq!(total, (!now.rows.is_empty()).then(|| sum(&then, "requests")));
    }

    #[test]
    fn sums_of_cells_do_not_depend_on_their_order(mut cells in vec(
        prop_oneof![Just(Cell::Nothing), (0u64..1000).prop_map(Cell::from), (0.0f64..10.0).prop_map(|n| Cell::from((n * 4.0).round() / 4.0))], 0..20)) {
        let sum = |cells: &[Cell]| cells.iter().fold(Cell::Nothing, |mut sum, cell| { sum.add(cell); sum });
        let forth = sum(&cells);
        cells.reverse();
        prop_assert_eq!(sum(&cells).as_f64(), forth.as_f64());
    }
}

#[test]
fn a_row_has_a_cell_for_each_column_whatever_is_pushed() {
    let columns = [TableColumn::text("path", "path"), TableColumn::sum("requests", "requests")];
    let mut table = Table::new("paths", "Paths", columns);
    table.push([Cell::from("/a")]);
    table.push([Cell::from("/b"), 3.into(), 4.into()]);
    assert!(table.rows.iter().all(|row| row.len() == 2));
    assert_eq!((table.number(0, "requests"), table.number(1, "requests")), (0, 3));
    assert_eq!((table.cell(2, "path"), table.cell(0, "weather")), (None, None));
    assert_eq!((table.key(), table.main()), (Some(0), Some(1)));
    assert_eq!(table.columns[0].measure, Measured::Key);
    table.columns[1].measure = Measured::Key;
    assert_eq!(table.key(), None, "two columns say what a row is about");
}
