//! Batches into counts, and counts into a survey.

use super::calendar::Calendar;
use super::counted::{Bucket, Encoded, MissingKey, StatusKey, Survey};
use super::embeds::Embeds;
use super::listing::{Listing, Rows, status_of};
use super::measure::Measure;
use super::open_visits::{OpenVisits, Request};
use super::plan::{Part, SurveyPlan};
use super::ranking::{Counts, Ranking};
use super::visitors::VisitorKey;
use super::visits::Visits;
use crate::classify::agents;
use crate::classify::paths::{self, Kind};
use exedra_common::batch::{NO_TEXT, NO_TIME};
use exedra_common::scope::RowFilter;
use exedra_common::{Dictionaries, Dictionary, NumberColumn, RequestBatch, TextColumn};
use foldhash::fast::RandomState;
use hashbrown::HashMap;
use std::sync::Arc;

/// Stands for the day of requests of which nobody knows when they were.
const UNDATED: i32 = i32::MIN + 1;
/// Milliseconds in a minute.
const MINUTE: i64 = 60_000;
/// How many pairs of missing path and referrer are known by codes before they are settled.
const MOST_PAIRS: usize = 1 << 18;

/// Counts one thread's batches, whose texts all come from one set of dictionaries.
#[derive(Debug)]
pub struct Surveyor {
    plan: SurveyPlan,
    calendar: Calendar,
    row_filter: RowFilter,
    /// What needs no texts: it stays here until the end.
    survey: Survey,
    statuses: Box<[Counts; 1000]>,
    by_code: ByCode,
    texts: Learnt,
    embeds: Embeds,
    open_visits: OpenVisits,
    /// Visits of visitors with a larger hash are not kept.
    threshold: u64,
    day: (i32, Bucket),
    rows: Vec<u32>,
    /// The hash of client and agent of each of those rows.
    pairs: Vec<u64>,
    /// Visitors of the day at hand.
    today: Vec<u64>,
    /// The visitor of each row, and what comes of them, where lists are ranked by visitors.
    row_visitors: Vec<u64>,
    listing: Listing,
    /// The same with durations in place of bytes, where lists are ranked by time.
    times: Option<Box<Surveyor>>,
}

/// Counts by the codes of texts, to be settled before other dictionaries come.
#[derive(Debug, Default)]
struct ByCode {
    paths: Vec<Counts>,
    clients: Vec<Counts>,
    users: Vec<Counts>,
    agents: Vec<Counts>,
    referrers: Vec<Counts>,
    encodings: Vec<Encoded>,
    slow: Vec<Counts>,
    hosts: Vec<Counts>,
    methods: Vec<Counts>,
    protocols: Vec<Counts>,
    queries: Vec<Counts>,
    uncompressed: Vec<Counts>,
    /// By status and path, and by status and client.
    failing_paths: HashMap<(u16, u32), Counts, RandomState>,
    failing_clients: HashMap<(u16, u32), Counts, RandomState>,
    /// By path and referrer.
    missing: HashMap<(u32, u32), Counts, RandomState>,
    probes: HashMap<u32, Counts, RandomState>,
    crawled: HashMap<u32, Counts, RandomState>,
    answered: HashMap<u32, Counts, RandomState>,
}

/// What follows from texts, learnt once for each code.
#[derive(Debug, Default)]
struct Learnt {
    paths: Vec<Path>,
    clients: Vec<u64>,
    agents: Vec<u64>,
    /// The keyed hash of each path, where durations are counted.
    path_hashes: Vec<u64>,
    /// Whether an agent is a program; looked for when it is needed, as that takes its time.
    programs: Vec<Option<bool>>,
}

#[derive(Debug, Clone, Copy)]
struct Path {
    kind: Kind,
    is_style: bool,
    is_probe: bool,
    /// Whether it is text, which gets smaller when it is compressed.
    is_text: bool,
}

impl Learnt {
    fn is_program(&mut self, agent: u32, agents: &Dictionary) -> bool {
        if agent == NO_TEXT {
            return false;
        }
        if self.programs.len() <= agent as usize {
            self.programs.resize(agents.len(), None);
        }
        let known = &mut self.programs[agent as usize];
        *known.get_or_insert_with(|| agents::is_program(agents.text(agent)))
    }

