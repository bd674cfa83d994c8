//! `exedra functions`: what statements may have beside columns.

use crate::failure::Failure;
use crate::out::{QUIET, STRONG};
use exedra_query::functions::{Function, Kind, all};

/// Prints the list: first what is made for logs.
pub fn run() -> Result<(), Failure> {
    let of = |title: &str, is_of: &dyn Fn(&Function) -> bool| {
        crate::out::line!("\n{STRONG}{title}{STRONG:#}");
        for function in all().filter(|function| is_of(function)) {
            crate::out::line!("  {}", function.usage);
            crate::out::line!("      {}", function.meaning);
            crate::out::line!("      {QUIET}{}{QUIET:#}", function.example);
        }
    };
    of("Made for logs", &|function| function.is_own);
    of("Of the values of a row", &|function| !function.is_own && function.kind == Kind::Row);
    of("Of a group of rows", &|function| !function.is_own && function.kind == Kind::Group);
    of("Of the rows around a row", &|function| !function.is_own && function.kind == Kind::Window);
    Ok(())
}
