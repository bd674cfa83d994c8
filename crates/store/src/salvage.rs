//! Rows of a table that is damaged in places: all that can be read, around those that cannot.

use diesel::QueryResult;
use diesel::connection::SimpleConnection;
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Text};
use std::path::Path;

/// How many rows are read at a time where nothing is in the way.
const PAGE: i64 = 512;
/// How many rows that cannot be read are stepped over in one table, at most.
const MOST_UNREADABLE: usize = 2_000_000;
/// How far behind the last row that could be read is looked, where it is not known which is the last.
const BEYOND: i64 = 10_000;

/// All rows of a table by their number, in order, stepping over what cannot be read; `last` is the greatest number, where
/// that is known. `page` reads so many rows after a number.
pub fn rows<R>(last: Option<i64>, mut page: impl FnMut(i64, i64) -> QueryResult<Vec<(i64, R)>>) -> Vec<R> {
    let mut found = Vec::new();
    let (mut after, mut count, mut unreadable) = (0, PAGE, 0);
    let mut until = last.unwrap_or(BEYOND);
    while unreadable < MOST_UNREADABLE && after < until {
        match page(after, count) {
            Ok(rows) => {
                let Some(&(greatest, _)) = rows.last() else { break };
                after = greatest;
                until = last.unwrap_or(greatest + BEYOND);
                // Near what cannot be read, one by one.
                count = (count * 2).min(PAGE);
                found.extend(rows.into_iter().map(|(_, row)| row));
            }
            Err(_) if count > 1 => count = 1,
            Err(_) => {
                after += 1;
                unreadable += 1;
            }
        }
    }
    found
}

/// The only number that a query gives, where it gives one.
pub fn number(query: &str, damaged: &mut SqliteConnection) -> Option<i64> {
    diesel::sql_query(query).get_result::<Number>(damaged).ok()?.number
}

/// Brings all rows that can be read from a damaged file into one that has the same tables. Gives how many.
pub fn bring_over(aside: &Path, into: &mut SqliteConnection) -> QueryResult<usize> {
    let all = "SELECT name FROM main.sqlite_master WHERE type = 'table' \
               AND name NOT LIKE 'sqlite~_%' ESCAPE '~' AND name NOT LIKE '~_~_diesel%' ESCAPE '~'";
    let tables = diesel::sql_query(all).load::<Name>(into)?;
    diesel::sql_query("ATTACH DATABASE ? AS damaged")
        .bind::<Text, _>(aside.to_string_lossy())
        .execute(into)?;
    let mut brought = 0;
    for Name { name: table } in &tables {
        let last = number(&format!("SELECT max(rowid) AS number FROM damaged.{table}"), into);
        let query =
            format!("SELECT rowid AS number FROM damaged.{table} WHERE rowid > ? ORDER BY rowid LIMIT ?");
        let numbers = rows(last, |after, count| {
            let page = diesel::sql_query(&query).bind::<BigInt, _>(after).bind::<BigInt, _>(count);
            let page = page.load::<Number>(into)?.into_iter().filter_map(|row| row.number);
            Ok(page.map(|number| (number, number)).collect())
        });
        // A file of an earlier version has fewer columns.
        let columns = columns(table, into);
        let insert = format!(
            "INSERT OR IGNORE INTO main.{table} ({columns}) SELECT {columns} FROM damaged.{table} WHERE rowid = ?"
        );
        // A row that cannot be read stays behind.
        brought += numbers
            .into_iter()
            .filter_map(|row| diesel::sql_query(&insert).bind::<BigInt, _>(row).execute(into).ok())
            .sum::<usize>();
    }
    into.batch_execute("DETACH DATABASE damaged")?;
    Ok(brought)
}

/// The columns of a table of a damaged file that the table of this name has here, between commas.
fn columns(table: &str, into: &mut SqliteConnection) -> String {
    let query = "SELECT name FROM pragma_table_info(?, 'damaged') \
                 INTERSECT SELECT name FROM pragma_table_info(?, 'main')";
    let names = diesel::sql_query(query).bind::<Text, _>(table).bind::<Text, _>(table).load::<Name>(into);
    names.unwrap_or_default().into_iter().map(|row| row.name).collect::<Vec<_>>().join(", ")
}

#[derive(QueryableByName)]
struct Name {
    #[diesel(sql_type = Text)]
    name: String,
}

#[derive(QueryableByName)]
struct Number {
    #[diesel(sql_type = diesel::sql_types::Nullable<BigInt>)]
    number: Option<i64>,
}
