//! `exedra fields`: the one list of what may stand in braces in a layout.

use crate::failure::Failure;
use crate::out::QUIET;
use exedra_common::columns::{Column, Kind};
use exedra_reading::logs::template::fields;

/// A place of a field, with what it may say of its form.
pub fn example(name: &str) -> String {
    match (name, Column::named(name).map(|column| column.declaration().kind)) {
        ("time", _) => "{time:%Y-%m-%d %H:%M:%S}".to_owned(),
        ("date", _) => "{date:%d.%m.%Y}".to_owned(),
        ("clock", _) => "{clock:%H:%M:%S}".to_owned(),
        (_, Some(Kind::Duration)) => format!("{{{name}:ms}}"),
        _ => format!("{{{name}}}"),
    }
}

/// Prints the list.
pub fn run() -> Result<(), Failure> {
    for (name, meaning) in fields() {
        crate::out::line!("{:<14} {:<26} {meaning}", name, example(name));
    }
    crate::out::line!();
    for line in [
        "Times: {time} alone is 14/Nov/2026:05:12:40 +0000. Otherwise {time:rfc3339}, {time:seconds}, milliseconds, microseconds or nanoseconds",
        "(since 1970), or strftime codes. What a time does not say, its zone, its year or its day, is UTC and the file's own.",
        "Durations: ns, us, ms and s, or written out. A unit behind the number wins. Clients: with or without port and brackets; of a list the first.",
        "(( … )) may be missing; \\t is a tab; {{ and }} are the braces themselves. A value in quotation marks ends where they do.",
    ] {
        crate::out::line!("{QUIET}{line}{QUIET:#}");
    }
    Ok(())
}
