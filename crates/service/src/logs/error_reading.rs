//! The log of errors, read back: the last ones of a scope, with those put together that differ only in when and for whom.

use super::access_log::NO_SITE;
use super::error_log::ErrorLine;
use super::journal::generations::Generation;
use exedra_common::columns::{Column, Kind, NumberColumn, TextColumn, Unit};
use exedra_common::tables::{Cell, Detail, Table, TableColumn};
use exedra_reading::errors::event::Event;
use exedra_reading::errors::filter::EventFilter;
use flate2::read::MultiGzDecoder;
use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};

/// How many of the last lines are looked at for errors that are the same; and how many octets of them, whatever their number.
pub const LOOKED_AT: usize = 100_000;
const MOST_OCTETS: usize = 32 << 20;
/// How many clients and referring pages are kept of each.
const MOST_CLIENTS: usize = 10_000;
const MOST_REFERRERS: usize = 100;
/// How many referring pages stand under each in a table.
const REFERRERS: usize = 5;
/// Lines between two looks whether reading goes on.
const BETWEEN_LOOKS: usize = 2_000;

/// Which errors are wanted.
pub struct Wanted {
    sites: Vec<String>,
    status: Option<u16>,
    filter: EventFilter,
    /// Before this instant (milliseconds since 1970 UTC) none is.
    from: Option<i64>,
}

impl Wanted {
    /// Those of these sites (of all where there are none), of a status, within a scope.
    pub fn new(sites: Vec<String>, status: Option<u16>, filter: EventFilter) -> Self {
        let from = filter.from();
        Wanted { sites, status, filter, from }
    }

    /// Whether a file may hold any: what was written to it last came before they begin otherwise.
    fn may_be_in(&self, file: &Generation) -> bool {
        let Some(from) = self.from else { return true };
        let written = std::fs::metadata(&file.path).and_then(|found| found.modified());
        let written = written.ok().and_then(|time| jiff::Timestamp::try_from(time).ok());
        written.is_none_or(|time| time.as_millisecond() >= from)
    }

