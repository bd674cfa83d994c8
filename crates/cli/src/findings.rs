//! `exedra findings`, `exedra finding`: what deserves attention on the sites of the running service, and what to do about it.

use crate::failure::Failure;
use crate::form::Form;
use crate::out::{ATTENTION, QUIET, STRONG, TROUBLE, WELL, ours};
use crate::scope::ScopeOptions;
use crate::service::{Service, encoded, in_path};
use crate::show::fit::width;
use crate::show::text::{Drawing, wrapped};
use clap::{Args, Subcommand};
use exedra_acting::findings::{Finding, Sureness};
use exedra_acting::remedy::DifferenceLine;
use exedra_api::findings::{Findings, NewSetAside, Remedies, SetAsideFinding, WantedRemedies};
use exedra_common::figures::{grouped, several};
use exedra_common::text::nearest;
use jiff::tz::TimeZone;
use std::path::PathBuf;

/// What `exedra findings` takes.
#[derive(Args)]
pub struct ListOptions {
    #[command(flatten)]
    service: Service,
    /// The requests that are looked at: the last four weeks where no period is named
    #[command(flatten)]
    scope: ScopeOptions,
    /// Only what weighs so much: people it touches, or as many times 10 MB
    #[arg(long, value_name = "WEIGHT", default_value_t = 10.0)]
    least: f64,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// What `exedra finding` takes.
#[derive(Args)]
pub struct FindingOptions {
    #[command(subcommand)]
    command: FindingCommand,
}

#[derive(Subcommand)]
enum FindingCommand {
    /// Show one with its evidence, and its remedy as a difference
    Show(ShowOptions),
    /// Write the remedies of some into a copy of the configuration, to be rehearsed and published
    Remedy(RemedyOptions),
    /// Set one aside, with why and until when
    SetAside(AsideOptions),
    /// Tell one again that was set aside
    BringBack(BackOptions),
}

#[derive(Args)]
struct ShowOptions {
    /// What it is known by, as `exedra findings` lists it
    id: String,
    #[command(flatten)]
    service: Service,
    #[command(flatten)]
    scope: ScopeOptions,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

#[derive(Args)]
struct RemedyOptions {
    /// What they are known by
    #[arg(required = true)]
    ids: Vec<String>,
    /// The file that is written, beside the configuration; without it the difference is only shown
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
    #[command(flatten)]
    service: Service,
    #[command(flatten)]
    scope: ScopeOptions,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

#[derive(Args)]
struct AsideOptions {
    /// What it is known by
    id: String,
    /// Why
    #[arg(long, value_name = "WORDS")]
    reason: String,
    /// For how long, as in "30 days"; for good where nothing ends it
    #[arg(long = "for", value_name = "LENGTH")]
    time: Option<String>,
    /// Until it weighs twice as much
    #[arg(long)]
    until_doubled: bool,
    #[command(flatten)]
    service: Service,
    #[command(flatten)]
    scope: ScopeOptions,
}

#[derive(Args)]
struct BackOptions {
    /// What it is known by
    id: String,
    #[command(flatten)]
    service: Service,
}

/// Lists them. Fails where there is any that weighs enough.
pub fn list(options: &ListOptions) -> Result<(), Failure> {
    let mut query = options.scope.query()?;
    query.push(("least", options.least.to_string()));
    let told: Findings = options.service.get(&format!("findings?{}", encoded(&query)))?;
    match options.form {
        Form::Json => crate::out::json(&told)?,
        Form::Text => print(&told),
    }
    if told.findings.is_empty() { Ok(()) } else { Err(Failure(String::new())) }
}

fn print(told: &Findings) {
    let since =
        told.from.as_deref().map_or(String::new(), |from| format!(" since {}", &from[..from.len().min(10)]));
    crate::out::line!(
        "{STRONG}{}{STRONG:#}  {QUIET}in {}{since}, looked through in {:.1} s{QUIET:#}",
        match told.findings.len() {
            0 => "Nothing deserves attention".to_owned(),
            1 => "One thing deserves attention".to_owned(),
            count => format!("{count} things deserve attention"),
        },
        several(told.requests, "request", "requests"),
        told.took_ms / 1000.0
    );
    for finding in &told.findings {
        crate::out::line!();
        head(finding);
        let what = match (&finding.remedy, &finding.advice) {
            (Some(remedy), _) => format!("{WELL}→ {}{WELL:#}", remedy.words),
            (None, Some(advice)) => wrapped(advice, width().saturating_sub(6)).join("\n      "),
            (None, None) => String::new(),
        };
        if !what.is_empty() {
            crate::out::line!("    {what}");
        }
    }
    crate::out::line!();
    if told.below > 0 {
        crate::out::line!("{QUIET}{} weigh less: --least 0 shows them.{QUIET:#}", grouped(told.below));
    }
    for aside in told.set_aside.iter().filter(|aside| aside.is_found) {
        crate::out::line!(
            "{QUIET}Set aside {}: {} ({}; {}).{QUIET:#}",
            aside.until,
            aside.title,
            aside.reason,
            aside.id
        );
    }
    for caveat in &told.caveats {
        crate::out::line!("{QUIET}{caveat}.{QUIET:#}");
    }
    if !told.findings.is_empty() {
        crate::out::line!(
            "{QUIET}`exedra finding show ID` shows one with its evidence; `exedra finding remedy ID… --to changed.toml` writes what helps, \
             and `exedra rehearse --config changed.toml` tries it on what was recorded.{QUIET:#}"
        );
    }
}

/// What was found, and what it costs.
fn head(finding: &Finding) {
    let style = if finding.people > 0 || finding.weight >= 1000.0 { TROUBLE } else { ATTENTION };
    crate::out::line!("{style}{}{style:#}  {STRONG}{}{STRONG:#}", finding.id, finding.title);
    let sure = match finding.sureness {
        Sureness::Certain => String::new(),
        other => format!("; {}", other.word()),
    };
    crate::out::line!("    {}  {QUIET}{}{sure}{QUIET:#}", finding.cost, finding.site);
}

/// One finding or another that is asked for by name.
pub fn run(options: &FindingOptions) -> Result<(), Failure> {
    match &options.command {
        FindingCommand::Show(options) => show(options),
        FindingCommand::Remedy(options) => remedy(options),
        FindingCommand::SetAside(options) => set_aside(options),
        FindingCommand::BringBack(options) => {
            options.service.delete(&format!("findings/{}/aside", in_path(&options.id)))?;
            crate::out::line!("`{}` is told again.", options.id);
            Ok(())
        }
    }
}

fn finding_of(service: &Service, scope: &ScopeOptions, id: &str) -> Result<Finding, Failure> {
    let mut query = scope.query()?;
    query.push(("least", "0".to_owned()));
    let told: Findings = service.get(&format!("findings?{}", encoded(&query)))?;
    let known: Vec<String> = told.findings.iter().map(|finding| finding.id.clone()).collect();
    told.findings.into_iter().find(|finding| finding.id == id).ok_or_else(|| {
        if let Some(aside) = told.set_aside.iter().find(|aside| aside.id == id) {
            return Failure(format!(
                "`{id}` is set aside {} ({}): exedra finding bring-back {id}",
                aside.until, aside.reason
            ));
        }
        let near = nearest(id, known.iter().map(String::as_str));
        let near = near.map_or(String::new(), |near| format!(": did you mean `{near}`?"));
        Failure(format!("there is no finding `{id}` in this scope{near}"))
    })
}

fn show(options: &ShowOptions) -> Result<(), Failure> {
    let finding = finding_of(&options.service, &options.scope, &options.id)?;
    if options.form == Form::Json {
        return Ok(crate::out::json(&finding)?);
    }
    head(&finding);
    for reason in &finding.reasons {
        crate::out::line!("    {QUIET}·{QUIET:#} {reason}");
    }
    let drawing = Drawing { width: width(), zone: &TimeZone::UTC, rows: usize::MAX, more: "" };
    crate::out::text!("{}", drawing.table(&finding.evidence));
    crate::out::line!();
    crate::out::line!("{QUIET}{}{QUIET:#}", finding.command);
    if let Some(advice) = &finding.advice {
        crate::out::line!();
        crate::out::line!("{}", wrapped(advice, width()).join("\n"));
    }
    if let Some(remedy) = &finding.remedy {
        crate::out::line!();
        crate::out::line!("{STRONG}Remedy{STRONG:#}  {}", remedy.words);
        let told = remedies(&options.service, &options.scope, std::slice::from_ref(&options.id))?;
        differences(&told);
        crate::out::line!("{QUIET}exedra finding remedy {} --to changed.toml{QUIET:#}", options.id);
    }
    Ok(())
}

fn remedies(service: &Service, scope: &ScopeOptions, ids: &[String]) -> Result<Remedies, Failure> {
    let wanted = WantedRemedies { findings: ids.to_vec() };
    service.send(&format!("findings/remedies?{}", encoded(&scope.query()?)), &wanted)
}

fn differences(told: &Remedies) {
    for file in &told.files {
        crate::out::line!("{QUIET}{}{QUIET:#}", file.name);
        file.difference.iter().for_each(line);
    }
}

fn line(line: &DifferenceLine) {
    let text = ours(&line.text);
    match line.sign {
        '+' => crate::out::line!("{WELL}{:>5} + {text}{WELL:#}", line.line),
        '-' => crate::out::line!("{TROUBLE}{:>5} − {text}{TROUBLE:#}", line.line),
        '~' => crate::out::line!("{QUIET}    …{QUIET:#}"),
        _ => crate::out::line!("{QUIET}{:>5}   {text}{QUIET:#}", line.line),
    }
}

fn remedy(options: &RemedyOptions) -> Result<(), Failure> {
    let told = remedies(&options.service, &options.scope, &options.ids)?;
    if options.form == Form::Json {
        return Ok(crate::out::json(&told)?);
    }
    for words in &told.words {
        crate::out::line!("{WELL}→ {words}{WELL:#}");
    }
    differences(&told);
    let Some(to) = &options.to else { return Ok(()) };
    let (main, others): (Vec<_>, Vec<_>) = told.files.iter().partition(|file| file.is_main);
    if let Some(other) = others.first() {
        return Err(Failure(format!(
            "{} differs, which the configuration includes: --to is about its main file. Change that file itself, then: exedra rehearse",
            other.name
        )));
    }
    let Some(main) = main.first() else {
        return Err(Failure("nothing differs: the remedy is written already".to_owned()));
    };
    std::fs::write(to, &main.text)
        .map_err(|error| Failure(format!("{} cannot be written: {error}", to.display())))?;
    crate::out::line!();
    crate::out::line!(
        "Written to {0}. Try it on what was recorded: exedra rehearse --config {0}; then: exedra publish --config {0}",
        to.display()
    );
    Ok(())
}

fn set_aside(options: &AsideOptions) -> Result<(), Failure> {
    let finding = finding_of(&options.service, &options.scope, &options.id)?;
    let new = NewSetAside {
        reason: options.reason.clone(),
        time: options.time.clone(),
        until_doubled: options.until_doubled,
        title: finding.title,
        site: finding.site,
        weight: finding.weight,
    };
    let aside: SetAsideFinding =
        options.service.send(&format!("findings/{}/aside", in_path(&options.id)), &new)?;
    crate::out::line!("`{}` is set aside {}.", aside.id, aside.until);
    Ok(())
}