    fn hash_paths(&mut self, key: VisitorKey, paths: &Dictionary) {
        let new = self.path_hashes.len()..paths.len();
        self.path_hashes.extend(new.map(|code| key.of_text(paths.text(code as u32))));
    }
}

impl Surveyor {
    /// A surveyor that has seen nothing.
    pub fn new(plan: SurveyPlan) -> Self {
        let times = (plan.by == Measure::Time).then(|| {
            let listed =
                [Part::Paths, Part::Clients, Part::Agents, Part::Referrers, Part::Users, Part::Missing];
            let parts = listed.into_iter().filter(|part| plan.parts.has(*part)).collect();
            let plan = SurveyPlan { by: Measure::default(), step: None, parts, ..plan.clone() };
            Box::new(Surveyor::new(plan))
        });
        Surveyor {
            calendar: Calendar::new(plan.zone.clone()),
            row_filter: RowFilter::new(plan.scope.clone(), Arc::new(plan.classifier())),
            plan,
            survey: Survey::default(),
            statuses: Box::new([Counts::default(); 1000]),
            by_code: ByCode::default(),
            texts: Learnt::default(),
            embeds: Embeds::default(),
            open_visits: OpenVisits::default(),
            threshold: u64::MAX,
            day: (i32::MIN, Bucket::default()),
            rows: Vec::new(),
            pairs: Vec::new(),
            today: Vec::new(),
            row_visitors: Vec::new(),
            listing: Listing::default(),
            times,
        }
    }

    /// Counts the requests of a batch that are within the scope.
    ///
    /// `source` is the place of their source, where they are told apart. The batch is left as it was.
    pub fn add(&mut self, batch: &mut RequestBatch, dictionaries: &Dictionaries, source: usize) {
        let mut rows = std::mem::take(&mut self.rows);
        rows.clear();
        let all = 0..batch.rows() as u32;
        match self.row_filter.lets_all_through() {
            true => rows.extend(all),
            false => rows.extend(all.filter(|&row| self.row_filter.keeps(batch, row as usize, dictionaries))),
        }
        self.add_rows(batch, &rows, dictionaries, source);
        if let Some(times) = &mut self.times {
            batch.swap_numbers(NumberColumn::Bytes, NumberColumn::Duration);
            times.add_rows(batch, &rows, dictionaries, source);
            batch.swap_numbers(NumberColumn::Bytes, NumberColumn::Duration);
        }
        self.rows = rows;
    }

    /// Counts some rows of a batch. Column by column: each pass does one thing to one array, so that its waits for memory
    /// overlap.
    fn add_rows(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries, source: usize) {
        self.learn(dictionaries);
        self.find_pairs(batch, rows);
        self.add_times(batch, rows, dictionaries);
        self.add_source(batch, rows, source);
        self.add_texts(batch, rows, dictionaries);
        if self.plan.parts.has(Part::Visits) {
            self.add_visits(batch, rows, dictionaries);
        }
        if self.plan.parts.has(Part::Referrers) {
            self.embeds.learn(dictionaries.of(TextColumn::Referrer));
            self.add_embeds(batch, rows);
        }
        if self.plan.parts.has(Part::Missing) {
            self.add_missing(batch, rows, dictionaries);
        }
        if self.plan.parts.has(Part::Encodings) {
            self.add_encodings(batch, rows, dictionaries);
        }
        if self.plan.parts.has(Part::Durations) {
            self.add_durations(batch, rows, dictionaries);
        }
        if self.plan.parts.has(Part::Failing) {
            self.add_failing(batch, rows);
        }
        if self.plan.parts.has(Part::Repeats) {
            self.add_repeats(batch, rows, dictionaries);
        }
        if self.plan.by == Measure::Visitors {
            let paths = &self.texts.paths;
            let is_page = |path: u32| paths.get(path as usize).is_none_or(|path| path.kind == Kind::Page);
            self.listing.learn(self.plan.key, dictionaries);
            let rows = Rows { batch, rows, visitors: &self.row_visitors, source };
            self.listing.add(&self.plan, rows, is_page, &mut self.survey.listed);
        }
    }

    /// Whether so many pairs of texts are known that they should be settled.
    pub fn is_full(&self) -> bool {
        // Where there are lists by time, they have the same pairs.
        let by_code = &self.by_code;
        by_code.missing.len() + by_code.failing_paths.len() + by_code.failing_clients.len() > MOST_PAIRS
    }

