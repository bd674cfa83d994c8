//! Batches into counts, and counts into a survey.

use super::calendar::{Calendar, Step};
use super::ranking::{Counts, Ranking};
use super::visitors::{VisitorKey, Visitors};
use super::visits::{LONGEST_GAP, Stretch, Visits};
use crate::classify::paths::{self, Kind};
use crate::classify::{agents, referrers};
use crate::logs::batch::NO_TEXT;
use crate::logs::{Column, Dictionaries, Dictionary, Projection, RequestBatch, TextColumn};
use crate::scope::{Scope, Sieve};
use foldhash::fast::RandomState;
use hashbrown::hash_map::Entry;
use hashbrown::{HashMap, HashSet};
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use std::sync::Arc;

/// What a survey is to be made of.
#[derive(Debug, Clone)]
pub struct SurveyPlan {
    /// Which requests count.
    pub scope: Scope,
    /// Whose days and hours.
    pub zone: TimeZone,
    /// Key of the visitors' hashes.
    pub key: VisitorKey,
    /// Buckets of the timeline, where one is wanted.
    pub step: Option<Step>,
}

impl SurveyPlan {
    /// The columns that making this survey looks at.
    pub fn projection(&self) -> Projection {
        let own = [Column::Status, Column::Bytes].into_iter().chain(
            [TextColumn::Client, TextColumn::Path, TextColumn::Referrer, TextColumn::Agent].map(Column::Text),
        );
        own.chain(self.scope.columns()).collect()
    }
}

/// Requests and bytes, with their answers by class.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Bucket {
    /// All of them.
    pub counts: Counts,
    /// Requests by the first digit of their status; index 0 holds those without one.
    pub classes: [u64; 6],
}

impl Bucket {
    fn add(&mut self, class: usize, bytes: u64) {
        self.counts.add(bytes);
        self.classes[class] += 1;
    }

    fn merge(&mut self, other: Bucket) {
        self.counts.merge(other.counts);
        self.classes.iter_mut().zip(other.classes).for_each(|(ours, theirs)| *ours += theirs);
    }
}

/// Everything counted over one scope.
#[derive(Debug, Clone, Default)]
pub struct Survey {
    /// Everything together.
    pub total: Bucket,
    /// First and last instant, in milliseconds since 1970 UTC.
    pub span: Option<(i64, i64)>,
    /// By status; 0 stands for none.
    pub statuses: BTreeMap<u16, Counts>,
    /// By day, counted from 1970-01-01 in the plan's zone.
    pub days: BTreeMap<i32, Bucket>,
    /// By hour of the day in the plan's zone.
    pub hours: [Counts; 24],
    /// By bucket of the plan's step, keyed by its first millisecond.
    pub timeline: BTreeMap<i64, Bucket>,
    /// By path.
    pub paths: Ranking<Box<str>>,
    /// By client.
    pub clients: Ranking<Box<str>>,
    /// By agent.
    pub agents: Ranking<Box<str>>,
    /// By the page that linked here.
    pub referrers: Ranking<Box<str>>,
    /// What pages of each host load from here: requests for anything but pages, by the host of the referrer.
    pub embeds: Ranking<Box<str>>,
    /// Those of them that are style sheets and scripts: they tell which hosts are one's own.
    pub styles: Ranking<Box<str>>,
    /// What visitors did without a long gap.
    pub visits: Visits,
    /// Requests answered 404, by path and referrer (empty when there was none).
    pub missing: Ranking<(Box<str>, Box<str>)>,
    /// Distinct clients and agents of each day.
    pub visitors: Visitors,
}

