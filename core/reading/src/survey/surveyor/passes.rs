//! What is counted of the rows of a batch, one pass over one array at a time.

use super::super::counted::Encoded;
use super::super::listing::status_of;
use super::super::measure::Measure;
use super::super::open_visits::Request;
use super::super::plan::Part;
use super::super::ranking::Counts;
use super::by_code::ByCode;
use super::{Surveyor, UNDATED};
use crate::classify::paths::Kind;
use exedra_common::batch::{NO_TEXT, NO_TIME};
use exedra_common::{Dictionaries, NumberColumn, RequestBatch, TextColumn};

/// Milliseconds in a minute.
const MINUTE: i64 = 60_000;

impl Surveyor {
    /// Whatever depends on when: days and their visitors, hours, the timeline; and statuses beside them.
    pub(super) fn add_times(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
        let looks_at_agents = self.plan.parts.has(Part::Agents);
        let (agents, names) = (batch.codes(TextColumn::Agent), dictionaries.of(TextColumn::Agent));
        let counts_visitors = self.plan.parts.has(Part::Visitors);
        self.row_visitors.clear();
        for (nth, &row) in rows.iter().enumerate() {
            let row = row as usize;
            let (time, status, bytes) = (batch.time[row], status_of(batch, row), bytes_of(batch, row));
            let class = match status / 100 {
                class @ 1..=5 => usize::from(class),
                _ => 0,
            };
            if time == NO_TIME {
                let pair = counts_visitors.then(|| self.pairs[nth]);
                self.add_undated(class, bytes, status, pair);
                continue;
            }
            let quarter = self.calendar.quarter(time);
            if self.day.0 != quarter.day {
                self.turn_to(quarter.day);
            }
            self.day.1.add(class, bytes);
            let (weekday, hour) = (quarter.weekday(), usize::from(quarter.hour));
            self.survey.week[weekday][hour].add(bytes);
            if looks_at_agents && agents[row] != NO_TEXT {
                match self.texts.is_program(agents[row], names) {
                    true => self.survey.by_programs.add(bytes),
                    false => {
                        self.survey.by_people.add(bytes);
                        self.survey.people[weekday][hour] += 1;
                    }
                }
            }
            self.statuses[usize::from(status)].add(bytes);
            if let Some(step) = self.plan.step {
                let bucket = self.calendar.bucket(time, step);
                self.survey.timeline.entry(bucket).or_default().add(class, bytes);
            }
            self.survey.span = Some(match self.survey.span {
                Some((first, last)) => (first.min(time), last.max(time)),
                None => (time, time),
            });
            if counts_visitors {
                let visitor = self.plan.key.of_visitor(self.pairs[nth], quarter.day);
                self.today.push(visitor);
                if self.plan.by == Measure::Visitors {
                    self.row_visitors.push(visitor);
                }
            }
        }
        self.turn_to(self.day.0);
    }

    /// A request of which nobody knows when it was: it is in no day, and whoever asked is a visitor of all of them together.
    fn add_undated(&mut self, class: usize, bytes: u64, status: u16, pair: Option<u64>) {
        self.survey.undated.add(class, bytes);
        self.statuses[usize::from(status)].add(bytes);
        if let Some(pair) = pair {
            let visitor = self.plan.key.of_visitor(pair, UNDATED);
            self.survey.visitors.add_all(UNDATED, &[visitor]);
            if self.plan.by == Measure::Visitors {
                self.row_visitors.push(visitor);
            }
        }
    }

    pub(super) fn add_source(&mut self, batch: &RequestBatch, rows: &[u32], source: usize) {
        let sources = &mut self.survey.sources;
        if sources.len() <= source {
            sources.resize(source + 1, Counts::default());
        }
        let bytes = rows.iter().map(|&row| bytes_of(batch, row as usize)).fold(0, u64::saturating_add);
        let says_bytes = |row: &&u32| batch.number(NumberColumn::Bytes, **row as usize).is_some();
        self.survey.said.bytes |= rows.iter().any(|row| says_bytes(&row));
        let clients = batch.codes(TextColumn::Client);
        self.survey.said.clients |=
            clients.is_empty() || rows.iter().any(|row| clients[*row as usize] != NO_TEXT);
        sources[source].merge(Counts { requests: rows.len() as u64, bytes });
    }

