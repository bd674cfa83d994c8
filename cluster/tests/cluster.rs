//! A scheduler and workers as processes on loopback, over files as `exedra export` writes them, beside the same statements carried
//! out in this process.

use exedra_common::columns::Derive;
use exedra_common::scope::Scope;
use exedra_common::{Dictionaries, Origin, Projection, RequestBatch};
use exedra_query::export::{FileOf, Form, Partition, PartitionSink, Partitions, statement};
use exedra_query::{
    Engine, Limits, QueryError, Reading, RequestReader, RequestSource, RequestsTable, SourceError, Statement,
    TextsAre,
};
use exedra_reading::classify::Classifier;
use exedra_reading::logs::{Layout, LineReader};
use exedra_reading::survey::VisitorKey;
use jiff::tz::TimeZone;
use std::fs::{self, File};
use std::io::{BufRead, BufReader, Write};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// How long anything may take before a test gives up.
const PATIENCE: Duration = Duration::from_secs(120);
const PROGRAM: &str = env!("CARGO_BIN_EXE_exedra-cluster");
const SITES: [&str; 3] = ["harbour", "town", "library"];
const DAYS: usize = 4;

/// The lines of each site's log.
#[derive(Debug, Clone)]
struct Logs(Arc<Vec<(Origin, String)>>);

impl Logs {
    /// So many lines a site, over some days, with texts that repeat.
    fn made(lines: usize) -> Self {
        let of_site = |site| Logs::of_site(site, lines, lines).0[0].clone();
        Logs(Arc::new((0..SITES.len()).map(of_site).collect()))
    }

    /// The first of so many lines of one site.
    fn of_site(site: usize, first: usize, lines: usize) -> Self {
        let line = |site: usize, nth: usize| {
            let second = nth * DAYS * 86_400 / lines;
            format!(
                "198.51.{}.{} - - [{:02}/Nov/2026:{:02}:{:02}:{:02} +0000] \"GET /{}/page-{}.html?n={} HTTP/1.1\" {} {} \"{}\" \"Boat/{}.0 (Made Up)\"\n",
                100 + site,
                nth * 7 % 251,
                10 + second / 86_400,
                second / 3_600 % 24,
                second / 60 % 60,
                second % 60,
                SITES[site],
                nth * nth % 97,
                nth % 5,
                [200, 200, 200, 304, 404, 500][nth % 6],
                nth * 37 % 9_000,
                if nth.is_multiple_of(3) {
                    "-".to_owned()
                } else {
                    format!("https://links-{}.example/from", nth % 11)
                },
                nth % 4,
            )
        };
        let origin = Origin { site: Some(SITES[site].into()), ..Origin::default() };
        Logs(Arc::new(vec![(origin, (0..first).map(|nth| line(site, nth)).collect())]))
    }

    fn engine(&self) -> Engine {
        let derive: Arc<dyn Derive> = Arc::new(Classifier::default());
        let scope = (Scope::default(), TimeZone::UTC);
        let table = RequestsTable::new(Arc::new(self.clone()), scope, derive, VisitorKey([1, 2]));
        Engine::new(table, Limits::default(), || {}).expect("an engine")
    }

    /// What a statement gives in this process, as comma-separated values.
    fn answer(&self, written: &str) -> String {
        let engine = self.engine();
        let statement = Statement::understand(written, &Default::default()).expect("a statement");
        let mut answer = engine.ask(&statement, &|| true).expect("an answer");
        let mut file = FileOf::begin(Form::Csv, &answer.schema()).expect("a file");
        while let Some(batch) = answer.batch(&|| true).expect("rows") {
            file.write(&batch).expect("rows");
        }
        String::from_utf8(file.finish().expect("a file")).expect("text")
    }

