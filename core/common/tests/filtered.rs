//! Filters over rows of batches, held against plain comparisons of the values themselves; and filters written out, which are read
//! as the same again.

use exedra_common::batch::{NO_NUMBER, NO_TEXT};
use exedra_common::columns::{Derive, Kind};
use exedra_common::filters::{Filters, filterable};
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::{Column, DerivedColumn, Dictionaries, NumberColumn, RequestBatch, TextColumn};
use proptest::collection::vec;
use proptest::prelude::*;
use std::borrow::Cow;
use std::sync::Arc;

/// Follows nothing but the extension, as what stands after the last dot.
#[derive(Debug)]
struct Extensions;

impl Derive for Extensions {
    fn derive<'t>(&'t self, column: DerivedColumn, text: &'t str) -> Option<Cow<'t, str>> {
        (column == DerivedColumn::Extension).then(|| text.rsplit_once('.'))?.map(|(_, end)| end.into())
    }
}

/// A request, as plain values.
#[derive(Debug, Clone)]
struct Row {
    time: i64,
    status: Option<u64>,
    bytes: Option<u64>,
    duration: Option<u64>,
    path: Option<&'static str>,
    client: Option<&'static str>,
    agent: Option<&'static str>,
}

const PATHS: [&str; 6] = ["/", "/tides/today.html", "/harbour.css", "/a,b.html", "/a*b", "/TIDES/"];
const CLIENTS: [&str; 5] = ["192.0.2.1", "192.0.2.77", "198.51.100.4", "2001:db8::7", "harbour.example"];
const AGENTS: [&str; 3] = ["LindryKiosk/1.4", "Mozilla/5.0 (X11; Linux x86_64)", "mozilla/5.0"];

fn row() -> impl Strategy<Value = Row> {
    let number = |most: u64| prop_oneof![1 => Just(None), 6 => (0..most).prop_map(Some)];
    let text = |all: &'static [&'static str]| prop_oneof![1 => Just(None), 6 => prop::sample::select(all).prop_map(Some)];
    let status = prop_oneof![1 => Just(None), 6 => prop::sample::select(vec![200u64, 301, 404, 410, 500, 503]).prop_map(Some)];
    let numbers = (0i64..1000, status, number(3000), number(3_000_000));
    (numbers, text(&PATHS), text(&CLIENTS), text(&AGENTS)).prop_map(
        |((time, status, bytes, duration), path, client, agent)| Row {
            time,
            status,
            bytes,
            duration,
            path,
            client,
            agent,
        },
    )
}

fn batch(rows: &[Row]) -> (RequestBatch, Dictionaries) {
    let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
    for row in rows {
        batch.time.push(row.time);
        for (column, number) in [
            (NumberColumn::Status, row.status),
            (NumberColumn::Bytes, row.bytes),
            (NumberColumn::Duration, row.duration),
        ] {
            batch.numbers_mut(column).push(number.unwrap_or(NO_NUMBER));
        }
        for (column, text) in
            [(TextColumn::Path, row.path), (TextColumn::Client, row.client), (TextColumn::Agent, row.agent)]
        {
            let code = text.map_or(NO_TEXT, |text| texts.of_mut(column).code(text));
            batch.codes_mut(column).push(code);
        }
    }
    (batch, texts)
}

/// A condition on a row.
type Holds = fn(&Row) -> bool;

/// Filters as people write them, and what they mean.
const FILTERS: [(&str, Holds); 22] = [
    ("status=404", |row| row.status == Some(404)),
    ("status=404,5xx", |row| row.status.is_some_and(|status| status == 404 || status / 100 == 5)),
    ("status>=500", |row| row.status.is_some_and(|status| status >= 500)),
    ("status!=200", |row| row.status != Some(200)),
    ("!status=4xx", |row| row.status.is_none_or(|status| status / 100 != 4)),
    ("bytes>1 kB", |row| row.bytes.is_some_and(|bytes| bytes > 1000)),
    ("bytes<=1 KiB", |row| row.bytes.is_some_and(|bytes| bytes <= 1024)),
    ("duration>1 s", |row| row.duration.is_some_and(|time| time > 1_000_000)),
    ("duration<250 ms", |row| row.duration.is_some_and(|time| time < 250_000)),
    ("path=/tides/*", |row| row.path.is_some_and(|path| path.starts_with("/tides/"))),
    ("path=*.html,*.css", |row| {
        row.path.is_some_and(|path| path.ends_with(".html") || path.ends_with(".css"))
    }),
    ("path=/a\\,b.html", |row| row.path == Some("/a,b.html")),
    ("path=/a\\*b", |row| row.path == Some("/a*b")),
    ("path!=/", |row| row.path != Some("/")),
    ("path=", |row| row.path.is_none()),
    ("extension=html", |row| row.path.is_some_and(|path| path.ends_with(".html"))),
    ("extension=", |row| row.path.is_none_or(|path| !path.contains('.'))),
    ("client=192.0.2.0/24", |row| row.client.is_some_and(|client| client.starts_with("192.0.2."))),
    ("client=192.0.2.1", |row| row.client == Some("192.0.2.1")),
    ("client=2001:db8::/32", |row| row.client == Some("2001:db8::7")),
    ("agent=*Linux*", |row| row.agent.is_some_and(|agent| agent.contains("Linux"))),
    ("agent=mozilla*", |row| row.agent.is_some_and(|agent| agent.to_lowercase().starts_with("mozilla"))),
];

/// The column of a filter, and whether it leaves out: filters of one column and direction are alternatives.
fn side(text: &str) -> (String, bool) {
    let without = text.starts_with('!') || text.contains("!=");
    let name = text.trim_start_matches('!').split(['=', '!', '<', '>']).next().unwrap();
    (name.to_owned(), without)
}

