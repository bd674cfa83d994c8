//! Error logs of other servers: what is the same put together, the most frequent first.

use super::Options;
use super::filter;
use crate::configuration;
use crate::failure::Failure;
use crate::form::Form;
use crate::out::{ATTENTION, CHART, QUIET, STRONG, TROUBLE};
use crate::show::columns::columns;
use crate::show::fit::{shorten, width};
use crate::sources::block_source::{layouts_for, lines};
use crate::sources::bookmark::open_from;
use crate::sources::found::{Found, find};
use crate::sources::packed::{Unpacked, no_text, unpacked};
use exedra_common::figures::{grouped, several};
use exedra_common::{Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use exedra_reading::errors::event::{Event, Fields, goes_on};
use exedra_reading::errors::filter::EventFilter;
use exedra_reading::errors::same::{Same, Together};
use exedra_reading::errors::{Likeness, likeness};
use exedra_reading::logs::search::Given;
use exedra_reading::logs::{Layout, LineReader};
use jiff::tz::TimeZone;
use serde::Serialize;
use std::collections::HashMap;
use std::io::{self, BufRead, BufReader, Read, Write};

/// How much of a log is looked at to see what it is, and the longest line, in octets.
const BEGINNING: u64 = 256 << 10;
const LONGEST: u64 = 64 << 10;
/// How many failed requests of access logs are kept to be named.
const MOST_REQUESTS: usize = 200_000;
/// How far the clocks of the two logs may be apart, in milliseconds.
const NEAR: i64 = 2_000;
/// How many clients and pages are named.
const NAMED: usize = 3;

/// What was read.
#[derive(Default)]
struct All {
    together: Together,
    events: u64,
    unfit: u64,
    unread: u64,
    first_unread: Option<(String, u64)>,
    /// Requests that failed, by client and path: when, and how they were answered.
    requests: HashMap<(String, String), Vec<(i64, u16)>>,
    error_logs: Vec<String>,
    access_logs: Vec<String>,
    neither: Vec<String>,
}

/// Reads and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let config = match &options.config {
        Some(path) => Some(configuration::read(path)?),
        None => None,
    };
    let zone = options.scope.zone(config.as_ref())?;
    let filter = filter(options, config.as_ref(), &zone)?;
    let mut all = All::default();
    for file in find(&options.sources, options.rotated, config.as_ref())? {
        let failed = |error: io::Error| Failure(format!("{} cannot be read: {error}", file.name));
        let mut input = open(&file).map_err(failed)?;
        let mut beginning = Vec::new();
        input.by_ref().take(BEGINNING).read_to_end(&mut beginning).map_err(failed)?;
        let first: Vec<&[u8]> = lines(&beginning).take(exedra_reading::errors::LOOKED_AT).collect();
        let near = file.written();
        let whole = BufReader::new(io::Cursor::new(beginning.clone()).chain(&mut input));
        let given = Given { near, durations: None };
        let layouts = || layouts_for(&file.name, &Layout::all_named(), &beginning, &given).ok();
        // Lines of requests may have a level too; those of errors mostly say that something went wrong.
        let layouts = match likeness(&first) {
            Likeness::Errors => None,
            _ => layouts(),
        };
        if no_text(&beginning).is_some() {
            all.neither.push(file.name.clone());
        } else if let Some((layouts, _)) = layouts {
            all.access_logs.push(file.name.clone());
            all.read_requests(whole, &layouts).map_err(failed)?;
        } else if likeness(&first) != Likeness::None {
            all.error_logs.push(file.name.clone());
            all.read_errors(&file.name, whole, near, &filter, options.status).map_err(failed)?;
        } else {
            all.neither.push(file.name.clone());
        }
        if let Some(damage) = input.damage() {
            crate::out::note!(
                "{} ends before its end ({damage}): what stands before that was read.",
                file.name
            );
        }
    }
    if all.error_logs.is_empty() {
        let what = match all.access_logs.is_empty() {
            true => "lines with a time and how bad it is",
            false => "these are logs of requests, as `exedra report` reads them",
        };
        let names = [all.access_logs, all.neither].concat().join(", ");
        return Err(Failure(format!("no error log is among {names}: {what}")));
    }
    tell(options, all, &zone)
}

fn open(file: &Found) -> io::Result<Unpacked<'static>> {
    match &file.path {
        Some(path) => open_from(path, 0),
        None => unpacked(io::stdin()),
    }
}

/// The lines of a log, each cut to a bound.
fn each_line(mut input: impl BufRead, mut take: impl FnMut(&[u8])) -> io::Result<()> {
    let mut line = Vec::new();
    loop {
        line.clear();
        if input.by_ref().take(LONGEST).read_until(b'\n', &mut line)? == 0 {
            return Ok(());
        }
        if !line.ends_with(b"\n") && line.len() as u64 == LONGEST {
            input.skip_until(b'\n')?;
        }
        take(line.trim_ascii_end());
    }
}

