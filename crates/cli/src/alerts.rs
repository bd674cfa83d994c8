//! `exedra alerts`, `exedra alert try`: how the alerts of the running service are, and when one would have been raised.

use crate::failure::Failure;
use crate::form::Form;
use crate::out::{QUIET, STRONG, TROUBLE, WELL};
use crate::service::{Service, encoded, in_path};
use crate::show::fit::room;
use crate::show::lines::Lines;
use clap::{Args, Subcommand};
use exedra_api::alerts::{AlertState, AlertTrial};
use exedra_common::figures::{grouped, several};
use jiff::tz::TimeZone;

/// What `exedra alerts` takes.
#[derive(Args)]
pub struct ListOptions {
    #[command(flatten)]
    service: Service,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// What `exedra alert` takes.
#[derive(Args)]
pub struct AlertOptions {
    #[command(subcommand)]
    command: AlertCommand,
}

#[derive(Subcommand)]
enum AlertCommand {
    /// Try an alert of the configuration on the past: when it would have been raised, and for how long
    Try(TryOptions),
}

#[derive(Args)]
struct TryOptions {
    /// Its name
    name: String,
    /// The stretch up to now that it is tried on
    #[arg(long, value_name = "LENGTH", default_value = "30 days")]
    last: String,
    #[command(flatten)]
    service: Service,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// Lists them.
pub fn list(options: &ListOptions) -> Result<(), Failure> {
    let all: Vec<AlertState> = options.service.get("alerts")?;
    if options.form == Form::Json {
        return Ok(crate::out::json(&all)?);
    }
    if all.is_empty() {
        crate::out::note!(
            "No alert is configured. One is written as in [[alert]] with name = \"many failures\" and \
             when = {{ share = \"status=5xx\", over = \"2 %\", of_last = \"5 minutes\" }}."
        );
    }
    for alert in &all {
        let scope =
            if alert.scope.is_empty() { String::new() } else { format!("  {}", alert.scope.join(" ")) };
        match &alert.raised_since {
            Some(since) => crate::out::line!(
                "{TROUBLE}raised{TROUBLE:#}  {STRONG}{}{STRONG:#}  since {since}",
                alert.name
            ),
            None => crate::out::line!("{WELL}quiet {WELL:#}  {STRONG}{}{STRONG:#}", alert.name),
        }
        crate::out::line!("        {QUIET}{}{scope}{QUIET:#}", alert.condition);
        let client = alert.client.as_ref().map_or(String::new(), |client| format!(" ({client})"));
        let times = match alert.times {
            0 => "not raised".to_owned(),
            1 => "raised once".to_owned(),
            times => format!("raised {} times", grouped(times)),
        };
        crate::out::line!("        now {}{client}; {times} within 24 hours", alert.figure);
    }
    Ok(())
}

/// Tries one.
pub fn alert(options: &AlertOptions) -> Result<(), Failure> {
    let AlertCommand::Try(options) = &options.command;
    let query = encoded(&[("last", options.last.clone())]);
    let tried: AlertTrial =
        options.service.get(&format!("alerts/{}/trial?{query}", in_path(&options.name)))?;
    if options.form == Form::Json {
        return Ok(crate::out::json(&tried)?);
    }
    let zone = TimeZone::get(&tried.time_zone).unwrap_or(TimeZone::UTC);
    crate::out::line!("{STRONG}{}{STRONG:#}: {}", tried.name, tried.condition);
    let requests = several(tried.requests, "request", "requests");
    match tried.table.rows.len() as u64 {
        0 => crate::out::line!(
            "It would not have been raised within the last {}: {requests} in its scope.",
            options.last
        ),
        times => {
            let times = if times == 1 { "once".to_owned() } else { format!("{} times", grouped(times)) };
            crate::out::line!(
                "It would have been raised {times} within the last {}: {requests} in its scope.\n",
                options.last
            );
            let lines = Lines::new(&tried.table, room().unwrap_or(usize::MAX), false, &zone);
            crate::out::text!("{}", lines.heading());
            tried.table.rows.iter().for_each(|row| crate::out::text!("{}", lines.line(row)));
        }
    }
    Ok(())
}
