//! `exedra schedule`: reports that the running service makes by itself.

use crate::failure::Failure;
use crate::form::Form;
use crate::out::{ATTENTION, QUIET, STRONG};
use crate::service::{Service, in_path};
use crate::show::listing::{Listing, listed, minute};
use clap::{Args, Subcommand};
use exedra_api::schedules::{ReportRun, ScheduledReport};
use exedra_common::figures::bytes;
use std::path::PathBuf;

/// What `exedra schedule` takes.
#[derive(Args)]
pub struct Options {
    #[command(subcommand)]
    what: ScheduleCommand,
}

#[derive(Subcommand)]
enum ScheduleCommand {
    /// List the scheduled reports of the configuration, and when each is made next
    List(Listing),
    /// List reports that were made, the latest first
    Runs(RunsOptions),
    /// Make a scheduled report now, and send it to its recipients
    Run(NameOptions),
    /// Write a report that was made to a file
    Get(GetOptions),
}

#[derive(Args)]
struct RunsOptions {
    /// Only those before the one of this number
    #[arg(long, value_name = "NUMBER")]
    before: Option<i32>,
    #[command(flatten)]
    listing: Listing,
}

#[derive(Args)]
struct NameOptions {
    /// Its name
    name: String,
    #[command(flatten)]
    service: Service,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

#[derive(Args)]
struct GetOptions {
    /// Its number, as `exedra schedule runs` says it
    number: i32,
    /// The file
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
    #[command(flatten)]
    service: Service,
}

/// Does what is asked about them.
pub fn run(options: &Options) -> Result<(), Failure> {
    match &options.what {
        ScheduleCommand::List(listing) => {
            let all: Vec<ScheduledReport> = listing.service.get("scheduled-reports")?;
            let none = "No report is scheduled. One is written as in [[report]] with name = \"the week\", \
                        every = \"monday 07:00\" and tell = [\"office\"].";
            listed(listing.form, &all, none, ["report", "every", "of", "next", "to", "scope"], |one| {
                let next = one.next.as_deref().map_or_else(String::new, minute);
                let to: Vec<&str> =
                    one.tell.iter().map(String::as_str).chain(one.folder.as_deref()).collect();
                let scope = if one.masked { ["masked"].into_iter() } else { [""].into_iter() };
                let scope: Vec<&str> = one.scope.iter().map(String::as_str).chain(scope).collect();
                [one.name.clone(), one.every.clone(), one.of.clone(), next, to.join(", "), scope.join(" ")]
            })
        }
        ScheduleCommand::Runs(options) => {
            let before = options.before.map_or(String::new(), |before| format!("?before={before}"));
            let all: Vec<ReportRun> = options.listing.service.get(&format!("report-runs{before}"))?;
            let columns = ["number", "made", "report", "days", "file"];
            listed(options.listing.form, &all, "no report was made", columns, |one| {
                let file = match (&one.failure, one.is_kept) {
                    (Some(failure), _) => format!("not made: {failure}"),
                    (None, true) => bytes(one.octets),
                    (None, false) => "no longer kept".to_owned(),
                };
                [one.number.to_string(), minute(&one.made), one.report.clone(), one.days.clone(), file]
            })
        }
        ScheduleCommand::Run(options) => {
            let call = format!("scheduled-reports/{}/run", in_path(&options.name));
            let run: ReportRun = options.service.post_and_wait(&call)?;
            if options.form == Form::Json {
                return Ok(crate::out::json(&run)?);
            }
            let mut lines = run.summary.lines();
            crate::out::line!("{STRONG}{}{STRONG:#}", lines.next().unwrap_or_default());
            lines.for_each(|line| crate::out::line!("{line}"));
            crate::out::line!(
                "{QUIET}{}, exedra schedule get {} --out report.html{QUIET:#}",
                bytes(run.octets),
                run.number
            );
            Ok(())
        }
        ScheduleCommand::Get(options) => {
            let text = options.service.get_octets(&format!("report-runs/{}/file", options.number))?;
            std::fs::write(&options.out, &text)
                .map_err(|error| Failure(format!("{} cannot be written: {error}", options.out.display())))?;
            crate::out::line!(
                "{ATTENTION}{}{ATTENTION:#}  {}",
                options.out.display(),
                bytes(text.len() as u64)
            );
            Ok(())
        }
    }
}
