//! `exedra-cluster`: SQL over the exported requests of many machines, carried out by several.
//!
//! One process is the scheduler, others are workers, on machines that see the same folder of Parquet files, as `exedra export`
//! writes them. How work is divided, sent and repeated after a failure is the business of a distributed engine that was there
//! before; what is ours is small: the table, the functions, and what statements may do, all as `exedra query` has
//! them.
//!
//! - [`scheduler`], [`worker`]: the processes
//! - [`query`]: a statement, carried out by them; [`report`]: several, which make the sections of a report
//! - [`lake`]: the folder of Parquet files as the table `requests`; [`visitor`]: its column that is in no file
//! - [`functions`]: what all processes know; [`spelled`]: functions that give texts

mod functions;
mod lake;
mod query;
mod report;
mod scheduler;
mod spelled;
mod visitor;
mod worker;

use clap::{Parser, Subcommand};
use std::io::{ErrorKind, Write};
use std::net::{SocketAddr, TcpListener};
use std::process::ExitCode;

/// SQL over exported requests, on several machines
#[derive(Parser)]
#[command(name = "exedra-cluster", version)]
struct Cluster {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Divide statements among workers
    Scheduler(scheduler::Options),
    /// Carry out what the scheduler divides
    Worker(worker::Options),
    /// Ask with SQL
    Query(query::Options),
    /// What happened: totals, days, statuses, pages, clients and where they came from
    Report(report::Options),
}

/// Why it failed, in a sentence.
type Failure = String;

#[tokio::main]
async fn main() -> ExitCode {
    let done = match Cluster::parse().command {
        Command::Scheduler(options) => scheduler::run(options).await,
        Command::Worker(options) => worker::run(options).await,
        Command::Query(options) => query::run(options).await,
        Command::Report(options) => report::run(options).await,
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(words) => {
            eprintln!("{words}");
            ExitCode::FAILURE
        }
    }
}

/// Prints octets. Where nobody reads them any more, as behind `head`, there is nothing left to do.
fn print(octets: &[u8]) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    match out.write_all(octets).and_then(|()| out.flush()) {
        Err(error) if error.kind() == ErrorKind::BrokenPipe => std::process::exit(0),
        printed => printed.map_err(|error| format!("the answer cannot be printed: {error}")),
    }
}

/// An address that can be listened on: with a free port, where 0 was asked for.
fn listenable(address: SocketAddr) -> Result<SocketAddr, Failure> {
    let failed = |error| format!("{address} cannot be listened on: {error}");
    TcpListener::bind(address).and_then(|listener| listener.local_addr()).map_err(failed)
}
