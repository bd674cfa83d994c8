//! `exedra status`: asks the running service how it is.

use crate::allowance::in_short;
use crate::failure::Failure;
use crate::form::Form;
use crate::out::ATTENTION;
use crate::service::Service;
use clap::Args;
use exedra_api::allowances::Allowances;
use exedra_api::{LogStatus, Status};
use exedra_common::figures::{bytes, grouped, several};

/// What `exedra status` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    service: Service,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// Asks and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let status: Status = options.service.get("status")?;
    match options.form {
        Form::Json => crate::out::json(&status)?,
        Form::Text => {
            // Whoever may not see it, or asks a service that is just starting, is told the rest.
            let allowances = options.service.get::<Allowances>("allowances");
            print(&status, allowances.map(|told| in_short(&told)).unwrap_or_default());
        }
    }
    Ok(())
}

fn print(status: &Status, allowances: Vec<String>) {
    let Status { version, started, listeners, answered, sent, connections, sites, .. } = status;
    let since = started.get(..16).unwrap_or(started).replace('T', " ");
    crate::out::line!("Exedra {version}, running since {since} UTC, answers on {}", listeners.join(", "));
    crate::out::line!(
        "{} answered since then, {} sent; {} open\n",
        several(*answered, "request", "requests"),
        bytes(*sent),
        several(*connections, "connection", "connections"),
    );
    let records = &status.records;
    if let Some(first) = &records.first {
        crate::out::line!(
            "{} recorded since {}; {} of closed days and months\n",
            several(records.requests, "request", "requests"),
            first.get(..10).unwrap_or(first),
            several(records.kept_surveys, "kept survey", "kept surveys")
        );
    }
    if !allowances.is_empty() {
        allowances.iter().for_each(|line| crate::out::line!("{line}"));
        crate::out::line!();
    }
    for trouble in &status.troubles {
        crate::out::line!("{ATTENTION}{trouble}{ATTENTION:#}");
    }
    let none = status
        .no_site
        .iter()
        .map(|log| ("(no site)", Some(log), "unknown hosts, and what was no request".to_owned()));
    let rows: Vec<_> = sites
        .iter()
        .map(|site| (site.name.as_str(), site.log.as_ref(), site.hosts.join(" ")))
        .chain(none)
        .collect();
    let width = rows.iter().map(|(name, ..)| name.len()).max().unwrap_or(0);
    crate::out::line!("{:<width$}  {:>12}  {:>8}  {:>10}  hosts", "site", "recorded", "unread", "log lag");
    for (name, log, hosts) in rows {
        let Some(log) = log else {
            crate::out::line!("{name:<width$}  {:>12}  {:>8}  {:>10}  {hosts}", "no log", "", "");
            continue;
        };
        let (recorded, unread, lag) = (grouped(log.recorded), grouped(log.unread), bytes(log.lag));
        crate::out::line!("{name:<width$}  {recorded:>12}  {unread:>8}  {lag:>10}  {hosts}");
        trouble(log, width);
    }
    trouble(&status.errors, width);
}

/// What is wrong with a log, if anything.
fn trouble(log: &LogStatus, width: usize) {
    if let Some(trouble) = &log.trouble {
        crate::out::line!(
            "{:<width$}  {ATTENTION}{} cannot be written: {trouble}{ATTENTION:#}",
            "",
            log.file
        );
    }
    if log.lost > 0 {
        let lost = several(log.lost, "line", "lines");
        crate::out::line!("{:<width$}  {ATTENTION}{lost} could not be written and are lost{ATTENTION:#}", "");
    }
}
