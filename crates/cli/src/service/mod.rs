//! Asking the running service, by its API and with the token that it keeps for clients on this machine.

mod pinned;

use crate::configuration;
use crate::failure::Failure;
use crate::sources::SourceOptions;
use crate::sources::options::USUAL;
use clap::Args;
use exedra_answering::config::Config;
use exedra_api::Problem;
use exedra_service::access::certificates::of_addresses;
use exedra_service::run::TOKEN_FILE;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::blocking::{Client, RequestBuilder, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::io::{BufRead, BufReader, Read};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How long the service may take: a little longer than it gives itself.
const PATIENCE: Duration = Duration::from_secs(65);
/// The same where it goes through everything there is.
const LONG_PATIENCE: Duration = Duration::from_secs(3660);

/// Which service is asked.
#[derive(Args, Clone)]
pub struct Service {
    /// The configuration that the service runs by
    #[arg(long, value_name = "FILE", default_value = "exedra.toml")]
    pub config: PathBuf,
    #[command(flatten)]
    pub reach: Reach,
}

/// How it is reached, where its configuration does not say it or is elsewhere.
#[derive(Args, Clone)]
pub struct Reach {
    /// Address of the console, when it is not the configuration's
    #[arg(long, value_name = "ADDRESS")]
    console: Option<String>,
    /// The console's certificate (PEM), where it is self-signed; this machine's is known
    #[arg(long, value_name = "FILE")]
    certificate: Option<PathBuf>,
    /// A file with the token to send, when it is not that of this machine's clients; or EXEDRA_TOKEN says it
    #[arg(long, value_name = "FILE")]
    token_file: Option<PathBuf>,
}

/// Holds a token where no file does.
const TOKEN_VARIABLE: &str = "EXEDRA_TOKEN";

impl Service {
    /// The one that runs by the configuration that sources are looked up in.
    pub fn of_sources(sources: &SourceOptions, reach: &Reach) -> Self {
        let config = sources.config.clone().unwrap_or_else(|| USUAL.into());
        Service { config, reach: reach.clone() }
    }

    /// Asks for something.
    pub fn get<T: DeserializeOwned>(&self, call: &str) -> Result<T, Failure> {
        self.ask(call, |client, address| client.get(address))
    }

    /// Has something done.
    pub fn post<T: DeserializeOwned>(&self, call: &str) -> Result<T, Failure> {
        self.ask(call, |client, address| client.post(address))
    }

    /// Has something done that may take long.
    pub fn post_and_wait<T: DeserializeOwned>(&self, call: &str) -> Result<T, Failure> {
        self.ask(call, |client, address| client.post(address).timeout(LONG_PATIENCE))
    }

    /// Asks for a file.
    pub fn get_octets(&self, call: &str) -> Result<Vec<u8>, Failure> {
        Ok(self.answer(call, |client, address| client.get(address))?.bytes()?.to_vec())
    }

    /// Has something done that takes more words.
    pub fn send<T: DeserializeOwned>(&self, call: &str, body: &impl Serialize) -> Result<T, Failure> {
        self.ask(call, |client, address| client.post(address).json(body))
    }

    /// Has something done that goes through everything there is.
    pub fn send_and_wait<T: DeserializeOwned>(
        &self,
        call: &str,
        body: &impl Serialize,
    ) -> Result<T, Failure> {
        self.ask(call, |client, address| client.post(address).json(body).timeout(LONG_PATIENCE))
    }

    /// Sends octets.
    pub fn send_octets<T: DeserializeOwned>(&self, call: &str, octets: Vec<u8>) -> Result<T, Failure> {
        self.ask(call, |client, address| {
            client.post(address).header("content-type", "application/octet-stream").body(octets)
        })
    }

    /// Asks for something long, which is handed over as it comes. Texts are cut at the ends of their lines.
    pub fn send_for_octets(
        &self,
        call: &str,
        body: &impl Serialize,
        mut each: impl FnMut(&[u8]) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        let mut answer =
            self.answer(call, |client, address| client.post(address).json(body).timeout(LONG_PATIENCE))?;
        let mut rest: Vec<u8> = Vec::new();
        let mut block = vec![0; 1 << 16];
        loop {
            match answer.read(&mut block)? {
                0 => break,
                read => rest.extend_from_slice(&block[..read]),
            }
            if let Some(end) = memchr::memrchr(b'\n', &rest) {
                each(&rest[..=end])?;
                rest.drain(..=end);
            }
        }
        each(&rest)
    }

    /// Listens to what happens (server-sent events, WHATWG HTML §9.2): the name, the identity and the data of each event, until the
    /// service ends the stream, or `each` fails. `last` is the identity of the last event that is known already.
    pub fn listen(
        &self,
        call: &str,
        last: Option<&str>,
        mut each: impl FnMut(&Event) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        let answer = self.answer(call, |client, address| {
            let request = client.get(address).timeout(LONG_PATIENCE);
            match last {
                Some(last) => request.header("last-event-id", last),
                None => request,
            }
        })?;
        let mut event = Event::default();
        for line in BufReader::new(answer).lines() {
            // However it ended, whoever listens begins again.
            let Ok(line) = line else { return Ok(()) };
            if line.is_empty() {
                each(&event)?;
                event = Event::default();
            }
            let (field, value) = line.split_once(':').unwrap_or((&line, ""));
            let value = value.strip_prefix(' ').unwrap_or(value);
            match field {
                "event" => event.name = value.to_owned(),
                "id" => event.id = Some(value.to_owned()),
                "data" => event.data.push_str(value),
                _ => {}
            }
        }
        Ok(())
    }

    /// Has something taken away.
    pub fn delete(&self, call: &str) -> Result<(), Failure> {
        self.answer(call, |client, address| client.delete(address)).map(|_| ())
    }

    fn ask<T: DeserializeOwned>(
        &self,
        call: &str,
        request: impl FnOnce(&Client, &str) -> RequestBuilder,
    ) -> Result<T, Failure> {
        Ok(self.answer(call, request)?.json()?)
    }

    fn answer(
        &self,
        call: &str,
        request: impl FnOnce(&Client, &str) -> RequestBuilder,
    ) -> Result<Response, Failure> {
        let Found { token, console, certificate } = self.find()?;
        let address = format!("{}/api/v1/{call}", console.trim_end_matches('/'));
        let builder = Client::builder().timeout(PATIENCE).no_proxy();
        let builder = match certificate {
            Some(certificate) => builder.tls_backend_preconfigured(pinned::only(&certificate)?),
            // The client wants to know how it would be secured, also where it is not: a machine need not know any authority for that.
            None if console.starts_with("http://") => builder.tls_backend_preconfigured(pinned::nobody()?),
            None => {
                // Installed twice, it is the same.
                let _ = rustls::crypto::ring::default_provider().install_default();
                builder
            }
        };
        let client = builder.build().map_err(|error| {
            Failure(format!(
                "no certificate authorities are known on this machine ({}): install them, or name the console's own with --certificate",
                deepest(&error)
            ))
        })?;
        let answer = request(&client, &address).bearer_auth(token.trim()).send().map_err(|error| {
            Failure(format!("the service could not be asked at {console}: {}", why(&error)))
        })?;
        let status = answer.status();
        if status.is_success() {
            return Ok(answer);
        }
        let words = match answer.json::<Problem>() {
            Ok(problem) => format!("{}: {}", problem.title, problem.detail),
            Err(_) => format!("{address} answered {status}, which is not what Exedra says"),
        };
        Err(Failure(words))
    }

    /// The token, and where the console is. Whoever says both needs no configuration.
    fn find(&self) -> Result<Found, Failure> {
        let said =
            match &self.reach.token_file {
                Some(file) => Some(std::fs::read_to_string(file).map_err(|error| {
                    Failure(format!("the token {} cannot be read: {error}", file.display()))
                })?),
                None => std::env::var(TOKEN_VARIABLE).ok().filter(|token| !token.is_empty()),
            };
        let certificate = self.reach.certificate.clone();
        if let (Some(token), Some(console)) = (&said, &self.reach.console) {
            let console = with_scheme(console, certificate.is_some());
            return Ok(Found { token: token.clone(), console, certificate });
        }
        let Whereabouts { state, console: configured, https } = whereabouts(&self.config)?;
        let token = match said {
            Some(token) => token,
            None => {
                let file = state.join(TOKEN_FILE);
                std::fs::read_to_string(&file).map_err(|error| {
                    let file = file.display();
                    let what = match error.kind() {
                        std::io::ErrorKind::NotFound => format!("the service has left no token in {file}"),
                        _ => format!("the service's token {file} cannot be read: {error}"),
                    };
                    let elsewhere = format!("Elsewhere, --token-file or {TOKEN_VARIABLE} says one");
                    Failure(format!("{what}: has it been started here? {elsewhere}"))
                })?
            }
        };
        let console = self.reach.console.as_ref().map_or_else(
            || with_scheme(&configured, https),
            |console| with_scheme(console, https || certificate.is_some()),
        );
        // By an address, the console shows the certificate that it has made for itself.
        let is_ours = self.reach.console.is_none() && https;
        let certificate = certificate.or_else(|| is_ours.then(|| of_addresses(&state)));
        Ok(Found { token, console, certificate })
    }
}

/// Something that happened.
#[derive(Debug, Default)]
pub struct Event {
    /// What kind of thing.
    pub name: String,
    /// By what whoever listens says how far they were told.
    pub id: Option<String>,
    /// What it was, as JSON.
    pub data: String,
}

/// Where the console is, and what it is asked with.
struct Found {
    token: String,
    console: String,
    /// The only certificate that it may have; any that is signed by an authority where none is given.
    certificate: Option<PathBuf>,
}

fn with_scheme(console: &str, https: bool) -> String {
    match console.contains("://") {
        true => console.to_owned(),
        false => format!("{}://{console}", if https { "https" } else { "http" }),
    }
}

/// What lies at the bottom of an error.
fn deepest(error: &dyn std::error::Error) -> String {
    let mut deepest = error;
    while let Some(below) = deepest.source() {
        deepest = below;
    }
    deepest.to_string()
}

/// Why nothing could be asked, by what lies at the bottom of it.
fn why(error: &reqwest::Error) -> String {
    let words = deepest(error);
    match error.is_connect() {
        true if words.contains("certificate") => {
            format!("{words}; --certificate names the console's own, where it is self-signed")
        }
        true => format!("nothing answers there ({words}); is it running?"),
        false if error.is_timeout() => "it did not answer in time".to_owned(),
        false => words,
    }
}

/// A name as it stands in the path of a call.
pub fn in_path(name: &str) -> String {
    utf8_percent_encode(name, NON_ALPHANUMERIC).to_string()
}

/// Parameters of a call, as they stand in its address.
pub fn encoded(query: &[(&str, String)]) -> String {
    form_urlencoded::Serializer::new(String::new()).extend_pairs(query).finish()
}

/// What a configuration says of the service.
pub struct Whereabouts {
    /// The folder of its databases and tokens.
    pub state: PathBuf,
    /// The console's address.
    pub console: String,
    /// Whether the console answers by HTTPS.
    pub https: bool,
}

/// Where a service is. That can be told from a configuration with mistakes as well: it is just then that the service is asked about
/// it.
pub fn whereabouts(file: &Path) -> Result<Whereabouts, Failure> {
    match configuration::read(file) {
        Ok(Config { service, .. }) => Ok(Whereabouts {
            state: service.state.value,
            console: service.console.value.to_string(),
            https: service.console_https,
        }),
        Err(failure) => {
            let text = std::fs::read_to_string(file).map_err(|_| failure)?;
            let base = file.parent().unwrap_or(Path::new(""));
            let (state, console, https) = exedra_answering::config::understand::whereabouts(&text, base);
            Ok(Whereabouts { state, console: console.to_string(), https })
        }
    }
}
