//! The service under load, beside a bare server, alternating; then what many connections, and many files, cost.
//!
//! - [`crowd`]: what needs no ceiling beside it, because it is bounded in itself

mod crowd;

use crate::{ROUNDS, median};
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, ExitCode, Stdio};

/// Seconds of load in one round.
const SECONDS: u32 = 3;
const LARGE: usize = 100_000_000;

/// A server that is being measured; it is killed in the end.
struct Server {
    child: Child,
    /// Where it answers.
    address: String,
    /// Where it answers by HTTPS; a bare server answers so only where it is asked to.
    secured: String,
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Server {
    /// Starts a command, and reads where it answers from the line that says so; the one before it may say where by HTTPS.
    fn start(
        command: &[&str],
        mut address_in: impl FnMut(&str) -> Option<(String, String)>,
    ) -> Option<Server> {
        let mut child = Command::new(command[0])
            .args(&command[1..])
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .ok()?;
        let mut lines = BufReader::new(child.stdout.take()?).lines().map_while(Result::ok);
        let found = lines.by_ref().find_map(|line| address_in(&line));
        std::thread::spawn(move || lines.for_each(drop));
        let (address, secured) = found?;
        Some(Server { child, address, secured })
    }

    fn bare(size: usize, secured: bool) -> Option<Server> {
        let own = std::env::current_exe().ok()?;
        let manner = if secured { "secured" } else { "plain" };
        Server::start(&[&own.to_string_lossy(), "bare", &size.to_string(), manner], |line| {
            Some((line.to_owned(), line.to_owned()))
        })
    }

    fn ours(program: &str, config: &Path) -> Option<Server> {
        let config = config.to_string_lossy();
        let (mut plain, mut secured) = (None, None);
        Server::start(&[program, "serve", "--config", &config], |line| {
            if let Some((site, address)) = line.rsplit_once("  on ") {
                let place = if site.contains("https://") { &mut secured } else { &mut plain };
                *place = Some(address.trim().to_owned());
            }
            // The console comes after all listeners.
            line.starts_with("console")
                .then(|| (plain.take().unwrap_or_default(), secured.take().unwrap_or_default()))
        })
    }

    /// Requests a second by TLS and HTTP/2, many at a time on each connection.
    fn load_beside_each_other(&self, path: &str) -> f64 {
        let port = self.secured.rsplit(':').next().unwrap_or_default();
        let url = format!("https://a.example:{port}{path}");
        let connect = format!("--connect-to={}", self.secured);
        let output = Command::new("h2load")
            .args(["-t1", "-c8", "-m16", &format!("-D{SECONDS}"), &connect, &url])
            .output();
        let text =
            output.map(|output| String::from_utf8_lossy(&output.stdout).into_owned()).unwrap_or_default();
        let figure =
            text.lines().find_map(|line| line.split(" req/s").next()?.rsplit(' ').next()?.parse().ok());
        let well = text.contains(" 0 failed, 0 errored, 0 timeout");
        figure.filter(|_| well).unwrap_or(f64::NAN)
    }

    /// Requests and bytes a second.
    fn load(&self, path: &str, encodings: &str, connections: u32) -> (f64, f64) {
        self.load_by(path, encodings, connections, &[])
    }

    /// The same, with more said to the loader.
    fn load_by(&self, path: &str, encodings: &str, connections: u32, more: &[&str]) -> (f64, f64) {
        self.load_url(&format!("http://{}{path}", self.address), encodings, connections, more)
    }

    fn load_url(&self, url: &str, encodings: &str, connections: u32, more: &[&str]) -> (f64, f64) {
        let output = Command::new("wrk")
            .args(["-t1", &format!("-c{connections}"), &format!("-d{SECONDS}s"), "--timeout", "20s"])
            .args(more)
            .args(["-H", "Host: a.example", "-H", &format!("Accept-Encoding: {encodings}"), url])
            .output();
        let text =
            output.map(|output| String::from_utf8_lossy(&output.stdout).into_owned()).unwrap_or_default();
        let figure = |name: &str| {
            let line = text.lines().find(|line| line.trim_start().starts_with(name))?;
            let word = line.split_whitespace().last()?;
            let units = [("GB", 1e9), ("MB", 1e6), ("KB", 1e3), ("B", 1.0), ("", 1.0)];
            let (unit, scale) = units.iter().find(|(unit, _)| word.ends_with(unit))?;
            Some(word.trim_end_matches(unit).parse::<f64>().ok()? * scale)
        };
        (figure("Requests/sec").unwrap_or(f64::NAN), figure("Transfer/sec").unwrap_or(f64::NAN))
    }
}

fn configuration(
    folder: &Path,
    name: &str,
    records: bool,
    site: &str,
) -> std::io::Result<std::path::PathBuf> {
    let path = folder.join(format!("{name}.toml"));
    let text = format!(
        "[service]\nconsole = \"127.0.0.1:0\"\nstate = \"state-{name}\"\nrecords = {records}\n\
         [[listener]]\naddress = \"127.0.0.1:0\"\n[[listener]]\naddress = \"127.0.0.1:0\"\nhttps = true\n\
         [[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"{site}\"\nlisting = true\n"
    );
    std::fs::write(&path, text)?;
    Ok(path)
}

/// Prints the rows of the comparison.
pub fn compare(program: &str) -> ExitCode {
    match measure(program) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("{error}");
            ExitCode::FAILURE
        }
    }
}