impl Survey {
    /// Takes in another survey of the same plan.
    pub fn merge(&mut self, other: Survey) {
        self.total.merge(other.total);
        self.span = match (self.span, other.span) {
            (Some(ours), Some(theirs)) => Some((ours.0.min(theirs.0), ours.1.max(theirs.1))),
            (ours, theirs) => ours.or(theirs),
        };
        other
            .statuses
            .into_iter()
            .for_each(|(key, counts)| self.statuses.entry(key).or_default().merge(counts));
        other.days.into_iter().for_each(|(key, bucket)| self.days.entry(key).or_default().merge(bucket));
        self.hours.iter_mut().zip(other.hours).for_each(|(ours, theirs)| ours.merge(theirs));
        other
            .timeline
            .into_iter()
            .for_each(|(key, bucket)| self.timeline.entry(key).or_default().merge(bucket));
        self.paths.merge(other.paths);
        self.clients.merge(other.clients);
        self.agents.merge(other.agents);
        self.referrers.merge(other.referrers);
        self.embeds.merge(other.embeds);
        self.styles.merge(other.styles);
        self.visits.merge(other.visits);
        self.missing.merge(other.missing);
        self.visitors.merge(other.visitors);
    }
}

/// Counts one thread's batches, whose texts all come from one set of dictionaries.
#[derive(Debug)]
pub struct Surveyor {
    plan: SurveyPlan,
    calendar: Calendar,
    sieve: Sieve,
    survey: Survey,
    statuses: Box<[Counts; 1000]>,
    paths: Vec<Counts>,
    clients: Vec<Counts>,
    agents: Vec<Counts>,
    referrers: Vec<Counts>,
    /// The kind of each path, and whether it is a style sheet or a script.
    kinds: Vec<(Kind, bool)>,
    hosts: Hosts,
    open_visits: HashMap<(u32, u32), OpenVisit, RandomState>,
    closed_visits: Vec<((u32, u32), OpenVisit)>,
    missing: HashMap<(u32, u32), Counts, RandomState>,
    day: (i32, Bucket),
    visitors: HashSet<(u32, u32), RandomState>,
    earlier: BTreeMap<i32, HashSet<(u32, u32), RandomState>>,
    rows: Vec<u32>,
}

impl Surveyor {
    /// A surveyor that has seen nothing.
    pub fn new(plan: SurveyPlan) -> Self {
        Surveyor {
            calendar: Calendar::new(plan.zone.clone()),
            sieve: Sieve::new(plan.scope.clone()),
            plan,
            survey: Survey::default(),
            statuses: Box::new([Counts::default(); 1000]),
            paths: Vec::new(),
            clients: Vec::new(),
            agents: Vec::new(),
            referrers: Vec::new(),
            kinds: Vec::new(),
            hosts: Hosts::default(),
            open_visits: HashMap::default(),
            closed_visits: Vec::new(),
            missing: HashMap::default(),
            day: (i32::MIN, Bucket::default()),
            visitors: HashSet::default(),
            earlier: BTreeMap::new(),
            rows: Vec::new(),
        }
    }

    /// Counts the requests of a batch that are within the scope.
    ///
    /// Column by column: each pass does one thing to one array, so that its waits for memory overlap.
    pub fn add(&mut self, batch: &RequestBatch, dictionaries: &Dictionaries) {
        self.paths.resize(dictionaries.of(TextColumn::Path).len(), Counts::default());
        self.clients.resize(dictionaries.of(TextColumn::Client).len(), Counts::default());
        let mut rows = std::mem::take(&mut self.rows);
        rows.clear();
        if self.sieve.lets_all_through() {
            rows.extend(0..batch.rows() as u32);
        } else {
            rows.extend(
                (0..batch.rows() as u32).filter(|&row| self.sieve.keeps(batch, row as usize, dictionaries)),
            );
        }
        self.add_times(batch, &rows);
        count_by_code(&mut self.paths, batch, TextColumn::Path, &rows);
        count_by_code(&mut self.clients, batch, TextColumn::Client, &rows);
        self.agents.resize(dictionaries.of(TextColumn::Agent).len(), Counts::default());
        count_by_code(&mut self.agents, batch, TextColumn::Agent, &rows);
        self.referrers.resize(dictionaries.of(TextColumn::Referrer).len(), Counts::default());
        count_by_code(&mut self.referrers, batch, TextColumn::Referrer, &rows);
        let paths = dictionaries.of(TextColumn::Path);
        self.kinds.extend((self.kinds.len()..paths.len()).map(|code| {
            let path = paths.text(code as u32);
            (paths::kind(path), paths::is_style_or_script(path))
        }));
        self.hosts.learn(dictionaries.of(TextColumn::Referrer));
        self.add_visits(batch, &rows);
        self.add_embeds(batch, &rows);
        self.add_missing(batch, &rows);
        self.rows = rows;
    }