impl All {
    fn read_errors(
        &mut self,
        name: &str,
        input: impl BufRead,
        near: Option<i64>,
        filter: &EventFilter,
        status: Option<u16>,
    ) -> io::Result<()> {
        let mut fields = Fields::default();
        // Where lines go that belong to the event before them; nowhere where that is not wanted.
        let mut open: Option<Option<usize>> = None;
        let mut number = 0;
        each_line(input, |line| {
            number += 1;
            if line.is_empty() || fields.directive(line) {
                return;
            }
            let event = match fields.says_reason() {
                true => fields.event(line),
                false if goes_on(line) => None,
                false => Event::of_line(line, near),
            };
            match (event, open) {
                (Some(event), _) => {
                    self.events += 1;
                    let fits = filter.keeps(&event) && (status.is_none() || event.status == status);
                    self.unfit += u64::from(!fits);
                    open = Some(if fits { self.together.add(event) } else { None });
                }
                (None, Some(place)) => {
                    if let Some(place) = place {
                        self.together.goes_on(place, &String::from_utf8_lossy(line));
                    }
                }
                (None, None) => {
                    self.unread += 1;
                    self.first_unread.get_or_insert_with(|| (name.to_owned(), number));
                }
            }
        })
    }

    fn read_requests(&mut self, input: impl BufRead, layouts: &[Layout]) -> io::Result<()> {
        let mut reader = LineReader::new(layouts, Projection::everything());
        each_line(input, |line| {
            let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
            reader.read_block(line, 0, &mut 0, &mut batch, &mut texts);
            if batch.rows() == 0 || self.requests.len() >= MOST_REQUESTS {
                return;
            }
            let text = |column| batch.code(column, 0).map(|code| texts.of(column).text(code).to_owned());
            let status = batch.number(NumberColumn::Status, 0).and_then(|status| u16::try_from(status).ok());
            if let (Some(client), Some(path), Some(status @ 400..)) =
                (text(TextColumn::Client), text(TextColumn::Path), status)
            {
                self.requests.entry((client, path)).or_default().push((batch.time[0], status));
            }
        })
    }

    /// How the request of the last event was answered, by the access logs.
    fn answered(&self, same: &Same) -> Option<(i64, u16)> {
        let event = &same.last;
        let known = self.requests.get(&(event.client.clone()?, event.path.clone()?))?;
        let time = event.time?;
        known
            .iter()
            .copied()
            .filter(|(at, _)| (at - time).abs() <= NEAR)
            .min_by_key(|(at, _)| (at - time).abs())
    }
}

/// Errors that are the same, as a program is given them.
#[derive(Serialize)]
struct Told<'s> {
    times: u64,
    first: Option<String>,
    last: Option<String>,
    level: &'s str,
    cause: &'s str,
    path: Option<&'s str>,
    host: Option<&'s str>,
    looked_for: Option<&'s str>,
    /// How the last of them was answered.
    status: Option<u16>,
    clients: Vec<&'s str>,
    referrers: Vec<(&'s str, u64)>,
    more_lines: &'s [String],
}

fn tell(options: &Options, mut all: All, zone: &TimeZone) -> Result<(), Failure> {
    let others = all.together.others;
    let same = std::mem::take(&mut all.together).by_times();
    let stamp = |time: i64| jiff::Timestamp::from_millisecond(time).unwrap_or_default().to_string();
    let shown = &same[..same.len().min(options.top)];
    match options.form {
        Form::Json => {
            let told = |same: &&Same| -> serde_json::Value {
                let mut referrers: Vec<(&str, u64)> =
                    same.referrers.iter().map(|(page, times)| (&**page, *times)).collect();
                referrers.sort_by_key(|(_, times)| std::cmp::Reverse(*times));
                let told = Told {
                    times: same.times,
                    first: same.span.map(|(first, _)| stamp(first)),
                    last: same.span.map(|(_, last)| stamp(last)),
                    level: &same.last.level,
                    cause: &same.last.cause,
                    path: same.last.path.as_deref(),
                    host: same.last.host.as_deref(),
                    looked_for: same.last.looked_for.as_deref(),
                    status: same.last.status.or(all.answered(same).map(|(_, status)| status)),
                    clients: same.clients.iter().map(String::as_str).collect(),
                    referrers,
                    more_lines: &same.more_lines,
                };
                serde_json::to_value(told).unwrap_or_default()
            };
            let told: Vec<serde_json::Value> = shown.iter().collect::<Vec<_>>().iter().map(told).collect();
            crate::out::json(&told)?;
        }
        Form::Text => {
            let mut out = crate::out::stdout();
            let fitting = all.events - all.unfit;
            let logs = several(all.error_logs.len() as u64, "error log", "error logs");
            writeln!(
                out,
                "{STRONG}{}{STRONG:#} in {logs}, {} different  {QUIET}the most frequent first; days of UTC{QUIET:#}",
                several(fitting, "event", "events"),
                grouped(same.len() as u64 + others)
            )?;
            shown.iter().try_for_each(|same| print(&mut out, same, all.answered(same), zone))?;
            let left: u64 = same[shown.len()..].iter().map(|same| same.times).sum::<u64>() + others;
            if left > 0 {
                let more = same.len() - shown.len();
                writeln!(
                    out,
                    "{QUIET}{} in {} more: --top shows further{QUIET:#}",
                    grouped(left),
                    grouped(more as u64)
                )?;
            }
        }
    }
    if all.unfit > 0 && all.unfit == all.events {
        crate::out::note!("None of {} events fits.", grouped(all.events));
    }
    if let Some((name, line)) = &all.first_unread {
        let lines = several(all.unread, "line says", "lines say");
        crate::out::note!("{lines} neither when nor how bad; the first is line {line} of {name}.");
    }
    if !all.neither.is_empty() {
        crate::out::note!("Skipped, neither error logs nor access logs: {}.", all.neither.join(", "));
    }
    Ok(())
}

