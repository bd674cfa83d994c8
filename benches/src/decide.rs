//! What a decision costs, and the line that is written about it, each on its own.

use exedra_core::answer::{Encodings, Entry, FileFacts, FileMetadata, Question, Reply, Want, answer};
use exedra_core::config::{Config, understand};
use exedra_core::facts::{Facts, Fields, Known, Scheme};
use exedra_core::logs::{Layout, LogTemplate, LoggedRequest};
use http::{HeaderMap, HeaderValue, header};
use std::borrow::Cow;
use std::hint::black_box;
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Instant;

const TIMES: u32 = 2_000_000;
const CONFIG: &str = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\n\
                      hosts = [\"a.example\"]\nfolder = \"site\"\n";

/// Prints nanoseconds.
pub fn measure() -> ExitCode {
    let Ok(config) = understand(CONFIG, Path::new("")) else { return ExitCode::FAILURE };
    let mut headers = HeaderMap::new();
    headers.insert(header::HOST, HeaderValue::from_static("a.example"));
    headers.insert(header::ACCEPT_ENCODING, HeaderValue::from_static("gzip, deflate, br, zstd"));
    headers.insert(header::USER_AGENT, HeaderValue::from_static("Mozilla/5.0 (X11; Linux x86_64)"));
    println!("{:<44} {:>6.0} ns", "decide, a file as it is", decide(&config, &headers, "/small.bin"));
    println!("{:<44} {:>6.0} ns", "decide, an encoded file", decide(&config, &headers, "/small.html"));
    println!("{:<44} {:>6.0} ns", "write a line in `full`", write());
    ExitCode::SUCCESS
}

fn decide(config: &Config, headers: &HeaderMap, path: &str) -> f64 {
    let rounds = (0..5).map(|_| {
        let began = Instant::now();
        decide_again(config, headers, path, TIMES / 5);
        began.elapsed().as_nanos() as f64 / f64::from(TIMES / 5)
    });
    crate::median(rounds.collect())
}

/// Decides a request, over and over; all files are there.
pub fn decide_again(config: &Config, headers: &HeaderMap, path: &str, times: u32) {
    let facts = Facts {
        client: Known::Absent,
        scheme: Known::Is(Scheme::Http),
        host: Known::Is("a.example"),
        port: Known::Absent,
        method: Known::Is("GET"),
        path: Known::Is(path),
        query: Known::Absent,
        fields: Fields::All(headers),
        ..Facts::UNKNOWN
    };
    let mut file_metadata: Option<Arc<FileMetadata>> = None;
    let mut reply = |question: &Question| match question.want {
        Want::Encodings => Reply::Encodings(Encodings::default()),
        Want::Names => Reply::Entry(Entry::Missing),
        Want::Settings => Reply::Settings(None),
        Want::Entry => {
            let facts = FileFacts { size: 1024, modified: 1_700_000_000_000_000_000, stamp: 0 };
            Reply::File(Arc::clone(file_metadata.get_or_insert_with(|| {
                Arc::new(FileMetadata::new(&question.path, facts, None, b"", &Default::default()))
            })))
        }
    };
    for _ in 0..times {
        black_box(answer(config, black_box(facts)).finish(&mut reply));
    }
}

fn write() -> f64 {
    let template = LogTemplate::new(&Layout::full());
    let request = LoggedRequest {
        time: 1_700_000_000_123,
        status: 200,
        bytes: 1024,
        full_bytes: 1024,
        duration: 57,
        client: "203.0.113.77",
        user: "",
        method: "GET",
        target: Cow::Borrowed(b"/small.bin"),
        protocol: "HTTP/1.1",
        referrer: b"",
        agent: b"Mozilla/5.0 (X11; Linux x86_64)",
        scheme: "http",
        host: "a.example",
        encoding: "",
        rule: "",
    };
    let mut out = Vec::with_capacity(1 << 20);
    nanoseconds(|| {
        if out.len() > 1 << 19 {
            out.clear();
        }
        template.write(black_box(&request), &mut out);
    })
}

fn nanoseconds(mut run: impl FnMut()) -> f64 {
    let rounds = (0..5).map(|_| {
        let began = Instant::now();
        (0..TIMES / 5).for_each(|_| run());
        began.elapsed().as_nanos() as f64 / f64::from(TIMES / 5)
    });
    crate::median(rounds.collect())
}
