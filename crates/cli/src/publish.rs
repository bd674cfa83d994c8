//! `exedra publish`, `exedra publications`, `exedra effect`: a changed configuration checked, rehearsed and brought into force; and what
//! became of it.

use crate::failure::Failure;
use crate::form::Form;
use crate::out::{ATTENTION, QUIET, STRONG, TROUBLE, WELL};
use crate::rehearse;
use crate::scope::ScopeOptions;
use crate::service::{Reach, Service};
use crate::show::fit::width;
use crate::show::listing::{Listing, minute};
use crate::show::text::Drawing;
use clap::Args;
use exedra_api::configuration::{ConfigurationFiles, DraftFile, DraftFiles};
use exedra_api::publications::{Publication, PublicationEffect};
use exedra_api::rehearsals::Rehearsed;
use exedra_api::sites::Changed;
use jiff::tz::TimeZone;
use serde::Serialize;
use std::path::PathBuf;

/// What `exedra publish` takes.
#[derive(Args)]
pub struct PublishOptions {
    /// The changed configuration, a file beside the one in force: its text takes the place of that one's
    #[arg(long, value_name = "FILE", default_value = "exedra.toml")]
    config: PathBuf,
    #[command(flatten)]
    reach: Reach,
    /// Why, for whoever comes after you
    #[arg(long, value_name = "WORDS", default_value = "")]
    reason: String,
    /// Publish it also where its rehearsal says that somebody would be worse off
    #[arg(long)]
    anyway: bool,
    /// The requests that are rehearsed: the last four weeks where no period is named
    #[command(flatten)]
    scope: ScopeOptions,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// What `exedra effect` takes.
#[derive(Args)]
pub struct EffectOptions {
    /// The revision that was published; the latest one where none is named
    revision: Option<i32>,
    #[command(flatten)]
    service: Service,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// What came of publishing, for programs.
#[derive(Serialize)]
struct Published {
    rehearsed: Rehearsed,
    /// Absent where it was not published.
    changed: Option<Changed>,
}

/// Checks, rehearses and publishes. Nothing is published where somebody would be worse off, unless that is wanted.
pub fn run(options: &PublishOptions) -> Result<(), Failure> {
    let service = Service { config: options.config.clone(), reach: options.reach.clone() };
    let rehearsed = rehearse::rehearse(&service, &options.scope)?;
    let is_text = options.form == Form::Text;
    if is_text {
        rehearse::print(&rehearsed);
    }
    if !rehearsed.is_sound || (rehearsed.is_worse && !options.anyway) {
        if !is_text {
            crate::out::json(&Published { rehearsed, changed: None })?;
            return Err(Failure(String::new()));
        }
        return Err(Failure(match rehearsed.is_sound {
            true => "Not published. If that is meant: --anyway".to_owned(),
            false => "Not published.".to_owned(),
        }));
    }
    let text = crate::configuration::text(&options.config)?;
    let files: ConfigurationFiles = service.get("configuration")?;
    let main = files.files.into_iter().next();
    let main = main.ok_or_else(|| Failure("the service has no configuration file".to_owned()))?;
    let file = DraftFile { name: main.name.clone(), text, version: Some(main.version) };
    let reason = (!options.reason.is_empty()).then(|| options.reason.clone());
    let changed: Changed = service.send("configuration", &DraftFiles { files: vec![file], reason })?;
    if !is_text {
        let in_force = changed.in_force;
        crate::out::json(&Published { rehearsed, changed: Some(changed) })?;
        return if in_force { Ok(()) } else { Err(Failure(String::new())) };
    }
    match (changed.in_force, changed.revision) {
        (true, Some(revision)) if changed.is_new => {
            crate::out::line!(
                "{WELL}Published: revision {revision} is in force, written to {}.{WELL:#} {QUIET}Its first minutes are watched; `exedra effect` \
                 says what becomes of it, `exedra restore {}` takes it back.{QUIET:#}",
                main.name,
                files.revision
            );
            Ok(())
        }
        (true, _) => {
            crate::out::line!("{WELL}Nothing has changed.{WELL:#}");
            Ok(())
        }
        (false, _) => Err(Failure(format!(
            "{}\nNot published; the old configuration stays in force.",
            crate::out::ours(changed.drawn.trim_end())
        ))),
    }
}

/// Lists published changes.
pub fn list(options: &Listing) -> Result<(), Failure> {
    let all: Vec<Publication> = options.service.get("publications")?;
    if options.form == Form::Json {
        return Ok(crate::out::json(&all)?);
    }
    if all.is_empty() {
        crate::out::note!("Nothing has been published by the console or `exedra publish`.");
    }
    all.iter().for_each(head);
    Ok(())
}

fn head(publication: &Publication) {
    let style = match &*publication.state {
        "well" => WELL,
        "failing" | "taken back" => TROUBLE,
        _ => ATTENTION,
    };
    let reason = if publication.reason.is_empty() { "without a reason" } else { &publication.reason };
    let now = if publication.in_force { ", in force" } else { "" };
    crate::out::line!(
        "{STRONG}{:>5}{STRONG:#}  {}  {style}{}{style:#}{now}  {STRONG}{reason}{STRONG:#}  {QUIET}{}{QUIET:#}",
        publication.revision,
        minute(&publication.made),
        publication.state,
        publication.made_by
    );
    if let Some(promised) = &publication.promised {
        crate::out::line!("       {QUIET}rehearsed: {promised}{QUIET:#}");
    }
    if !publication.said.is_empty() {
        crate::out::line!("       {}", publication.said);
    }
}

/// Says what became of a change.
pub fn effect(options: &EffectOptions) -> Result<(), Failure> {
    let revision = match options.revision {
        Some(revision) => revision,
        None => {
            let all: Vec<Publication> = options.service.get("publications")?;
            let latest = all.first().ok_or_else(|| {
                Failure("Nothing has been published by the console or `exedra publish`.".to_owned())
            })?;
            latest.revision
        }
    };
    let effect: PublicationEffect = options.service.get(&format!("publications/{revision}/effect"))?;
    if options.form == Form::Json {
        return Ok(crate::out::json(&effect)?);
    }
    head(&effect.publication);
    if effect.promised.is_none() {
        crate::out::line!();
        crate::out::line!("It was not rehearsed: what it touched is not known.");
        return Ok(());
    }
    let drawing = Drawing { width: width(), zone: &TimeZone::UTC, rows: usize::MAX, more: "" };
    let drawn = drawing.table(&effect.table);
    match drawn.is_empty() {
        true => crate::out::line!("Its rehearsal promised that nothing would be different."),
        false => crate::out::text!("{drawn}"),
    }
    for unknown in &effect.table.unknown {
        crate::out::line!("{QUIET}{unknown}.{QUIET:#}");
    }
    Ok(())
}