    /// Whatever depends on when: days and their visitors, hours, the timeline; and statuses beside them.
    fn add_times(&mut self, batch: &RequestBatch, rows: &[u32]) {
        let clients = &batch.texts[TextColumn::Client.index()];
        let agents = &batch.texts[TextColumn::Agent.index()];
        for &row in rows {
            let row = row as usize;
            let (time, status, bytes) = (batch.time[row], batch.status[row].min(999), bytes_of(batch, row));
            let class = match status / 100 {
                class @ 1..=5 => usize::from(class),
                _ => 0,
            };
            let quarter = self.calendar.quarter(time);
            if self.day.0 != quarter.day {
                self.turn_to(quarter.day);
            }
            self.day.1.add(class, bytes);
            self.survey.hours[usize::from(quarter.hour)].add(bytes);
            self.statuses[usize::from(status)].add(bytes);
            if let Some(step) = self.plan.step {
                let bucket = self.calendar.bucket(time, step);
                self.survey.timeline.entry(bucket).or_default().add(class, bytes);
            }
            self.survey.span = Some(match self.survey.span {
                Some((first, last)) => (first.min(time), last.max(time)),
                None => (time, time),
            });
            self.visitors.insert((clients[row], agents[row]));
        }
    }

    fn add_visits(&mut self, batch: &RequestBatch, rows: &[u32]) {
        let [clients, agents, paths] = [TextColumn::Client, TextColumn::Agent, TextColumn::Path]
            .map(|column| &batch.texts[column.index()][..]);
        for row in rows.iter().map(|&row| row as usize) {
            let (time, path) = (batch.time[row], paths[row]);
            let is_answered = matches!(batch.status[row], 200..=299 | 304);
            let is_page = is_answered && path != NO_TEXT && self.kinds[path as usize].0 == Kind::Page;
            let request = OpenVisit {
                first: time,
                last: time,
                requests: 1,
                pages: u32::from(is_page),
                first_page: if is_page { (time, path) } else { (0, NO_TEXT) },
                last_page: if is_page { (time, path) } else { (0, NO_TEXT) },
            };
            match self.open_visits.entry((clients[row], agents[row])) {
                Entry::Vacant(place) => {
                    place.insert(request);
                }
                Entry::Occupied(mut place) => {
                    let visit = place.get_mut();
                    // Only what is plainly a part goes in here; the rest finds its place when texts are known.
                    if (visit.last..=visit.last.saturating_add(LONGEST_GAP)).contains(&time)
                        && (!is_page || visit.last_page.0 < time || visit.last_page.1 == NO_TEXT)
                    {
                        visit.last = time;
                        visit.requests += 1;
                        if is_page {
                            visit.pages += 1;
                            visit.last_page = (time, path);
                            if visit.first_page.1 == NO_TEXT {
                                visit.first_page = (time, path);
                            }
                        }
                    } else {
                        let key = *place.key();
                        self.closed_visits.push((key, std::mem::replace(place.get_mut(), request)));
                    }
                }
            }
        }
    }

    fn add_embeds(&mut self, batch: &RequestBatch, rows: &[u32]) {
        let [paths, referrers] =
            [TextColumn::Path, TextColumn::Referrer].map(|column| &batch.texts[column.index()][..]);
        for row in rows.iter().map(|&row| row as usize) {
            let (path, referrer) = (paths[row], referrers[row]);
            if referrer != NO_TEXT && path != NO_TEXT {
                let (kind, is_style) = self.kinds[path as usize];
                if kind != Kind::Page {
                    self.hosts.add(referrer, bytes_of(batch, row), is_style);
                }
            }
        }
    }