    pub(super) fn add_texts(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
        let by_code = &mut self.by_code;
        let counted = [
            (Part::Paths, TextColumn::Path, &mut by_code.paths),
            (Part::Clients, TextColumn::Client, &mut by_code.clients),
            (Part::Users, TextColumn::User, &mut by_code.users),
            (Part::Agents, TextColumn::Agent, &mut by_code.agents),
            (Part::Referrers, TextColumn::Referrer, &mut by_code.referrers),
            (Part::Hosts, TextColumn::Host, &mut by_code.hosts),
            (Part::Methods, TextColumn::Method, &mut by_code.methods),
            (Part::Protocols, TextColumn::Protocol, &mut by_code.protocols),
            (Part::Queries, TextColumn::Query, &mut by_code.queries),
        ];
        for (_, column, counts) in counted.into_iter().filter(|(part, ..)| self.plan.parts.has(*part)) {
            counts.resize(dictionaries.of(column).len(), Counts::default());
            let codes = batch.codes(column);
            for row in rows.iter().map(|&row| row as usize) {
                if codes[row] != NO_TEXT {
                    counts[codes[row] as usize].add(bytes_of(batch, row));
                }
            }
        }
    }

    pub(super) fn add_visits(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
        let [agents, paths] = [TextColumn::Agent, TextColumn::Path].map(|column| batch.codes(column));
        for (row, &visitor) in rows.iter().map(|&row| row as usize).zip(&self.pairs) {
            // Without times nobody can tell one visit from another.
            if visitor > self.threshold || batch.time[row] == NO_TIME {
                continue;
            }
            let is_answered = matches!(status_of(batch, row), 200..=299 | 304);
            let page = paths[row];
            let is_page =
                is_answered && page != NO_TEXT && self.texts.paths[page as usize].kind == Kind::Page;
            self.open_visits.add(Request {
                visitor,
                time: batch.time[row],
                page: is_page.then_some(page),
                is_crawler: self.texts.is_program(agents[row], dictionaries.of(TextColumn::Agent)),
            });
        }
    }

    pub(super) fn add_embeds(&mut self, batch: &RequestBatch, rows: &[u32]) {
        let [paths, referrers] = [TextColumn::Path, TextColumn::Referrer].map(|column| batch.codes(column));
        for row in rows.iter().map(|&row| row as usize) {
            let (path, referrer) = (paths[row], referrers[row]);
            if referrer != NO_TEXT && path != NO_TEXT {
                let known = self.texts.paths[path as usize];
                if known.kind != Kind::Page {
                    self.embeds.add(referrer, bytes_of(batch, row), known.is_style);
                }
            }
        }
    }

    pub(super) fn add_missing(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
        let code = |column: TextColumn, row: usize| batch.codes(column)[row];
        for row in rows
            .iter()
            .map(|&row| row as usize)
            .filter(|&row| matches!(status_of(batch, row), 200..=299 | 304))
        {
            let path = code(TextColumn::Path, row);
            if path != NO_TEXT && self.texts.paths[path as usize].is_probe {
                self.by_code.answered.entry(path).or_default().add(bytes_of(batch, row));
            }
        }
        for row in rows.iter().map(|&row| row as usize).filter(|&row| status_of(batch, row) == 404) {
            let (path, referrer) = (code(TextColumn::Path, row), code(TextColumn::Referrer, row));
            if path == NO_TEXT {
                continue;
            }
            let bytes = bytes_of(batch, row);
            self.by_code.missing.add((path, referrer), Counts { requests: 1, bytes });
            let (agents, agent) = (dictionaries.of(TextColumn::Agent), code(TextColumn::Agent, row));
            if referrer != NO_TEXT {
                continue;
            }
            // A crawler that is known asks for what it found somewhere; whoever tries doors is none.
            let is_probe = self.texts.paths[path as usize].is_probe;
            let known = match is_probe {
                true => &mut self.by_code.probes,
                false if !self.texts.is_program(agent, agents) => continue,
                false if self.texts.is_known_crawler(agent, agents) => &mut self.by_code.crawled,
                false => &mut self.by_code.probes,
            };
            known.entry(path).or_default().add(bytes);
        }
    }

