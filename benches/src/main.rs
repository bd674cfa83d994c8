//! Ceilings, and our program beside them: every claim is a ratio from one run.
//!
//! `exedra-benches read PROGRAM [LINES]` makes a log of combined lines and compares `PROGRAM report` with
//! counting newlines and with a minimal counter, alternating; the medians are printed.
//!
//! `exedra-benches serve PROGRAM` compares the service with a bare server that answers the same bytes from
//! memory, both loaded by `wrk` on loopback.
//!
//! `exedra-benches rules` says what ten, a thousand and ten thousand rules cost a request.
//!
//! - [`rules`], [`decide`]: deciding alone
//! - [`made_log`]: a log with heavy tails; [`ceilings`]: the least that could be done with it
//! - [`serve`]: the service under load; [`bare`]: a server that only answers

mod bare;
mod ceilings;
mod decide;
mod made_log;
mod rules;
mod serve;

use std::path::Path;
use std::process::{Command, ExitCode, Stdio};
use std::time::Instant;

const ROUNDS: usize = 5;

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    match arguments.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        ["serve", program] => serve::compare(program),
        ["decide"] => decide::measure(),
        ["rules", ..] => rules::measure(),
        ["bare", size, manner] => bare::run(size.parse().unwrap_or(1024), manner == "secured"),
        ["read", program] => read(program, 3_000_000),
        ["read", program, lines] => read(program, lines.parse().unwrap_or(3_000_000)),
        // A program of its own, so that nothing of another measurement is in its memory.
        ["newlines", file] => report(ceilings::newlines(Path::new(file))),
        ["counter", file] => report(ceilings::counter(Path::new(file))),
        ["make", file, lines] => report(made_log::write(Path::new(file), lines.parse().unwrap_or(3_000_000))),
        _ => {
            eprintln!("exedra-benches read PROGRAM [LINES], serve PROGRAM, or rules");
            ExitCode::FAILURE
        }
    }
}

/// The middle one of some measurements.
fn median(mut measured: Vec<f64>) -> f64 {
    measured.sort_by(f64::total_cmp);
    measured.get(measured.len() / 2).copied().unwrap_or(f64::NAN)
}

fn report(result: std::io::Result<u64>) -> ExitCode {
    match result {
        Ok(count) => {
            println!("{count}");
            ExitCode::SUCCESS
        }
        Err(error) => {
            eprintln!("{error}");
            ExitCode::FAILURE
        }
    }
}

fn read(program: &str, lines: u64) -> ExitCode {
    let file = std::env::temp_dir().join(format!("exedra-bench-{}.log", std::process::id()));
    if let Err(error) = made_log::write(&file, lines) {
        eprintln!("{}: {error}", file.display());
        return ExitCode::FAILURE;
    }
    let size = file.metadata().map_or(0, |file| file.len()) as f64 / 1e6;
    println!("{lines} combined lines, {size:.0} MB, in the page cache, one thread unless said otherwise");
    let own = std::env::current_exe().unwrap_or_default().to_string_lossy().into_owned();
    let name = file.to_string_lossy().into_owned();
    let runs: [(&str, Vec<&str>); 4] = [
        ("newlines by memchr", vec![&own, "newlines", &name]),
        ("minimal counter", vec![&own, "counter", &name]),
        ("exedra report", vec![program, "report", "--as", "json", "--threads", "1", &name]),
        ("exedra report, 2 threads", vec![program, "report", "--as", "json", "--threads", "2", &name]),
    ];
    let mut seconds = vec![Vec::new(); runs.len()];
    for _ in 0..ROUNDS {
        for ((_, command), seconds) in runs.iter().zip(&mut seconds) {
            let began = Instant::now();
            let status = Command::new(command[0])
                .args(&command[1..])
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .status();
            if !status.is_ok_and(|status| status.success()) {
                eprintln!("{} failed", command.join(" "));
                return ExitCode::FAILURE;
            }
            seconds.push(began.elapsed().as_secs_f64());
        }
    }
    let medians: Vec<f64> = seconds.into_iter().map(median).collect();
    println!("{:<26} {:>8} {:>9} {:>22}", "", "seconds", "MB/s", "times minimal counter");
    for ((what, _), median) in runs.iter().zip(&medians) {
        println!("{what:<26} {median:>8.2} {:>9.0} {:>22.2}", size / median, median / medians[1]);
    }
    println!("two threads are {:.2} times as fast as one", medians[2] / medians[3]);
    let _ = std::fs::remove_file(&file);
    ExitCode::SUCCESS
}
