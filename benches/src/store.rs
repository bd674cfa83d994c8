//! Years of requests: the records of a running service, filled by an import, asked for *Traffic* by the API; beside the same aggregation
//! over the same columns that are in memory already.

use crate::{ROUNDS, made_log, median};
use exedra_common::scope::Scope;
use exedra_common::{Dictionaries, RequestBatch};
use exedra_reading::logs::{Layout, LineReader};
use exedra_reading::survey::report::Shown;
use exedra_reading::survey::{SurveyPlan, Surveyor, VisitorKey};
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitCode, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// The month of the log: one that is over, so that its days are closed.
const MONTH: &str = "Sep";
/// What is kept of it: its days, and itself.
const KEPT: u64 = 31;
/// How many requests each log has.
const SIZES: [u64; 3] = [1_000_000, 10_000_000, 30_000_000];
/// The size at which everything is measured, and compared with a ceiling.
const MAIN: u64 = 10_000_000;
/// How many threads count.
const THREADS: usize = 2;
/// How long it may take until all days are kept.
const PATIENCE: Duration = Duration::from_secs(300);

/// Fills the records of a program, asks them, and prints what that took. With a number of requests only that is measured.
pub fn compare(program: &str, requests: Option<u64>) -> ExitCode {
    let folder = std::env::temp_dir().join(format!("exedra-bench-{}", std::process::id()));
    let sizes = requests.map_or(SIZES.to_vec(), |requests| vec![requests]);
    let result = sizes.into_iter().try_for_each(|requests| {
        let _ = std::fs::remove_dir_all(&folder);
        std::fs::create_dir_all(folder.join("site"))?;
        measure(program, &folder, requests, requests == MAIN)
    });
    let _ = std::fs::remove_dir_all(&folder);
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("{error}");
            ExitCode::FAILURE
        }
    }
}

/// The service while it is measured; it is killed in the end.
struct Service {
    child: Child,
    console: String,
    site: String,
    state: PathBuf,
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Service {
    fn start(program: &str, folder: &Path) -> io::Result<Self> {
        let config = folder.join("exedra.toml");
        let text = "[service]\nconsole = \"127.0.0.1:0\"\n[[listener]]\naddress = \"127.0.0.1:0\"\n\
                    [[site]]\nname = \"made\"\nhosts = [\"made.example\"]\nfolder = \"site\"\ndefault = true\n";
        std::fs::write(&config, text)?;
        std::fs::write(folder.join("site/index.html"), "x".repeat(1024))?;
        let mut child = Command::new(program)
            .args(["serve", "--config"])
            .arg(&config)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()?;
        let output = child.stdout.take().ok_or_else(|| io::Error::other("no output"))?;
        let mut lines = BufReader::new(output).lines().map_while(Result::ok);
        let mut site = String::new();
        let console = lines.by_ref().find_map(|line| {
            if let Some((_, address)) = line.rsplit_once("  on ") {
                site = address.trim().to_owned();
            }
            let address = line.strip_prefix("console")?.split_whitespace().next()?.to_owned();
            Some(address.trim_start_matches("http://").trim_end_matches('/').to_owned())
        });
        std::thread::spawn(move || lines.for_each(drop));
        let console = console.ok_or_else(|| io::Error::other("the service did not start"))?;
        Ok(Service { child, console, site, state: folder.join("state") })
    }

    fn send(&self, call: &str) -> io::Result<TcpStream> {
        self.send_with("GET", call, "")
    }

    fn send_with(&self, method: &str, call: &str, body: &str) -> io::Result<TcpStream> {
        let token = std::fs::read_to_string(self.state.join("client.token"))?;
        let mut stream = TcpStream::connect(&self.console)?;
        let head = format!(
            "{method} /api/v1/{call} HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer {}\r\nConnection: close\r\n\
             Content-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
            token.trim(),
            body.len()
        );
        stream.write_all(head.as_bytes())?;
        Ok(stream)
    }

    /// What a call is answered, and how many milliseconds that took.
    fn ask(&self, call: &str) -> io::Result<(String, f64)> {
        self.answer(call, || self.send(call))
    }

    /// Asks a statement, which may end at a bound, and says how.
    fn query(&self, statement: &str) -> io::Result<String> {
        let mut answer = String::new();
        self.send_with("POST", "query", &format!("{{\"statement\":\"{statement}\"}}"))?
            .read_to_string(&mut answer)?;
        let detail = answer.split_once("\"detail\":\"").and_then(|(_, rest)| rest.split('"').next());
        match (answer.starts_with("HTTP/1.1 200"), detail) {
            (true, _) => Ok("answered".to_owned()),
            (false, Some(detail)) => Ok(format!("refused: {detail}")),
            (false, None) => Err(io::Error::other(answer)),
        }
    }

    fn answer(&self, call: &str, send: impl FnOnce() -> io::Result<TcpStream>) -> io::Result<(String, f64)> {
        let began = Instant::now();
        let mut answer = String::new();
        send()?.read_to_string(&mut answer)?;
        if !answer.starts_with("HTTP/1.1 200") {
            return Err(io::Error::other(format!("{call}: {}", answer.lines().next().unwrap_or_default())));
        }
        Ok((answer, began.elapsed().as_secs_f64() * 1000.0))
    }

    fn median_of(&self, call: &str) -> io::Result<f64> {
        let all: io::Result<Vec<f64>> = (0..ROUNDS).map(|_| Ok(self.ask(call)?.1)).collect();
        all.map(median)
    }

    /// A number that the status says.
    fn status(&self, name: &str) -> io::Result<u64> {
        let (answer, _) = self.ask("status")?;
        let after = answer.split_once(&format!("\"{name}\":")).map_or("", |(_, after)| after.trim_start());
        let digits: String = after.chars().take_while(char::is_ascii_digit).collect();
        digits.parse().map_err(|_| io::Error::other(format!("the status says no {name}")))
    }

    /// Megabytes: at most since the start.
    fn memory(&self) -> f64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap_or_default();
        let line = status.lines().find(|line| line.starts_with("VmHWM:")).unwrap_or_default();
        line.split_whitespace()
            .nth(1)
            .and_then(|kilobytes| kilobytes.parse::<f64>().ok())
            .map_or(f64::NAN, |kilobytes| kilobytes * 1024.0 / 1e6)
    }

