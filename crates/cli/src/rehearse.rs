//! `exedra rehearse`: recorded requests run through a changed configuration, and every answer that would differ, before anybody meets it.

use crate::failure::Failure;
use crate::out::{ATTENTION, QUIET, STRONG, TROUBLE, WELL, ours};
use crate::scope::ScopeOptions;
use crate::service::{Reach, Service, encoded};
use crate::show::fit::{shorten, width};
use clap::{Args, ValueEnum};
use exedra_acting::rehearsal::RehearsalGroup;
use exedra_api::rehearsals::{NewRehearsal, Rehearsed};
use exedra_common::figures::{bytes, grouped, several, share};
use exedra_common::tables::csv;
use exedra_common::text::capital;
use std::path::PathBuf;

/// What `exedra rehearse` takes.
#[derive(Args)]
pub struct Options {
    /// The changed configuration: a file beside the one in force, or that file itself before it is reloaded
    #[arg(long, value_name = "FILE", default_value = "exedra.toml")]
    pub config: PathBuf,
    #[command(flatten)]
    reach: Reach,
    /// The requests that are run: the last four weeks where no period is named
    #[command(flatten)]
    scope: ScopeOptions,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: RehearsalForm,
}

/// The form of a rehearsal.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum RehearsalForm {
    /// For people
    Text,
    /// For programs
    Json,
    /// The table of what differs, for spreadsheets
    Csv,
}

/// How many paths are shown of each difference.
const EXAMPLES: usize = 3;

/// Has it rehearsed, and shows what would be different. Fails where somebody would be worse off.
pub fn run(options: &Options) -> Result<(), Failure> {
    let service = Service { config: options.config.clone(), reach: options.reach.clone() };
    let rehearsed = rehearse(&service, &options.scope)?;
    match options.form {
        RehearsalForm::Json => crate::out::json(&rehearsed)?,
        RehearsalForm::Csv => crate::out::text!("{}", ours(&csv::table(&rehearsed.table))),
        RehearsalForm::Text => print(&rehearsed),
    }
    match rehearsed.is_sound && !rehearsed.is_worse {
        true => Ok(()),
        false => Err(Failure(String::new())),
    }
}

/// Rehearses the file that a service is found by, on the requests of a scope.
pub fn rehearse(service: &Service, scope: &ScopeOptions) -> Result<Rehearsed, Failure> {
    let text = crate::configuration::text(&service.config)?;
    let called = Some(service.config.display().to_string());
    let new = NewRehearsal { files: Vec::new(), main: Some(text), called };
    service.send(&format!("rehearsals?{}", encoded(&scope.query()?)), &new)
}

/// A rehearsal for people.
pub fn print(rehearsed: &Rehearsed) {
    for found in rehearsed.found.iter().filter(|found| found.severity == "error" || !rehearsed.is_sound) {
        let remedy = found.remedy.as_ref().map_or(String::new(), |remedy| format!(" ({remedy})"));
        crate::out::line!(
            "{TROUBLE}{}:{}{TROUBLE:#}  {}: {}{remedy}",
            found.file,
            found.line,
            found.message,
            found.reason
        );
    }
    if !rehearsed.is_sound {
        crate::out::line!("Nothing was rehearsed: this configuration could not come into force.");
        return;
    }
    let outcome = &rehearsed.outcome;
    let since = rehearsed.from.as_deref().map_or(String::new(), |from| format!(" since {}", day(from)));
    crate::out::line!(
        "{STRONG}{} rehearsed{since}{STRONG:#}  {QUIET}{} told apart, in {:.1} s{QUIET:#}",
        several(outcome.requests, "request", "requests"),
        grouped(outcome.distinct),
        rehearsed.took_ms / 1000.0
    );
    crate::out::line!("{}.", capital(&outcome.about()));
    if outcome.requests > 0 && outcome.alike < outcome.requests {
        crate::out::line!(
            "{QUIET}The configuration in force answers {} of them today as they were answered then.{QUIET:#}",
            share(outcome.alike, outcome.requests)
        );
    }
    outcome.groups.iter().for_each(group);
    if !outcome.unsure.is_empty() {
        crate::out::line!();
        crate::out::line!(
            "{STRONG}Cannot tell{STRONG:#}  {QUIET}the log does not hold what these depend on{QUIET:#}"
        );
        for unsure in &outcome.unsure {
            crate::out::line!(
                "  {:>10}  {}  {QUIET}as {}{QUIET:#}",
                grouped(unsure.requests),
                unsure.lacking,
                unsure.example
            );
        }
    }
    for caveat in &outcome.caveats {
        crate::out::line!("{QUIET}{}.{QUIET:#}", capital(caveat));
    }
    let remarks = rehearsed.found.len();
    if remarks > 0 {
        crate::out::line!();
        crate::out::line!(
            "{QUIET}The check has {}: exedra check{QUIET:#}",
            several(remarks as u64, "remark", "remarks")
        );
    }
    crate::out::line!();
    match rehearsed.is_worse {
        true => crate::out::line!("{TROUBLE}Somebody would be worse off.{TROUBLE:#}"),
        false if outcome.groups.is_empty() => crate::out::line!("{WELL}Nobody would notice.{WELL:#}"),
        false => crate::out::line!("{WELL}Nobody would be worse off.{WELL:#}"),
    }
}