    /// Whether so much is known of visits that it should be settled.
    fn is_full(&self) -> bool {
        self.closed_visits.len() + self.open_visits.len() > MOST_UNSETTLED
    }

    fn add_missing(&mut self, batch: &RequestBatch, rows: &[u32]) {
        let code = |column: TextColumn, row: usize| batch.texts[column.index()][row];
        for row in rows.iter().map(|&row| row as usize).filter(|&row| batch.status[row] == 404) {
            let path = code(TextColumn::Path, row);
            if path != NO_TEXT {
                let entry = self.missing.entry((path, code(TextColumn::Referrer, row)));
                entry.or_default().add(bytes_of(batch, row));
            }
        }
    }

    /// Sets the day aside that was counted, and takes up another.
    fn turn_to(&mut self, day: i32) {
        let (last, bucket) = std::mem::replace(&mut self.day, (day, Bucket::default()));
        if bucket.counts.requests > 0 {
            self.survey.days.entry(last).or_default().merge(bucket);
        }
        let visitors = std::mem::take(&mut self.visitors);
        if !visitors.is_empty() {
            match self.earlier.entry(last) {
                std::collections::btree_map::Entry::Vacant(place) => {
                    place.insert(visitors);
                }
                std::collections::btree_map::Entry::Occupied(mut known) => known.get_mut().extend(visitors),
            }
        }
        self.visitors = self.earlier.remove(&day).unwrap_or_default();
    }

    /// Turns codes into texts: the survey so far. The surveyor begins afresh, for new dictionaries.
    pub fn settle(&mut self, dictionaries: &Dictionaries) -> Survey {
        self.turn_to(i32::MIN);
        self.sieve.forget();
        let mut survey = std::mem::take(&mut self.survey);
        for (status, counts) in self.statuses.iter_mut().enumerate().filter(|(_, counts)| counts.requests > 0)
        {
            survey.statuses.insert(status as u16, std::mem::take(counts));
        }
        for bucket in survey.days.values() {
            survey.total.merge(*bucket);
        }
        settle_ranking(&mut survey.paths, std::mem::take(&mut self.paths), dictionaries, TextColumn::Path);
        settle_ranking(
            &mut survey.clients,
            std::mem::take(&mut self.clients),
            dictionaries,
            TextColumn::Client,
        );
        settle_ranking(&mut survey.agents, std::mem::take(&mut self.agents), dictionaries, TextColumn::Agent);
        let referring = std::mem::take(&mut self.referrers);
        settle_ranking(&mut survey.referrers, referring, dictionaries, TextColumn::Referrer);
        self.kinds.clear();
        for (host, [all, styles]) in std::mem::take(&mut self.hosts).into_counts() {
            if styles.requests > 0 {
                survey.styles.add(host.clone(), styles);
            }
            survey.embeds.add(host, all);
        }
        let referrers = dictionaries.of(TextColumn::Referrer);
        for ((path, referrer), counts) in self.missing.drain() {
            let referrer = if referrer == NO_TEXT { "" } else { referrers.text(referrer) };
            survey
                .missing
                .add((dictionaries.of(TextColumn::Path).text(path).into(), referrer.into()), counts);
        }
        let key = self.plan.key;
        let hashes =
            |column| dictionaries.of(column).texts().map(|text| key.of_text(text)).collect::<Vec<_>>();
        let (clients, agents) = (hashes(TextColumn::Client), hashes(TextColumn::Agent));
        let nobody = key.of_text("");
        self.settle_visits(&mut survey.visits, dictionaries, (&clients, &agents, nobody));
        for (day, visitors) in std::mem::take(&mut self.earlier) {
            survey.visitors.reserve(day, visitors.len());
            for (client, agent) in visitors {
                let client = clients.get(client as usize).copied().unwrap_or(nobody);
                let agent = agents.get(agent as usize).copied().unwrap_or(nobody);
                survey.visitors.add(day, key.of_visitor(client, agent, day));
            }
        }
        survey
    }
}