    /// Whether so many visits are known by codes that they should be settled.
    pub fn has_many_visits(&self) -> bool {
        self.open_visits.are_many()
    }

    /// Settles visits that are known by codes. From there on only visitors are looked at that are kept there.
    pub fn settle_visits(&mut self, dictionaries: &Dictionaries, visits: &mut Visits) {
        self.open_visits.settle(dictionaries.of(TextColumn::Path), visits);
        self.threshold = visits.threshold();
    }

    /// Settles everything else that is known by codes; new dictionaries may come then.
    pub fn settle_texts(&mut self, dictionaries: &Dictionaries, survey: &mut Survey) {
        self.row_filter.forget();
        self.open_visits.forget();
        self.texts = Learnt::default();
        self.listing = Listing::default();
        if let Some(times) = &mut self.times {
            times.settle_texts(dictionaries, survey.times.get_or_insert_default());
        }
        let by_code = std::mem::take(&mut self.by_code);
        let texts = |column| dictionaries.of(column);
        let rankings: [(&mut Ranking, &[Counts], TextColumn); 11] = [
            (&mut survey.paths, &by_code.paths, TextColumn::Path),
            (&mut survey.clients, &by_code.clients, TextColumn::Client),
            (&mut survey.users, &by_code.users, TextColumn::User),
            (&mut survey.agents, &by_code.agents, TextColumn::Agent),
            (&mut survey.referrers, &by_code.referrers, TextColumn::Referrer),
            (&mut survey.durations.slow, &by_code.slow, TextColumn::Path),
            (&mut survey.hosts, &by_code.hosts, TextColumn::Host),
            (&mut survey.methods, &by_code.methods, TextColumn::Method),
            (&mut survey.protocols, &by_code.protocols, TextColumn::Protocol),
            (&mut survey.queries, &by_code.queries, TextColumn::Query),
            (&mut survey.uncompressed, &by_code.uncompressed, TextColumn::Path),
        ];
        for (ranking, counts, column) in rankings {
            ranking.add_all(texts(column), counts);
        }
        for (host, [all, styles]) in std::mem::take(&mut self.embeds).into_counts() {
            if styles.requests > 0 {
                survey.styles.add(&host, styles);
            }
            survey.embeds.add(&host, all);
        }
        for ((path, referrer), counts) in by_code.missing {
            let referrer = if referrer == NO_TEXT { "" } else { texts(TextColumn::Referrer).text(referrer) };
            survey.missing.add(&MissingKey::join(texts(TextColumn::Path).text(path), referrer), counts);
        }
        for (failing, ranking, column) in [
            (by_code.failing_paths, &mut survey.failing_paths, TextColumn::Path),
            (by_code.failing_clients, &mut survey.failing_clients, TextColumn::Client),
        ] {
            for ((status, code), counts) in failing {
                ranking.add(&StatusKey::join(status, texts(column).text(code)), counts);
            }
        }
        for (path, counts) in by_code.probes {
            survey.probes.add(texts(TextColumn::Path).text(path), counts);
        }
        for (path, counts) in by_code.crawled {
            survey.crawled.add(texts(TextColumn::Path).text(path), counts);
        }
        for (path, counts) in by_code.answered {
            survey.answered.add(texts(TextColumn::Path).text(path), counts);
        }
        let encodings = texts(TextColumn::Encoding).texts().zip(by_code.encodings);
        encodings
            .filter(|(_, encoded)| encoded.counts.requests > 0)
            .for_each(|(name, encoded)| survey.add_encoded(name, encoded));
    }

    /// Hands over what needs no texts.
    pub fn finish(&mut self, survey: &mut Survey) {
        self.turn_to(i32::MIN);
        for (status, counts) in self.statuses.iter().enumerate().filter(|(_, counts)| counts.requests > 0) {
            self.survey.statuses.insert(status as u16, *counts);
        }
        for bucket in self.survey.days.values() {
            self.survey.total.merge(*bucket);
        }
        self.survey.total.merge(self.survey.undated);
        survey.merge(std::mem::take(&mut self.survey));
        if let Some(times) = &mut self.times {
            times.finish(survey.times.get_or_insert_default());
        }
    }

    /// The survey, where all texts came from one set of dictionaries.
    pub fn into_survey(mut self, dictionaries: &Dictionaries) -> Survey {
        let mut survey = Survey::default();
        self.settle_visits(dictionaries, &mut survey.visits);
        self.settle_texts(dictionaries, &mut survey);
        self.finish(&mut survey);
        survey
    }

