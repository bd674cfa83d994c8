//! A million recorded requests, a tenth of them different, run through two configurations of ten, a thousand and ten thousand rules, on two
//! threads; beside counting the same requests by their paths, which is the least that could be done with them, and beside deciding each
//! of them, which is what remembering spares.

use exedra_acting::rehearsal::{RecordedRequest, Rehearsal, Surroundings};
use exedra_answering::answer::Tree;
use exedra_answering::config::{Config, understand};
use exedra_common::{Dictionaries, NumberColumn, RequestBatch, TextColumn};
use jiff::tz::TimeZone;
use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
use std::collections::HashMap;
use std::path::Path;
use std::process::ExitCode;
use std::time::Instant;

const REQUESTS: usize = 1_000_000;
const DISTINCT: usize = 100_000;
const THREADS: usize = 2;
const ROUNDS: usize = 5;
const AGENT: &str = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0";

/// One thread's share of the requests.
struct Share {
    batches: Vec<RequestBatch>,
    texts: Dictionaries,
}

fn path(nth: usize) -> String {
    format!("/section-{}/page-{nth}.html", nth % 200)
}

fn share(seed: u64) -> Share {
    let mut random = StdRng::seed_from_u64(seed);
    let mut share = Share { batches: Vec::new(), texts: Dictionaries::default() };
    let mut left = REQUESTS / THREADS;
    // Each path at least once among all.
    let mut next = seed as usize * DISTINCT / THREADS;
    while left > 0 {
        let mut batch = RequestBatch::default();
        for _ in 0..left.min(exedra_common::batch::BATCH_ROWS) {
            let nth = if next < (seed as usize + 1) * DISTINCT / THREADS {
                next += 1;
                next - 1
            } else {
                random.random_range(0..DISTINCT)
            };
            batch.time.push(1_794_600_000_000 + random.random_range(0..28 * 86_400_000_i64));
            batch.numbers_mut(NumberColumn::Status).push(200);
            batch.numbers_mut(NumberColumn::Bytes).push(5_000);
            let client = format!("198.18.{}.{}", random.random_range(0..200), random.random_range(0..250));
            for (column, text) in [
                (TextColumn::Site, "made"),
                (TextColumn::Client, &client),
                (TextColumn::Method, "GET"),
                (TextColumn::Scheme, "https"),
                (TextColumn::Host, "made.example"),
                (TextColumn::Path, &path(nth)),
                (TextColumn::Protocol, "HTTP/1.1"),
                (TextColumn::Agent, AGENT),
                (TextColumn::Encoding, "br"),
            ] {
                let code = share.texts.of_mut(column).code(text);
                batch.codes_mut(column).push(code);
            }
            for column in [TextColumn::User, TextColumn::Query, TextColumn::Referrer] {
                batch.codes_mut(column).push(exedra_common::batch::NO_TEXT);
            }
        }
        left -= batch.rows();
        share.batches.push(batch);
    }
    share
}

/// A configuration with so many redirects of exact paths, and one rule more that touches a two hundredth of all.
fn config(rules: usize, is_changed: bool) -> Config {
    let mut text = String::from(
        "[[listener]]\naddress = \"127.0.0.1:7380\"\n[[site]]\nname = \"made\"\nhosts = [\"made.example\"]\nfolder = \"made\"\n",
    );
    for nth in 0..rules {
        text +=
            &format!("[[site.rules]]\npath = \"/old-{nth}.html\"\nredirect = \"/section-1/page-1.html\"\n");
    }
    if is_changed {
        text += "[[site.rules]]\npath = \"/section-7/{rest*}\"\ncache = \"1 day\"\n";
    }
    understand(&text, Path::new("")).unwrap_or_else(|found| panic!("{found:?}"))
}

/// What a pass over the requests takes, in seconds: the middle of some.
fn measured(mut pass: impl FnMut()) -> f64 {
    let mut times: Vec<f64> = (0..ROUNDS)
        .map(|_| {
            let begun = Instant::now();
            pass();
            begun.elapsed().as_secs_f64()
        })
        .collect();
    times.sort_by(f64::total_cmp);
    times[ROUNDS / 2]
}

/// Measures, and prints.
pub fn measure() -> ExitCode {
    let shares: Vec<Share> = (0..THREADS as u64).map(share).collect();
    let folder = (0..DISTINCT).fold(Tree::default(), |tree, nth| tree.file(&path(nth)[1..], 5_000));
    let around = Surroundings::new(TimeZone::UTC);
    let counted = measured(|| {
        std::thread::scope(|scope| {
            for share in &shares {
                scope.spawn(move || {
                    let mut counts: HashMap<&str, u64, foldhash::fast::RandomState> = HashMap::default();
                    for batch in &share.batches {
                        for code in batch.codes(TextColumn::Path) {
                            *counts.entry(share.texts.of(TextColumn::Path).text(*code)).or_default() += 1;
                        }
                    }
                    assert!(counts.len() > DISTINCT / THREADS);
                });
            }
        });
    });
    println!("{REQUESTS} requests, {DISTINCT} different, {THREADS} threads");
    println!("counted by path              {counted:>7.3} s");
    for rules in [10, 1_000, 10_000] {
        let (now, changed) = (config(rules, false), config(rules, true));
        let mut differing = 0;
        let ours = measured(|| {
            let halves: Vec<Rehearsal<'_>> = std::thread::scope(|scope| {
                let threads: Vec<_> = shares
                    .iter()
                    .map(|share| {
                        let mut rehearsal = Rehearsal::new((&now, &folder), (&changed, &folder), &around);
                        scope.spawn(move || {
                            for batch in &share.batches {
                                (0..batch.rows()).for_each(|row| rehearsal.add(batch, row, &share.texts));
                            }
                            rehearsal
                        })
                    })
                    .collect();
                threads.into_iter().filter_map(|thread| thread.join().ok()).collect()
            });
            let outcome = halves.into_iter().reduce(Rehearsal::merge).map(Rehearsal::finish);
            differing = outcome.map_or(0, |outcome| outcome.changed);
        });
        println!(
            "rehearsed, {rules:>6} rules     {ours:>7.3} s  ratio {:>6.1}  {differing} differ",
            ours / counted
        );
    }
    // What is spared: each request decided by both, on one thread, of a tenth of them.
    let (now, changed) = (config(10, false), config(10, true));
    let each = measured(|| {
        let share = &shares[0];
        let batch = &share.batches[0];
        for row in 0..batch.rows() {
            let mut rehearsal = Rehearsal::new((&now, &folder), (&changed, &folder), &around);
            rehearsal.take(&RecordedRequest::of(batch, row, &share.texts));
        }
    });
    let all = each * REQUESTS as f64 / shares[0].batches[0].rows() as f64 / THREADS as f64;
    println!(
        "each decided by itself       {all:>7.3} s  (reckoned from {} of them)",
        shares[0].batches[0].rows()
    );
    ExitCode::SUCCESS
}
