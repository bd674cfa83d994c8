//! What the end-to-end tests share: the real program on loopback, in a folder of its own.
//!
//! - [`Program`]: `exedra serve`, started, asked, stopped or killed
//! - [`exedra`]: any other command
//! - [`browser`]: headless Chromium; [`terminal`]: a terminal; [`town`]: the demo
//! - [`authority`]: whom certificates can be obtained from; [`mail_server`], [`receiver`]: whom messages are sent to

pub mod authority;
pub mod browser;
pub mod mail_server;
pub mod receiver;
pub mod terminal;
pub mod town;

use reqwest::blocking::{Client, Response};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// How long anything may take before a test gives up on it.
pub const PATIENCE: Duration = Duration::from_secs(60);

/// The program that was built beside the tests.
pub fn program() -> PathBuf {
    let tests = std::env::current_exe().expect("a test knows where it is");
    let built = tests.ancestors().nth(2).expect("tests lie in a folder of the target").join("exedra");
    assert!(built.is_file(), "build it first: cargo build --profile quick --package exedra");
    built
}

/// Runs a command of the program to its end.
pub fn exedra<S: AsRef<std::ffi::OsStr>>(arguments: &[S]) -> Output {
    Command::new(program()).args(arguments).output().expect("the program runs")
}

/// Waits until something holds.
pub fn until<T>(what: &str, mut holds: impl FnMut() -> Option<T>) -> T {
    let began = Instant::now();
    loop {
        if let Some(value) = holds() {
            return value;
        }
        assert!(began.elapsed() < PATIENCE, "in vain: {what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// A folder with a configuration and two sites.
pub struct Place {
    /// The folder.
    pub folder: TempDir,
}

impl Place {
    /// A folder with two small sites: `harbour`, with a main host and error pages of its own, and `lamp`.
    pub fn new() -> Self {
        let place = Place { folder: tempfile::tempdir().expect("a temporary folder") };
        place.write("harbour/index.html", "<!doctype html><title>Harbour</title><h1>Harbour Office</h1>");
        place
            .write("harbour/tides/today.html", &"<p>High water at seven, low water at one.</p>\n".repeat(80));
        place.write("harbour/errors/lost.html", &"<h1>No such page in this harbour</h1>\n".repeat(20));
        place.write("harbour/notes.txt", "short");
        place.write("lamp/index.html", "<h1>Lamp House</h1>");
        place.configure("");
        place
    }

    /// Writes a file below the folder.
    pub fn write(&self, name: &str, content: &str) {
        let path = self.path(name);
        std::fs::create_dir_all(path.parent().expect("a file lies in a folder")).expect("a folder");
        std::fs::write(path, content).expect("a file");
    }

    /// Writes the configuration, with something more at its end.
    pub fn configure(&self, more: &str) {
        self.write(
            "exedra.toml",
            &format!(
                r#"[service]
console = "127.0.0.1:0"
forwarders = ["127.0.0.1"]

[[listener]]
address = "127.0.0.1:0"

[[site]]
name = "harbour"
hosts = ["harbour.example", "www.harbour.example"]
main_host = "harbour.example"
folder = "harbour"
error_pages = {{ 404 = "/errors/lost.html" }}

[[site]]
name = "lamp"
hosts = ["lamp.example"]
folder = "lamp"
{more}"#
            ),
        );
    }

    /// A path below the folder.
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// The configuration's path.
    pub fn config(&self) -> PathBuf {
        self.path("exedra.toml")
    }

    /// The lines of a site's log, all its generations together.
    pub fn log(&self, site: &str) -> Vec<String> {
        let mut text = String::new();
        for path in self.generations(site) {
            let octets = std::fs::read(&path).unwrap_or_default();
            match path.extension().is_some_and(|extension| extension == "gz") {
                true => {
                    _ = flate2::read::GzDecoder::new(&octets[..])
                        .read_to_string(&mut text)
                        .expect("a log is text")
                }
                false => text.push_str(std::str::from_utf8(&octets).expect("a log is text")),
            }
        }
        text.lines().map(str::to_owned).collect()
    }

    /// The files of a site's log, in order.
    pub fn generations(&self, site: &str) -> Vec<PathBuf> {
        let files = std::fs::read_dir(self.path("state/logs")).into_iter().flatten();
        let paths = files.map(|file| file.expect("an entry").path());
        let is_one = |path: &PathBuf| {
            let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
            name.starts_with(&format!("{site}.")) && (name.ends_with(".log") || name.ends_with(".log.gz"))
        };
        let mut paths: Vec<PathBuf> = paths.filter(is_one).collect();
        paths.sort();
        paths
    }

    /// Starts the service here.
    pub fn serve(&self) -> Program {
        Program::start(&["serve", "--config", &self.config().to_string_lossy()], self.path("state"))
    }
}

impl Default for Place {
    fn default() -> Self {
        Place::new()
    }
}

/// The service while a test runs. It is killed when the test ends.
pub struct Program {
    child: Child,
    state: PathBuf,
    /// Address of the sites.
    pub sites: String,
    /// Where they answer by HTTPS, empty when they don't.
    pub secured: String,
    /// Address of the console.
    pub console: String,
    /// The sign-in link, where one was printed.
    pub link: Option<String>,
}

impl Program {
    /// Starts a command that serves, and waits until it has said where.
    pub fn start(arguments: &[&str], state: PathBuf) -> Self {
        Self::start_as(Command::new(program()).args(arguments), state)
    }

    /// The same by a command of one's own.
    pub fn start_as(command: &mut Command, state: PathBuf) -> Self {
        let mut child =
            command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().expect("the program starts");
        let mut lines =
            BufReader::new(child.stdout.take().expect("its output")).lines().map_while(Result::ok);
        let (mut sites, mut secured, mut console, mut link) = (None, String::new(), None, None);
        for line in lines.by_ref() {
            if let Some((_, address)) =
                line.rsplit_once("  on ").filter(|(site, _)| site.contains("https://"))
            {
                secured = address.trim().to_owned();
            } else if let Some((_, address)) = line.rsplit_once("  on ") {
                sites = Some(address.trim().to_owned());
            } else if let Some(address) = line.strip_prefix("console") {
                let address = address.trim().trim_start_matches("http://").trim_start_matches("https://");
                console = Some(address.trim_end_matches('/').to_owned());
            } else if line.starts_with("sign in") {
                link = line.split_whitespace().find(|word| word.starts_with("http://")).map(str::to_owned);
                break;
            }
        }
        // Whatever it prints later must not fill the pipe.
        std::thread::spawn(move || lines.for_each(drop));
        let (sites, console) =
            (sites.expect("address of the sites"), console.expect("address of the console"));
        Program { child, state, sites, secured, console, link }
    }

    /// Asks a site for something, following nothing.
    pub fn get(&self, host: &str, target: &str) -> Response {
        self.ask(host, target, &[])
    }

    /// Asks with some header fields.
    pub fn ask(&self, host: &str, target: &str, fields: &[(&str, &str)]) -> Response {
        let mut request = client().get(format!("http://{}{target}", self.sites)).header("Host", host);
        for (name, value) in fields {
            request = request.header(*name, *value);
        }
        request.send().expect("an answer")
    }

    /// A client by HTTPS that takes any certificate, for some host.
    pub fn secured(&self, host: &str) -> Client {
        secure();
        let client =
            Client::builder().redirect(reqwest::redirect::Policy::none()).no_proxy().timeout(PATIENCE);
        let address = self.secured.parse().expect("an address by HTTPS");
        let client = client.tls_danger_accept_invalid_certs(true).tls_info(true).resolve(host, address);
        client.build().expect("a client")
    }

    /// Asks a site by HTTPS.
    pub fn ask_secured(&self, host: &str, target: &str, fields: &[(&str, &str)]) -> Response {
        let port = self.secured.rsplit(':').next().unwrap_or_default();
        let mut request = self.secured(host).get(format!("https://{host}:{port}{target}"));
        for (name, value) in fields {
            request = request.header(*name, *value);
        }
        request.send().expect("an answer")
    }

    /// Runs a command of a client of this service, by the configuration that it runs by.
    pub fn command(&self, place: &Place, arguments: &[&str]) -> Output {
        let config = text(&place.config());
        let mut all = arguments.to_vec();
        all.extend(["--config", &config, "--console", &self.console]);
        exedra(&all)
    }

    /// The number of the process.
    pub fn process(&self) -> u32 {
        self.child.id()
    }

    /// The memory it has, in octets.
    pub fn resident(&self) -> u64 {
        self.memory("VmRSS:")
    }

    /// The most memory that it ever had, in octets.
    pub fn peak(&self) -> u64 {
        self.memory("VmHWM:")
    }

    fn memory(&self, which: &str) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.process()));
        let status = status.expect("what the system says of the process");
        let line = status.lines().find(|line| line.starts_with(which)).expect("a line of its memory");
        line.split_whitespace().nth(1).and_then(|number| number.parse::<u64>().ok()).expect("a number") * 1024
    }

    /// Sends octets as they are, and gives what comes back until the connection ends.
    pub fn raw(&self, octets: &[u8]) -> String {
        let mut socket = TcpStream::connect(&self.sites).expect("a connection");
        socket.set_read_timeout(Some(PATIENCE)).expect("a time-out");
        socket.write_all(octets).expect("sent");
        let mut answer = Vec::new();
        // A reset after the answer is an end like any other.
        let _ = socket.read_to_end(&mut answer);
        String::from_utf8_lossy(&answer).into_owned()
    }

    /// Asks the API with the token of this machine's clients.
    pub fn api(&self, call: &str) -> serde_json::Value {
        let token = std::fs::read_to_string(self.state.join("client.token")).expect("a token");
        let answer = client().get(format!("http://{}/api/v1/{call}", self.console)).bearer_auth(token).send();
        let answer = answer.expect("an answer");
        assert!(answer.status().is_success(), "{call}: {}", answer.status());
        answer.json().expect("JSON")
    }

    /// The same with a method and perhaps a body, whatever the answer is.
    pub fn call(&self, method: reqwest::Method, call: &str, body: Option<&serde_json::Value>) -> Response {
        let token = std::fs::read_to_string(self.state.join("client.token")).expect("a token");
        let asked =
            client().request(method, format!("http://{}/api/v1/{call}", self.console)).bearer_auth(token);
        let asked = match body {
            Some(body) => asked.json(body),
            None => asked,
        };
        asked.send().expect("an answer")
    }

    /// Requests of a site that are in the records.
    pub fn recorded(&self, site: &str) -> u64 {
        self.api(&format!("survey?site={site}"))["tables"]["totals"]["rows"][0]["requests"]
            .as_u64()
            .expect("a number")
    }

    /// Ends it as a power cut would.
    pub fn kill(&self) {
        self.tell("KILL");
    }

    /// Tells it to stop, by the name of a signal.
    pub fn tell(&self, signal: &str) {
        let told = Command::new("kill").args([format!("-{signal}"), self.child.id().to_string()]).status();
        assert!(told.expect("kill runs").success());
    }

    /// Waits until it has ended, and says whether it ended well.
    pub fn ended(mut self) -> bool {
        until("the program ends", || self.child.try_wait().expect("its state")).success()
    }
}

