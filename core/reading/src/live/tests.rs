use super::*;
use crate::logs::{Layout, LineReader};
use crate::survey::report::{Report, ReportOptions};
use crate::survey::{Measure, SurveyPlan, Surveyor, VisitorKey};
use exedra_common::filters::Filters;
use exedra_common::scope::Scope;
use proptest::prelude::*;

/// Milliseconds of 14 September 2026, 08:00 UTC.
const EIGHT: i64 = 1_789_372_800_000;

fn lines(rows: &[(u32, u8, u8, u16, u32)]) -> String {
    let line = |(second, client, path, status, bytes): &(u32, u8, u8, u16, u32)| {
        let (minute, second) = (second / 60, second % 60);
        format!(
            "192.0.2.{client} - - [14/Sep/2026:08:{minute:02}:{second:02} +0000] \"GET /p{path} HTTP/1.1\" {status} {bytes}\n"
        )
    };
    rows.iter().map(line).collect()
}

fn read(text: &str) -> (RequestBatch, Dictionaries) {
    let mut reader = LineReader::new(&[Layout::understand("common").unwrap()], Projection::everything());
    let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
    reader.read_block(text.as_bytes(), 0, &mut 0, &mut batch, &mut texts);
    (batch, texts)
}

/// What the report of the same lines says of the same stretch.
fn report(text: &str, scope: Scope) -> Report {
    let (mut batch, texts) = read(text);
    let plan = SurveyPlan::new(scope, jiff::tz::TimeZone::UTC, VisitorKey([1, 2]));
    let mut surveyor = Surveyor::new(plan.clone());
    surveyor.add(&mut batch, &texts, 0);
    Report::new(
        &surveyor.into_survey(&texts),
        &plan,
        &ReportOptions { top: 300, ..ReportOptions::default() },
        None,
    )
}

proptest! {
    #[test]
    fn its_figures_are_those_of_a_report_of_the_same_stretch(
        mut rows in proptest::collection::vec(
            (0u32..3600, 0u8..6, 0u8..6, prop_oneof![Just(200u16), Just(404), Just(503)], 0u32..5000), 1..200),
        until in 1i64..3600, span in 1i64..3600, only in prop_oneof![Just(""), Just("status=4xx"), Just("path=/p1,/p2")],
        by_bytes: bool, cut in 1usize..50,
    ) {
        rows.sort_unstable();
        let text = lines(&rows);
        let filters = Filters::understand(&[only].into_iter().filter(|only| !only.is_empty()).collect::<Vec<_>>(), &[]).unwrap();
        let mut recent = RecentRequests::default();
        let all: Vec<&str> = text.split_inclusive('\n').collect();
        for some in all.chunks(cut) {
            let (batch, texts) = read(&some.concat());
            recent.take(&batch, &texts);
        }
        let by = if by_bytes { Measure::Bytes } else { Measure::Requests };
        let (until, span) = (EIGHT + until * 1000, span * 1000);
        let view = View { until, span, filters: filters.clone(), by, top: 300, ..View::default() };
        let picture = recent.picture(&view);
        let scope = Scope { from: Some(until - span), until: Some(until), filters, ..Scope::default() };
        let report = report(&text, scope);
        prop_assert_eq!((picture.requests, picture.bytes), (report.total("requests"), report.total("bytes")));
        prop_assert_eq!(picture.parts.iter().flatten().sum::<u64>(), picture.requests);
        let clients = report.table("clients");
        prop_assert_eq!(picture.clients.rows.len(), clients.rows.len());
        for nth in 0..clients.rows.len() {
            let of = |name: &str| picture.clients.number(nth, name);
            let same = (0..clients.rows.len()).find(|row| clients.cell(*row, "client") == picture.clients.cell(nth, "client"));
            prop_assert_eq!((of("requests"), of("bytes")), (clients.number(same.unwrap(), "requests"), clients.number(same.unwrap(), "bytes")));
            let figure = if by_bytes { "bytes" } else { "requests" };
            prop_assert!(nth == 0 || picture.clients.number(nth - 1, figure) >= of(figure));
        }
        let failing: u64 = (0..picture.failing_paths.rows.len())
            .map(|row| picture.failing_paths.number(row, "wrong") + picture.failing_paths.number(row, "failed")).sum();
        prop_assert_eq!(failing, picture.classes[4] + picture.classes[5]);
    }
}

#[test]
fn a_client_that_asks_for_the_same_again_and_again_is_named_with_it() {
    let mut rows: Vec<_> = (0..12).map(|second| (second, 7, 1, 200, 10)).collect();
    rows.push((13, 7, 2, 200, 10));
    rows.extend((14..30).map(|second| (second, 8, second as u8, 200, 10)));
    let (batch, texts) = read(&lines(&rows));
    let mut recent = RecentRequests::default();
    recent.take(&batch, &texts);
    let view = View { until: EIGHT + 60_000, ..View::default() };
    let picture = recent.picture(&view);
    let of = |row: usize| {
        (
            picture.clients.cell(row, "client").unwrap().as_text(),
            picture.clients.cell(row, "repeats").unwrap().as_text(),
        )
    };
    assert_eq!([of(0), of(1)], [(Some("192.0.2.8"), None), (Some("192.0.2.7"), Some("/p1"))]);
}

#[test]
fn what_there_is_no_room_for_is_forgotten_and_that_is_said() {
    let mut recent = RecentRequests::default().at_most(5_000);
    for second in 0..600u32 {
        let rows: Vec<_> = (0..20).map(|nth| (second, nth, nth, 200, 1)).collect();
        let (batch, texts) = read(&lines(&rows));
        recent.take(&batch, &texts);
    }
    assert!(recent.len() <= 5_000 + TOGETHER && recent.taken() == 12_000);
    let seen = |span: i64| recent.picture(&View { until: recent.newest() + 1000, span, ..View::default() });
    assert!(!seen(60_000).is_cut && seen(60_000).requests == 60 * 20);
    assert!(seen(600_000).is_cut && seen(600_000).requests == recent.len() as u64);
    // After more than an hour of silence nothing of before is kept.
    let (batch, texts) = read("192.0.2.1 - - [14/Sep/2026:12:00:00 +0000] \"GET / HTTP/1.1\" 200 1\n");
    recent.take(&batch, &texts);
    assert_eq!(recent.len(), 1);
}

#[test]
fn texts_that_nobody_has_any_more_are_forgotten_too() {
    let mut recent = RecentRequests::default().at_most(20_000);
    for turn in 0..40u32 {
        let line = |nth: u32| {
            let long = "x".repeat(80);
            format!(
                "192.0.2.1 - - [14/Sep/2026:08:00:{:02} +0000] \"GET /{long}{turn}-{nth} HTTP/1.1\" 200 1\n",
                turn
            )
        };
        let (batch, texts) = read(&(0..8_000).map(line).collect::<String>());
        recent.take(&batch, &texts);
        assert!(recent.texts.of(TextColumn::Path).bytes() < exedra_common::dictionary::MOST_BYTES);
    }
    let picture = recent.picture(&View { until: recent.newest() + 1, span: 1000, ..View::default() });
    assert_eq!((picture.requests, picture.paths.rows.len()), (8_000, 20));
}