/// How many visits are known by codes before they are settled.
const MOST_UNSETTLED: usize = 150_000;

/// A visit by codes.
#[derive(Debug, Clone, Copy)]
struct OpenVisit {
    first: i64,
    last: i64,
    requests: u32,
    pages: u32,
    first_page: (i64, u32),
    last_page: (i64, u32),
}

impl Surveyor {
    /// Visits by codes become visits by texts. `hashes` are those of clients and agents, and of nobody.
    fn settle_visits(
        &mut self,
        visits: &mut Visits,
        dictionaries: &Dictionaries,
        hashes: (&[u64], &[u64], u64),
    ) {
        let (clients, agents, nobody) = hashes;
        let of = |hashes: &[u64], code: u32| hashes.get(code as usize).copied().unwrap_or(nobody);
        let mut texts: Vec<Option<Arc<str>>> = vec![None; dictionaries.of(TextColumn::Path).len()];
        let mut page = |(time, path): (i64, u32)| {
            let place = texts.get_mut(path as usize)?;
            let text = place.get_or_insert_with(|| dictionaries.of(TextColumn::Path).text(path).into());
            Some((time, Arc::clone(text)))
        };
        let mut programs: Vec<Option<bool>> = vec![None; dictionaries.of(TextColumn::Agent).len()];
        let mut is_crawler = |code: u32| match programs.get_mut(code as usize) {
            Some(known) => {
                let text = || dictionaries.of(TextColumn::Agent).text(code);
                *known.get_or_insert_with(|| agents::read(text()).crawler.is_some())
            }
            None => false,
        };
        for ((client, agent), visit) in self.closed_visits.drain(..).chain(self.open_visits.drain()) {
            let stretch = Stretch {
                first: visit.first,
                last: visit.last,
                requests: u64::from(visit.requests),
                pages: u64::from(visit.pages),
                first_page: page(visit.first_page),
                last_page: page(visit.last_page),
                is_crawler: is_crawler(agent),
            };
            visits.add(self.plan.key.of_pair(of(clients, client), of(agents, agent)), stretch);
        }
    }
}

/// What each host's pages load, by the codes of referrers.
#[derive(Debug, Default)]
struct Hosts {
    /// The host of each referrer, by its place in `names`.
    of_referrer: Vec<u32>,
    places: HashMap<Box<str>, u32, RandomState>,
    /// Everything they load, and the style sheets and scripts of it.
    counts: Vec<[Counts; 2]>,
}

impl Hosts {
    /// Finds the hosts of referrers that are new.
    fn learn(&mut self, referrers: &Dictionary) {
        for code in self.of_referrer.len()..referrers.len() {
            let place = referrers::host(referrers.text(code as u32)).map_or(NO_TEXT, |host| {
                let next = self.counts.len() as u32;
                let place = *self.places.entry(host.into()).or_insert(next);
                if place == next {
                    self.counts.push([Counts::default(); 2]);
                }
                place
            });
            self.of_referrer.push(place);
        }
    }

    fn add(&mut self, referrer: u32, bytes: u64, is_style: bool) {
        if let Some([all, styles]) = self.counts.get_mut(self.of_referrer[referrer as usize] as usize) {
            all.add(bytes);
            if is_style {
                styles.add(bytes);
            }
        }
    }

    fn into_counts(self) -> impl Iterator<Item = (Box<str>, [Counts; 2])> {
        let counts = self.counts;
        let named = self.places.into_iter().map(move |(name, place)| (name, counts[place as usize]));
        named.filter(|(_, [all, _])| all.requests > 0)
    }
}

