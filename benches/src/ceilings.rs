//! The least that could be done with a log: counting its newlines, unpacking it, and a counter written by hand for one
//! layout, without a care for anything unusual.

use foldhash::fast::RandomState;
use hashbrown::{HashMap, HashSet};
use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

const BLOCK: usize = 1 << 20;

fn blocks(path: &Path, mut each: impl FnMut(&[u8])) -> io::Result<()> {
    let mut file = File::open(path)?;
    let mut block = vec![0; BLOCK];
    let mut kept = 0;
    loop {
        let read = file.read(&mut block[kept..])?;
        if read == 0 {
            return Ok(());
        }
        let filled = kept + read;
        let whole = memchr::memrchr(b'\n', &block[..filled]).map_or(0, |last| last + 1);
        each(&block[..whole]);
        block.copy_within(whole..filled, 0);
        kept = filled - whole;
    }
}

/// Counts newlines.
pub fn newlines(path: &Path) -> io::Result<u64> {
    let mut count = 0;
    blocks(path, |block| count += memchr::memchr_iter(b'\n', block).count() as u64)?;
    Ok(count)
}

/// Unpacks a gzip file and forgets it.
pub fn unpack(path: &Path) -> io::Result<u64> {
    io::copy(&mut flate2::read::MultiGzDecoder::new(File::open(path)?), &mut io::sink())
}

type Counts = HashMap<Box<[u8]>, (u64, u64), RandomState>;

fn add(counts: &mut Counts, key: &[u8], bytes: u64) {
    let entry = match counts.get_mut(key) {
        Some(entry) => entry,
        None => counts.entry(key.into()).or_default(),
    };
    entry.0 += 1;
    entry.1 += bytes;
}

/// Counts paths, clients, agents, statuses, days, hours and visitors of combined lines.
pub fn counter(path: &Path) -> io::Result<u64> {
    let (mut paths, mut clients, mut agents, mut days) = <(Counts, Counts, Counts, Counts)>::default();
    let mut statuses = [0u64; 1000];
    let mut hours = [0u64; 24];
    let mut visitors: HashSet<Box<[u8]>, RandomState> = HashSet::default();
    let mut visitor = Vec::new();
    let mut count = 0;
    blocks(path, |block| {
        for line in block.split(|octet| *octet == b'\n').filter(|line| !line.is_empty()) {
            let mut parts = line.split(|octet| *octet == b'"');
            let (Some(head), Some(request), Some(figures), Some(_), Some(_), Some(agent)) =
                (parts.next(), parts.next(), parts.next(), parts.next(), parts.next(), parts.next())
            else {
                continue;
            };
            let client = &head[..memchr::memchr(b' ', head).unwrap_or(0)];
            let time = &head[memchr::memchr(b'[', head).map_or(0, |at| at + 1)..];
            let target = request.split(|octet| *octet == b' ').nth(1).unwrap_or_default();
            let page = &target[..memchr::memchr(b'?', target).unwrap_or(target.len())];
            let number =
                |text: &[u8]| text.iter().fold(0, |number, digit| number * 10 + u64::from(digit & 15));
            let mut figures = figures[1..].split(|octet| *octet == b' ');
            let status = number(figures.next().unwrap_or_default());
            let bytes = number(figures.next().unwrap_or_default());
            add(&mut paths, page, bytes);
            add(&mut clients, client, bytes);
            add(&mut agents, agent, bytes);
            add(&mut days, &time[..11], bytes);
            statuses[status as usize % 1000] += 1;
            hours[number(&time[12..14]) as usize % 24] += 1;
            visitor.clear();
            visitor.extend_from_slice(&time[..11]);
            visitor.extend_from_slice(client);
            visitor.extend_from_slice(agent);
            if !visitors.contains(&visitor[..]) {
                visitors.insert(visitor.as_slice().into());
            }
            count += 1;
        }
    })?;
    let busiest = hours.iter().max().copied().unwrap_or(0);
    eprintln!(
        "{} {} {} {} {} {busiest}",
        paths.len(),
        clients.len(),
        agents.len(),
        days.len(),
        statuses[404]
    );
    Ok(count + visitors.len() as u64)
}