    pub(super) fn add_encodings(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
        let by_code = &mut self.by_code.encodings;
        by_code.resize(dictionaries.of(TextColumn::Encoding).len(), Encoded::default());
        let codes = batch.codes(TextColumn::Encoding);
        let (paths, known) = (batch.codes(TextColumn::Path), &self.texts.paths);
        let uncompressed = &mut self.by_code.uncompressed;
        uncompressed.resize(dictionaries.of(TextColumn::Path).len(), Counts::default());
        for row in rows.iter().map(|&row| row as usize) {
            if codes[row] == NO_TEXT {
                let path = paths[row];
                if path != NO_TEXT && known[path as usize].is_text && status_of(batch, row) == 200 {
                    uncompressed[path as usize].add(bytes_of(batch, row));
                }
                continue;
            }
            let encoded = &mut by_code[codes[row] as usize];
            let sent = bytes_of(batch, row);
            encoded.counts.add(sent);
            if let Some(full) = batch.number(NumberColumn::FullBytes, row) {
                encoded.before = encoded.before.saturating_add(full);
                encoded.after = encoded.after.saturating_add(sent);
            }
        }
    }

    pub(super) fn add_failing(&mut self, batch: &RequestBatch, rows: &[u32]) {
        let [paths, clients] = [TextColumn::Path, TextColumn::Client].map(|column| batch.codes(column));
        let ByCode { failing_paths, failing_clients, .. } = &mut self.by_code;
        for row in rows.iter().map(|&row| row as usize) {
            let status = status_of(batch, row);
            if status < 400 {
                continue;
            }
            let bytes = bytes_of(batch, row);
            for (codes, counts) in [(paths, &mut *failing_paths), (clients, &mut *failing_clients)] {
                if codes[row] != NO_TEXT {
                    counts.add((status, codes[row]), Counts { requests: 1, bytes });
                }
            }
        }
    }

    pub(super) fn add_repeats(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
        self.texts.hash_paths(self.plan.key, dictionaries.of(TextColumn::Path));
        let paths = batch.codes(TextColumn::Path);
        for (row, &client) in rows.iter().map(|&row| row as usize).zip(&self.pairs) {
            let (path, bytes) = (paths[row], bytes_of(batch, row));
            if path != NO_TEXT && status_of(batch, row) == 200 && bytes > 0 {
                self.full_answers.add(client, self.texts.path_hashes[path as usize], bytes);
            }
        }
    }

    pub(super) fn add_durations(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
        let paths = dictionaries.of(TextColumn::Path);
        self.texts.hash_paths(self.plan.key, paths);
        self.by_code.slow.resize(paths.len(), Counts::default());
        let codes = batch.codes(TextColumn::Path);
        for row in rows.iter().map(|&row| row as usize) {
            let Some(duration) = batch.number(NumberColumn::Duration, row) else { continue };
            let path = codes[row];
            let hash = self.texts.path_hashes.get(path as usize).copied().unwrap_or(0);
            self.survey.durations.add(hash, duration, 1);
            if duration > self.plan.slow {
                if batch.time[row] != NO_TIME {
                    self.survey.durations.add_slow_minute(batch.time[row].div_euclid(MINUTE), 1);
                }
                if path != NO_TEXT {
                    self.by_code.slow[path as usize].add(bytes_of(batch, row));
                }
            }
        }
    }
}

fn bytes_of(batch: &RequestBatch, row: usize) -> u64 {
    batch.number(NumberColumn::Bytes, row).unwrap_or(0)
}
