//! SQL: ten statements from narrow to wide, over a log and over the records, beside another engine that reads the same file and has
//! the same requests in a table of its own.
//!
//! The other engine is a package from PyPI (`pip install duckdb`), driven by `other_engine.py`; it gets the file in its fastest way.

use crate::{ROUNDS, made_log, median};
use exedra_common::scope::Scope;
use exedra_common::{Dictionaries, Projection, RequestBatch};
use exedra_query::records::RecordedRequests;
use exedra_query::{Engine, Limits, QueryError, RequestsTable, Statement};
use exedra_reading::classify::Classifier;
use exedra_reading::logs::{Layout, LineReader};
use exedra_reading::survey::VisitorKey;
use exedra_store::records::{LogRange, Records};
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Command, ExitCode, Stdio};
use std::sync::Arc;
use std::time::Instant;

/// How many threads each engine has.
const THREADS: usize = 2;

/// A statement in both tongues.
struct Pair {
    name: &'static str,
    /// Whether few requests are wanted of it, or few columns.
    narrow: bool,
    ours: &'static str,
    theirs: &'static str,
}

/// From narrow to wide.
const PAIRS: [Pair; 10] = [
    Pair {
        name: "failures of an hour",
        narrow: true,
        ours: "select count(*) from requests where status = 500 and time >= '2026-11-14T05:00:00Z' and time < '2026-11-14T06:00:00Z'",
        theirs: "select count(*) from t where status = 500 and time >= '2026-11-14 05:00:00' and time < '2026-11-14 06:00:00'",
    },
    Pair {
        name: "all requests",
        narrow: true,
        ours: "select count(*) from requests",
        theirs: "select count(*) from t",
    },
    Pair {
        name: "by status",
        narrow: true,
        ours: "select status, count(*) n, sum(bytes) b from requests group by status order by status",
        theirs: "select status, count(*) n, sum(bytes) b from t group by status order by status",
    },
    Pair {
        name: "one client",
        narrow: true,
        ours: "select count(*), sum(bytes) from requests where client = '198.18.0.7'",
        theirs: "select count(*), sum(bytes) from t where client = '198.18.0.7'",
    },
    Pair {
        name: "missing pages",
        narrow: true,
        ours: "select path, count(*) n from requests where status = 404 group by path order by n desc, path limit 20",
        theirs: "select path, count(*) n from t where status = 404 group by path order by n desc, path limit 20",
    },
    Pair {
        name: "by hour",
        narrow: false,
        ours: "select date_trunc('hour', time) h, count(*) n, sum(bytes) b from requests group by h order by h",
        theirs: "select date_trunc('hour', time) h, count(*) n, sum(bytes) b from t group by h order by h",
    },
    Pair {
        name: "pages by bytes",
        narrow: false,
        ours: "select path, count(*) n, sum(bytes) b from requests group by path order by b desc, path limit 20",
        theirs: "select path, count(*) n, sum(bytes) b from t group by path order by b desc, path limit 20",
    },
    Pair {
        name: "clients by failures",
        narrow: false,
        ours: "select client, count(*) n, sum(case when status >= 400 then 1 else 0 end) f from requests group by client order by f desc, client limit 20",
        theirs: "select client, count(*) n, sum(case when status >= 400 then 1 else 0 end) f from t group by client order by f desc, client limit 20",
    },
    Pair {
        name: "agents and statuses",
        narrow: false,
        ours: "select agent, status, count(*) n from requests group by agent, status order by n desc, agent, status limit 20",
        theirs: "select agent, status, count(*) n from t group by agent, status order by n desc, agent, status limit 20",
    },
    Pair {
        name: "distinct clients by day",
        narrow: false,
        ours: "select date_trunc('day', time) d, count(distinct client) c, count(*) n from requests group by d order by d",
        theirs: "select date_trunc('day', time) d, count(distinct client) c, count(*) n from t group by d order by d",
    },
];