/// A surveyor with dictionaries of its own, which begins afresh whenever they are full.
///
/// Whoever reads hands each batch over by [`SurveyWorker::fill`]; memory stays bounded whatever comes.
#[derive(Debug)]
pub struct SurveyWorker {
    surveyor: Surveyor,
    batch: RequestBatch,
    dictionaries: Dictionaries,
    survey: Survey,
}

impl SurveyWorker {
    /// A worker that has seen nothing.
    pub fn new(plan: SurveyPlan) -> Self {
        SurveyWorker {
            surveyor: Surveyor::new(plan),
            batch: RequestBatch::default(),
            dictionaries: Dictionaries::default(),
            survey: Survey::default(),
        }
    }

    /// Counts what a reader puts into the batch.
    pub fn fill<T>(&mut self, read: impl FnOnce(&mut RequestBatch, &mut Dictionaries) -> T) -> T {
        let result = read(&mut self.batch, &mut self.dictionaries);
        self.surveyor.add(&self.batch, &self.dictionaries);
        self.batch.clear();
        if self.dictionaries.are_full() || self.surveyor.is_full() {
            self.survey.merge(self.surveyor.settle(&self.dictionaries));
            self.dictionaries = Dictionaries::default();
        }
        result
    }

    /// Everything counted.
    pub fn finish(mut self) -> Survey {
        self.survey.merge(self.surveyor.settle(&self.dictionaries));
        self.survey
    }
}

fn bytes_of(batch: &RequestBatch, row: usize) -> u64 {
    batch.number(Column::Bytes, row).unwrap_or(0)
}

fn count_by_code(counts: &mut [Counts], batch: &RequestBatch, column: TextColumn, rows: &[u32]) {
    let codes = &batch.texts[column.index()];
    for row in rows.iter().map(|&row| row as usize) {
        if codes[row] != NO_TEXT {
            counts[codes[row] as usize].add(bytes_of(batch, row));
        }
    }
}

fn settle_ranking(
    ranking: &mut Ranking<Box<str>>,
    counts: Vec<Counts>,
    dictionaries: &Dictionaries,
    column: TextColumn,
) {
    for (text, counts) in dictionaries.of(column).texts().zip(counts) {
        if counts.requests > 0 {
            ranking.add(text.into(), counts);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::logs::{Layout, LineReader};
    use crate::survey::{ReportOptions, SurveyReport};
    use proptest::prelude::*;

    fn plan(scope: Scope) -> SurveyPlan {
        SurveyPlan { scope, zone: TimeZone::UTC, key: VisitorKey([1, 2]), step: Some(Step::Hour) }
    }

    fn survey(lines: &[String], plan: &SurveyPlan) -> Survey {
        let layouts = [Layout::understand("combined").unwrap()];
        let mut reader = LineReader::new(&layouts, plan.projection());
        let (mut batch, mut dictionaries) = (RequestBatch::default(), Dictionaries::default());
        reader.read_block(lines.concat().as_bytes(), 0, &mut 0, &mut batch, &mut dictionaries);
        assert_eq!(reader.read as usize, lines.len());
        let mut surveyor = Surveyor::new(plan.clone());
        surveyor.add(&batch, &dictionaries);
        surveyor.settle(&dictionaries)
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
                let report = SurveyReport::new(survey, &plan, &ReportOptions::default());
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
            prop_assert_eq!(survey.hours.iter().map(|hour| hour.requests).sum::<u64>(), lines.len() as u64);
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
            let filters = crate::scope::filters(only, without).unwrap();
            survey(&lines, &plan(Scope { filters, ..Scope::default() })).total.counts.requests
        };
        assert_eq!(requests(&["path=/a"], &[]), 2);
        assert_eq!(requests(&["path=/a", "status=404"], &[]), 1);
        assert_eq!(requests(&["path=/b/*", "status=4*"], &[]), 0);
        assert_eq!(requests(&[], &["path=/b/*"]), 2);
        assert_eq!(requests(&[], &["user=ann"]), 3);
    }
}
