//! What the requests of a stretch of time add up to: how much, who, what, and what fails.
//!
//! Each list is a [`Table`], so that it is shown, filtered and compared like any other. Rows are told apart by the codes of their
//! texts: counting is adding to places of arrays.

use super::RecentRequests;
use crate::survey::Measure;
use exedra_common::batch::NO_TEXT;
use exedra_common::filters::Filters;
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::tables::{Cell, Table, TableColumn};
use exedra_common::{Column, Dictionaries, NumberColumn, RequestBatch, TextColumn};
use std::collections::HashMap;

/// Of a client that asks for the same this often within the stretch, and for hardly anything else, it is said what.
const REPEATED: u64 = 10;
/// Hardly anything else: a fifth at most.
const NEARLY_ALL: u64 = 5;

/// What is looked at.
#[derive(Debug, Clone)]
pub struct View {
    /// The end of the stretch, which no longer counts, in milliseconds since 1970 UTC.
    pub until: i64,
    /// How long it is, in milliseconds.
    pub span: i64,
    /// Which requests of it.
    pub filters: Filters,
    /// What lists are ranked by: requests, or bytes.
    pub by: Measure,
    /// How long lists are.
    pub top: usize,
    /// Into how many parts the stretch is cut, over time.
    pub parts: usize,
}

impl Default for View {
    fn default() -> Self {
        View {
            until: i64::MAX,
            span: 300_000,
            filters: Filters::default(),
            by: Measure::Requests,
            top: 20,
            parts: 60,
        }
    }
}

/// What is seen.
#[derive(Debug, Clone, PartialEq)]
pub struct Picture {
    /// The first instant that counts, and the first that no longer does, in milliseconds since 1970 UTC.
    pub stretch: (i64, i64),
    /// Whether some of its requests are no longer kept: the figures are of its later part.
    pub is_cut: bool,
    /// How many requests.
    pub requests: u64,
    /// Body bytes sent.
    pub bytes: u64,
    /// Requests by the first digit of their status; index 0 holds those without one.
    pub classes: [u64; 6],
    /// How many clients.
    pub client_count: u64,
    /// How many requests of the stretch the filters were tried on.
    pub tried: u64,
    /// The same classes for each part of the stretch.
    pub parts: Vec<[u64; 6]>,
    /// Who: clients, with requests, bytes, requests in the last minute, and what they repeat.
    pub clients: Table,
    /// What: paths.
    pub paths: Table,
    /// What fails: paths with answers of 4xx and 5xx, and the rule that decided the last one.
    pub failing_paths: Table,
    /// For whom: clients of such answers.
    pub failing_clients: Table,
}

/// What is counted of one text.
#[derive(Debug, Clone, Copy, Default)]
struct Counts {
    requests: u64,
    bytes: u64,
    last_minute: u64,
    wrong: u64,
    failed: u64,
    /// One more than the code of the rule that decided the last failure.
    rule: u32,
}

impl RecentRequests {
    /// The last requests of a stretch, as many as are wanted, the newest last.
    pub fn requests(&self, view: &View, most: usize) -> Table {
        let columns = [
            Column::Time,
            TextColumn::Client.into(),
            NumberColumn::Status.into(),
            NumberColumn::Bytes.into(),
            TextColumn::Method.into(),
            TextColumn::Path.into(),
        ];
        let mut table = Table::of_requests("requests", "Requests", columns);
        let from = view.until.saturating_sub(view.span);
        let scope = Scope {
            from: Some(from),
            until: Some(view.until),
            filters: view.filters.clone(),
            ..Scope::default()
        };
        let mut filter = RowFilter::new(scope, std::sync::Arc::clone(&self.classifier) as _);
        let mut found: Vec<(i64, usize, u32)> = Vec::new();
        for (nth, batch) in self.batches.iter().enumerate() {
            let rows = filter.rows(batch, &self.texts);
            found.extend(rows.iter().map(|row| (batch.time[*row as usize], nth, *row)));
        }
        found.sort_unstable();
        table.rest.rows = found.len().saturating_sub(most) as u64;
        for (_, nth, row) in found.iter().skip(found.len().saturating_sub(most)) {
            table.push_request(&self.batches[*nth], *row as usize, &self.texts, &*self.classifier);
        }
        table
    }

