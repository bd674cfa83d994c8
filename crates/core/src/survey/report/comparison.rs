//! Another period beside a report: for every figure what it was there, and the change.

use super::lists::{ListEntry, RankedList};
use super::schema::{Change, Changes, Measured, MissingPage, Mover, OtherPeriod, SlowPath};
use super::{SurveyReport, stamp};
use crate::scope::Scope;
use crate::survey::counted::Survey;
use std::collections::HashMap;

/// Puts another survey, reported in full length, beside a report. `scope` is what the other is about.
pub fn compare(report: &mut SurveyReport, now: &Survey, other: SurveyReport, before: &Survey, scope: &Scope) {
    let (totals, then) = (&mut report.totals, &other.totals);
    totals.changes = changes(&[
        ("requests", totals.requests, then.requests),
        ("visitors", totals.visitors, then.visitors),
        ("bytes", totals.bytes, then.bytes),
    ]);
    let classes: HashMap<&str, u64> =
        other.by_class.iter().map(|class| (&*class.class, class.requests)).collect();
    for class in &mut report.by_class {
        let then = classes.get(&*class.class).copied().unwrap_or(0);
        class.changes = changes(&[("requests", class.requests, then)]);
    }
    for status in &mut report.by_status {
        let then = before.statuses.get(&status.status).copied().unwrap_or_default();
        status.changes =
            changes(&[("requests", status.requests, then.requests), ("bytes", status.bytes, then.bytes)]);
    }
    let measured = by_name(other.paths.iter().map(|path| (&*path.path, path.measured)));
    for path in &mut report.paths {
        let then = before.paths.of(&path.path);
        path.changes =
            changes(&[("requests", path.requests, then.requests), ("bytes", path.bytes, then.bytes)]);
        put_measured(&mut path.changes, path.measured, measured.get(&*path.path));
    }
    let measured = by_name(other.clients.iter().map(|client| (&*client.client, client.measured)));
    for client in &mut report.clients {
        let then = before.clients.of(&client.client);
        client.changes =
            changes(&[("requests", client.requests, then.requests), ("bytes", client.bytes, then.bytes)]);
        put_measured(&mut client.changes, client.measured, measured.get(&*client.client));
    }
    let missing: HashMap<&str, &MissingPage> = other.missing.iter().map(|page| (&*page.path, page)).collect();
    for page in &mut report.missing {
        let then = missing.get(&*page.path);
        let (requests, bytes) = then.map_or((0, 0), |then| (then.requests, then.bytes));
        page.changes = changes(&[("requests", page.requests, requests), ("bytes", page.bytes, bytes)]);
        put_measured(&mut page.changes, page.measured, then.map(|then| &then.measured));
    }
    let nothing = RankedList::default();
    for (name, list) in &mut report.lists {
        let then = other.lists.get(name).unwrap_or(&nothing);
        let then: HashMap<&str, &ListEntry> =
            then.entries.iter().map(|entry| (&*entry.value, entry)).collect();
        for entry in &mut list.entries {
            let then = then.get(&*entry.value);
            let (requests, bytes) = then.map_or((0, 0), |then| (then.requests, then.bytes));
            entry.changes = changes(&[("requests", entry.requests, requests), ("bytes", entry.bytes, bytes)]);
            put_measured(&mut entry.changes, entry.measured, then.map(|then| &then.measured));
        }
    }
    let (visits, then) = (&mut report.visits, &other.visits);
    visits.changes = changes(&[
        ("visits", visits.visits, then.visits),
        ("short", visits.short, then.short),
        ("pages", visits.pages, then.pages),
        ("by_crawlers", visits.by_crawlers, then.by_crawlers),
    ]);
    visits.changes.insert("seconds".to_owned(), change(visits.seconds, then.seconds));
    visits.changes.insert("middle_seconds".to_owned(), change(visits.middle_seconds, then.middle_seconds));
    let (apart, then) = (&mut report.apart, &other.apart);
    apart.changes = changes(&[
        ("people", apart.people, then.people),
        ("people_bytes", apart.people_bytes, then.people_bytes),
        ("crawlers", apart.crawlers, then.crawlers),
        ("crawler_bytes", apart.crawler_bytes, then.crawler_bytes),
        ("unnamed", apart.unnamed, then.unnamed),
    ]);
    let (slow, then) = (&mut report.slow, &other.slow);
    slow.changes = changes(&[("measured", slow.measured, then.measured), ("slow", slow.slow, then.slow)]);
    let percentiles = [
        ("p50_ms", slow.p50_ms, then.p50_ms),
        ("p90_ms", slow.p90_ms, then.p90_ms),
        ("p99_ms", slow.p99_ms, then.p99_ms),
    ];
    for (name, now, then) in percentiles {
        slow.changes.insert(name.to_owned(), change(now, then));
    }
    let slow_then: HashMap<&str, &SlowPath> =
        other.slow.paths.iter().map(|path| (&*path.path, path)).collect();
    for path in &mut report.slow.paths {
        let then = slow_then.get(&*path.path);
        path.changes = changes(&[
            ("requests", path.requests, then.map_or(0, |then| then.requests)),
            ("slow", path.slow, then.map_or(0, |then| then.slow)),
        ]);
        if let Some(then) = then {
            path.changes.insert("p50_ms".to_owned(), change(path.p50_ms, then.p50_ms));
            path.changes.insert("p90_ms".to_owned(), change(path.p90_ms, then.p90_ms));
            path.changes.insert("p99_ms".to_owned(), change(path.p99_ms, then.p99_ms));
        }
    }
    for (now, then) in report.by_weekday.iter_mut().zip(&other.by_weekday) {
        now.changes = changes(&[("requests", now.requests, then.requests), ("bytes", now.bytes, then.bytes)]);
    }
    for now in &mut report.encodings {
        let then = other.encodings.iter().find(|then| then.encoding == now.encoding);
        let (requests, bytes, saved) = then.map_or((0, 0, 0), |then| (then.requests, then.bytes, then.saved));
        now.changes = changes(&[
            ("requests", now.requests, requests),
            ("bytes", now.bytes, bytes),
            ("saved", now.saved, saved),
        ]);
    }
    // As many as are listed of either; paths that went are in no list of this one.
    let listed = report.paths.len().max(other.paths.len());
    let length = listed.clamp(FEWEST_MOVERS, MOST_MOVERS);
    report.against = Some(OtherPeriod {
        from: scope.from.map(stamp),
        until: scope.until.map(stamp),
        first: other.first,
        last: other.last,
        by_day: other.by_day,
        by_hour: other.by_hour,
        movers: movers(now, before, length),
    });
    report.caveats.extend(other.caveats.into_iter().map(|caveat| format!("other period: {caveat}")));
}