    /// Hundredths of a second that its threads have worked.
    fn worked(&self) -> u64 {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.child.id())).unwrap_or_default();
        let fields = stat.rsplit_once(')').map_or("", |(_, fields)| fields);
        fields.split_whitespace().skip(11).take(2).filter_map(|ticks| ticks.parse::<u64>().ok()).sum()
    }
}

/// *Traffic*, and one aggregation of it over all requests that no kept survey can answer.
const TRAFFIC: &str = "survey?show=traffic";
const OF_A_PATH: &str = "survey?show=traffic&only=path%3D%2Fsection-7%2F%2A";
/// A statement that looks at most columns of all requests.
const STATEMENT: &str = "select agent, path, count(*) as n, count(distinct client) as clients, sum(bytes) as bytes from requests \
                         where status < 500 group by agent, path order by n desc limit 20";
const AGGREGATION: &str = "survey?show=totals&show=statuses&only=status%3E%3D100";

fn measure(program: &str, folder: &Path, requests: u64, whole: bool) -> io::Result<()> {
    let log = folder.join("made.log");
    made_log::write_of(MONTH, File::create(&log)?, requests)?;
    println!("{requests} requests of thirty days");
    let service = Service::start(program, folder)?;
    let began = Instant::now();
    let imported = Command::new(program)
        .args(["import", "--site", "made", "--console", &service.console, "--config"])
        .arg(folder.join("exedra.toml"))
        .arg(&log)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status()?;
    if !imported.success() {
        return Err(io::Error::other("the import failed"));
    }
    let seconds = began.elapsed().as_secs_f64();
    println!("  imported, requests a second                {:>12.0}", requests as f64 / seconds);
    let until = Instant::now() + PATIENCE;
    while service.status("kept_surveys")? < KEPT {
        if Instant::now() > until {
            return Err(io::Error::other("not all days were kept in time"));
        }
        std::thread::sleep(Duration::from_millis(200));
    }
    println!(
        "  all days and the month kept after, s       {:>12.1}",
        began.elapsed().as_secs_f64() - seconds
    );
    let octets = std::fs::metadata(service.state.join("requests.db"))?.len();
    println!("  octets a request (at most 14)              {:>12.2}", octets as f64 / requests as f64);
    println!("  memory while it was imported, MB (400)     {:>12.0}", service.memory());
    drop(service);
    let service = Service::start(program, folder)?;
    println!("  Traffic, cold, ms (300)                    {:>12.0}", service.ask(TRAFFIC)?.1);
    println!("  Traffic, warm, ms (60)                     {:>12.0}", service.median_of(TRAFFIC)?);
    println!("  Traffic of a path, ms (400)                {:>12.0}", service.median_of(OF_A_PATH)?);
    let aggregation = service.median_of(AGGREGATION)?;
    println!("  one aggregation of single requests, ms     {aggregation:>12.0}");
    println!("  memory, MB (400)                           {:>12.0}", service.memory());
    if whole {
        println!("  left in the middle, it works for ms (100)  {:>12.0}", after_leaving(&service)?);
        under_load(&service, "a heavy survey", 1.5, &|| service.ask(OF_A_PATH).map(|_| ()))?;
        under_load(&service, "a heavy statement", 2.0, &|| service.query(STATEMENT).map(|_| ()))?;
        println!("  the heavy statement, 10 million requests: {}", service.query(STATEMENT)?);
        drop(service);
        let in_memory = in_memory(&log, &["totals", "statuses"])?;
        println!("  the same aggregation in memory, ms         {in_memory:>12.0}");
        println!("  ratio (at most 2)                          {:>12.2}", aggregation / in_memory);
        println!(
            "  Traffic's aggregation in memory, ms        {:>12.0}",
            self::in_memory(&log, &["traffic"])?
        );
    }
    Ok(())
}