impl Drop for Program {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Says by what clients are secured. A second test's word is as good.
pub(crate) fn secure() {
    let _ = rustls::crypto::ring::default_provider().install_default();
}

/// A client that follows nothing and unpacks nothing.
pub fn client() -> Client {
    secure();
    let client = Client::builder().redirect(reqwest::redirect::Policy::none()).no_proxy().timeout(PATIENCE);
    client.build().expect("a client")
}

/// A header field of an answer, empty when it is not there.
pub fn field<'a>(answer: &'a Response, name: &str) -> &'a str {
    answer.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default()
}

/// Tells threads to stop when it is dropped, also by a test that fails.
pub struct Stops<'a>(pub &'a AtomicBool);

impl Drop for Stops<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::SeqCst);
    }
}

/// A path as text.
pub fn text(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}

/// Everything that a command has printed.
pub fn drawn(output: &Output) -> String {
    format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
}

/// The rows of a table of a report.
pub fn rows<'r>(report: &'r serde_json::Value, table: &str) -> &'r Vec<serde_json::Value> {
    report["tables"][table]["rows"].as_array().unwrap_or_else(|| panic!("{table} is a table of {report}"))
}

/// The row of a table of a report in which a column has a value.
pub fn row<'r>(
    report: &'r serde_json::Value,
    table: &str,
    column: &str,
    value: &str,
) -> &'r serde_json::Value {
    let found = rows(report, table).iter().find(|row| row[column] == value);
    found.unwrap_or_else(|| panic!("{table} has a row with {column} {value}: {report}"))
}

/// What a row of a table of a report was in the other period.
pub fn row_before<'r>(
    report: &'r serde_json::Value,
    table: &str,
    column: &str,
    value: &str,
) -> &'r serde_json::Value {
    let place = rows(report, table).iter().position(|row| row[column] == value);
    &report["tables"][table]["before"][place.unwrap_or_else(|| panic!("{table} has {value}"))]
}

/// A figure of everything together.
pub fn total<'r>(report: &'r serde_json::Value, figure: &str) -> &'r serde_json::Value {
    &report["tables"]["totals"]["rows"][0][figure]
}
