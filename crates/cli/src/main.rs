//! The `exedra` program.
//!
//! - [`serve`]: runs the service
//! - [`report`]: reads logs and says what is in them
//! - [`export`]: requests as files for other engines
//! - [`query`]: asks logs or records by SQL; what statements may have
//! - [`trail`]: what one client did, in order
//! - [`layout`]: how lines are understood
//! - [`errors`]: what went wrong, readable
//! - [`status`]: asks the running service how it is
//! - [`check`]: what is wrong with a configuration
//! - [`reload`]: brings it into force; what was, and back to it
//! - [`explain`]: why a request is answered as it is
//! - [`audit`]: what a stranger could reach and should not
//! - [`weigh`]: what compression is worth on a site's own files
//! - [`password`]: the line that lets a user in
//! - [`import`]: logs of elsewhere into the records; [`source_list`]: where these come from; [`allowance`]: this month's transfer; [`alerts`]: what is watched; [`messages`]: who is told; [`schedules`]: reports that are made by themselves; [`erase`]: one client out of them;
//!   [`backup`]: these and everything else that is kept, copied and brought back
//! - [`sign_in`]: prints a fresh link to the console; [`accounts`]: who else is let in, and what they changed
//! - [`demo`]: Port Lindry, ready to be looked at
//! - [`schema`]: what a report as JSON looks like
//! - [`facts`], [`settings`], [`columns`]: the lists that rules, configurations and filters are written by
//! - [`service`]: asking the running one; [`configuration`]: reading `exedra.toml`; [`sources`]: logs; [`show`]: tables drawn
//! - [`failure`], [`form`]: what every command has; [`guess`]: the command that was meant

// See `out`: what strangers wrote is cleaned on the one way out.
#![deny(clippy::print_stdout, clippy::print_stderr)]

mod accounts;
mod alerts;
mod allowance;
mod audit;
mod backup;
mod check;
mod columns;
mod configuration;
mod demo;
mod erase;
mod errors;
mod explain;
mod export;
mod facts;
mod failure;
mod fields;
mod findings;
mod form;
mod guess;
#[cfg(test)]
mod guide;
mod import;
mod layout;
mod licences;
mod live;
mod messages;
mod out;
mod password;
mod publish;
mod query;
mod rehearse;
mod reload;
mod report;
mod requests;
mod schedules;
mod schema;
mod scope;
mod serve;
mod service;
mod settings;
mod show;
mod sign_in;
mod source_list;
mod sources;
mod status;
mod trail;
mod weigh;

use clap::{CommandFactory, Parser, Subcommand};
use failure::Failure;
use std::ffi::OsString;
use std::process::ExitCode;

/// Answering allocates little and often, on several threads: what this one is made for.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Serves static websites and reads their logs, so that what the logs show becomes a change.
#[derive(Parser)]
#[command(version, allow_external_subcommands = true, subcommand_required = false)]
struct Arguments {
    #[command(subcommand)]
    command: Option<Command>,
    /// How wide text for people is, in columns; otherwise the terminal's, or what COLUMNS says
    #[arg(long, global = true, value_name = "COLUMNS", hide_short_help = true)]
    width: Option<usize>,
}