/// Makes a log, asks everything of both, and prints the ratios.
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
    let log = folder.join("made.log");
    let octets = made_log::write(&log, lines)?;
    println!(
        "{lines} requests, {:.0} MB, {THREADS} threads; milliseconds, the middle of {ROUNDS}",
        octets as f64 / 1e6
    );
    let engine = recorded(&log, folder)?;
    let mut other = Other::start(&log)?;
    println!(
        "{:<26} {:>8} {:>8} {:>6}   {:>8} {:>8} {:>6}",
        "", "log", "other", "ratio", "records", "other", "bar"
    );
    let mut bars_missed = 0;
    for pair in &PAIRS {
        let (mut of_log, mut other_log, mut of_records, mut other_table) = (vec![], vec![], vec![], vec![]);
        let mut answers: [String; 2] = Default::default();
        for _ in 0..ROUNDS {
            let began = Instant::now();
            let output = Command::new(program)
                .args(["query", pair.ours, "--as", "csv", "--threads", &THREADS.to_string()])
                .arg(&log)
                .current_dir(folder)
                .output()?;
            of_log.push(milliseconds(began));
            if !output.status.success() {
                return Err(io::Error::other(String::from_utf8_lossy(&output.stderr).into_owned()));
            }
            answers[0] = count_in(&String::from_utf8_lossy(&output.stdout));
            other_log.push(other.ask("log", pair.theirs)?.0);
            let (time, _) = ask(&engine, pair.ours)?;
            of_records.push(time);
            let (time, answer) = other.ask("table", pair.theirs)?;
            other_table.push(time);
            answers[1] = answer;
        }
        if answers[0] != answers[1] {
            return Err(io::Error::other(format!(
                "{}: {} here, {} there",
                pair.name, answers[0], answers[1]
            )));
        }
        let [log, other_log, records, table] = [of_log, other_log, of_records, other_table].map(median);
        let bar = if pair.narrow { 0.3 } else { 0.6 };
        // Of a table the same is asked, and what it takes to begin.
        let allowed = 1.5 * table + 5.0;
        let marks = [log / other_log > bar, records > allowed];
        bars_missed += marks.iter().filter(|missed| **missed).count();
        let mark = |missed: bool| if missed { "*" } else { " " };
        println!(
            "{:<26} {log:>8.0} {other_log:>8.0} {:>6.2}{} {records:>9.1} {table:>8.1} {allowed:>6.1}{}",
            pair.name,
            log / other_log,
            mark(marks[0]),
            mark(marks[1]),
        );
    }
    println!(
        "bars: 0.3 for the first five over the log, 0.6 for the others; 1.5 times the table and 5 ms for records; missed: {bars_missed}"
    );
    let sorted = "select time, path, agent, referrer from requests order by referrer, agent, path, time";
    let began = Instant::now();
    let mut child = Command::new(program)
        .args(["query", sorted, "--as", "csv", "--to"])
        .arg(folder.join("sorted.csv"))
        .arg(&log)
        .current_dir(folder)
        .spawn()?;
    let peak = peak(&mut child)?;
    println!("a sort of everything: {:.1} s, at most {peak} MB resident", milliseconds(began) / 1000.0);
    Ok(())
}

/// The first figure of the first row, so that answers can be held together.
fn count_in(csv: &str) -> String {
    csv.lines().count().saturating_sub(1).to_string()
}

fn milliseconds(began: Instant) -> f64 {
    began.elapsed().as_secs_f64() * 1000.0
}

fn ask(engine: &Engine, statement: &str) -> io::Result<(f64, usize)> {
    let failed = |error: QueryError| io::Error::other(error.to_string());
    let began = Instant::now();
    let statement =
        Statement::understand(statement, &Default::default()).map_err(|error| failed(error.into()))?;
    let mut answer = engine.ask(&statement, &|| true).map_err(failed)?;
    let mut rows = 0;
    while let Some(more) = answer.rows(&|| true).map_err(failed)? {
        rows += more.len();
    }
    Ok((milliseconds(began), rows))
}