proptest! {
    #[test]
    fn rows_are_kept_by_what_filters_say(
        rows in vec(row(), 1..60),
        only in vec(0..FILTERS.len(), 0..4),
        (from, until) in (0i64..600, 300i64..1200),
    ) {
        let texts: Vec<&str> = only.iter().map(|nth| FILTERS[*nth].0).collect();
        let filters = Filters::understand(&texts, &[]).unwrap();
        let (batch, dictionaries) = batch(&rows);
        let scope = Scope { filters, from: Some(from), until: Some(until), ..Scope::default() };
        let mut kept = RowFilter::new(scope, Arc::new(Extensions));
        // Bounds from both sides on one column mean what is between; that is a case of its own.
        let bounds = |name: &str| texts.iter().filter(|text| side(text).0 == name && text.contains(['<', '>'])).count();
        prop_assume!(["status", "bytes", "duration"].iter().all(|name| bounds(name) < 2));
        for (nth, row) in rows.iter().enumerate() {
            let in_time = (from..until).contains(&row.time);
            let holds = texts.iter().all(|text| {
                let (name, without) = side(text);
                let alike = only.iter().map(|nth| FILTERS[*nth]).filter(|(other, _)| side(other) == (name.clone(), without));
                let mut alike = alike.map(|(_, holds)| holds(row));
                // Without: none of them may be what it is; each condition is written for its negation already.
                if without { alike.all(|holds| holds) } else { alike.any(|holds| holds) }
            });
            prop_assert_eq!(kept.keeps(&batch, nth, &dictionaries), in_time && holds, "{:?} {:?}", texts, row);
        }
    }

    #[test]
    fn bounds_from_both_sides_mean_what_is_between(low in 0u64..3000, high in 0u64..3000, rows in vec(row(), 1..40)) {
        let texts = [format!("bytes>={low}"), format!("bytes<={high}")];
        let filters = Filters::understand(&texts, &[]).unwrap();
        let (batch, dictionaries) = batch(&rows);
        let mut kept = RowFilter::new(Scope { filters, ..Scope::default() }, Arc::new(Extensions));
        for (nth, row) in rows.iter().enumerate() {
            let holds = row.bytes.is_some_and(|bytes| {
                if low <= high { (low..=high).contains(&bytes) } else { bytes >= low || bytes <= high }
            });
            prop_assert_eq!(kept.keeps(&batch, nth, &dictionaries), holds, "{:?} {:?}", texts, row.bytes);
        }
    }

    #[test]
    fn what_is_written_out_is_read_as_the_same_again(
        only in vec(0..FILTERS.len(), 0..5),
        without in vec(0..FILTERS.len(), 0..3),
    ) {
        let texts = |all: &[usize]| all.iter().map(|nth| FILTERS[*nth].0.to_owned()).collect::<Vec<_>>();
        let filters = Filters::understand(&texts(&only), &texts(&without)).unwrap();
        let written: Vec<String> = filters.iter().map(ToString::to_string).collect();
        // A filter with bounds is two words; no value of these has a space before a name.
        let words: Vec<String> = written.iter().flat_map(|one| words(one)).collect();
        let again = Filters::understand(&words, &[]).unwrap();
        prop_assert_eq!(again.to_string(), filters.to_string());
    }

    #[test]
    fn an_exact_filter_keeps_that_value_alone(value in "[a-z,*\\\\=! ]{1,12}", other in "[a-z,*\\\\=! ]{1,12}") {
        let filter = exedra_common::filters::Filter::exactly(TextColumn::Path.into(), &value).unwrap();
        prop_assert!(filter.values.has_text(&value));
        prop_assert_eq!(filter.values.has_text(&other), value == other);
    }

    #[test]
    fn no_rubbish_is_taken_without_a_word(text in "\\PC{0,20}") {
        if let Ok(filters) = Filters::understand(&[&text], &[]) {
            prop_assert!(text.contains(['=', '<', '>']));
            prop_assert_eq!(filters.iter().count(), 1);
        }
    }
}

/// The words of a filter that was written out: a space is between two of them where a column's name and an operator follow.
fn words(written: &str) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    for word in written.split(' ') {
        let begins = filterable().any(|column| {
            let rest = word.trim_start_matches('!').strip_prefix(column.name());
            rest.is_some_and(|rest| rest.starts_with(['=', '<', '>', '!']))
        });
        match words.last_mut() {
            Some(last) if !begins => *last = format!("{last} {word}"),
            _ => words.push(word.to_owned()),
        }
    }
    words.retain(|word| !word.is_empty());
    words
}

#[test]
fn every_column_can_be_filtered_by_and_says_how() {
    for column in filterable() {
        let declaration = column.declaration();
        let values: Vec<String> = match declaration.values {
            [] if declaration.kind == Kind::Text => vec!["*a*".to_owned()],
            [] if declaration.kind == Kind::Duration => vec!["5 s".to_owned(), "250 ms".to_owned()],
            [] => vec!["500".to_owned()],
            all => all.iter().map(|value| (*value).to_owned()).collect(),
        };
        for value in values {
            let text = format!("{}={value}", column.name());
            let filters =
                Filters::understand(&[&text], &[]).unwrap_or_else(|error| panic!("{text}: {error}"));
            assert_eq!(filters.iter().next().unwrap().column, column);
        }
        let misspelt = format!("{}x=5", column.name());
        let said = Filters::understand(&[&misspelt], &[]).unwrap_err().to_string();
        assert!(said.contains("did you mean"), "{said}");
    }
    assert!(Filters::understand(&["time=5"], &[]).unwrap_err().to_string().contains("period"));
    assert_eq!(Column::named("weather"), None);
}
