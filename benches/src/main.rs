//! Ceilings, and our program beside them: every claim is a ratio from one run.
//!
//! `exedra-benches read PROGRAM [LINES]` makes a log of combined lines and compares `PROGRAM report` with
//! counting newlines and with a minimal counter, alternating; the medians are printed.
//!
//! `exedra-benches serve PROGRAM` compares the service with a bare server that answers the same bytes from
//! memory, both loaded by `wrk` on loopback.
//!
//! `exedra-benches store PROGRAM [REQUESTS]` fills the records of a service and asks them by the API, beside the same aggregation in
//! memory.
//!
//! `exedra-benches query PROGRAM [LINES]` asks ten statements of a log and of records, beside another engine.
//!
//! `exedra-benches rehearse` runs a million recorded requests through two configurations, beside counting them.
//!
//! `exedra-benches rules` says what ten, a thousand and ten thousand rules cost a request.
//!
//! - [`rules`], [`decide`]: deciding alone; [`rehearse`]: twice, of what was recorded
//! - [`read`]: reading logs; [`made_log`]: a log with heavy tails; [`exedra_benches::ceilings`]: the least that could be done with it
//! - [`store`]: years of requests; [`query`]: statements over them
//! - [`serve`]: the service under load; [`bare`]: a server that only answers

mod bare;
mod decide;
mod made_log;
mod query;
mod read;
mod rehearse;
mod rules;
mod serve;
mod store;

use exedra_benches::ceilings;
use std::path::Path;
use std::process::ExitCode;

/// What allocates in the program, too.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// How often everything is measured; the middle one counts.
const ROUNDS: usize = 5;

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    match arguments.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        ["serve", program] => serve::compare(program),
        ["store", program] => store::compare(program, None),
        ["store", program, requests] => store::compare(program, requests.parse().ok()),
        ["decide"] => decide::measure(),
        ["rules", ..] => rules::measure(),
        ["rehearse", ..] => rehearse::measure(),
        ["bare", size, manner] => bare::run(size.parse().unwrap_or(1024), manner == "secured"),
        ["read", program] => read::compare(program, 3_000_000),
        ["read", program, lines] => read::compare(program, lines.parse().unwrap_or(3_000_000)),
        ["query", program] => query::compare(program, 3_000_000),
        ["query", program, lines] => query::compare(program, lines.parse().unwrap_or(3_000_000)),
        ["counter", file] => report(ceilings::counter(Path::new(file))),
        ["make", file, lines] => report(made_log::write(Path::new(file), lines.parse().unwrap_or(3_000_000))),
        _ => {
            eprintln!(
                "exedra-benches read PROGRAM [LINES], serve PROGRAM, store PROGRAM [REQUESTS], query PROGRAM [LINES], rehearse, or rules"
            );
            ExitCode::FAILURE
        }
    }
}

/// The middle one of some measurements.
fn median(mut measured: Vec<f64>) -> f64 {
    measured.sort_by(f64::total_cmp);
    measured.get(measured.len() / 2).copied().unwrap_or(f64::NAN)
}

fn report(result: std::io::Result<u64>) -> ExitCode {
    match result {
        Ok(count) => {
            println!("{count}");
            ExitCode::SUCCESS
        }
        Err(error) => {
            eprintln!("{error}");
            ExitCode::FAILURE
        }
    }
}