    /// Counts a stretch of what is kept.
    pub fn picture(&self, view: &View) -> Picture {
        let from = view.until.saturating_sub(view.span);
        let in_stretch = Scope { from: Some(from), until: Some(view.until), ..Scope::default() };
        let derive = || std::sync::Arc::clone(&self.classifier) as _;
        let mut in_time = RowFilter::new(in_stretch, derive());
        let mut filter =
            RowFilter::new(Scope { filters: view.filters.clone(), ..Scope::default() }, derive());
        let mut counting = Counting::new(&self.texts, view, from);
        let mut kept: Vec<Vec<u32>> = Vec::with_capacity(self.batches.len());
        for batch in &self.batches {
            let mut rows = in_time.rows(batch, &self.texts);
            counting.tried += rows.len() as u64;
            if !view.filters.is_empty() {
                rows.retain(|row| filter.keeps(batch, *row as usize, &self.texts));
            }
            rows.iter().for_each(|row| counting.add(batch, *row as usize));
            kept.push(rows);
        }
        let top = ranked(&counting.clients, view.top, view.by);
        // Who is looked at for one path alone asks for nothing else.
        let repeats = match counting.paths.iter().filter(|counts| counts.requests > 0).nth(1) {
            Some(_) => repeats(self.batches.iter().zip(&kept), &top, &counting.clients),
            None => HashMap::new(),
        };
        counting.finish(&top, &repeats, self.forgotten >= from)
    }
}

struct Counting<'r> {
    texts: &'r Dictionaries,
    view: &'r View,
    from: i64,
    tried: u64,
    bytes: u64,
    classes: [u64; 6],
    parts: Vec<[u64; 6]>,
    clients: Vec<Counts>,
    paths: Vec<Counts>,
}

impl<'r> Counting<'r> {
    fn new(texts: &'r Dictionaries, view: &'r View, from: i64) -> Self {
        let each = |column| vec![Counts::default(); texts.of(column).len()];
        Counting {
            texts,
            view,
            from,
            tried: 0,
            bytes: 0,
            classes: [0; 6],
            parts: vec![[0; 6]; view.parts],
            clients: each(TextColumn::Client),
            paths: each(TextColumn::Path),
        }
    }

    fn add(&mut self, batch: &RequestBatch, row: usize) {
        let time = batch.time[row];
        let status = batch.number(NumberColumn::Status, row).unwrap_or(0);
        let class = match status / 100 {
            class @ 1..=5 => class as usize,
            _ => 0,
        };
        let bytes = batch.number(NumberColumn::Bytes, row).unwrap_or(0);
        self.bytes += bytes;
        self.classes[class] += 1;
        let part =
            i128::from(time - self.from) * self.parts.len() as i128 / i128::from(self.view.span.max(1));
        if let Some(part) = usize::try_from(part).ok().and_then(|part| self.parts.get_mut(part)) {
            part[class] += 1;
        }
        let is_last_minute = time >= self.view.until - 60_000;
        let rule = batch.code(TextColumn::Rule, row).map_or(0, |code| code + 1);
        for (counts, column) in [(&mut self.clients, TextColumn::Client), (&mut self.paths, TextColumn::Path)]
        {
            let Some(code) = batch.code(column, row) else { continue };
            let counts = &mut counts[code as usize];
            counts.requests += 1;
            counts.bytes += bytes;
            counts.last_minute += u64::from(is_last_minute);
            match class {
                4 => counts.wrong += 1,
                5 => counts.failed += 1,
                _ => continue,
            }
            counts.rule = rule;
        }
    }

