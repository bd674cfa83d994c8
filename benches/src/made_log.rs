//! A log with heavy tails: few clients, paths and agents make most of the requests, many come once.

use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::Path;

/// Rank of something, the first far more often than the last.
fn rank(random: &mut StdRng, many: f64) -> u32 {
    many.powf(random.random_range(0.0f64..1.0)) as u32
}

/// Writes combined lines, some 217 octets each, over thirty days. Says how many octets.
pub fn write(path: &Path, lines: u64) -> io::Result<u64> {
    write_to(File::create(path)?, lines)?;
    Ok(path.metadata()?.len())
}

/// Writes the same to wherever it is wanted.
pub fn write_to(out: impl Write, lines: u64) -> io::Result<()> {
    write_of("Nov", out, lines)
}

/// The same of another month of 2026, as in `Sep`.
pub fn write_of(month: &str, out: impl Write, lines: u64) -> io::Result<()> {
    let mut random = StdRng::seed_from_u64(77);
    let mut out = BufWriter::with_capacity(1 << 20, out);
    for line in 0..lines {
        let second = line * 30 * 86_400 / lines;
        let (day, hour, minute) = (1 + second / 86_400, second / 3_600 % 24, second / 60 % 60);
        let client = rank(&mut random, 120_000.0);
        let place = rank(&mut random, 60_000.0);
        let agent = rank(&mut random, 3_000.0);
        let status = [200, 200, 200, 200, 200, 200, 304, 301, 404, 500][random.random_range(0..10)];
        let bytes = random.random_range(200..60_000);
        let client = format!("198.{}.{}.{}", 18 + client / 65_536, client / 256 % 256, client % 256);
        let from = match random.random_range(0..3) {
            0 => "-".to_owned(),
            1 => format!("https://www.site-{}.example/some/page", place % 97),
            _ => format!("https://pages.example/section-{}/page-{}.html", place % 13, place % 1_009),
        };
        writeln!(
            out,
            "{client} - - [{day:02}/{month}/2026:{hour:02}:{minute:02}:{:02} +0000] \"GET /section-{}/article-{place}.html?from=list HTTP/1.1\" {status} {bytes} \"{from}\" \"Invented/5.0 (Made Up 10.{}; Boat; rv:{agent}) Hull/2026{:04} Sail/{agent}.0\"",
            second % 60,
            place % 31,
            agent % 16,
            agent % 1_000,
        )?;
    }
    out.flush()
}
