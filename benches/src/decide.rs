//! What a decision costs, and the line that is written about it, each on its own.

use exedra_answering::answer::{FileFacts, FileMetadata, Folder, Found, Question, answer};
use exedra_answering::config::{Config, understand};
use exedra_answering::facts::{Facts, Fields, Known, Scheme};
use exedra_common::{NumberColumn, TextColumn};
use exedra_reading::logs::{Layout, LogTemplate, LoggedRequest};
use http::{HeaderMap, HeaderValue, header};
use std::cell::OnceCell;
use std::convert::Infallible;
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
    let folder = OneFile::default();
    for _ in 0..times {
        let _ = black_box(answer(config, black_box(facts)).by(&folder));
    }
}

/// All files are there, and one and the same, as a cache would have it.
#[derive(Default)]
struct OneFile(OnceCell<Arc<FileMetadata>>);

impl Folder for OneFile {
    type Missing = Infallible;

    fn entry(&self, question: &Question) -> Result<Found, Infallible> {
        let facts = FileFacts { size: 1024, modified: 1_700_000_000_000_000_000, stamp: 0 };
        let made = || Arc::new(FileMetadata::new(&question.path, facts, None, b"", &Default::default()));
        Ok(Found::File(Arc::clone(self.0.get_or_init(made))))
    }
}

fn write() -> f64 {
    let template = LogTemplate::new(&Layout::full());
    let request = LoggedRequest::new(1_700_000_000_123, b"/small.bin")
        .number(NumberColumn::Status, 200)
        .number(NumberColumn::Bytes, 1024)
        .number(NumberColumn::FullBytes, 1024)
        .number(NumberColumn::Duration, 57)
        .text(TextColumn::Client, "203.0.113.77")
        .text(TextColumn::Method, "GET")
        .text(TextColumn::Protocol, "HTTP/1.1")
        .text(TextColumn::Agent, "Mozilla/5.0 (X11; Linux x86_64)")
        .text(TextColumn::Scheme, "http")
        .text(TextColumn::Host, "a.example");
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
