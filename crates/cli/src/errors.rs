//! `exedra errors`: the log of errors, readable.

use crate::{Failure, Form, configuration};
use anstyle::{AnsiColor, Effects, Style};
use clap::Args;
use exedra_service::error_log::{ERRORS, ErrorLine};
use exedra_service::journal::generations::{Generation, generations};
use flate2::read::MultiGzDecoder;
use std::collections::VecDeque;
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::PathBuf;

/// What `exedra errors` takes.
#[derive(Args)]
pub struct Options {
    /// The configuration that the service runs by
    #[arg(long, value_name = "FILE", default_value = "exedra.toml")]
    config: PathBuf,
    /// Only those of a site
    #[arg(long, value_name = "NAME")]
    site: Option<String>,
    /// Only those answered with a status
    #[arg(long, value_name = "NUMBER")]
    status: Option<u16>,
    /// How many of the last ones are shown
    #[arg(long, value_name = "NUMBER", default_value_t = 20)]
    top: usize,
    /// The form of the answer: for people, or the lines as they were written
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// Reads and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let config = configuration::read(&options.config)?;
    let folder = &config.service.logs.value;
    let files = generations(folder, ERRORS).map_err(|error| {
        Failure(format!("{} cannot be read: {error}; has the service been started?", folder.display()))
    })?;
    // The last ones are wanted: later files first, as far as needed.
    let mut last: VecDeque<String> = VecDeque::new();
    for file in files.iter().rev() {
        if last.len() >= options.top {
            break;
        }
        let mut here = VecDeque::new();
        for line in BufReader::new(open(file)?).lines() {
            let line = line?;
            let wanted = serde_json::from_str(&line).is_ok_and(|error| options.want(&error));
            if wanted {
                here.push_back(line);
            }
            if here.len() + last.len() > options.top {
                here.pop_front();
            }
        }
        here.append(&mut last);
        last = here;
    }
    let zone = &config.service.time_zone;
    let mut out = anstream::stdout().lock();
    for line in &last {
        match (options.form, serde_json::from_str::<ErrorLine<'_>>(line)) {
            (Form::Text, Ok(error)) => print(&mut out, &error, zone)?,
            _ => writeln!(out, "{line}")?,
        }
    }
    if last.is_empty() && options.form == Form::Text {
        writeln!(out, "no errors are on record in {}", folder.display())?;
    }
    Ok(())
}

impl Options {
    fn want(&self, error: &ErrorLine<'_>) -> bool {
        self.site.as_deref().is_none_or(|site| error.site.as_deref() == Some(site))
            && self.status.is_none_or(|status| error.status == status)
    }
}

fn open(file: &Generation) -> io::Result<Box<dyn Read>> {
    let opened = File::open(&file.path)?;
    Ok(if file.packed { Box::new(MultiGzDecoder::new(opened)) } else { Box::new(opened) })
}

const QUIET: Style = Style::new().effects(Effects::DIMMED);
const WRONG: Style = AnsiColor::Red.on_default();
const STRONG: Style = Style::new().bold();

/// One error on a few lines: when, what and who; then why, where and from where.
fn print(out: &mut impl Write, error: &ErrorLine<'_>, zone: &jiff::tz::TimeZone) -> io::Result<()> {
    let time = error.time.parse::<jiff::Timestamp>().map_or_else(
        |_| error.time.to_string(),
        |time| time.to_zoned(zone.clone()).strftime("%Y-%m-%d %H:%M:%S").to_string(),
    );
    let style = if error.status >= 500 { WRONG } else { STRONG };
    // The service writes JSON, whose escapes are undone here: nothing of a stranger may move the cursor.
    let safe = |text: &str| {
        let mut out = Vec::new();
        exedra_core::logs::escape::write(text.as_bytes(), false, &mut out);
        String::from_utf8_lossy(&out).replace("\\\"", "\"").replace("\\\\", "\\")
    };
    let site = error.site.as_deref().unwrap_or("(no site)");
    writeln!(
        out,
        "{QUIET}{time}{QUIET:#}  {style}{}{style:#}  {} {}{}  {QUIET}{site}, from {}{QUIET:#}",
        error.status,
        safe(&error.method),
        safe(&error.host),
        safe(&error.target),
        error.client,
    )?;
    writeln!(out, "    {}", safe(&error.cause))?;
    if let Some(file) = &error.file {
        writeln!(out, "    {QUIET}looked for{QUIET:#}   {}", safe(file))?;
    }
    if let Some(referrer) = &error.referrer {
        writeln!(out, "    {QUIET}linked from{QUIET:#}  {}", safe(referrer))?;
    }
    Ok(())
}
