//! `exedra reload`, `exedra revisions`, `exedra restore`: configurations that come into force, and those that were.

use crate::failure::Failure;
use crate::form::Form;
use crate::out::{QUIET, WELL};
use crate::service::Service;
use clap::Args;
use exedra_api::sites::{Changed, Revision};

/// What `exedra reload` takes.
#[derive(Args)]
pub struct Reload {
    #[command(flatten)]
    service: Service,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// What `exedra revisions` takes.
#[derive(Args)]
pub struct Revisions {
    /// Only those before the one of this number
    #[arg(long, value_name = "NUMBER")]
    before: Option<i32>,
    #[command(flatten)]
    service: Service,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// What `exedra restore` takes.
#[derive(Args)]
pub struct Restore {
    /// The number of the revision, as `exedra revisions` lists them
    number: i32,
    #[command(flatten)]
    service: Service,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// Has the configuration brought into force as it is written now.
pub fn reload(options: &Reload) -> Result<(), Failure> {
    let changed: Changed = options.service.post("reload")?;
    say(&changed, options.form)
}

/// Has a configuration brought back that was in force.
pub fn restore(options: &Restore) -> Result<(), Failure> {
    let changed: Changed = options.service.post(&format!("revisions/{}/restore", options.number))?;
    say(&changed, options.form)
}

fn say(changed: &Changed, form: Form) -> Result<(), Failure> {
    match form {
        Form::Json => crate::out::json(changed)?,
        Form::Text if changed.in_force => {
            crate::out::text!("{}", crate::out::ours(&changed.drawn));
            let revision = changed.revision.unwrap_or_default();
            match changed.is_new {
                true => crate::out::line!("{WELL}Revision {revision} is in force.{WELL:#}"),
                false => crate::out::line!(
                    "{WELL}Nothing has changed; revision {revision} stays in force.{WELL:#}"
                ),
            }
            if !changed.later.is_empty() {
                crate::out::line!("When the service is started anew: {}.", changed.later.join(", "));
            }
        }
        Form::Text => {}
    }
    match changed.in_force {
        true => Ok(()),
        false if form == Form::Json => Err(Failure(String::new())),
        false => Err(Failure(format!(
            "{}\nReload refused; the old configuration stays in force.",
            crate::out::ours(changed.drawn.trim_end())
        ))),
    }
}

/// Lists the configurations that were in force.
pub fn revisions(options: &Revisions) -> Result<(), Failure> {
    let before = options.before.map_or(String::new(), |number| format!("?before={number}"));
    let all: Vec<Revision> = options.service.get(&format!("revisions{before}"))?;
    if options.form == Form::Json {
        crate::out::json(&all)?;
        return Ok(());
    }
    for revision in &all {
        let made = revision.made.replace('T', " ").trim_end_matches('Z').to_owned();
        let lines = format!("+{} −{}", revision.added, revision.removed);
        let now = if revision.in_force { "in force" } else { "" };
        crate::out::line!(
            "{:>5}  {made}  {lines:>12}  {WELL}{now:<8}{WELL:#}  {QUIET}{}{QUIET:#}",
            revision.number,
            revision.files.join(", ")
        );
    }
    if let Some(last) = all.last().filter(|last| last.number > 1) {
        crate::out::line!("{QUIET}Earlier ones: --before {}.{QUIET:#}", last.number);
    }
    crate::out::line!("{QUIET}Times are UTC. `exedra restore NUMBER` brings one back.{QUIET:#}");
    Ok(())
}
