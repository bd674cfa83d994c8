//! Encoding the sample by every codec at every effort, on several threads.

use super::Progress;
use super::sample::Sample;
use exedra_answering::encode::weighing::{Measured, Weighing};
use exedra_answering::encode::{Codec, Effort};
use parking_lot::Mutex;
use rustix::time::{ClockId, clock_gettime};
use std::collections::BTreeSet;
use std::io;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};

/// Nanoseconds below which a measurement is repeated.
const ATTENTION: u64 = 2_000_000;

/// One file, one codec, one effort.
type Job = (usize, Codec, u32);

/// Measures all of it. What no quick effort makes smaller is not tried any harder.
pub fn measure(
    weighing: &mut Weighing,
    samples: &[Sample],
    threads: usize,
    progress: Progress<'_>,
) -> io::Result<()> {
    let quick: Vec<Job> = jobs(samples, |codec, effort| effort == codec.level(Effort::Quick));
    run(weighing, samples, &quick, threads, progress)?;
    let gaining: BTreeSet<&str> =
        weighing.types.iter().filter(|(_, of_type)| of_type.gains()).map(|(name, _)| name.as_str()).collect();
    let gains = |job: &Job| gaining.contains(samples[job.0].essence.as_str());
    let mut others: Vec<Job> = jobs(samples, |codec, effort| effort != codec.level(Effort::Quick));
    others.retain(gains);
    // The longest ones first, so that no thread is left with one when the others have finished.
    others.sort_by_key(|(sample, codec, effort)| {
        std::cmp::Reverse(samples[*sample].octets.len() as u64 * cost(*codec, *effort))
    });
    run(weighing, samples, &others, threads, progress)
}

fn jobs(samples: &[Sample], wanted: impl Fn(Codec, u32) -> bool) -> Vec<Job> {
    let efforts = Codec::ALL.into_iter().flat_map(|codec| codec.efforts().map(move |effort| (codec, effort)));
    let efforts: Vec<(Codec, u32)> = efforts.filter(|(codec, effort)| wanted(*codec, *effort)).collect();
    (0..samples.len())
        .flat_map(|sample| efforts.iter().map(move |(codec, effort)| (sample, *codec, *effort)))
        .collect()
}

/// Roughly how long an effort takes, against the quickest: for the order, and for the progress.
fn cost(codec: Codec, effort: u32) -> u64 {
    match (codec, effort) {
        (Codec::Brotli, 10..) => 150,
        (Codec::Brotli, effort) => 2 + u64::from(effort),
        (Codec::Zstd, 16..) => 50,
        (Codec::Zstd, effort) => 1 + u64::from(effort),
        (Codec::Gzip | Codec::Deflate, effort) => 3 + u64::from(effort),
    }
}

fn run(
    weighing: &mut Weighing,
    samples: &[Sample],
    jobs: &[Job],
    threads: usize,
    progress: Progress<'_>,
) -> io::Result<()> {
    let work = |job: &Job| samples[job.0].octets.len() as u64 * cost(job.1, job.2) / 1000;
    let (all, past): (u64, AtomicU64) = (jobs.iter().map(work).sum(), AtomicU64::default());
    let next = AtomicUsize::new(0);
    let done: Mutex<Vec<(usize, Measured)>> = Mutex::default();
    let results: Vec<io::Result<()>> = std::thread::scope(|scope| {
        let workers = (0..threads).map(|_| {
            scope.spawn(|| {
                let mut own = Vec::new();
                while let Some(job) = jobs.get(next.fetch_add(1, Ordering::Relaxed)) {
                    own.push((job.0, encode(&samples[job.0].octets, job.1, job.2)?));
                    let past = past.fetch_add(work(job), Ordering::Relaxed) + work(job);
                    progress(past, all)?;
                }
                done.lock().append(&mut own);
                Ok(())
            })
        });
        let workers: Vec<_> = workers.collect();
        let join = |worker: std::thread::ScopedJoinHandle<'_, _>| {
            worker.join().unwrap_or_else(|_| Err(io::Error::other("a codec failed")))
        };
        workers.into_iter().map(join).collect()
    });
    results.into_iter().collect::<io::Result<()>>()?;
    for (sample, measured) in done.into_inner() {
        weighing.add(&samples[sample].essence, &measured);
    }
    Ok(())
}

/// One file encoded once. Its time is the thread's own, so that others on the machine do not count.
fn encode(octets: &[u8], codec: Codec, effort: u32) -> io::Result<Measured> {
    let now = || {
        let time = clock_gettime(ClockId::ThreadCPUTime);
        time.tv_sec as u64 * 1_000_000_000 + time.tv_nsec as u64
    };
    let mut encoded = 0;
    let mut least = u64::MAX;
    // What is over soon is measured more than once: the least was disturbed least.
    for _ in 0..3 {
        let began = now();
        encoded = codec.encode(Effort::Level(effort), octets)?.len() as u64;
        least = least.min(now() - began);
        if least > ATTENTION {
            break;
        }
    }
    let before = octets.len() as u64;
    Ok(Measured { codec, effort, before, after: before.min(encoded), nanoseconds: least })
}
