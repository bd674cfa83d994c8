//! `exedra alerts`, `exedra alert`: how the alerts of the running service are, when one was raised or would have been, and what people say
//! about it.

use crate::failure::Failure;
use crate::form::Form;
use crate::out::{ATTENTION, QUIET, STRONG, TROUBLE, WELL};
use crate::service::{Service, encoded, in_path};
use crate::show::fit::room;
use crate::show::lines::Lines;
use crate::show::listing::{Listing, listed, minute};
use clap::{Args, Subcommand};
use exedra_api::alerts::{AlertSilence, AlertState, AlertTrial, NewSilence, PastAlert};
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
    /// Tell nobody of an alert for a while
    Silence(SilenceOptions),
    /// Say that somebody has seen that an alert is raised
    Acknowledge(NameOptions),
    /// List when alerts were raised, the latest first
    History(HistoryOptions),
}

#[derive(Args)]
struct SilenceOptions {
    /// Its name
    name: String,
    /// For how long
    #[arg(long = "for", value_name = "LENGTH", default_value = "2 hours")]
    time: String,
    /// Why
    #[arg(long, value_name = "WORDS", default_value = "")]
    reason: String,
    /// End the silence instead
    #[arg(long, conflicts_with_all = ["time", "reason"])]
    end: bool,
    #[command(flatten)]
    service: Service,
}

#[derive(Args)]
struct NameOptions {
    /// Its name
    name: String,
    #[command(flatten)]
    service: Service,
}

#[derive(Args)]
struct HistoryOptions {
    /// Only that of this alert
    name: Option<String>,
    /// Only what comes before the line of this number
    #[arg(long, value_name = "NUMBER")]
    before: Option<i32>,
    #[command(flatten)]
    listing: Listing,
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
        if let Some(silence) = &alert.silence {
            let reason =
                if silence.reason.is_empty() { String::new() } else { format!(": {}", silence.reason) };
            crate::out::line!(
                "        {ATTENTION}silent{ATTENTION:#} until {} by {}{reason}",
                minute(&silence.until),
                silence.by
            );
        } else if !alert.tell.is_empty() {
            crate::out::line!("        {QUIET}tells {}{QUIET:#}", alert.tell.join(", "));
        }
        if let Some(by) = &alert.seen_by {
            crate::out::line!("        seen by {by}");
        }
    }
    Ok(())
}

/// Does what is asked about one.
pub fn alert(options: &AlertOptions) -> Result<(), Failure> {
    match &options.command {
        AlertCommand::Try(options) => tried(options),
        AlertCommand::Silence(options) => silence(options),
        AlertCommand::Acknowledge(options) => {
            let () = options.service.post(&format!("alerts/{}/acknowledgement", in_path(&options.name)))?;
            crate::out::line!("{STRONG}{}{STRONG:#} has been seen.", options.name);
            Ok(())
        }
        AlertCommand::History(options) => history(options),
    }
}

fn silence(options: &SilenceOptions) -> Result<(), Failure> {
    let call = format!("alerts/{}/silence", in_path(&options.name));
    if options.end {
        options.service.delete(&call)?;
        crate::out::line!("{STRONG}{}{STRONG:#} is told of again.", options.name);
        return Ok(());
    }
    let new = NewSilence { time: options.time.clone(), reason: options.reason.clone() };
    let silence: AlertSilence = options.service.send(&call, &new)?;
    crate::out::line!("{STRONG}{}{STRONG:#} is silent until {} UTC.", options.name, minute(&silence.until));
    Ok(())
}

fn history(options: &HistoryOptions) -> Result<(), Failure> {
    let mut query: Vec<(&str, String)> = Vec::new();
    query.extend(options.name.clone().map(|name| ("alert", name)));
    query.extend(options.before.map(|before| ("before", before.to_string())));
    let all: Vec<PastAlert> = options.listing.service.get(&format!("alert-history?{}", encoded(&query)))?;
    let columns = ["number", "alert", "raised", "over", "at worst", "client"];
    listed(options.listing.form, &all, "no alert was raised since it is watched", columns, |one| {
        let over = one.ended.as_deref().map_or_else(|| "goes on".to_owned(), minute);
        let client = one.client.clone().unwrap_or_default();
        [one.number.to_string(), one.alert.clone(), minute(&one.began), over, one.figure.clone(), client]
    })
}

fn tried(options: &TryOptions) -> Result<(), Failure> {
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