    /// Exports them, each day of each site as one file.
    fn export(&self, folder: &Path) -> u64 {
        let engine = self.engine();
        let statement = Statement::understand(&statement(), &Default::default()).expect("a statement");
        let answer = engine.ask(&statement, &|| true).expect("an answer");
        let sink = Folder { folder: folder.to_owned(), open: None };
        Partitions::new(Form::Parquet, sink).write_all(answer, &|| true).expect("files").files
    }
}

impl RequestSource for Logs {
    fn begin(&self, reading: Reading) -> Result<Vec<Box<dyn RequestReader>>, SourceError> {
        let wanted = reading.projection.with(reading.filter.projection());
        Ok(vec![Box::new(LogsReader { logs: self.clone(), wanted, at: (0, 0), reading })])
    }
}

struct LogsReader {
    logs: Logs,
    wanted: Projection,
    reading: Reading,
    /// The log at hand, and how many octets of it have been read.
    at: (usize, usize),
}

impl RequestReader for LogsReader {
    fn read(
        &mut self,
        batch: &mut RequestBatch,
        texts: &mut Dictionaries,
    ) -> Result<Option<TextsAre>, SourceError> {
        let Some((origin, log)) = self.logs.0.get(self.at.0) else { return Ok(None) };
        let layouts = [Layout::understand("combined").expect("a layout")];
        let mut reader = LineReader::new(&layouts, self.wanted).of(origin);
        self.at.1 += reader.read_block(&log.as_bytes()[self.at.1..], 0, &mut 0, batch, texts);
        if self.at.1 == log.len() {
            self.at = (self.at.0 + 1, 0);
        }
        self.reading.filter.forget();
        let rows = self.reading.filter.rows(batch, texts);
        batch.keep(&rows);
        Ok(Some(TextsAre::Known))
    }
}

struct Folder {
    folder: PathBuf,
    open: Option<File>,
}

impl PartitionSink for Folder {
    fn begin(&mut self, of: &Partition) -> Result<bool, QueryError> {
        let folder = self.folder.join(of.folder());
        fs::create_dir_all(&folder).expect("a folder");
        self.open = Some(File::create(folder.join("pier.parquet")).expect("a file"));
        Ok(true)
    }

    fn write(&mut self, octets: &[u8]) -> Result<(), QueryError> {
        self.open.as_mut().expect("a file").write_all(octets).expect("room");
        Ok(())
    }

    fn finish(&mut self) -> Result<(), QueryError> {
        self.open = None;
        Ok(())
    }
}

/// A process that ends with its owner.
struct Process(Child);

impl Drop for Process {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Process {
    /// Starts it, and waits for its first line.
    fn start(arguments: &[&str]) -> Self {
        let mut child =
            Command::new(PROGRAM).args(arguments).stdout(Stdio::piped()).spawn().expect("the program");
        let mut line = String::new();
        BufReader::new(child.stdout.take().expect("output")).read_line(&mut line).expect("a line");
        assert!(line.contains(" on "), "{line}");
        Process(child)
    }
}

/// A scheduler over a folder of files.
struct Cluster {
    _scheduler: Process,
    address: String,
    place: TempDir,
}

impl Cluster {
    fn over(logs: &Logs) -> Self {
        let place = TempDir::new().expect("a folder");
        assert_eq!(logs.export(&place.path().join("lake")), (SITES.len() * DAYS) as u64);
        Cluster::in_place(place)
    }

    /// Over the files that lie in a folder's folder `lake`.
    fn in_place(place: TempDir) -> Self {
        let free = TcpListener::bind("127.0.0.1:0").and_then(|free| free.local_addr()).expect("a port");
        let address = free.to_string();
        let scheduler = Process::start(&["scheduler", "--address", &address]);
        until("the scheduler listens", || std::net::TcpStream::connect(&address).is_ok());
        Cluster { _scheduler: scheduler, address, place }
    }

    fn work(&self, name: &str) -> PathBuf {
        self.place.path().join(name)
    }