/// What is the same, on a few lines: how often and what; then where, since when, for whom, and from where.
fn print(out: &mut impl Write, same: &Same, answered: Option<(i64, u16)>, zone: &TimeZone) -> io::Result<()> {
    let room = width().saturating_sub(18);
    let event = &same.last;
    let style = match &*event.level {
        "fatal" | "critical" | "error" => TROUBLE,
        "warning" => ATTENTION,
        _ => QUIET,
    };
    let times = grouped(same.times);
    writeln!(out)?;
    writeln!(
        out,
        "{STRONG}{times:>8}{STRONG:#}  {style}{}{style:#}  {}",
        event.level,
        shorten(&event.cause, width().saturating_sub(12 + event.level.len()))
    )?;
    let mut line = |name: &str, value: &str| writeln!(out, "          {QUIET}{name:<12}{QUIET:#}{value}");
    for more in &same.more_lines {
        line("", &shorten(more, room))?;
    }
    if let Some(path) = &event.path {
        let host = event.host.as_ref().map_or(String::new(), |host| format!("  {QUIET}{host}{QUIET:#}"));
        let method = event.method.as_ref().map_or(String::new(), |method| format!("{method} "));
        line("asked for", &format!("{method}{}{host}", shorten(path, room.saturating_sub(30))))?;
    }
    if let Some(file) = &event.looked_for {
        line("looked for", &shorten(file, room))?;
    }
    if let Some((first, last)) = same.span {
        let clock = |time: i64| {
            let stamp = jiff::Timestamp::from_millisecond(time).unwrap_or_default();
            stamp.to_zoned(zone.clone()).strftime("%Y-%m-%d %H:%M:%S").to_string()
        };
        match first == last {
            true => line("at", &clock(first))?,
            false => line(
                "since",
                &format!("{}, last {}  {CHART}{}{CHART:#}", clock(first), clock(last), by_day(same)),
            )?,
        }
    }
    if !same.clients.is_empty() {
        let named: Vec<&str> = same.clients.iter().take(NAMED).map(String::as_str).collect();
        let more = same.clients.len().saturating_sub(NAMED) as u64;
        let more =
            if more > 0 { format!(" and {}", several(more, "other", "others")) } else { String::new() };
        line("from", &shorten(&format!("{}{more}", named.join(", ")), room))?;
    }
    let mut referrers: Vec<(&String, &u64)> = same.referrers.iter().collect();
    referrers.sort_by_key(|(page, times)| (std::cmp::Reverse(**times), *page));
    for (page, times) in referrers.into_iter().take(NAMED) {
        line(
            "linked from",
            &format!("{}  {QUIET}{} times{QUIET:#}", shorten(page, room.saturating_sub(14)), grouped(*times)),
        )?;
    }
    if let Some((_, status)) = answered {
        line("answered", &format!("{status}  {QUIET}the last of them, by the access log{QUIET:#}"))?;
    }
    Ok(())
}

/// How many there were on each day from the first to the last, in one row of letters; nothing where that is one day.
fn by_day(same: &Same) -> String {
    const MOST: i64 = 60;
    let (Some((first, _)), Some((last, _))) = (same.days.first_key_value(), same.days.last_key_value())
    else {
        return String::new();
    };
    if first == last || last - first >= MOST {
        return String::new();
    }
    let days: Vec<u64> = (*first..=*last).map(|day| same.days.get(&day).copied().unwrap_or(0)).collect();
    columns(&days, 1).concat()
}
