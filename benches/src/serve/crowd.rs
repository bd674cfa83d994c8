//! Many downloads at once, a burst on one page, many idle connections, many files.

use super::{LARGE, Server, configuration};
use crate::{ROUNDS, median};
use std::io::{Error, Read, Result, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::Command;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

const DOWNLOADS: usize = 64;
const IDLE: usize = 10_000;
const FILES: usize = 20_000;
const LISTED: usize = 10_000;
const BURST: usize = 200;
/// Octets of the page they all want.
const WANTED: usize = 750 << 10;

impl Server {
    /// Resident memory in MB.
    fn resident(&self) -> f64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap_or_default();
        let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap_or_default();
        line.split_whitespace().nth(1).and_then(|number| number.parse::<f64>().ok()).unwrap_or(f64::NAN) / 1e3
    }

    fn ask(&self, path: &str) -> Result<TcpStream> {
        let mut socket = TcpStream::connect(&self.address)?;
        write!(socket, "GET {path} HTTP/1.1\r\nHost: a.example\r\n\r\n")?;
        Ok(socket)
    }

    /// The slowest of a hundred requests, in milliseconds, as the loader says.
    fn p99(&self) -> f64 {
        let output = Command::new("wrk")
            .args(["-t1", "-c16", "-d3s", "--latency", "-H", "Host: a.example"])
            .arg(format!("http://{}/small.bin", self.address))
            .output();
        let text =
            output.map(|output| String::from_utf8_lossy(&output.stdout).into_owned()).unwrap_or_default();
        let word = text
            .lines()
            .find_map(|line| line.trim().strip_prefix("99%"))
            .unwrap_or_default()
            .trim()
            .to_owned();
        let units = [("us", 1e-3), ("ms", 1.0), ("s", 1e3)];
        let (unit, scale) = units.iter().find(|(unit, _)| word.ends_with(unit)).unwrap_or(&("", f64::NAN));
        word.trim_end_matches(unit).parse::<f64>().unwrap_or(f64::NAN) * scale
    }
}

/// Prints how memory grows while large files are fetched side by side.
pub fn downloads(server: &Server) -> Result<()> {
    let before = server.resident();
    let (left, received) = (AtomicU64::new(DOWNLOADS as u64), AtomicU64::new(0));
    let mut most = before;
    std::thread::scope(|scope| {
        for _ in 0..DOWNLOADS {
            scope.spawn(|| {
                let read = || -> Result<()> {
                    let mut socket = server.ask("/large.bin")?;
                    let mut buffer = vec![0; 64 << 10];
                    let mut got = 0;
                    while got < LARGE {
                        match socket.read(&mut buffer)? {
                            0 => break,
                            read => got += read,
                        }
                    }
                    received.fetch_add(got as u64, Ordering::Relaxed);
                    Ok(())
                };
                if let Err(error) = read() {
                    eprintln!("a download failed: {error}");
                }
                left.fetch_sub(1, Ordering::Relaxed);
            });
        }
        while left.load(Ordering::Relaxed) > 0 {
            most = most.max(server.resident());
            std::thread::sleep(Duration::from_millis(20));
        }
    });
    if received.load(Ordering::Relaxed) < (DOWNLOADS * LARGE) as u64 {
        return Err(Error::other("not all downloads came to their end"));
    }
    println!(
        "\n{DOWNLOADS} downloads of 100 MB at once: memory grows by {:.0} MB (from {before:.0} MB)",
        most - before
    );
    Ok(())
}