/// How many movers are shown, where there are so many, and at most.
const FEWEST_MOVERS: usize = 10;
const MOST_MOVERS: usize = 100;

/// The paths whose requests differ most.
fn movers(now: &Survey, before: &Survey, length: usize) -> Vec<Mover> {
    let here =
        now.paths.entries().map(|(path, counts)| (path, before.paths.of(path).requests, counts.requests));
    let gone = before.paths.entries().filter(|(path, _)| now.paths.of(path).requests == 0);
    let gone = gone.map(|(path, counts)| (path, counts.requests, 0));
    let mut all: Vec<(&str, u64, u64)> = here.chain(gone).filter(|(_, before, now)| before != now).collect();
    all.sort_unstable_by(|a, b| b.1.abs_diff(b.2).cmp(&a.1.abs_diff(a.2)).then_with(|| a.0.cmp(b.0)));
    let mover = |(path, before, now): (&str, u64, u64)| Mover { path: path.to_owned(), before, now };
    all.into_iter().take(length).map(mover).collect()
}

fn by_name<'r>(entries: impl Iterator<Item = (&'r str, Measured)>) -> HashMap<&'r str, Measured> {
    entries.filter(|(_, measured)| *measured != Measured::default()).collect()
}

/// The change of what an entry is ranked by, where that is neither requests nor bytes.
fn put_measured(changes: &mut Changes, now: Measured, then: Option<&Measured>) {
    let then = then.copied().unwrap_or_default();
    if let Some(visitors) = now.visitors {
        let before = then.visitors.unwrap_or(0);
        changes.insert("visitors".to_owned(), change(visitors as f64, before as f64));
    }
    if let Some(time) = now.time_ms {
        changes.insert("time_ms".to_owned(), change(time, then.time_ms.unwrap_or(0.0)));
    }
}

fn changes(figures: &[(&str, u64, u64)]) -> Changes {
    let named =
        figures.iter().map(|(name, now, then)| ((*name).to_owned(), change(*now as f64, *then as f64)));
    named.collect()
}

fn change(now: f64, before: f64) -> Change {
    let difference = now - before;
    Change { before, difference, ratio: (before != 0.0).then(|| difference / before) }
}
