//! Requests of three sites as logs and as records, with an engine over each.

use crate::made::{KEY, Logs, zone};
use exedra_common::scope::Scope;
use exedra_common::{Dictionaries, Origin, Projection, RequestBatch};
use exedra_query::records::RecordedRequests;
use exedra_query::{Engine, Limits, RequestsTable};
use exedra_reading::classify::Classifier;
use exedra_reading::logs::{Layout, LineReader};
use exedra_store::records::{LogRange, Records};
use std::sync::{Arc, OnceLock};
use tempfile::TempDir;

/// Requests of three sites, of which many lack something: who asked, what for, by what, from where, how much, how long.
fn logs() -> Logs {
    const REQUESTS: [&str; 6] = [
        "GET / HTTP/1.1",
        "GET /tides?day=2 HTTP/2.0",
        "HEAD /a*b%c_d HTTP/1.1",
        "-",
        "\\x16\\x03",
        "GET /TIDES HTTP/1.1",
    ];
    const AGENTS: [&str; 4] = [
        "-",
        "HarbourBot/2.1 (+https://bot.example/)",
        "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Firefox/140.0",
        "",
    ];
    const CLIENTS: [&str; 5] =
        ["198.51.100.7", "198.51.100.200", "2001:db8::7", "quay.example", "203.0.113.9"];
    let line = |nth: usize| {
        let second = 1_794_600_000 + nth as i64 * 61;
        let time = jiff::Timestamp::from_second(second).unwrap();
        let or_dash = |number: usize, every: usize| match nth % every {
            0 => "-".to_owned(),
            _ => number.to_string(),
        };
        format!(
            "{} - {} [{}] \"{}\" {} {} \"{}\" \"{}\" {} {} {} - {} \"-\" {}\n",
            CLIENTS[nth * 7 % 5],
            ["-", "ann", "Ann"][nth / 3 % 3],
            time.strftime("%d/%b/%Y:%H:%M:%S +0000"),
            REQUESTS[nth * 5 % 6],
            [200, 404, 500, 301, 304][nth * 3 % 5],
            or_dash(nth * 13 % 5_000, 7),
            ["-", "https://search.example/?q=tides", "https://HARBOUR.example/"][nth % 3],
            AGENTS[nth / 5 % 4],
            ["http", "https", "-"][nth % 3],
            ["-", "harbour.example"][nth / 2 % 2],
            or_dash(nth * 377 % 9_000, 5),
            or_dash(nth * 13 % 5_000, 4),
            second * 1000,
        )
    };
    let of = |(nth, site): (usize, &&str)| {
        let origin =
            Origin { site: Some((*site).to_owned()), server: None, source: Some("made.log".to_owned()) };
        (origin, (nth * 200..nth * 200 + 300).map(line).collect())
    };
    Logs(["harbour", "lamp", "quay"].iter().enumerate().map(of).collect())
}

/// The same requests in the records: many segments of each site, and some that are in none yet.
fn records(state: &TempDir) -> Arc<Records> {
    let records = Arc::new(Records::open(state.path()));
    for (origin, log) in &logs().0 {
        let site: Arc<str> = origin.site.as_deref().unwrap().into();
        let lines: Vec<&str> = log.split_inclusive('\n').collect();
        let mut from = 0;
        for (nth, some) in lines.chunks(70).enumerate() {
            let some = some.concat();
            let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
            let mut reader =
                LineReader::new(&[Layout::understand("full").unwrap()], Projection::everything());
            let took = reader.read_block(some.as_bytes(), 0, &mut 0, &mut batch, &mut texts) as u64;
            let range = LogRange { from, until: from + took, unread: 0 };
            records.take_in(&site, &format!("{site}.log"), batch, texts, range).unwrap().unwrap();
            from += took;
            if nth < 3 {
                records.commit().unwrap();
            }
        }
    }
    records
}

/// An engine over the logs and one over the records, which last as long as the tests do.
pub fn engines() -> &'static [(&'static str, Engine); 2] {
    static ENGINES: OnceLock<([(&str, Engine); 2], TempDir)> = OnceLock::new();
    let (engines, _) = ENGINES.get_or_init(|| {
        let state = TempDir::new().unwrap();
        let records = records(&state);
        let seen = records.snapshot();
        assert!(seen.segments().len() > 6 && seen.requests() == 900, "{} segments", seen.segments().len());
        let scope = || (Scope::default(), zone());
        let classifier = || Arc::new(Classifier::default());
        let of_logs = RequestsTable::new(Arc::new(logs()), scope(), classifier(), KEY);
        let recorded = Arc::new(RecordedRequests::new(records, seen));
        let of_records = RequestsTable::new(recorded, scope(), classifier(), KEY);
        let engine =
            |table: RequestsTable| Engine::new(table.on_threads(2), Limits::default(), || {}).unwrap();
        ([("logs", engine(of_logs)), ("records", engine(of_records))], state)
    });
    engines
}