/// Prints what a burst of requests costs for a page that has not been encoded yet, beside one such request and the same burst
/// once its encoding has settled.
pub fn burst(server: &Server, site: &Path, words: &str) -> Result<()> {
    let page: String = words.chars().cycle().take(WANTED).collect();
    let fetch = |mut socket: TcpStream, path: &str| -> Result<usize> {
        write!(
            socket,
            "GET {path} HTTP/1.1\r\nHost: a.example\r\nAccept-Encoding: br\r\nConnection: close\r\n\r\n"
        )?;
        let mut answer = Vec::new();
        socket.read_to_end(&mut answer)?;
        match answer.starts_with(b"HTTP/1.1 200")
            && memchr::memmem::find(&answer, b"content-encoding: br").is_some()
        {
            true => Ok(answer.len()),
            false => Err(Error::other("a page did not come encoded")),
        }
    };
    let one = |path: &str| fetch(TcpStream::connect(&server.address)?, path);
    let all = |path: &str| -> Result<f64> {
        let sockets: Vec<TcpStream> =
            (0..BURST).map(|_| TcpStream::connect(&server.address)).collect::<Result<_>>()?;
        let began = Instant::now();
        std::thread::scope(|scope| {
            let fetches: Vec<_> =
                sockets.into_iter().map(|socket| scope.spawn(|| fetch(socket, path))).collect();
            let ended =
                fetches.into_iter().map(|one| one.join().map_err(|_| Error::other("a client panicked"))?);
            ended.collect::<Result<Vec<_>>>()
        })?;
        Ok(began.elapsed().as_secs_f64() * 1e3)
    };
    let (mut rows, mut grown) = (Vec::new(), 0f64);
    for round in 0..ROUNDS {
        for name in ["alone", "burst"] {
            // Another content each time: encodings are known by what was encoded.
            std::fs::write(site.join(format!("{name}{round}.html")), format!("{name} {round} {page}"))?;
        }
        let alone = format!("/alone{round}.html");
        let began = Instant::now();
        let quick = one(&alone)?;
        let once = began.elapsed().as_secs_f64() * 1e3;
        let until = Instant::now() + Duration::from_secs(60);
        while one(&alone)? == quick {
            if Instant::now() > until {
                return Err(Error::other("a page did not settle"));
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        let settled = all(&alone)?;
        let before = server.resident();
        let burst = all(&format!("/burst{round}.html"))?;
        grown = grown.max(server.resident() - before);
        rows.push([burst, once, settled]);
    }
    let of = |figure: &dyn Fn(&[f64; 3]) -> f64| median(rows.iter().map(figure).collect());
    println!(
        "{BURST} requests at once for a page of {} KB that has not settled: {:.0} ms; one such request {:.0} ms, settled {:.0} ms; {:.2} times one and 1.5 settled; memory grows by {grown:.0} MB",
        WANTED >> 10,
        of(&|row| row[0]),
        of(&|row| row[1]),
        of(&|row| row[2]),
        of(&|row| row[0] / (row[1] + 1.5 * row[2]))
    );
    Ok(())
}

/// Prints what idle connections cost, and whether others notice them.
pub fn idle(server: &Server) -> Result<()> {
    let alone = median((0..3).map(|_| server.p99()).collect());
    let mut sockets = Vec::new();
    let mut answer = [0; 4096];
    for _ in 0..IDLE {
        let mut socket = server.ask("/small.bin")?;
        if socket.read(&mut answer)? == 0 {
            return Err(Error::other("a connection was closed"));
        }
        sockets.push(socket);
    }
    let resident = server.resident();
    let beside = median((0..3).map(|_| server.p99()).collect());
    let mut open = 0;
    for socket in &mut sockets {
        socket.set_nonblocking(true)?;
        open += usize::from(
            socket.read(&mut answer).is_err_and(|error| error.kind() == std::io::ErrorKind::WouldBlock),
        );
    }
    println!(
        "{open} of {IDLE} idle connections open: {resident:.0} MB resident; p99 of others {beside:.2} ms, {alone:.2} ms without them"
    );
    Ok(())
}

/// Prints how long a site with many files takes to start, and to answer for files nobody has asked for yet.
pub fn many_files(program: &str, folder: &Path) -> Result<()> {
    let site = folder.join("many");
    for number in 0..FILES {
        let below = site.join(format!("{}", number / 200));
        if number % 200 == 0 {
            std::fs::create_dir_all(&below)?;
        }
        std::fs::write(below.join(format!("{number}.html")), format!("<h1>{number}</h1>").repeat(100))?;
    }
    let listed = site.join("listed");
    std::fs::create_dir_all(&listed)?;
    for number in 0..LISTED {
        std::fs::write(listed.join(format!("{number}.txt")), "")?;
    }
    let config = configuration(folder, "many", true, "many")?;
    let mut listings = Vec::new();
    let mut starts = Vec::new();
    let mut firsts = Vec::new();
    for round in 0..5 {
        let began = Instant::now();
        let server =
            Server::ours(program, &config).ok_or_else(|| Error::other("the service did not start"))?;
        let first = server.ask("/0/0.html")?;
        starts.push(began.elapsed().as_secs_f64() * 1e3);
        drop(first);
        for number in (round * 50..FILES).step_by(400) {
            let began = Instant::now();
            let mut socket = server.ask(&format!("/{}/{number}.html", number / 200))?;
            let mut answer = [0; 4096];
            let read = socket.read(&mut answer)?;
            firsts.push(began.elapsed().as_secs_f64() * 1e3);
            if !answer[..read].starts_with(b"HTTP/1.1 200") {
                return Err(Error::other("a file was not found"));
            }
        }
    }
    let server = Server::ours(program, &config).ok_or_else(|| Error::other("the service did not start"))?;
    for order in ["name", "-name", "size", "-size", "changed"] {
        let began = Instant::now();
        let mut socket = server.ask(&format!("/listed/?by={order}"))?;
        let mut answer = [0; 4096];
        let read = socket.read(&mut answer)?;
        listings.push(began.elapsed().as_secs_f64() * 1e3);
        if !answer[..read].starts_with(b"HTTP/1.1 200") {
            return Err(Error::other("a folder was not listed"));
        }
    }
    firsts.sort_by(f64::total_cmp);
    let at = |part: f64| firsts[((firsts.len() - 1) as f64 * part) as usize];
    println!(
        "{FILES} files: started and connected in {:.0} ms; first request of a file {:.2} ms (p50), {:.2} ms (p99), {:.2} ms (worst)",
        median(starts),
        at(0.5),
        at(0.99),
        at(1.0)
    );
    let first = listings.first().copied().unwrap_or(f64::NAN);
    println!(
        "a folder of {LISTED} entries: first page in {first:.0} ms the first time, {:.0} ms (p50) over all orders",
        median(listings)
    );
    Ok(())
}