/// The same requests as records.
fn recorded(log: &Path, folder: &Path) -> io::Result<Engine> {
    let state = folder.join("state");
    std::fs::create_dir_all(&state)?;
    let failed = |error: exedra_store::StoreError| io::Error::other(error.to_string());
    let records = Arc::new(Records::open(&state));
    let site: Arc<str> = "made".into();
    let mut file = File::open(log)?;
    let layouts = [Layout::understand("combined").map_err(io::Error::other)?];
    let (mut block, mut from) = (Vec::new(), 0u64);
    loop {
        let before = block.len();
        let read = (&mut file).take(14 << 20).read_to_end(&mut block)?;
        let Some(end) = block.iter().rposition(|octet| *octet == b'\n') else { break };
        let mut at = 0;
        while at <= end {
            let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
            let mut reader = LineReader::new(&layouts, Projection::everything());
            let took = reader.read_block(&block[at..=end], 0, &mut 0, &mut batch, &mut texts);
            let until = from + took as u64;
            let range = LogRange { from, until, unread: 0 };
            let taken = records.take_in(&site, "made.log", batch, texts, range).map_err(failed)?;
            taken.map_err(|known| io::Error::other(format!("the records go on at {}", known.octets)))?;
            (at, from) = (at + took, until);
        }
        block.drain(..=end);
        if read == 0 && before == block.len() {
            break;
        }
    }
    records.commit().map_err(failed)?;
    let seen = records.snapshot();
    println!("{} requests in {} segments", seen.requests(), seen.segments().len());
    let source = Arc::new(RecordedRequests::new(records, seen));
    let scope = (Scope::default(), jiff::tz::TimeZone::UTC);
    let table = RequestsTable::new(source, scope, Arc::new(Classifier::default()), VisitorKey([1, 2]));
    Engine::new(table.on_threads(THREADS), Limits::default(), || {})
        .map_err(|error| io::Error::other(error.to_string()))
}

/// The other engine, which is asked line by line.
struct Other {
    child: Child,
    input: ChildStdin,
    output: BufReader<ChildStdout>,
}

impl Other {
    fn start(log: &Path) -> io::Result<Self> {
        let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("other_engine.py");
        let mut child = Command::new("python3")
            .arg(script)
            .arg(log)
            .arg(THREADS.to_string())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()?;
        let missing = || io::Error::other("the other engine has no pipes");
        let (input, output) =
            (child.stdin.take().ok_or_else(missing)?, child.stdout.take().ok_or_else(missing)?);
        let mut other = Other { child, input, output: BufReader::new(output) };
        let mut ready = String::new();
        other.output.read_line(&mut ready)?;
        match ready.trim() {
            "ready" => Ok(other),
            _ => Err(io::Error::other("the other engine did not start: pip install duckdb")),
        }
    }

    /// Milliseconds, and how many rows.
    fn ask(&mut self, over: &str, statement: &str) -> io::Result<(f64, String)> {
        writeln!(self.input, "{over} {statement}")?;
        self.input.flush()?;
        let mut line = String::new();
        self.output.read_line(&mut line)?;
        let (time, rows) = line.trim().split_once(' ').ok_or_else(|| io::Error::other(line.clone()))?;
        Ok((time.parse().map_err(io::Error::other)?, rows.to_owned()))
    }
}

impl Drop for Other {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The most memory that a program had until it ended, in megabytes.
fn peak(child: &mut Child) -> io::Result<u64> {
    let status = format!("/proc/{}/status", child.id());
    let mut peak = 0;
    while child.try_wait()?.is_none() {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kilobytes = line.and_then(|line| line.trim().trim_end_matches(" kB").parse::<u64>().ok());
        peak = peak.max(kilobytes.unwrap_or(0) / 1000);
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    Ok(peak)
}
