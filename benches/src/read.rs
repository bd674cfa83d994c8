//! Reading logs: the program beside counting newlines, a minimal counter and unpacking alone; and its memory.

use crate::{ROUNDS, made_log, median};
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitCode, Stdio};
use std::time::{Duration, Instant};

/// The sections that say what the minimal counter counts.
const SAME: &str = "days,hours,statuses,paths,clients,agents";
/// Memory is looked at with so many times as many lines too.
const LONGER: u64 = 10;

/// Makes a log, reads it in every way, and prints what that took.
pub fn compare(program: &str, lines: u64) -> ExitCode {
    let folder = std::env::temp_dir().join(format!("exedra-bench-{}", std::process::id()));
    let result = std::fs::create_dir_all(&folder).and_then(|()| measure(program, &folder, lines));
    let _ = std::fs::remove_dir_all(&folder);
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("{error}");
            ExitCode::FAILURE
        }
    }
}

fn measure(program: &str, folder: &Path, lines: u64) -> io::Result<()> {
    let plain = folder.join("made.log");
    let octets = made_log::write(&plain, lines)?;
    let packed = pack(&plain)?;
    let size = octets as f64 / 1e6;
    println!("{lines} combined lines, {size:.0} MB, in the page cache, one thread unless said otherwise");
    let own = std::env::current_exe()?.to_string_lossy().into_owned();
    let (plain, packed) = (plain.to_string_lossy().into_owned(), packed.to_string_lossy().into_owned());
    let report = |threads, rest: &[&'static str], file: &str| {
        let fixed = [program, "report", "--as", "json", "--threads", threads];
        fixed.iter().chain(rest).map(|word| (*word).to_owned()).chain([file.to_owned()]).collect()
    };
    let ceiling = |what: &str, file: &str| vec![own.clone(), what.to_owned(), file.to_owned()];
    let runs: [(&str, Vec<String>); 8] = [
        ("newlines by memchr", ceiling("newlines", &plain)),
        ("minimal counter", ceiling("counter", &plain)),
        ("report, everything", report("1", &[], &plain)),
        ("report, what the counter says", report("1", &["--show", SAME], &plain)),
        ("report, 2 threads", report("2", &[], &plain)),
        ("gzip: unpacking alone", ceiling("unpack", &packed)),
        ("gzip: report", report("1", &[], &packed)),
        ("gzip: report, 2 threads", report("2", &[], &packed)),
    ];
    let mut seconds = vec![Vec::new(); runs.len()];
    for _ in 0..ROUNDS {
        for ((_, command), seconds) in runs.iter().zip(&mut seconds) {
            let began = Instant::now();
            let mut child = start(command, Stdio::null())?;
            if !child.wait()?.success() {
                return Err(io::Error::other(format!("{} failed", command.join(" "))));
            }
            seconds.push(began.elapsed().as_secs_f64());
        }
    }
    let medians: Vec<f64> = seconds.into_iter().map(median).collect();
    println!("{:<30} {:>8} {:>9} {:>22}", "", "seconds", "MB/s", "times minimal counter");
    for ((what, _), median) in runs.iter().zip(&medians) {
        println!("{what:<30} {median:>8.2} {:>9.0} {:>22.2}", size / median, median / medians[1]);
    }
    println!("two threads are {:.2} times as fast as one", medians[2] / medians[4]);
    let ceiling = medians[5].max((medians[5] + medians[2]) / 2.0);
    println!(
        "gzip on 2 threads takes {:.2} times the larger of unpacking alone and all work in halves",
        medians[7] / ceiling
    );
    for times in [1, LONGER] {
        let peak = memory(&report("2", &[], "-"), lines * times)?;
        println!("{} lines from standard input, 2 threads: at most {peak} MB resident", lines * times);
    }
    Ok(())
}

fn start(command: &[String], input: Stdio) -> io::Result<Child> {
    let mut started = Command::new(&command[0]);
    started.args(&command[1..]).stdin(input).stdout(Stdio::null()).stderr(Stdio::null()).spawn()
}

/// Compresses a file beside itself.
fn pack(plain: &Path) -> io::Result<PathBuf> {
    let packed = plain.with_extension("log.gz");
    let mut out = flate2::write::GzEncoder::new(File::create(&packed)?, flate2::Compression::default());
    io::copy(&mut File::open(plain)?, &mut out)?;
    out.finish()?;
    Ok(packed)
}

/// The most memory that a program had while it read so many made lines, in megabytes.
fn memory(command: &[String], lines: u64) -> io::Result<u64> {
    let mut child = start(command, Stdio::piped())?;
    let input = child.stdin.take().ok_or_else(|| io::Error::other("no standard input"))?;
    let writer = std::thread::spawn(move || made_log::write_to(input, lines));
    let status = PathBuf::from(format!("/proc/{}/status", child.id()));
    let mut peak = 0;
    while child.try_wait()?.is_none() {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kilobytes = line.and_then(|line| line.trim().trim_end_matches(" kB").parse::<u64>().ok());
        peak = peak.max(kilobytes.unwrap_or(0) * 1024);
        std::thread::sleep(Duration::from_millis(10));
    }
    writer.join().map_err(|_| io::Error::other("the lines could not be written"))??;
    Ok(peak / 1_000_000)
}