fn measure(program: &str) -> std::io::Result<()> {
    exedra_service::raise_open_files();
    let folder = tempfile::tempdir()?;
    let site = folder.path().join("site");
    std::fs::create_dir(&site)?;
    std::fs::write(site.join("small.bin"), vec![b'x'; 1024])?;
    std::fs::write(site.join("large.bin"), vec![b'x'; LARGE])?;
    let mut number = 1u64;
    let page: String = std::iter::repeat_with(|| {
        number = number.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        format!("word{} ", number >> 54)
    })
    .take(4_000)
    .collect();
    std::fs::write(site.join("page.html"), &page[..16 << 10])?;

    let missing = || std::io::Error::other("a server did not start");
    let config = |name, records| configuration(folder.path(), name, records, "site");
    let off = Server::ours(program, &config("off", false)?).ok_or_else(missing)?;
    let on = Server::ours(program, &config("on", true)?).ok_or_else(missing)?;
    let small = Server::bare(1024, false).ok_or_else(missing)?;
    let large = Server::bare(LARGE, false).ok_or_else(missing)?;

    println!("{:<44} {:>12} {:>12} {:>7}", "", "ceiling", "ours", "ratio");
    let row = |what: &str, ceiling: &dyn Fn() -> f64, ours: &dyn Fn() -> f64, unit: f64| {
        let pairs: Vec<(f64, f64)> = (0..ROUNDS).map(|_| (ceiling(), ours())).collect();
        let ratio = median(pairs.iter().map(|(ceiling, ours)| ours / ceiling).collect());
        let (ceiling, ours) = (
            median(pairs.iter().map(|pair| pair.0).collect()),
            median(pairs.iter().map(|pair| pair.1).collect()),
        );
        println!("{what:<44} {:>12.0} {:>12.0} {ratio:>7.2}", ceiling / unit, ours / unit);
    };
    let requests = |server: &Server, path: &str, encodings: &str| server.load(path, encodings, 32).0;
    row(
        "1 KB, log on, records off: requests/s",
        &|| requests(&small, "/", ""),
        &|| requests(&off, "/small.bin", ""),
        1.0,
    );
    row(
        "1 KB, log on, records on: requests/s",
        &|| requests(&small, "/", ""),
        &|| requests(&on, "/small.bin", ""),
        1.0,
    );
    // No head comes twice, so that no answer is remembered whole.
    let script = folder.path().join("other.lua");
    std::fs::write(
        &script,
        "local n = 0\nrequest = function() n = n + 1; return wrk.format(nil, wrk.path .. '?' .. n) end\n",
    )?;
    let script = script.to_string_lossy().into_owned();
    let others = |server: &Server, path: &str| server.load_by(path, "", 32, &["-s", &script]).0;
    row(
        "the same, every request another, records off",
        &|| others(&small, "/"),
        &|| others(&off, "/small.bin"),
        1.0,
    );
    let secured = Server::bare(1024, true).ok_or_else(missing)?;
    let by_tls = |server: &Server, path: &str| {
        server.load_url(&format!("https://{}{path}", server.secured), "", 32, &[]).0
    };
    row("1 KB by TLS 1.3", &|| by_tls(&secured, "/"), &|| by_tls(&off, "/small.bin"), 1.0);
    row(
        "1 KB by TLS 1.3 and HTTP/2",
        &|| secured.load_beside_each_other("/"),
        &|| off.load_beside_each_other("/small.bin"),
        1.0,
    );
    off.load("/page.html", "br", 4);
    let plain = || requests(&off, "/page.html", "identity");
    row("16 KB settled, ceiling the same plain", &plain, &|| requests(&off, "/page.html", "br"), 1.0);
    row("100 MB, MB/s", &|| large.load("/", "", 4).1, &|| off.load("/large.bin", "", 4).1, 1e6);
    drop((on, small, large, secured));
    crowd::downloads(&off)?;
    crowd::burst(&off, &site, &page)?;
    crowd::idle(&Server::ours(program, &config("idle", false)?).ok_or_else(missing)?)?;
    crowd::many_files(program, folder.path())
}
