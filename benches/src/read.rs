//! Reading logs: the program beside counting newlines, a minimal counter and unpacking alone; and its memory.

use crate::{ROUNDS, made_log, median};
use std::fs::File;
use std::io::{self, BufRead, Write};
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
    let found = with_a_field_more(&plain)?;
    let size = octets as f64 / 1e6;
    println!("{lines} combined lines, {size:.0} MB, in the page cache, one thread unless said otherwise");
    let own = std::env::current_exe()?;
    let ceilings = own.with_file_name("exedra-ceilings").to_string_lossy().into_owned();
    let own = own.to_string_lossy().into_owned();
    let [plain, packed, found] = [plain, packed, found].map(|path| path.to_string_lossy().into_owned());
    let report = |threads, rest: &[&'static str], file: &str| {
        let fixed = [program, "report", "--as", "json", "--threads", threads];
        fixed.iter().chain(rest).map(|word| (*word).to_owned()).chain([file.to_owned()]).collect()
    };
    let ceiling = |what: &str, file: &str| vec![ceilings.clone(), what.to_owned(), file.to_owned()];
    let everything: Vec<String> = report("1", &[], &plain);
    // Each with the commands that are started together.
    let runs: [(&str, Vec<Vec<String>>); 11] = [
        ("newlines by memchr", vec![ceiling("newlines", &plain)]),
        ("minimal counter", vec![ceiling("counter", &plain)]),
        ("report, everything", vec![everything.clone()]),
        ("report, what the counter says", vec![report("1", &["--show", SAME], &plain)]),
        ("report, 2 threads", vec![report("2", &[], &plain)]),
        ("gzip: unpacking alone", vec![ceiling("unpack", &packed)]),
        ("gzip: report", vec![report("1", &[], &packed)]),
        ("gzip: report, 2 threads", vec![report("2", &[], &packed)]),
        ("two reports at once", vec![everything.clone(), everything]),
        ("report, a layout that is found", vec![report("1", &[], &found)]),
        ("counter with our allocator", vec![vec![own, "counter".to_owned(), plain.clone()]]),
    ];
    // The machine is not equally fast all the time: what is compared was measured in the same round.
    let mut rounds = vec![Vec::new(); ROUNDS];
    for seconds in &mut rounds {
        for (_, commands) in &runs {
            let began = Instant::now();
            let started = commands.iter().map(|command| start(command, Stdio::null()));
            for mut child in started.collect::<io::Result<Vec<Child>>>()? {
                if !child.wait()?.success() {
                    return Err(io::Error::other(format!("{} failed", commands[0].join(" "))));
                }
            }
            seconds.push(began.elapsed().as_secs_f64());
        }
    }
    let middle = |of: &dyn Fn(&[f64]) -> f64| median(rounds.iter().map(|seconds| of(seconds)).collect());
    println!("{:<30} {:>8} {:>9} {:>22}", "", "seconds", "MB/s", "times minimal counter");
    for (run, (what, commands)) in runs.iter().enumerate() {
        let (seconds, size) = (middle(&|of| of[run]), size * commands.len() as f64);
        let times = middle(&|of| of[run] / of[1]);
        println!("{what:<30} {seconds:>8.2} {:>9.0} {times:>22.2}", size / seconds);
    }
    println!(
        "two threads are {:.2} times as fast as one; two processes at once together {:.2} times",
        middle(&|of| of[2] / of[4]),
        middle(&|of| 2.0 * of[2] / of[8])
    );
    println!(
        "gzip on 2 threads takes {:.2} times the larger of unpacking alone and all work in halves",
        middle(&|of| of[7] / of[5].max((of[5] + of[2]) / 2.0))
    );
    println!(
        "a layout that is found by its parts takes {:.2} times the combined one",
        middle(&|of| of[9] / of[2])
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

/// The same log with a number at the end of each line, as servers write that are told to say how long they took: no named layout
/// reads it.
fn with_a_field_more(plain: &Path) -> io::Result<PathBuf> {
    let path = plain.with_extension("found.log");
    let mut out = io::BufWriter::new(File::create(&path)?);
    for (nth, line) in io::BufReader::new(File::open(plain)?).lines().enumerate() {
        writeln!(out, "{} {}", line?, nth * 7919 % 613)?;
    }
    out.flush()?;
    Ok(path)
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
