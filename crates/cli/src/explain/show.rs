//! An explanation for people: the request, the steps, the codecs, and what would go out.

use super::Explanation;
use crate::figures::grouped;
use anstyle::{AnsiColor, Effects, Style};
use std::io::{self, Write};

const STRONG: Style = Style::new().bold();
const QUIET: Style = Style::new().effects(Effects::DIMMED);
const WELL: Style = AnsiColor::Green.on_default();
const ATTENTION: Style = AnsiColor::Yellow.on_default();
const TROUBLE: Style = AnsiColor::Red.on_default();

/// Prints it.
pub fn print(explanation: &Explanation) -> io::Result<()> {
    let Explanation { request, steps, codecs, answer, live, .. } = explanation;
    let mut out = anstream::stdout().lock();
    let target = request.target();
    writeln!(out, "{STRONG}{} {}://{}{target}{STRONG:#}", request.method, request.scheme, request.authority)?;
    for (name, value) in &request.headers {
        writeln!(out, "{QUIET}  {name}: {}{QUIET:#}", String::from_utf8_lossy(value.as_bytes()))?;
    }
    writeln!(out, "{QUIET}  from {}{QUIET:#}\n", request.client)?;

    for step in steps.iter().filter(|step| step.about != "form") {
        match (&step.file, step.line) {
            (Some(file), Some(line)) => {
                writeln!(out, "{:<10}{}  {QUIET}{file}:{line}{QUIET:#}", step.about, step.words)?;
            }
            _ => writeln!(out, "{:<10}{}", step.about, step.words)?,
        }
    }
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
        writeln!(out, "  {name}: {}", String::from_utf8_lossy(value.as_bytes()))?;
    }
    let bytes = answer
        .bytes
        .map_or("a body of unknown length".to_owned(), |bytes| format!("{} bytes", grouped(bytes)));
    match &answer.file {
        Some(file) => writeln!(out, "  {QUIET}{bytes} from {file}{QUIET:#}")?,
        None => writeln!(out, "  {QUIET}{bytes}{QUIET:#}")?,
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
