//! Batches into counts, and counts into a survey: [`passes`] over the columns of each batch count by the codes of its texts
//! ([`by_code`]), which are settled before other dictionaries come.

mod by_code;
mod passes;

use super::calendar::Calendar;
use super::counted::{Bucket, Survey};
use super::embeds::Embeds;
use super::listing::{Listing, Rows};
use super::measure::Measure;
use super::open_visits::OpenVisits;
use super::plan::{Part, SurveyPlan};
use super::ranking::Counts;
use super::repeats::FullAnswers;
use crate::classify::paths::{self, Kind};
use by_code::{ByCode, Learnt, Path};
use exedra_common::scope::RowFilter;
use exedra_common::{Dictionaries, NumberColumn, RequestBatch, TextColumn};
use std::sync::Arc;

/// Stands for the day of requests of which nobody knows when they were.
const UNDATED: i32 = i32::MIN + 1;
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
    full_answers: FullAnswers,
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
            full_answers: FullAnswers::default(),
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
        match self.row_filter.lets_all_through() {
            true => self.add_all(batch, dictionaries, source),
            false => {
                let rows = self.row_filter.rows(batch, dictionaries);
                self.add_some(batch, rows, dictionaries, source);
            }
        }
    }

    /// The same of a batch whose requests are all within the scope.
    pub fn add_all(&mut self, batch: &mut RequestBatch, dictionaries: &Dictionaries, source: usize) {
        debug_assert_eq!(
            self.row_filter.rows(batch, dictionaries).len(),
            batch.rows(),
            "all are within the scope"
        );
        let mut rows = std::mem::take(&mut self.rows);
        rows.clear();
        rows.extend(0..batch.rows() as u32);
        self.add_some(batch, rows, dictionaries, source);
    }

    fn add_some(
        &mut self,
        batch: &mut RequestBatch,
        rows: Vec<u32>,
        dictionaries: &Dictionaries,
        source: usize,
    ) {
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
        self.by_code.pairs() > MOST_PAIRS
    }

    /// Whether so many visits or answers are known that they should be settled into what threads have in common.
    pub fn has_much_to_settle(&self) -> bool {
        self.open_visits.are_many() || self.full_answers.are_many()
    }

    /// Settles visits that are known by codes, and answers to the same clients. From there on only visitors and clients are looked at
    /// that are kept there.
    pub fn settle_common(&mut self, dictionaries: &Dictionaries, survey: &mut Survey) {
        self.open_visits.settle(dictionaries.of(TextColumn::Path), &mut survey.visits);
        self.threshold = survey.visits.threshold();
        self.full_answers.settle(&mut survey.repeats);
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
        for (host, [all, styles]) in std::mem::take(&mut self.embeds).into_counts() {
            if styles.requests > 0 {
                survey.styles.add(&host, styles);
            }
            survey.embeds.add(&host, all);
        }
        std::mem::take(&mut self.by_code).settle(dictionaries, survey);
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
        self.settle_common(dictionaries, &mut survey);
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
}

#[cfg(test)]
mod tests {
    use super::super::visitors::VisitorKey;
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