    fn finish(self, top_clients: &[u32], repeats: &HashMap<u32, u32>, is_cut: bool) -> Picture {
        let Counting { texts, view, from, tried, bytes, classes, parts, clients, paths } = self;
        let text = |column: TextColumn, code: u32| Cell::from(texts.of(column).text(code));
        let pace = || TableColumn::sum("last_minute", "last minute").minor();
        let ways = || [TableColumn::sum("requests", "requests"), TableColumn::size("bytes", "bytes")];
        let [requests, size] = ways();
        let repeated = TableColumn::text("repeats", "repeats").minor();
        let mut who = Table::new(
            "clients",
            "Who",
            [TableColumn::of(TextColumn::Client), requests, size, pace(), repeated],
        );
        for &code in top_clients {
            let counts = clients[code as usize];
            let repeated = repeats.get(&code).map_or(Cell::Nothing, |path| text(TextColumn::Path, *path));
            let figures = [counts.requests, counts.bytes, counts.last_minute].map(Cell::from);
            who.push([text(TextColumn::Client, code)].into_iter().chain(figures).chain([repeated]));
        }
        let [requests, size] = ways();
        let mut what =
            Table::new("paths", "What", [TableColumn::of(TextColumn::Path), requests, size, pace()]);
        for code in ranked(&paths, view.top, view.by) {
            let counts = paths[code as usize];
            let figures = [counts.requests, counts.bytes, counts.last_minute].map(Cell::from);
            what.push([text(TextColumn::Path, code)].into_iter().chain(figures));
        }
        let failing = |name: &str, title: &str, column: TextColumn, all: &[Counts]| {
            let columns = [
                TableColumn::of(column),
                TableColumn::sum("wrong", "4xx"),
                TableColumn::sum("failed", "5xx"),
                TableColumn::text("rule", "by rule").minor(),
            ];
            let mut table = Table::new(name, title, columns);
            for code in most(all, view.top, |counts| (counts.failed + counts.wrong, counts.failed)) {
                let counts = all[code as usize];
                let rule =
                    counts.rule.checked_sub(1).map_or(Cell::Nothing, |code| text(TextColumn::Rule, code));
                table.push([text(column, code), counts.wrong.into(), counts.failed.into(), rule]);
            }
            table
        };
        Picture {
            stretch: (from, view.until),
            is_cut,
            requests: classes.iter().sum(),
            bytes,
            classes,
            client_count: clients.iter().filter(|counts| counts.requests > 0).count() as u64,
            tried,
            parts,
            clients: who,
            paths: what,
            failing_paths: failing("failing_paths", "What fails", TextColumn::Path, &paths),
            failing_clients: failing("failing_clients", "For whom", TextColumn::Client, &clients),
        }
    }
}

/// The codes that have most requests, or bytes where that is what is measured.
fn ranked(all: &[Counts], top: usize, by: Measure) -> Vec<u32> {
    match by {
        Measure::Bytes => most(all, top, |counts| (counts.bytes, counts.requests)),
        _ => most(all, top, |counts| (counts.requests, counts.bytes)),
    }
}

/// The codes with the greatest figures, those without any left out; where they are the same, what was seen first.
fn most(all: &[Counts], top: usize, figures: impl Fn(&Counts) -> (u64, u64)) -> Vec<u32> {
    let mut codes: Vec<u32> =
        (0..all.len() as u32).filter(|code| figures(&all[*code as usize]) != (0, 0)).collect();
    let rank = |code: &u32| (std::cmp::Reverse(figures(&all[*code as usize])), *code);
    if codes.len() > top && top > 0 {
        codes.select_nth_unstable_by_key(top - 1, rank);
    }
    codes.truncate(top);
    codes.sort_unstable_by_key(rank);
    codes
}

/// For each of some clients the path that it asks for again and again, where it does.
fn repeats<'b>(
    batches: impl Iterator<Item = (&'b RequestBatch, &'b Vec<u32>)>,
    clients: &[u32],
    counts: &[Counts],
) -> HashMap<u32, u32> {
    let mut asked: HashMap<(u32, u32), u64> = HashMap::new();
    let repeating: Vec<u32> =
        clients.iter().copied().filter(|code| counts[*code as usize].requests >= REPEATED).collect();
    for (batch, rows) in batches {
        let (who, what) = (batch.codes(TextColumn::Client), batch.codes(TextColumn::Path));
        for row in rows.iter().map(|row| *row as usize) {
            if let (Some(client), Some(path)) = (who.get(row), what.get(row))
                && *path != NO_TEXT
                && repeating.contains(client)
            {
                *asked.entry((*client, *path)).or_default() += 1;
            }
        }
    }
    let is_nearly_all = |client: u32, times: u64| {
        let others = counts[client as usize].requests - times;
        times >= REPEATED && others * NEARLY_ALL <= times
    };
    asked
        .into_iter()
        .filter(|((client, _), times)| is_nearly_all(*client, *times))
        .map(|(pair, _)| pair)
        .collect()
}