/// How many milliseconds threads go on working after a client has left, at most: half of them know no better before the next segment.
fn after_leaving(service: &Service) -> io::Result<f64> {
    const LOOK: Duration = Duration::from_millis(10);
    let mut longest: f64 = 0.0;
    for _ in 0..ROUNDS {
        let stream = service.send(OF_A_PATH)?;
        std::thread::sleep(Duration::from_millis(150));
        drop(stream);
        let (left, mut worked, mut last) = (Instant::now(), service.worked(), Instant::now());
        // It has ended when nothing was done for a while.
        while last.elapsed() < 8 * LOOK {
            std::thread::sleep(LOOK);
            let now = service.worked();
            if now != worked {
                (worked, last) = (now, Instant::now());
            }
        }
        longest = longest.max((last - left).as_secs_f64() * 1000.0);
    }
    Ok(longest)
}

/// The slowest hundredth of requests to a site, while nothing else goes on and while something heavy does.
fn under_load(
    service: &Service,
    what: &str,
    bar: f64,
    ask: &(dyn Fn() -> io::Result<()> + Sync),
) -> io::Result<()> {
    let p99 = || -> io::Result<f64> {
        let output = Command::new("wrk")
            .args(["-t1", "-c16", "-d4", "--latency", &format!("http://{}/", service.site)])
            .output()?;
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        let line = text.lines().find_map(|line| line.trim().strip_prefix("99%")).map(str::trim);
        let milliseconds = line.and_then(|time| match time.strip_suffix("us") {
            Some(time) => time.parse::<f64>().ok().map(|time| time / 1000.0),
            None => match time.strip_suffix("ms") {
                Some(time) => time.parse().ok(),
                None => {
                    time.strip_suffix('s').and_then(|time| time.parse::<f64>().ok()).map(|time| time * 1000.0)
                }
            },
        });
        milliseconds.ok_or_else(|| io::Error::other("wrk gave no p99"))
    };
    let (mut alone, mut beside) = (Vec::new(), Vec::new());
    for _ in 0..3 {
        alone.push(p99()?);
        let done = AtomicBool::new(false);
        beside.push(std::thread::scope(|scope| {
            let asking = scope.spawn(|| {
                while !done.load(Ordering::Relaxed) {
                    ask()?;
                }
                Ok::<(), io::Error>(())
            });
            let measured = p99();
            done.store(true, Ordering::Relaxed);
            asking.join().unwrap_or_else(|_| Err(io::Error::other("asking failed")))?;
            measured
        })?);
    }
    let (alone, beside) = (median(alone), median(beside));
    println!("  p99 of a site under load, ms               {alone:>12.2}");
    println!("  {:<42} {beside:>12.2}", format!("p99 while {what} runs, ms"));
    println!("  {:<42} {:>12.2}", format!("ratio (at most {bar})"), beside / alone);
    Ok(())
}

/// Milliseconds of an aggregation over columns that are in memory, on as many threads; the median.
fn in_memory(log: &Path, show: &[&str]) -> io::Result<f64> {
    let shown = Shown::understand(show).map_err(io::Error::other)?;
    let plan = SurveyPlan {
        parts: shown.parts(),
        ..SurveyPlan::new(Scope::default(), jiff::tz::TimeZone::UTC, VisitorKey([1, 2]))
    };
    let mut shares: Vec<(Vec<RequestBatch>, Dictionaries)> =
        (0..THREADS).map(|_| Default::default()).collect();
    let mut reader =
        LineReader::new(&[Layout::understand("combined").map_err(io::Error::other)?], plan.projection());
    let (mut file, mut block, mut nth) = (File::open(log)?, Vec::new(), 0);
    loop {
        let before = block.len();
        (&mut file).take(8 << 20).read_to_end(&mut block)?;
        let Some(end) = block.iter().rposition(|octet| *octet == b'\n') else { break };
        let mut at = 0;
        while at <= end {
            let (batches, texts) = &mut shares[nth % THREADS];
            nth += 1;
            let mut batch = RequestBatch::default();
            at += reader.read_block(&block[at..=end], 0, &mut 0, &mut batch, texts);
            batches.push(batch);
        }
        let is_all = block.len() == before;
        block.drain(..=end);
        if is_all {
            break;
        }
    }
    let rounds = (0..ROUNDS).map(|_| {
        let began = Instant::now();
        std::thread::scope(|scope| {
            for (batches, texts) in &mut shares {
                let plan = plan.clone();
                scope.spawn(move || {
                    let mut surveyor = Surveyor::new(plan);
                    batches.iter_mut().for_each(|batch| surveyor.add(batch, texts, 0));
                    std::hint::black_box(surveyor.into_survey(texts));
                });
            }
        });
        began.elapsed().as_secs_f64() * 1000.0
    });
    Ok(median(rounds.collect()))
}
