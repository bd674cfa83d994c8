//! Whatever happens to the records, in whatever order (requests come in, segments are made and merged, logs are rotated and go, the
//! service starts anew or is killed), what is read is what came in, less what a kill took from the tail; and checkpoints say where
//! reading goes on so that nothing is lost or counted twice.

use exedra_common::batch::NO_TEXT;
use exedra_common::filters::Filters;
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::{Column, Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use exedra_reading::classify::Classifier;
use exedra_reading::survey::plan::{Part, Parts};
use exedra_reading::survey::{Survey, SurveyPlan};
use exedra_store::records::closed::due;
use exedra_store::records::snapshot::Part as SnapshotPart;
use exedra_store::records::{Counting, KeptSurvey};
use exedra_store::{Checkpoint, LogState, Records, StoreError};
use jiff::tz::TimeZone;
use proptest::collection::vec;
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;

const SITES: [&str; 2] = ["harbour", "lamp"];

/// One request, as the model knows it: site, time, path, status.
type Asked = (&'static str, i64, String, u64);

/// Something that happens.
#[derive(Debug, Clone)]
enum Event {
    /// So many requests come in for a site; times are spread around an hour.
    Requests {
        site: usize,
        count: usize,
        hour: i64,
    },
    /// The log of a site is rotated.
    Rotate {
        site: usize,
    },
    Commit,
    Merge,
    /// Surveys of days and of the month that are over are kept.
    Keep,
    /// All requests for one path are taken out.
    TakeOut {
        path: u64,
    },
    /// The service stops in order, or is killed.
    Restart {
        in_order: bool,
    },
}

fn event() -> impl Strategy<Value = Event> {
    prop_oneof![
        6 => (0..SITES.len(), 1usize..30, 0i64..48).prop_map(|(site, count, hour)| Event::Requests { site, count, hour }),
        1 => (0..SITES.len()).prop_map(|site| Event::Rotate { site }),
        4 => Just(Event::Commit),
        2 => Just(Event::Merge),
        3 => Just(Event::Keep),
        1 => (0u64..37).prop_map(|path| Event::TakeOut { path }),
        1 => any::<bool>().prop_map(|in_order| Event::Restart { in_order }),
    ]
}

/// What should be recorded.
#[derive(Default)]
struct Model {
    committed: Vec<Asked>,
    tail: Vec<Asked>,
    /// Lines of each log, those in segments and all.
    lines: BTreeMap<String, (u64, u64)>,
    generation: [u64; SITES.len()],
    next: u64,
}

impl Model {
    fn log(&self, site: usize) -> String {
        format!("{}.{:06}.log", SITES[site], self.generation[site])
    }

    fn all(&self) -> Vec<Asked> {
        let mut all: Vec<Asked> = self.committed.iter().chain(&self.tail).cloned().collect();
        all.sort();
        all
    }
}

fn append(records: &Records, model: &mut Model, site: usize, count: usize, hour: i64) {
    let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
    for _ in 0..count {
        model.next += 1;
        let number = model.next;
        // Not in order: lines are written when answers end.
        let time = hour * 3_600_000 + (number as i64 * 7919) % 3_600_000;
        let (path, status) = (format!("/{}", number % 37), if number.is_multiple_of(5) { 404 } else { 200 });
        batch.time.push(time);
        batch.numbers_mut(NumberColumn::Status).push(status);
        let code = texts.of_mut(TextColumn::Path).code(&path);
        batch.codes_mut(TextColumn::Path).push(code);
        for column in Projection::everything().numbers().filter(|column| *column != NumberColumn::Status) {
            batch.numbers_mut(column).push(number);
        }
        for column in Projection::everything().texts().filter(|column| *column != TextColumn::Path) {
            let code = texts.of_mut(column).code("x");
            // Some lines say their site, wrongly, and others nothing of it.
            let is_silent = column == TextColumn::Site && number.is_multiple_of(3);
            batch.codes_mut(column).push(if is_silent { NO_TEXT } else { code });
        }
        model.tail.push((SITES[site], time, path, status));
    }
    let log = model.log(site);
    let before = records.checkpoint(&log);
    let checkpoint = Checkpoint {
        octets: before.octets + 100 * count as u64,
        lines: before.lines + count as u64,
        begins: Some(model.generation[site]),
        ..before
    };
    model.lines.entry(log.clone()).or_default().1 += count as u64;
    records.append(&Arc::from(SITES[site]), &log, batch, texts, (100 * count, checkpoint));
}

/// Everything of a snapshot, in order.
fn read(records: &Records, scope: &Scope, projection: Projection) -> Vec<Asked> {
    let mut all: Vec<Asked> = Vec::new();
    let snapshot = records.snapshot().within(scope);
    let each = |site: &str, part: SnapshotPart<'_>| -> Result<(), exedra_store::StoreError> {
        let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
        part.append_to(&mut batch, &mut texts)?;
        let site = SITES.into_iter().find(|known| *known == site).expect("a site");
        for row in 0..batch.rows() {
            let path = batch.code(TextColumn::Path, row).map(|code| texts.of(TextColumn::Path).text(code));
            let status = batch.number(NumberColumn::Status, row).unwrap_or(0);
            if projection.has(Column::Text(TextColumn::Site)) {
                let told =
                    batch.code(TextColumn::Site, row).map(|code| texts.of(TextColumn::Site).text(code));
                assert_eq!(told, Some(site), "whatever the lines say");
            }
            all.push((site, batch.time[row], path.unwrap_or_default().to_owned(), status));
        }
        Ok(())
    };
    snapshot.read(records, projection, each).expect("it is read");
    all.sort();
    all
}

/// Ten days after the first of all requests.
const LATER: i64 = 40 * 86_400_000;

/// Counts something of the records, with whatever is kept of it.
fn survey(records: &Records, scope: Scope) -> Survey {
    survey_of(records, scope, Parts::usual())
}

/// The same of some parts.
fn survey_of(records: &Records, scope: Scope, parts: Parts) -> Survey {
    let key = records.survey_key().expect("a key");
    let plan = SurveyPlan { parts, ..SurveyPlan::new(scope, TimeZone::UTC, key) };
    let counting = Counting {
        begin_thread: || {},
        most_threads: 2,
        remembers: true,
        goes_on: &|| Ok::<(), StoreError>(()),
    };
    records.survey(&records.snapshot().within(&plan.scope), &plan, &counting).expect("it is counted")
}

fn keep(records: &Records) {
    for one in due(&records.snapshot(), &TimeZone::UTC, LATER) {
        let scope = Scope {
            sites: vec![one.site.to_string()],
            from: Some(one.from),
            until: Some(one.until),
            ..Scope::default()
        };
        let key = records.survey_key().expect("a key");
        let plan = SurveyPlan::of_kept(scope, TimeZone::UTC, key);
        let counting = Counting {
            begin_thread: || {},
            most_threads: 1,
            remembers: false,
            goes_on: &|| Ok::<(), StoreError>(()),
        };
        let seen = records.snapshot().within(&plan.scope);
        let survey = records.survey(&seen, &plan, &counting).expect("it is counted");
        assert!(records.keep_survey(&one, seen.changes(), &survey).expect("it is kept"));
        let is_it = |kept: &KeptSurvey| (&kept.site, kept.from) == (&one.site, one.from);
        assert!(records.snapshot().kept().iter().any(|kept| is_it(kept)), "and is used from now on");
    }
}

/// Whatever is counted is what came in, from kept surveys, segments and the tail.
fn check_surveys(records: &Records, all: &[Asked]) {
    const DAY: i64 = 86_400_000;
    let of = |sites: &[&str], from: Option<i64>, until: Option<i64>| Scope {
        sites: sites.iter().map(|site| (*site).to_owned()).collect(),
        from,
        until,
        ..Scope::default()
    };
    let scopes = [
        of(&[], None, None),
        of(&SITES[..1], None, None),
        of(&[], Some(DAY), None),
        of(&SITES[1..], Some(0), Some(DAY)),
        of(&[], Some(5 * 3_600_000), Some(DAY + 7 * 3_600_000)),
    ];
    let filters = [Some("status>=100"), None, None, None, Some("path=/1*")];
    for (scope, filter) in scopes.into_iter().zip(filters) {
        let is_within = |one: &&Asked| {
            scope.has_site(one.0)
                && scope.from.is_none_or(|from| one.1 >= from)
                && scope.until.is_none_or(|until| one.1 < until)
        };
        let mut paths: BTreeMap<&str, u64> = BTreeMap::new();
        let mut days: BTreeMap<i32, u64> = BTreeMap::new();
        for one in all.iter().filter(is_within) {
            *paths.entry(&one.2).or_default() += 1;
            *days.entry((one.1 / DAY) as i32).or_default() += 1;
        }
        let counted = survey(records, scope.clone());
        let found: BTreeMap<&str, u64> =
            counted.paths.entries().map(|(path, counts)| (path, counts.requests)).collect();
        assert_eq!(found, paths, "{scope:?}");
        let found: BTreeMap<i32, u64> =
            counted.days.iter().map(|(day, bucket)| (*day, bucket.counts.requests)).collect();
        assert_eq!(found, days, "{scope:?}");
        assert_eq!(counted.visitors.total(), days.len() as u64, "one on each day");
        // All of most segments, or a few requests of each.
        if let Some(filter) = filter {
            let filters = Filters::understand(&[filter], &[]).expect("a filter");
            let scope = Scope { filters, ..scope.clone() };
            check_figures(records, &scope);
        }
    }
}

/// Without any texts to list the same figures come of the same requests: texts are taken another way then.
fn check_figures(records: &Records, scope: &Scope) {
    let figures = |survey: &Survey| {
        let days: Vec<(i32, u64)> = survey.days.keys().map(|day| (*day, survey.visitors.on(*day))).collect();
        (survey.total, survey.statuses.clone(), survey.days.clone(), days, survey.week, survey.span)
    };
    let whole = survey(records, scope.clone());
    for parts in [vec![Part::Visitors], Vec::new()] {
        let few = survey_of(records, scope.clone(), parts.iter().copied().collect());
        let (mut whole, few) = (figures(&whole), figures(&few));
        if parts.is_empty() {
            whole.3.iter_mut().for_each(|(_, visitors)| *visitors = 0);
        }
        assert_eq!(few, whole, "{scope:?}");
    }
    // Nor does it matter whether anybody wants to know when they came in.
    let mut filter = RowFilter::new(scope.clone(), Arc::new(Classifier::default()));
    let bytes: Projection = [Column::from(NumberColumn::Bytes)].into_iter().collect();
    let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
    let (mut requests, mut sum) = (0, 0);
    for part in records.snapshot().within(scope).parts(records, bytes) {
        batch.clear();
        part.read_alone(&mut filter, false, &mut batch, &mut texts).expect("it is read");
        assert_eq!(batch.numbers(NumberColumn::Bytes).len(), batch.rows());
        requests += batch.rows() as u64;
        sum += batch.numbers(NumberColumn::Bytes).iter().sum::<u64>();
    }
    assert_eq!((requests, sum), (whole.total.counts.requests, whole.total.counts.bytes), "{scope:?}");
}

fn check(records: &Records, model: &Model) {
    check_surveys(records, &model.all());
    let everything = Projection::everything();
    let all = model.all();
    assert_eq!(read(records, &Scope::default(), everything), all);
    for site in SITES {
        let of_site: Vec<Asked> = all.iter().filter(|one| one.0 == site).cloned().collect();
        assert_eq!(records.requests_of(site), of_site.len() as u64);
        let scope = Scope { sites: vec![site.to_owned()], ..Scope::default() };
        assert_eq!(read(records, &scope, everything), of_site);
    }
    // A period may bring more than was asked for (whole segments), and never less.
    let (from, until) = (6 * 3_600_000, 20 * 3_600_000);
    let scope = Scope { from: Some(from), until: Some(until), ..Scope::default() };
    let is_within = |one: &&Asked| (from..until).contains(&one.1);
    let found = read(records, &scope, everything);
    assert!(found.iter().filter(is_within).eq(all.iter().filter(is_within)));
    // Only some columns: the others are not there, and nobody misses them.
    let paths = read(records, &Scope::default(), [Column::from(TextColumn::Path)].into_iter().collect());
    let expected: Vec<Asked> =
        all.iter().map(|(site, time, path, _)| (*site, *time, path.clone(), 0)).collect();
    assert_eq!(paths, {
        let mut expected = expected;
        expected.sort();
        expected
    });
    // The newest, newest first.
    let latest = records.snapshot().latest(records, 7).expect("they are read");
    let mut times: Vec<i64> = all.iter().map(|one| one.1).collect();
    times.sort_unstable_by_key(|time| std::cmp::Reverse(*time));
    times.truncate(7);
    assert_eq!(latest.iter().map(|one| one.time()).collect::<Vec<_>>(), times);
    for (log, (committed, read)) in &model.lines {
        assert_eq!(records.checkpoint(log).lines, *read, "{log}");
        assert_eq!(records.committed(log).lines, *committed, "{log}");
    }
    assert_eq!(records.tail_requests(), model.tail.len());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn what_is_read_is_what_came_in(events in vec(event(), 1..60)) {
        let state = tempfile::tempdir().unwrap();
        let mut records = Records::open(state.path());
        let mut model = Model::default();
        // A reader that began earlier and is still at it.
        let mut early = None;
        for event in events {
            match event {
                Event::Requests { site, count, hour } => append(&records, &mut model, site, count, hour),
                Event::Rotate { site } => model.generation[site] += 1,
                Event::Commit => {
                    records.commit().unwrap();
                    model.committed.append(&mut model.tail);
                    model.lines.values_mut().for_each(|(committed, read)| *committed = *read);
                }
                Event::Merge => {
                    let current: Vec<String> = (0..SITES.len()).map(|site| model.log(site)).collect();
                    let oldest = |name: &str| name.contains(".000000.");
                    records.merge(|name| match name {
                        name if current.iter().any(|log| log == name) => LogState::Written,
                        name if oldest(name) => LogState::Gone,
                        _ => LogState::Past,
                    }).unwrap();
                }
                Event::Keep => keep(&records),
                Event::TakeOut { path } => {
                    let path = format!("/{path}");
                    let rows = |batch: &RequestBatch, texts: &Dictionaries| {
                        let paths = texts.of(TextColumn::Path);
                        let is_it = |row: &u32| {
                            batch.code(TextColumn::Path, *row as usize).is_some_and(|code| paths.text(code) == path)
                        };
                        (0..batch.rows() as u32).filter(is_it).collect()
                    };
                    let removed = records.take_requests_out(|_| true, rows).unwrap();
                    model.committed.append(&mut model.tail);
                    let before = model.committed.len();
                    model.committed.retain(|one| one.2 != path);
                    prop_assert_eq!(removed as usize, before - model.committed.len());
                    // Of segments of several logs it is not known from which a request was.
                    for (log, (committed, read)) in &mut model.lines {
                        let known = records.committed(log).lines;
                        prop_assert!(known <= *read);
                        (*committed, *read) = (known, known);
                    }
                }
                Event::Restart { in_order } => {
                    early = None;
                    if in_order {
                        records.commit().unwrap();
                        model.committed.append(&mut model.tail);
                        model.lines.values_mut().for_each(|(committed, read)| *committed = *read);
                    }
                    drop(records);
                    records = Records::open(state.path());
                    // What was in the tail is read again from its log, from the checkpoint on.
                    model.tail.clear();
                    model.lines.values_mut().for_each(|(committed, read)| *read = *committed);
                    model.lines.retain(|_, (committed, _)| *committed > 0);
                }
            }
            check(&records, &model);
            if early.is_none() {
                early = Some((records.snapshot(), model.all().len()));
            }
            if let Some((snapshot, requests)) = &early {
                prop_assert_eq!(snapshot.requests(), *requests, "what somebody reads does not change under them");
            }
        }
    }
}

#[test]
fn a_log_of_the_same_name_begins_anew() {
    let state = tempfile::tempdir().unwrap();
    let records = Records::open(state.path());
    let mut model = Model::default();
    append(&records, &mut model, 0, 5, 1);
    records.commit().unwrap();
    records.forget("harbour.000000.log");
    assert_eq!(records.checkpoint("harbour.000000.log"), Checkpoint::default());
    assert!(records.has_uncommitted(), "that is to be written down too");
    records.commit().unwrap();
    drop(records);
    let records = Records::open(state.path());
    assert_eq!(records.checkpoint("harbour.000000.log"), Checkpoint::default());
    assert_eq!(records.requests_of("harbour"), 5, "what was read of the one before stays");
    assert!(!records.has_uncommitted() && !records.is_behind());
}

#[test]
fn many_small_segments_become_few_and_say_the_same() {
    let state = tempfile::tempdir().unwrap();
    let records = Records::open(state.path());
    let mut model = Model::default();
    for hour in 0..40 {
        append(&records, &mut model, 0, 3, hour);
        records.commit().unwrap();
        model.committed.append(&mut model.tail);
    }
    model.lines.values_mut().for_each(|(committed, read)| *committed = *read);
    let made = records.merge(|_| LogState::Written).unwrap();
    assert!(made >= 5, "eight of a size become one: {made}");
    check(&records, &model);
    let past = records.merge(|_| LogState::Past).unwrap();
    assert!(past >= 1, "what is left of a log that ended becomes one");
    check(&records, &model);
    assert_eq!(records.merge(|_| LogState::Past).unwrap(), 0, "and then there is nothing to do");
    drop(records);
    check(&Records::open(state.path()), &model);
}
