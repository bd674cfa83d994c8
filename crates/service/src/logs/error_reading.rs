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

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::filters::Filters;
    use exedra_common::scope::Scope;
    use exedra_reading::classify::Classifier;
    use rstest::rstest;
    use std::io::Write;
    use std::path::Path;
    use std::sync::Arc;

    fn line(minute: u32, site: Option<&str>, client: &str, target: &str, referrer: Option<&str>) -> String {
        let error = ErrorLine {
            time: format!("2026-09-14T08:{minute:02}:00Z").into(),
            site: site.map(Into::into),
            client: client.into(),
            method: "GET".into(),
            host: "harbour.example".into(),
            target: target.into(),
            status: if target == "/broken" { 500 } else { 404 },
            file: None,
            referrer: referrer.map(Into::into),
            cause: "there is nothing".into(),
        };
        serde_json::to_string(&error).unwrap() + "\n"
    }

    fn generation(folder: &Path, number: u64, packed: bool, lines: &str) -> Generation {
        let name = format!("service_errors.{number:06}.log");
        let path = folder.join(if packed { format!("{name}.gz") } else { name.clone() });
        let file = File::create(&path).unwrap();
        if packed {
            let mut out = flate2::write::GzEncoder::new(file, flate2::Compression::fast());
            out.write_all(lines.as_bytes()).unwrap();
            out.finish().unwrap();
        } else {
            (&file).write_all(lines.as_bytes()).unwrap();
        }
        Generation { number, name, path, packed }
    }

    fn wanted(sites: &[&str], only: &[&str], from: Option<i64>) -> Wanted {
        let filters = Filters::understand(only, &[]).unwrap();
        let scope = Scope { from, filters, ..Scope::default() };
        let filter = EventFilter::new(scope, Arc::new(Classifier { countries: None }));
        Wanted::new(sites.iter().map(ToString::to_string).collect(), None, filter)
    }

    /// Two files, the older one compressed: five errors, of two sites and of none.
    fn files(folder: &Path) -> Vec<Generation> {
        let forum = Some("https://forum.example/");
        let older = [
            line(1, Some("harbour"), "192.0.2.1", "/lost", forum),
            "no error at all\n".to_owned(),
            line(2, Some("lamp"), "192.0.2.2", "/broken", None),
        ];
        let newer = [
            line(3, Some("harbour"), "192.0.2.2", "/lost", forum),
            line(4, None, "192.0.2.3", "/", None),
            line(5, Some("harbour"), "192.0.2.2", "/lost", None),
        ];
        vec![generation(folder, 1, true, &older.concat()), generation(folder, 2, false, &newer.concat())]
    }

    fn read(wanted: &Wanted, files: &[Generation], most: usize) -> VecDeque<String> {
        last(wanted, files, most, || Ok::<(), io::Error>(())).unwrap()
    }

    #[rstest]
    #[case(&[], &[], 5)]
    #[case(&["harbour"], &[], 3)]
    #[case(&[NO_SITE], &[], 1)]
    #[case(&[], &["status=5xx"], 1)]
    #[case(&[], &["client=192.0.2.2"], 3)]
    #[case(&["lamp"], &["status=404"], 0)]
    fn errors_of_a_scope_are_found_in_all_files(
        #[case] sites: &[&str],
        #[case] only: &[&str],
        #[case] count: usize,
    ) {
        let folder = tempfile::tempdir().unwrap();
        assert_eq!(read(&wanted(sites, only, None), &files(folder.path()), 100).len(), count);
    }

    #[test]
    fn the_last_ones_are_read_in_order_and_no_further_than_needed() {
        let folder = tempfile::tempdir().unwrap();
        let mut files = files(folder.path());
        let minutes = |lines: &VecDeque<String>| -> Vec<u32> {
            let minute = |line: &String| line[line.find("T08:").unwrap() + 4..][..2].parse().unwrap();
            lines.iter().map(minute).collect()
        };
        assert_eq!(minutes(&read(&wanted(&[], &[], None), &files, 4)), [2, 3, 4, 5]);
        // The older one is not opened where the newer has enough, nor where nothing in it can be late enough.
        files[0].path = folder.path().join("gone");
        assert_eq!(minutes(&read(&wanted(&[], &[], None), &files, 3)), [3, 4, 5]);
        assert!(last(&wanted(&[], &[], None), &files, 4, || Ok::<(), io::Error>(())).is_err());
        let stopped =
            last(&wanted(&[], &[], None), &files, 3, || Err(io::Error::from(io::ErrorKind::Interrupted)));
        assert_eq!(stopped.unwrap_err().kind(), io::ErrorKind::Interrupted);
    }

    #[test]
    fn files_written_before_the_scope_are_passed_over() {
        let folder = tempfile::tempdir().unwrap();
        let files = files(folder.path());
        let tomorrow = jiff::Timestamp::now().as_millisecond() + 86_400_000;
        let opened = std::cell::Cell::new(0);
        let look = || {
            opened.set(opened.get() + 1);
            Ok::<(), io::Error>(())
        };
        assert!(last(&wanted(&[], &[], Some(tomorrow)), &files, 10, look).unwrap().is_empty());
        assert_eq!(opened.get(), 0);
    }

    #[test]
    fn what_is_the_same_is_one_row_the_most_frequent_first() {
        let folder = tempfile::tempdir().unwrap();
        let lines = read(&wanted(&[], &[], None), &files(folder.path()), 100);
        let together = put_together(&lines, false);
        assert_eq!(together.len(), 3);
        let table = table(together, 2);
        let first = |name: &str| table.cell(0, name).cloned().unwrap();
        assert_eq!(
            (first("path"), first("times"), first("clients")),
            ("/lost".into(), 3u64.into(), 2u64.into())
        );
        let minute = |minute: i64| Cell::from(1_789_372_800_000u64 + minute as u64 * 60_000);
        assert_eq!((first("first"), first("last")), (minute(1), minute(5)));
        assert_eq!(table.details[0].len(), 1);
        assert_eq!((table.details[0][0].count, &*table.details[0][0].text), (2, "https://forum.example/"));
        assert_eq!((table.rows.len(), table.rest.rows), (2, 1));
        assert_eq!(put_together(&lines, true).len(), 5, "each by itself");
    }
}
