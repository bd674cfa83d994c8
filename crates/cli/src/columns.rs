//! `exedra columns`: the one list of columns.

use crate::failure::Failure;
use exedra_common::columns::Column;
use exedra_common::filters::example;

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
