//! `exedra columns`: the one list of columns.

use crate::failure::Failure;
use exedra_common::columns::{Column, Compared, Kind};

/// A filter on a column, for whoever sees it for the first time.
pub fn example(column: Column) -> String {
    let declaration = column.declaration();
    match (declaration.kind, declaration.compared, declaration.values) {
        (Kind::Time, ..) => "--from, --until, --day, …".to_owned(),
        (_, _, values @ [first, ..]) if values.len() > 1 => format!("{}={first}", declaration.name),
        // Of three digits: a status, which has classes.
        (Kind::Integer, ..) if declaration.range.1 < 1000 => format!("{}=404,5xx", declaration.name),
        (Kind::Integer, ..) => format!("{}>={}", declaration.name, declaration.range.0),
        (Kind::Size, ..) => format!("{}>10 MB", declaration.name),
        (Kind::Duration, ..) => format!("{}>5 s", declaration.name),
        (_, Compared::Address, _) => format!("{}=198.18.0.0/15", declaration.name),
        _ => format!("{}=*…*", declaration.name),
    }
}

/// Prints the list.
pub fn run() -> Result<(), Failure> {
    for column in Column::all() {
        let declaration = column.declaration();
        let from =
            declaration.from.map(|from| format!(" From {}.", Column::Text(from).name())).unwrap_or_default();
        crate::out::line!(
            "{:<14} {:<13} {:<26} {}{from}",
            declaration.name,
            declaration.kind.name(),
            example(column),
            column.meaning()
        );
    }
    Ok(())
}