    fn wants(&self, error: &ErrorLine<'_>) -> bool {
        let site = error.site.as_deref().unwrap_or(NO_SITE);
        (self.sites.is_empty() || self.sites.iter().any(|known| known == site))
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

/// The last lines that are wanted, oldest first, `most` at most and no more than fit into a bound in octets: later files are read first,
/// as far as needed.
///
/// # Errors
/// Whatever a file cannot be read for, and what `goes_on` says when it is to end.
pub fn last<E: From<io::Error>>(
    wanted: &Wanted,
    files: &[Generation],
    most: usize,
    goes_on: impl Fn() -> Result<(), E>,
) -> Result<VecDeque<String>, E> {
    let mut last: VecDeque<String> = VecDeque::new();
    let mut octets = 0;
    for file in files.iter().rev().filter(|file| wanted.may_be_in(file)) {
        if last.len() >= most || octets >= MOST_OCTETS {
            break;
        }
        let mut here: VecDeque<String> = VecDeque::new();
        for (number, line) in BufReader::new(open(file)?).lines().enumerate() {
            if number % BETWEEN_LOOKS == 0 {
                goes_on()?;
            }
            let line = line?;
            if serde_json::from_str(&line).is_ok_and(|error| wanted.wants(&error)) {
                octets += line.len();
                here.push_back(line);
            }
            while here.len() + last.len() > most || octets > MOST_OCTETS {
                let Some(oldest) = here.pop_front() else { break };
                octets -= oldest.len();
            }
        }
        here.append(&mut last);
        last = here;
    }
    Ok(last)
}

fn open(file: &Generation) -> io::Result<Box<dyn Read>> {
    let opened = File::open(&file.path)?;
    Ok(if file.packed { Box::new(MultiGzDecoder::new(opened)) } else { Box::new(opened) })
}

/// Errors that are the same but for when and for whom.
pub struct Same<'l> {
    /// The last of them.
    pub last: ErrorLine<'l>,
    /// When the first happened (RFC 3339).
    pub first: String,
    /// How many there were.
    pub times: u64,
    /// Clients that met them, as far as they are kept.
    pub clients: BTreeSet<String>,
    /// Pages that linked there, with how often.
    pub referrers: BTreeMap<String, u64>,
}

/// Puts together what is the same, or nothing where `each` is wanted by itself; in the order in which it last happened.
pub fn put_together(lines: &VecDeque<String>, each: bool) -> Vec<Same<'_>> {
    let mut places: HashMap<(String, u16, String, String), usize> = HashMap::new();
    let mut groups: Vec<(usize, Same<'_>)> = Vec::new();
    for (number, line) in lines.iter().enumerate() {
        let Ok(error) = serde_json::from_str::<ErrorLine<'_>>(line) else { continue };
        let asked = format!("{} {}{}", error.method, error.host, error.target);
        let by_itself = if each { number.to_string() } else { String::new() };
        let key = (asked, error.status, error.cause.to_string(), by_itself);
        let place = *places.entry(key).or_insert(groups.len());
        if place == groups.len() {
            let (first, last) = (error.time.to_string(), error.clone());
            let (clients, referrers) = (BTreeSet::new(), BTreeMap::new());
            groups.push((number, Same { last, first, times: 0, clients, referrers }));
        }
        let (at, same) = &mut groups[place];
        *at = number;
        same.times += 1;
        if same.clients.len() < MOST_CLIENTS {
            same.clients.insert(error.client.to_string());
        }
        if let Some(referrer) = error.referrer.as_deref()
            && (same.referrers.contains_key(referrer) || same.referrers.len() < MOST_REFERRERS)
        {
            *same.referrers.entry(referrer.to_owned()).or_default() += 1;
        }
        same.last = error;
    }
    groups.sort_by_key(|(at, _)| *at);
    groups.into_iter().map(|(_, same)| same).collect()
}

/// Errors as a table, the most frequent first, with the pages that linked there under each.
pub fn table(mut same: Vec<Same<'_>>, top: usize) -> Table {
    let time = |name: &str, title: &str| TableColumn {
        kind: Kind::Time,
        unit: Unit::Milliseconds,
        ..TableColumn::level(name, title, Unit::Milliseconds)
    };
    let mut table = Table::new(
        "errors",
        "Errors and their causes",
        [
            TableColumn::of(NumberColumn::Status),
            TableColumn::of(TextColumn::Path),
            TableColumn::text("cause", "cause"),
            TableColumn::sum("times", "times"),
            TableColumn::sum("clients", "clients").counted_from(TextColumn::Client),
            time("last", "last"),
            time("first", "first").minor(),
            TableColumn {
                filter: Some(Column::from(TextColumn::Method).name().to_owned()),
                ..TableColumn::text("method", "method")
            }
            .minor(),
            TableColumn {
                filter: Some(Column::from(TextColumn::Host).name().to_owned()),
                ..TableColumn::text("host", "host")
            }
            .minor(),
            TableColumn::text("target", "address").minor(),
            TableColumn::text("site", "site").minor(),
            TableColumn::text("file", "looked for").minor(),
        ],
    );
    table.order = Some("times".to_owned());
    same.sort_by_key(|same| std::cmp::Reverse(same.times));
    for one in same {
        let error = &one.last;
        let path = error.target.split('?').next().unwrap_or_default();
        table.push([
            u64::from(error.status).into(),
            Cell::from(path),
            (&*error.cause).into(),
            one.times.into(),
            (one.clients.len() as u64).into(),
            millisecond(&error.time),
            millisecond(&one.first),
            (&*error.method).into(),
            (&*error.host).into(),
            (&*error.target).into(),
            (error.site.as_deref().unwrap_or(NO_SITE)).into(),
            error.file.as_deref().map_or(Cell::Nothing, Cell::from),
        ]);
        table.details.push(linked_from(&one));
    }
    table.total_of_rows();
    table.cut(top);
    table
}

fn linked_from(same: &Same<'_>) -> Vec<Detail> {
    let mut pages: Vec<(&String, &u64)> = same.referrers.iter().collect();
    pages.sort_by(|one, other| other.1.cmp(one.1).then_with(|| one.0.cmp(other.0)));
    let detail = |(page, times): (&String, &u64)| Detail {
        count: *times,
        label: "linked from".to_owned(),
        text: page.clone(),
    };
    pages.into_iter().take(REFERRERS).map(detail).collect()
}

fn millisecond(stamp: &str) -> Cell {
    let time =
        stamp.parse::<jiff::Timestamp>().ok().and_then(|time| u64::try_from(time.as_millisecond()).ok());
    time.map_or(Cell::Nothing, Cell::from)
}