    /// Looks at texts that are new, as far as that will be needed.
    fn learn(&mut self, dictionaries: &Dictionaries) {
        let paths = dictionaries.of(TextColumn::Path);
        self.texts.paths.extend((self.texts.paths.len()..paths.len()).map(|code| {
            let path = paths.text(code as u32);
            Path {
                kind: paths::kind(path),
                is_style: paths::is_style_or_script(path),
                is_probe: paths::is_probe(path),
                is_text: paths::saving(path) > 0.0,
            }
        }));
        if self.plan.needs_pairs() {
            let key = self.plan.key;
            let clients_and_agents = [
                (&mut self.texts.clients, dictionaries.of(TextColumn::Client)),
                (&mut self.texts.agents, dictionaries.of(TextColumn::Agent)),
            ];
            for (hashes, texts) in clients_and_agents {
                let new = hashes.len()..texts.len();
                hashes.extend(new.map(|code| key.of_text(texts.text(code as u32))));
            }
        }
    }

    fn find_pairs(&mut self, batch: &RequestBatch, rows: &[u32]) {
        self.pairs.clear();
        if !self.plan.needs_pairs() {
            return;
        }
        let key = self.plan.key;
        let nobody = key.of_text("");
        let [clients, agents] = [TextColumn::Client, TextColumn::Agent].map(|column| batch.codes(column));
        let of = |hashes: &[u64], code: u32| hashes.get(code as usize).copied().unwrap_or(nobody);
        self.pairs.extend(rows.iter().map(|&row| row as usize).map(|row| {
            key.of_pair(of(&self.texts.clients, clients[row]), of(&self.texts.agents, agents[row]))
        }));
    }

