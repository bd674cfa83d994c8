//! An explanation for people: the request, the steps, the codecs, and what would go out.

use super::{Explained, Options};
use crate::out::{ATTENTION, QUIET, STRONG, TROUBLE, Tone, WELL};
use exedra_api::explaining::{FactValue, Setting, Step};
use exedra_common::figures::grouped;
use std::io::{self, Write};

/// Prints it.
pub fn print(explained: &Explained, options: &Options) -> io::Result<()> {
    let Explained { explanation, live } = explained;
    let (request, steps) = (&explanation.request, &explanation.steps);
    let (codecs, answer) = (&explanation.codecs, &explanation.answer);
    let mut out = crate::out::stdout();
    writeln!(out, "{STRONG}{} {}{STRONG:#}", request.method, request.address())?;
    match options.facts {
        true => print_facts(&mut out, &explanation.facts)?,
        false => {
            for (name, value) in &request.headers {
                writeln!(out, "{QUIET}  {name}: {value}{QUIET:#}")?;
            }
            writeln!(out, "{QUIET}  from {}{QUIET:#}\n", request.client)?;
        }
    }
    print_steps(&mut out, steps)?;
    if !codecs.is_empty() {
        writeln!(out)?;
        for codec in codecs {
            let (style, mark) = if codec.used { (WELL, "yes") } else { (QUIET, "no ") };
            writeln!(out, "{:<10}{style}{mark}{style:#}  {}", codec.codec, codec.why)?;
        }
        if let Some(form) = steps.iter().rev().find(|step| step.about == "form") {
            writeln!(out, "{:<10}{}", "sent", form.words)?;
        }
    }

    let style = match answer.status {
        ..400 => WELL,
        400..500 => ATTENTION,
        _ => TROUBLE,
    };
    writeln!(out, "\n{style}{} {}{style:#}", answer.status, answer.reason)?;
    for (name, value) in &answer.headers {
        writeln!(out, "  {name}: {value}")?;
    }
    let bytes = answer
        .bytes
        .map_or("a body of unknown length".to_owned(), |bytes| format!("{} bytes", grouped(bytes)));
    match &answer.file {
        Some(file) => writeln!(out, "  {QUIET}{bytes} from {file}{QUIET:#}")?,
        None => writeln!(out, "  {QUIET}{bytes}{QUIET:#}")?,
    }
    if options.settings {
        print_settings(&mut out, &explanation.settings)?;
    }
    if let Some(live) = live {
        match live.agrees {
            true => writeln!(out, "\n{WELL}The running service at {} answers just so.{WELL:#}", live.at)?,
            false => {
                writeln!(out, "\n{TROUBLE}The running service at {} answers otherwise:{TROUBLE:#}", live.at)?;
                for difference in &live.differences {
                    writeln!(out, "  {difference}")?;
                }
            }
        }
    }
    Ok(())
}

/// What was decided, in order. Rules about other paths are only counted.
fn print_steps(out: &mut impl Write, steps: &[Step]) -> io::Result<()> {
    let mut passed_by = 0;
    for step in steps.iter().filter(|step| step.about != "form") {
        if step.in_vain && step.words.contains(" does not fit: it is about ") {
            passed_by += 1;
            continue;
        }
        count(out, &mut passed_by)?;
        let style = if step.in_vain { QUIET } else { Tone::PLAIN };
        write!(out, "{style}{:<10}{}{style:#}", step.about, step.words)?;
        match (&step.file, step.line) {
            (Some(file), Some(line)) => writeln!(out, "  {QUIET}{file}:{line}{QUIET:#}")?,
            _ => writeln!(out)?,
        }
    }
    count(out, &mut passed_by)
}

fn count(out: &mut impl Write, passed_by: &mut usize) -> io::Result<()> {
    match std::mem::take(passed_by) {
        0 => Ok(()),
        1 => writeln!(out, "{QUIET}{:<10}1 rule is about other paths{QUIET:#}", "rule"),
        count => writeln!(out, "{QUIET}{:<10}{count} rules are about other paths{QUIET:#}", "rule"),
    }
}

fn print_facts(out: &mut impl Write, facts: &[FactValue]) -> io::Result<()> {
    let width = facts.iter().map(|fact| fact.name.len()).max().unwrap_or(0);
    for fact in facts {
        match &fact.value {
            Some(value) => writeln!(out, "  {:<width$}  {value}", fact.name)?,
            None => writeln!(out, "{QUIET}  {:<width$}  none{QUIET:#}", fact.name)?,
        }
    }
    writeln!(out)
}

fn print_settings(out: &mut impl Write, settings: &[Setting]) -> io::Result<()> {
    writeln!(out, "\n{STRONG}in effect{STRONG:#}")?;
    let width = settings.iter().map(|setting| setting.name.len()).max().unwrap_or(0);
    for setting in settings {
        write!(out, "  {:<width$}  {}", setting.name, setting.value)?;
        match (&setting.file, setting.line) {
            (Some(file), Some(line)) => writeln!(out, "  {QUIET}{file}:{line}{QUIET:#}")?,
            _ => writeln!(out, "  {QUIET}where nothing is said{QUIET:#}")?,
        }
    }
    Ok(())
}
