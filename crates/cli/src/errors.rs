//! `exedra errors`: the log of errors, readable. Errors that differ only in who met them are one.

use crate::configuration;
use crate::failure::Failure;
use crate::form::Form;
use crate::out::{QUIET, STRONG, TROUBLE};
use clap::Args;
use exedra_common::figures::several;
use exedra_common::text::clean_value;
use exedra_service::logs::error_log::{ERRORS, ErrorLine};
use exedra_service::logs::journal::generations::{Generation, generations};
use flate2::read::MultiGzDecoder;
use jiff::tz::TimeZone;
use std::collections::{BTreeSet, HashMap, VecDeque};
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::PathBuf;

/// How many of the last lines are looked at for errors that are the same.
const LOOKED_AT: usize = 100_000;
/// How many pages that linked to the same mistake are named.
const REFERRERS: usize = 3;

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
    /// Show every one by itself
    #[arg(long)]
    each: bool,
    /// The form of the answer: for people, or the lines as they were written
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// Reads and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let config = configuration::read(&options.config)?;
    if let Some(site) = &options.site {
        config.site_named(site)?;
    }
    let folder = &config.service.logs.value;
    let files = generations(folder, ERRORS).map_err(|error| {
        Failure(format!("{} cannot be read: {error}; has the service been started?", folder.display()))
    })?;
    let by_itself = options.each || options.form == Form::Json;
    let last = last(options, &files, if by_itself { options.top } else { LOOKED_AT })?;
    let mut out = crate::out::stdout();
    if options.form == Form::Json {
        return Ok(last.iter().try_for_each(|line| writeln!(out, "{line}"))?);
    }
    let mut same = put_together(&last, options.each);
    let shown = same.split_off(same.len().saturating_sub(options.top));
    for group in &shown {
        print(&mut out, group, &config.service.time_zone)?;
    }
    match (shown.is_empty(), same.len()) {
        (true, _) => {
            let filtered = options.site.is_some() || options.status.is_some();
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

/// The last lines that are wanted, oldest first: later files are read first, as far as needed.
fn last(options: &Options, files: &[Generation], most: usize) -> Result<VecDeque<String>, Failure> {
    let mut last: VecDeque<String> = VecDeque::new();
    for file in files.iter().rev() {
        if last.len() >= most {
            break;
        }
        let mut here = VecDeque::new();
        for line in BufReader::new(open(file)?).lines() {
            let line = line?;
            if serde_json::from_str(&line).is_ok_and(|error| options.want(&error)) {
                here.push_back(line);
            }
            if here.len() + last.len() > most {
                here.pop_front();
            }
        }
        here.append(&mut last);
        last = here;
    }
    Ok(last)
}

/// Errors that are the same but for who met them.
struct Same<'l> {
    last: ErrorLine<'l>,
    first: String,
    times: u64,
    clients: BTreeSet<String>,
    referrers: BTreeSet<String>,
}

/// Puts together what is the same, in the order in which it last happened.
fn put_together(lines: &VecDeque<String>, each: bool) -> Vec<Same<'_>> {
    let mut places: HashMap<(String, u16, String, String), usize> = HashMap::new();
    let mut groups: Vec<(usize, Same<'_>)> = Vec::new();
    for (number, line) in lines.iter().enumerate() {
        let Ok(error) = serde_json::from_str::<ErrorLine<'_>>(line) else { continue };
        let asked = format!("{} {}{}", error.method, error.host, error.target);
        let key = (
            asked,
            error.status,
            error.cause.to_string(),
            if each { number.to_string() } else { String::new() },
        );
        let place = *places.entry(key).or_insert(groups.len());
        if place == groups.len() {
            let (first, last) = (error.time.to_string(), error.clone());
            let (clients, referrers) = (BTreeSet::new(), BTreeSet::new());
            groups.push((number, Same { last, first, times: 0, clients, referrers }));
        }
        let (at, same) = &mut groups[place];
        *at = number;
        same.times += 1;
        same.clients.insert(error.client.to_string());
        same.referrers.extend(error.referrer.as_deref().map(str::to_owned));
        same.last = error;
    }
    groups.sort_by_key(|(at, _)| *at);
    groups.into_iter().map(|(_, same)| same).collect()
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
    for referrer in same.referrers.iter().take(REFERRERS) {
        writeln!(out, "    {QUIET}linked from{QUIET:#}  {}", clean_value(referrer))?;
    }
    let more = same.referrers.len().saturating_sub(REFERRERS) as u64;
    if more > 0 {
        writeln!(out, "    {QUIET}and from {}{QUIET:#}", several(more, "other page", "other pages"))?;
    }
    Ok(())
}
