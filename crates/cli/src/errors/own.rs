//! The log of errors of our own service, readable. Errors that differ only in who met them are one.

use super::Options;
use super::filter;
use crate::configuration;
use crate::failure::Failure;
use crate::form::Form;
use crate::out::{QUIET, STRONG, TROUBLE};
use exedra_common::figures::several;
use exedra_common::text::clean_value;
use exedra_service::logs::error_log::ERRORS;
use exedra_service::logs::error_reading::{LOOKED_AT, Same, Wanted, last, put_together};
use exedra_service::logs::journal::generations::generations;
use jiff::tz::TimeZone;
use std::io::{self, Write};

/// The configuration that is read where none is named.
const USUAL: &str = "exedra.toml";
/// How many pages that linked to the same mistake are named.
const REFERRERS: usize = 3;

/// Reads and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let path = options.config.clone().unwrap_or_else(|| USUAL.into());
    let config = configuration::read(&path)?;
    options.scope.site.iter().try_for_each(|site| config.site_named(site).map(|_| ()))?;
    let zone = options.scope.zone(Some(&config))?;
    // Sites are asked for by their names here: no request has been recorded.
    let wanted =
        Wanted::new(options.scope.site.clone(), options.status, filter(options, Some(&config), &zone)?);
    let folder = &config.service.logs.value;
    let files = generations(folder, ERRORS).map_err(|error| {
        Failure(format!("{} cannot be read: {error}; has the service been started?", folder.display()))
    })?;
    let by_itself = options.each || options.form == Form::Json;
    let last =
        last(&wanted, &files, if by_itself { options.top } else { LOOKED_AT }, || Ok::<(), Failure>(()))?;
    let mut out = crate::out::stdout();
    if options.form == Form::Json {
        return Ok(last.iter().try_for_each(|line| writeln!(out, "{line}"))?);
    }
    let mut same = put_together(&last, options.each);
    let shown = same.split_off(same.len().saturating_sub(options.top));
    for group in &shown {
        print(&mut out, group, &zone)?;
    }
    match (shown.is_empty(), same.len()) {
        (true, _) => {
            let filtered = options.status.is_some() || !options.scope.is_everything();
            let which = if filtered { "no such errors" } else { "no errors" };
            writeln!(out, "{which} are on record in {}", folder.display())?;
        }
        (false, 0) => {}
        (false, more) => writeln!(
            out,
            "{QUIET}{} before these: --top shows more{QUIET:#}",
            several(more as u64, "other", "others")
        )?,
    }
    Ok(())
}

fn clock(time: &str, zone: &TimeZone) -> String {
    time.parse::<jiff::Timestamp>().map_or_else(
        |_| clean_value(time).into_owned(),
        |time| time.to_zoned(zone.clone()).strftime("%Y-%m-%d %H:%M:%S").to_string(),
    )
}

/// One error on a few lines: when, what and who; then why, where and from where.
fn print(out: &mut impl Write, same: &Same<'_>, zone: &TimeZone) -> io::Result<()> {
    let error = &same.last;
    let style = if error.status >= 500 { TROUBLE } else { STRONG };
    let site = error.site.as_deref().unwrap_or("(no site)");
    writeln!(
        out,
        "{QUIET}{}{QUIET:#}  {style}{}{style:#}  {} {}{}  {QUIET}{site}, from {}{QUIET:#}",
        clock(&error.time, zone),
        error.status,
        clean_value(&error.method),
        clean_value(&error.host),
        clean_value(&error.target),
        match same.clients.len() {
            0 | 1 => clean_value(&error.client).into_owned(),
            many => format!("{many} clients"),
        },
    )?;
    writeln!(out, "    {}", clean_value(&error.cause))?;
    if same.times > 1 {
        writeln!(
            out,
            "    {STRONG}{} times{STRONG:#} {QUIET}since {}{QUIET:#}",
            same.times,
            clock(&same.first, zone)
        )?;
    }
    if let Some(file) = &error.file {
        writeln!(out, "    {QUIET}looked for{QUIET:#}   {}", clean_value(file))?;
    }
    for referrer in same.referrers.keys().take(REFERRERS) {
        writeln!(out, "    {QUIET}linked from{QUIET:#}  {}", clean_value(referrer))?;
    }
    let more = same.referrers.len().saturating_sub(REFERRERS) as u64;
    if more > 0 {
        writeln!(out, "    {QUIET}and from {}{QUIET:#}", several(more, "other page", "other pages"))?;
    }
    Ok(())
}