fn group(group: &RehearsalGroup) {
    crate::out::line!();
    let style = match group.change {
        change if change.is_worse() => TROUBLE,
        change if change.is_better() => WELL,
        _ => ATTENTION,
    };
    let people = match (group.people, group.of_programs) {
        (0, 0) => String::new(),
        (0, _) => "bots and crawlers only".to_owned(),
        (people, 0) => counted(people),
        (people, programs) => format!("{}, {} of bots and crawlers", counted(people), grouped(programs)),
    };
    crate::out::line!(
        "{style}{}{style:#}  {STRONG}{}{STRONG:#}  {people}  {QUIET}{}{QUIET:#}",
        capital(group.change.words()),
        several(group.requests, "request", "requests"),
        group.site
    );
    let place = match (&group.cause.file, group.cause.line) {
        (Some(file), Some(line)) => format!("  {QUIET}{file}:{line}{QUIET:#}"),
        (Some(file), None) => format!("  {QUIET}{file}{QUIET:#}"),
        (None, _) => String::new(),
    };
    let gone = if group.cause.is_new { "" } else { ", which is no longer there" };
    crate::out::line!("    because of {}{gone}{place}", group.cause.what);
    if let Some(words) = transfer(group) {
        crate::out::line!("    {words}");
    }
    for example in group.examples.iter().take(EXAMPLES) {
        let room = width().saturating_sub(18);
        let words = format!("{}: {} → {}", example.path, example.before, example.after);
        crate::out::line!("    {:>8}  {}", grouped(example.requests), shorten(&words, room));
    }
    let others = (group.examples.len() as u64 + group.more_paths).saturating_sub(EXAMPLES as u64);
    if others > 0 {
        crate::out::line!(
            "    {QUIET}{:>8}  and {}{QUIET:#}",
            "",
            several(others, "other path", "other paths")
        );
    }
}

/// What it means for transfer and caches, where it means something.
fn transfer(group: &RehearsalGroup) -> Option<String> {
    let mut parts = Vec::new();
    let (before, after) = (group.bytes_before, group.bytes_after);
    if before.abs_diff(after) * 100 > before.max(after) {
        let (size, word) = if after < before { (before - after, "less") } else { (after - before, "more") };
        parts.push(format!("{} {word} sent: {} instead of {}", bytes(size), bytes(after), bytes(before)));
    }
    if group.spared > 0 {
        parts.push(format!("{} would not be made", several(group.spared, "request", "requests")));
    }
    if group.revalidated > 0 {
        parts.push(format!(
            "{} would have to fetch again what they had",
            several(group.revalidated, "request", "requests")
        ));
    }
    (!parts.is_empty()).then(|| parts.join("; "))
}

fn counted(people: u64) -> String {
    if people == 1 { "1 person".to_owned() } else { format!("{} people", grouped(people)) }
}

fn day(time: &str) -> &str {
    time.get(..10).unwrap_or(time)
}