#[derive(Subcommand)]
enum Command {
    /// Run the service by a configuration
    Serve(serve::Options),
    /// Read access logs and say what is in them
    Report(Box<report::Options>),
    /// List single requests, one line each: those that a filter lets through, as they come in
    Requests(Box<requests::Options>),
    /// Watch the last minutes of logs or of the running service, on the whole terminal
    Live(Box<live::Options>),
    /// Ask logs, or the records of the running service, by SQL: one table, `requests`
    Query(Box<query::Options>),
    /// Follow one client through some logs: visits, steps, pace
    Trail(Box<trail::Options>),
    /// Show how the lines of a log are understood, field by field, before anything is counted
    Layout(layout::Options),
    /// Show what went wrong lately: who asked for what, what was looked for, and why it failed
    Errors(Box<errors::Options>),
    /// Ask the running service how it is
    Status(status::Options),
    /// Say how a request would be answered, and why: step by step, codec by codec
    Explain(explain::Options),
    /// Find what is wrong with a configuration, before visitors do
    Check(check::Options),
    /// List what deserves attention, ranked by the people and the bytes it touches, each with what to do about it
    Findings(Box<findings::ListOptions>),
    /// Show a finding with its evidence; write its remedy; set it aside
    Finding(Box<findings::FindingOptions>),
    /// Run recorded requests through a changed configuration, and say what would be different and for whom
    Rehearse(Box<rehearse::Options>),
    /// Check, rehearse and publish a changed configuration
    Publish(Box<publish::PublishOptions>),
    /// List published changes, and how they went
    Publications(show::listing::Listing),
    /// Say what became of a published change: before and after, against what its rehearsal promised
    Effect(publish::EffectOptions),
    /// Have the running service take its configuration anew
    Reload(reload::Reload),
    /// List the configurations that were in force
    Revisions(reload::Revisions),
    /// Bring back a configuration that was in force
    Restore(reload::Restore),
    /// Walk a site as a stranger would and name what should not be reachable
    Audit(audit::Options),
    /// Try every codec at every effort on a site's own files, and recommend settings
    Weigh(weigh::Options),
    /// Make the line that lets a user in where a login is asked for
    Password(password::Options),
    /// Print a link that signs in to the console, once
    SignIn(sign_in::Options),
    /// Import logs from elsewhere into the records, each request once
    Import(Box<import::Options>),
    /// List where the records come from: logs of the sites and imports, with what was not read
    Sources(source_list::Options),
    /// Tell this month's transfer against what is allowed, and when it runs out
    Allowance(allowance::Options),
    /// List the alerts of the running service, and how they are
    Alerts(alerts::ListOptions),
    /// Try an alert on the past; silence one; say that it was seen; when it was raised
    Alert(alerts::AlertOptions),
    /// List who is told of alerts, and whether anything waits for them
    Recipients(show::listing::Listing),
    /// Reports that the service makes by itself: list them, make one now, get one that was made
    Schedule(schedules::Options),
    /// List messages to recipients, read and try them
    Message(messages::Options),
    /// Erase one client from the records and the logs of the running service
    Erase(erase::Options),
    /// Copy both databases into a folder, while the service runs
    Backup(backup::BackupOptions),
    /// Restore a backup of both databases; the service must be stopped
    RestoreBackup(backup::RestoreOptions),
    /// Say who may use the console and its API by a name and a password
    Account(accounts::AccountOptions),
    /// Say which programs may use the API
    Token(accounts::TokenOptions),
    /// List what was changed by the API, and by whom
    Changes(accounts::ChangesOptions),
    /// Start Port Lindry: three sites, five weeks of past, and a little traffic
    Demo(demo::Options),
    /// List the facts that are known of a request
    Facts,
    /// List the settings of a configuration
    Settings,
    /// List the columns of logged requests: what reports count, filters look at and statements select
    Columns(Box<columns::Options>),
    /// List the statements with names: those that came with the program, and one's own
    Queries,
    /// Export requests as Parquet, CSV or lines of JSON, cut by site and day
    Export(Box<export::Options>),
    /// List the functions of statements, each with an example
    Functions,
    /// List the fields of layouts: what may stand in braces in a template
    Fields,
    /// Print the JSON Schema of `exedra report --as json`
    Schema,
    /// Print the licences and notices of everything inside this program
    Licences,
    /// Something else: a guess
    #[command(external_subcommand)]
    Other(Vec<OsString>),
}

fn main() -> ExitCode {
    let Arguments { command, width } = Arguments::parse();
    if let Some(width) = width {
        show::fit::ask_for(width);
    }
    let Some(command) = command else {
        guess::first_steps();
        return ExitCode::SUCCESS;
    };
    let result = match command {
        Command::Serve(options) => serve::run(&options),
        Command::Report(options) => report::run(&options),
        Command::Requests(options) => requests::run(&options),
        Command::Live(options) => live::run(&options),
        Command::Query(options) => query::run(&options),
        Command::Trail(options) => trail::run(&options),
        Command::Layout(options) => layout::run(&options),
        Command::Errors(options) => errors::run(&options),
        Command::Status(options) => status::run(&options),
        Command::Explain(options) => explain::run(&options),
        Command::Check(options) => check::run(&options),
        Command::Findings(options) => findings::list(&options),
        Command::Finding(options) => findings::run(&options),
        Command::Rehearse(options) => rehearse::run(&options),
        Command::Publish(options) => publish::run(&options),
        Command::Publications(options) => publish::list(&options),
        Command::Effect(options) => publish::effect(&options),
        Command::Reload(options) => reload::reload(&options),
        Command::Revisions(options) => reload::revisions(&options),
        Command::Restore(options) => reload::restore(&options),
        Command::Password(options) => password::run(&options),
        Command::Audit(options) => audit::run(&options),
        Command::Weigh(options) => weigh::run(&options),
        Command::SignIn(options) => sign_in::run(&options),
        Command::Import(options) => import::run(&options),
        Command::Sources(options) => source_list::run(&options),
        Command::Allowance(options) => allowance::run(&options),
        Command::Alerts(options) => alerts::list(&options),
        Command::Alert(options) => alerts::alert(&options),
        Command::Recipients(listing) => messages::recipients(&listing),
        Command::Schedule(options) => schedules::run(&options),
        Command::Message(options) => messages::run(&options),
        Command::Erase(options) => erase::run(&options),
        Command::Backup(options) => backup::make(&options),
        Command::RestoreBackup(options) => backup::bring_back(&options),
        Command::Account(options) => accounts::account(&options),
        Command::Token(options) => accounts::token(&options),
        Command::Changes(options) => accounts::changes(&options),
        Command::Demo(options) => demo::run(&options),
        Command::Facts => facts::run(),
        Command::Settings => settings::run(),
        Command::Columns(options) => columns::run(&options),
        Command::Queries => query::kept::list(),
        Command::Export(options) => export::run(&options),
        Command::Functions => query::functions::run(),
        Command::Fields => fields::run(),
        Command::Schema => schema::run(),
        Command::Licences => licences::run(),
        Command::Other(words) => guess::lead(&words, &Arguments::command()),
    };
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(Failure(words)) if words.is_empty() => ExitCode::FAILURE,
        Err(Failure(words)) => {
            crate::out::note!("{}", words.trim_end());
            ExitCode::FAILURE
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_two_options_of_a_command_are_the_same() {
        Arguments::command().debug_assert();
    }
}
