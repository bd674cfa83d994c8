//! `exedra columns`: the one list of columns; of a source also how full each is and what stands in it most often.

use crate::failure::Failure;
use crate::query;
use crate::scope::ScopeOptions;
use crate::show::fit::room;
use crate::show::lines::Lines;
use crate::sources::SourceOptions;
use clap::Args;
use exedra_common::columns::Column;
use exedra_common::figures::grouped;
use exedra_common::filters::example;
use exedra_query::description::{LOOKED_AT, describe};
use exedra_query::schema::Field;
use jiff::tz::TimeZone;
use std::io::Write;
use std::sync::atomic::Ordering;

/// What `exedra columns` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    sources: SourceOptions,
    #[command(flatten)]
    scope: ScopeOptions,
}

/// Prints the list.
pub fn run(options: &Options) -> Result<(), Failure> {
    if !options.sources.sources.is_empty() {
        return of_sources(options);
    }
    for column in Column::all() {
        let declaration = column.declaration();
        let from =
            declaration.from.map(|from| format!(" From {}.", Column::Text(from).name())).unwrap_or_default();
        let in_sql = Field::Of(column).name();
        let in_sql = match in_sql == declaration.name {
            true => String::new(),
            false => format!(" In statements {in_sql}."),
        };
        crate::out::line!(
            "{:<14} {:<13} {:<26} {}{from}{in_sql}",
            declaration.name,
            declaration.kind.name(),
            example(column),
            column.meaning()
        );
    }
    crate::out::line!(
        "{:<14} {:<13} {:<26} {} In statements only.",
        Field::Visitor.name(),
        "number",
        "",
        Field::Visitor.meaning()
    );
    Ok(())
}

/// What logs have in each column.
fn of_sources(options: &Options) -> Result<(), Failure> {
    let query::Opened { source, table, .. } = query::open(&options.sources, &options.scope, None, None)?;
    let wanted = query::wanted();
    let described = describe(&table, &|| wanted.load(Ordering::Relaxed));
    let described = described.map_err(|error| Failure(error.to_string()))?;
    let lines = Lines::new(&described, room().unwrap_or(usize::MAX), false, &TimeZone::UTC);
    let mut out = crate::out::stdout();
    out.write_all(lines.heading().as_bytes())?;
    for row in &described.rows {
        out.write_all(lines.line(row).as_bytes())?;
    }
    out.flush()?;
    drop(out);
    crate::out::note!("Of the first {} requests, or as many as there are.", grouped(LOOKED_AT as u64));
    if let Some(read) = source.read()? {
        read.own_up()?;
    }
    Ok(())
}