    /// Whatever depends on when: days and their visitors, hours, the timeline; and statuses beside them.
    fn add_times(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
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

    fn add_source(&mut self, batch: &RequestBatch, rows: &[u32], source: usize) {
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

    /// Sets aside what was counted of the day at hand, and takes up another.
    fn turn_to(&mut self, day: i32) {
        let (last, bucket) = std::mem::replace(&mut self.day, (day, Bucket::default()));
        if bucket.counts.requests > 0 {
            self.survey.days.entry(last).or_default().merge(bucket);
        }
        if !self.today.is_empty() {
            self.survey.visitors.add_all(last, &self.today);
            self.today.clear();
        }
    }

    fn add_texts(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
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

    fn add_visits(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
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

    fn add_embeds(&mut self, batch: &RequestBatch, rows: &[u32]) {
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

    fn add_missing(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
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
            self.by_code.missing.entry((path, referrer)).or_default().add(bytes);
            let (agents, agent) = (dictionaries.of(TextColumn::Agent), code(TextColumn::Agent, row));
            if referrer != NO_TEXT {
                continue;
            }
            // A crawler that is known asks for what it found somewhere; whoever tries doors is none.
            let is_probe = self.texts.paths[path as usize].is_probe;
            let known = match is_probe {
                true => &mut self.by_code.probes,
                false if !self.texts.is_program(agent, agents) => continue,
                false if agents::is_known_crawler(agents.text(agent)) => &mut self.by_code.crawled,
                false => &mut self.by_code.probes,
            };
            known.entry(path).or_default().add(bytes);
        }
    }

    fn add_encodings(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
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

    fn add_failing(&mut self, batch: &RequestBatch, rows: &[u32]) {
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
                    counts.entry((status, codes[row])).or_default().add(bytes);
                }
            }
        }
    }

    fn add_repeats(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
        self.texts.hash_paths(self.plan.key, dictionaries.of(TextColumn::Path));
        let paths = batch.codes(TextColumn::Path);
        for (row, &client) in rows.iter().map(|&row| row as usize).zip(&self.pairs) {
            let (path, bytes) = (paths[row], bytes_of(batch, row));
            if path != NO_TEXT && status_of(batch, row) == 200 && bytes > 0 {
                self.survey.repeats.add(client, self.texts.path_hashes[path as usize], bytes);
            }
        }
    }

    fn add_durations(&mut self, batch: &RequestBatch, rows: &[u32], dictionaries: &Dictionaries) {
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::logs::{Layout, LineReader};
    use crate::survey::Step;
    use crate::survey::{Report, ReportOptions};
    use exedra_common::scope::Scope;
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    fn plan(scope: Scope) -> SurveyPlan {
        SurveyPlan { step: Some(Step::Hour), ..SurveyPlan::new(scope, TimeZone::UTC, VisitorKey([1, 2])) }
    }

    fn survey(lines: &[String], plan: &SurveyPlan) -> Survey {
        let layouts = [Layout::understand("combined").unwrap()];
        let mut reader = LineReader::new(&layouts, plan.projection());
        let (mut batch, mut dictionaries) = (RequestBatch::default(), Dictionaries::default());
        reader.read_block(lines.concat().as_bytes(), 0, &mut 0, &mut batch, &mut dictionaries);
        assert_eq!(reader.read as usize, lines.len());
        let mut surveyor = Surveyor::new(plan.clone());
        surveyor.add(&mut batch, &dictionaries, 0);
        surveyor.into_survey(&dictionaries)
    }

    fn line() -> impl Strategy<Value = String> {
        (1u8..5, 18u8..22, 0u8..24, prop::sample::select(vec![200u16, 304, 404, 500]), 0u8..4, 0u32..9000, 0u8..3, 0u8..3).prop_map(
            |(client, day, hour, status, path, bytes, agent, referrer)| {
                let referrer = if referrer == 0 { "-".into() } else { format!("https://l{referrer}.example/") };
                format!(
                    "192.0.2.{client} - - [{day}/Nov/2026:{hour:02}:10:00 +0000] \"GET /p{path} HTTP/1.1\" {status} {bytes} \"{referrer}\" \"boat/{agent}\"\n"
                )
            },
        )
    }

    proptest! {
        #[test]
        fn parts_merge_to_the_whole_in_any_order(lines in proptest::collection::vec(line(), 0..120), cut in 0usize..120) {
            let plan = plan(Scope::default());
            let (a, b) = lines.split_at(cut.min(lines.len()));
            let json = |survey: &Survey| {
                let report = Report::new(survey, &plan, &ReportOptions::default(), None);
                serde_json::to_string(&report).unwrap()
            };
            let whole = json(&survey(&lines, &plan));
            let mut forth = survey(a, &plan);
            forth.merge(survey(b, &plan));
            let mut back = survey(b, &plan);
            back.merge(survey(a, &plan));
            prop_assert_eq!(&json(&forth), &whole);
            prop_assert_eq!(&json(&back), &whole);
        }

        #[test]
        fn agrees_with_counting_by_hand(lines in proptest::collection::vec(line(), 1..120)) {
            let survey = survey(&lines, &plan(Scope::default()));
            let visitors: std::collections::BTreeSet<(&str, &str, &str)> = lines.iter().map(|line| {
                let words: Vec<&str> = line.split(' ').collect();
                (words[0], &words[3][..12], words[11])
            }).collect();
            let missing = lines.iter().filter(|line| line.contains("\" 404 ")).count() as u64;
            prop_assert_eq!(survey.visitors.total(), visitors.len() as u64);
            prop_assert_eq!(survey.total.counts.requests, lines.len() as u64);
            prop_assert_eq!(survey.missing.by_requests().iter().map(|entry| entry.1.requests).sum::<u64>(), missing);
            prop_assert_eq!(survey.hours().iter().map(|hour| hour.requests).sum::<u64>(), lines.len() as u64);
        }
    }

    #[test]
    fn a_scope_keeps_what_it_names() {
        let lines: Vec<String> = [("/a", 200), ("/a", 404), ("/b/c", 200)]
            .map(|(path, status)| {
                format!("192.0.2.1 - - [20/Nov/2026:10:00:00 +0000] \"GET {path} HTTP/1.1\" {status} 5 \"-\" \"x\"\n")
            })
            .into();
        let requests = |only: &[&str], without: &[&str]| {
            let filters = exedra_common::filters::Filters::understand(only, without).unwrap();
            survey(&lines, &plan(Scope { filters, ..Scope::default() })).total.counts.requests
        };
        assert_eq!(requests(&["path=/a"], &[]), 2);
        assert_eq!(requests(&["path=/a", "status=404"], &[]), 1);
        assert_eq!(requests(&["path=/b/*", "status=4xx"], &[]), 0);
        assert_eq!(requests(&[], &["path=/b/*"]), 2);
        assert_eq!(requests(&[], &["user=ann"]), 3);
    }
}