    fn worker(&self, name: &str) -> Process {
        let folder = self.work(name);
        fs::create_dir_all(&folder).expect("a folder");
        let folder = folder.display().to_string();
        Process::start(&["worker", "--scheduler", &self.address, "--threads", "1", "--folder", &folder])
    }

    fn asking(&self, statement: &str) -> Command {
        let mut command = Command::new(PROGRAM);
        command.args(["query", statement, "--as", "csv", "--scheduler", &self.address, "--from"]);
        command.arg(self.place.path().join("lake"));
        command
    }

    fn ask(&self, statement: &str) -> String {
        text(self.asking(statement).output().expect("the program"))
    }
}

fn text(output: Output) -> String {
    let words = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{words}");
    String::from_utf8(output.stdout).expect("text")
}

fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let began = Instant::now();
    while !holds() {
        assert!(began.elapsed() < PATIENCE, "waited too long until {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// Whether there is any file below a folder.
fn has_files(folder: &Path) -> bool {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    entries.map(|entry| entry.path()).any(|path| path.is_file() || has_files(&path))
}

#[test]
fn figures_are_those_of_one_machine() {
    let logs = Logs::made(1_200);
    let cluster = Cluster::over(&logs);
    let _workers = [cluster.worker("one"), cluster.worker("two")];
    for statement in [
        "select count(*) as requests, sum(bytes) as bytes, count(distinct visitor) as visitors from requests",
        "select site, status, count(*) as n from requests group by site, status order by site, status",
        "select every(time, '1 day') as day, count(distinct client) as clients from requests group by day order by day",
        "select date_trunc('hour', time) as hour, avg(bytes) as bytes from requests where site = 'town' group by hour order by hour limit 5",
        "select path, kind, count(*) as n from requests where status_class(status) = '4xx' group by path, kind order by n desc, path limit 7",
        "select host_of(referrer) as linked, parameter(query, 'n') as nth, count(*) as requests from requests group by linked, nth order by linked, nth",
        "select network(client, 24) as net, count(distinct path) as pages, max(bytes) as most from requests group by net order by net",
        "select count(distinct visit) as visits from (select visit_of() as visit from requests)",
        "select time, client, path, status from requests where site = 'library' and is_person() order by time, client, path limit 9",
        "with pages as (select path, count(*) as n from requests group by path) select max(n) as most, count(*) as pages from pages",
    ] {
        assert_eq!(cluster.ask(statement), logs.answer(statement), "{statement}");
    }
    let report = Command::new(PROGRAM)
        .args(["report", "--scheduler", &cluster.address, "--from"])
        .arg(cluster.place.path().join("lake"))
        .output()
        .expect("the program");
    let report = text(report);
    assert!(report.contains("\nStatuses\n") && report.contains("harbour"), "{report}");
    let shown = Command::new(PROGRAM)
        .args([
            "query",
            "select chr(27) || '[2J' as screen from requests limit 1",
            "--scheduler",
            &cluster.address,
            "--from",
        ])
        .arg(cluster.place.path().join("lake"))
        .output()
        .expect("the program");
    let shown = text(shown);
    assert!(shown.contains("[2J") && !shown.contains('\u{1b}'), "nothing is done to a terminal: {shown:?}");
    let wrong = cluster.asking("select statsu from requests").output().expect("the program");
    let words = String::from_utf8_lossy(&wrong.stderr).into_owned();
    assert!(!wrong.status.success() && words.contains("statsu") && words.contains("status"), "{words}");
    let refused = cluster.asking("create table t as select 1").output().expect("the program");
    assert!(!refused.status.success());
    assert!(String::from_utf8_lossy(&refused.stderr).contains("only select statements"), "{refused:?}");
}

#[test]
fn a_worker_that_is_killed_takes_nothing_along() {
    let logs = Logs::made(1_200);
    let cluster = Cluster::over(&logs);
    let (_one, mut two) = (cluster.worker("one"), cluster.worker("two"));
    // Every pair of a site's requests: long enough to be in the middle of it.
    let statement = "select a.site, count(*) as pairs, sum(a.bytes + b.bytes) as bytes from requests a join requests b on a.site = b.site group by a.site order by a.site";
    let asked =
        cluster.asking(statement).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("the program");
    until("the second worker has begun", || has_files(&cluster.work("two")));
    two.0.kill().expect("a process");
    let answer = text(asked.wait_with_output().expect("the program"));
    assert_eq!(answer, logs.answer(statement));
}

#[test]
fn a_worker_may_come_after_the_statement() {
    let logs = Logs::made(300);
    let cluster = Cluster::over(&logs);
    let statement = "select status, count(*) as n from requests group by status order by status";
    let asked = cluster.asking(statement).stdout(Stdio::piped()).spawn().expect("the program");
    let _late = cluster.worker("late");
    assert_eq!(text(asked.wait_with_output().expect("the program")), logs.answer(statement));
}

/// Thirty million requests in two hundred files: as many files as there are sites and days, each with the same requests. Whatever is summed
/// up is so many times what one file gives; the time with one worker and with two is printed.
#[test]
fn two_workers_share_two_hundred_files() {
    const OF_SITES: u64 = 10;
    const OF_DAYS: u64 = 20;
    const REQUESTS: usize = 150_000;
    let logs = Logs::of_site(0, REQUESTS, DAYS * REQUESTS);
    let place = TempDir::new().expect("a folder");
    assert_eq!(logs.export(place.path()), 1);
    let file = place.path().join("site=harbour/day=2026-11-10/pier.parquet");
    for (site, day) in (0..OF_SITES).flat_map(|site| (1..=OF_DAYS).map(move |day| (site, day))) {
        let folder = place.path().join(format!("lake/site=pier-{site}/day=2026-11-{day:02}"));
        fs::create_dir_all(&folder).expect("a folder");
        fs::hard_link(&file, folder.join("pier.parquet")).expect("another name");
    }
    let figures = "status, count(*) as n, sum(bytes) as b from requests group by";
    let of_one = logs.answer(&format!("select {figures} status order by status"));
    let expected: Vec<String> = (0..OF_SITES)
        .flat_map(|site| {
            of_one.lines().skip(1).map(move |row| {
                let of_a_day: Vec<u64> =
                    row.split(',').map(|number| number.parse().expect("a number")).collect();
                let [status, requests, bytes] = of_a_day[..] else { panic!("{row}") };
                format!("pier-{site},{status},{},{}", requests * OF_DAYS, bytes * OF_DAYS)
            })
        })
        .collect();
    let cluster = Cluster::in_place(place);
    let ask = || {
        let began = Instant::now();
        let answer = cluster.ask(&format!("select site, {figures} site, status order by site, status"));
        assert_eq!(answer.lines().skip(1).collect::<Vec<_>>(), expected);
        began.elapsed().as_secs_f64()
    };
    let _one = cluster.worker("one");
    let alone = ask();
    let _two = cluster.worker("two");
    let shared = ask();
    eprintln!(
        "30 million requests in 200 files: one worker {alone:.1} s, two workers {shared:.1} s, {:.2}",
        shared / alone
    );
    assert!(has_files(&cluster.work("two")), "the second worker has had its part");
}

#[test]
fn without_a_scheduler_it_says_so() {
    let place = TempDir::new().expect("a folder");
    let free = TcpListener::bind("127.0.0.1:0").and_then(|free| free.local_addr()).expect("a port");
    let asked = Command::new(PROGRAM)
        .args(["query", "select 1", "--scheduler", &free.to_string(), "--from"])
        .arg(place.path())
        .output()
        .expect("the program");
    let words = String::from_utf8_lossy(&asked.stderr).into_owned();
    assert!(!asked.status.success() && words.contains("cannot be reached"), "{words}");
}
