//! The log of errors of our own service, readable. Errors that differ only in who met them are one.

use super::Options;
use super::filter::Filter;
use crate::configuration;
use crate::failure::Failure;
use crate::form::Form;
use crate::out::{QUIET, STRONG, TROUBLE};
use exedra_answering::config::Config;
use exedra_common::figures::several;
use exedra_common::text::clean_value;
use exedra_reading::errors::event::Event;
use exedra_service::logs::error_log::{ERRORS, ErrorLine};
use exedra_service::logs::journal::generations::{Generation, generations};
use flate2::read::MultiGzDecoder;
use jiff::tz::TimeZone;
use std::collections::{BTreeSet, HashMap, VecDeque};
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Write};

/// The configuration that is read where none is named.
const USUAL: &str = "exedra.toml";
/// How many of the last lines are looked at for errors that are the same.
const LOOKED_AT: usize = 100_000;
/// How many pages that linked to the same mistake are named.
const REFERRERS: usize = 3;

/// Reads and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let path = options.config.clone().unwrap_or_else(|| USUAL.into());
    let config = configuration::read(&path)?;
    options.scope.site.iter().try_for_each(|site| config.site_named(site).map(|_| ()))?;
    let zone = options.scope.zone(Some(&config))?;
    let wanted = Wanted::new(options, &config, &zone)?;
    let folder = &config.service.logs.value;
    let files = generations(folder, ERRORS).map_err(|error| {
        Failure(format!("{} cannot be read: {error}; has the service been started?", folder.display()))
    })?;
    let by_itself = options.each || options.form == Form::Json;
    let last = last(&wanted, &files, if by_itself { options.top } else { LOOKED_AT })?;
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

/// The last lines that are wanted, oldest first: later files are read first, as far as needed.
fn last(wanted: &Wanted, files: &[Generation], most: usize) -> Result<VecDeque<String>, Failure> {
    let mut last: VecDeque<String> = VecDeque::new();
    for file in files.iter().rev() {
        if last.len() >= most {
            break;
        }
        let mut here = VecDeque::new();
        for line in BufReader::new(open(file)?).lines() {
            let line = line?;
            if serde_json::from_str(&line).is_ok_and(|error| wanted.wants(&error)) {
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

/// Which errors are wanted.
struct Wanted {
    sites: Vec<String>,
    status: Option<u16>,
    filter: Filter,
}

impl Wanted {
    fn new(options: &Options, config: &Config, zone: &TimeZone) -> Result<Self, Failure> {
        // Sites are asked for by their names here: no request has been recorded.
        let sites = options.scope.site.clone();
        Ok(Wanted { sites, status: options.status, filter: Filter::new(options, Some(config), zone)? })
    }

    fn wants(&self, error: &ErrorLine<'_>) -> bool {
        let is_of_site =
            || error.site.as_deref().is_some_and(|site| self.sites.iter().any(|known| known == site));
        (self.sites.is_empty() || is_of_site())
            && self.status.is_none_or(|status| error.status == status)
            && self.filter.keeps(&Event {
                time: error.time.parse::<jiff::Timestamp>().ok().map(jiff::Timestamp::as_millisecond),
                client: Some(error.client.to_string()),
                method: Some(error.method.to_string()),
                path: error.target.split('?').next().map(str::to_owned),
                host: Some(error.host.to_string()),
                referrer: error.referrer.as_deref().map(str::to_owned),
                status: Some(error.status),
                ..Event::default()
            })
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
