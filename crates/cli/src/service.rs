//! Asking the running service, by its API and with the token that it keeps for clients on this machine.

use crate::configuration;
use crate::failure::Failure;
use crate::sources::SourceOptions;
use crate::sources::options::USUAL;
use clap::Args;
use exedra_answering::config::Config;
use exedra_api::Problem;
use exedra_service::run::TOKEN_FILE;
use reqwest::blocking::{Client, RequestBuilder, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How long the service may take: a little longer than it gives itself.
const PATIENCE: Duration = Duration::from_secs(65);
/// The same where it goes through everything there is.
const LONG_PATIENCE: Duration = Duration::from_secs(3660);

/// Which service is asked.
#[derive(Args)]
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
        let (token, console) = self.token_and_console()?;
        let address =
            format!("http://{}/api/v1/{call}", console.trim_start_matches("http://").trim_end_matches('/'));
        // The client wants to know how it would be secured, although the console is asked without.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let client = Client::builder().timeout(PATIENCE).no_proxy().build()?;
        let answer = request(&client, &address).bearer_auth(token.trim()).send().map_err(|error| {
            let reason =
                if error.is_connect() { "nothing answers there".to_owned() } else { error.to_string() };
            Failure(format!("the service could not be asked at {console}: {reason}; is it running?"))
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

    /// The token, and the console's address. Whoever says both needs no configuration.
    fn token_and_console(&self) -> Result<(String, String), Failure> {
        let said =
            match &self.reach.token_file {
                Some(file) => Some(std::fs::read_to_string(file).map_err(|error| {
                    Failure(format!("the token {} cannot be read: {error}", file.display()))
                })?),
                None => std::env::var(TOKEN_VARIABLE).ok().filter(|token| !token.is_empty()),
            };
        if let (Some(token), Some(console)) = (&said, &self.reach.console) {
            return Ok((token.clone(), console.clone()));
        }
        let (state, configured) = whereabouts(&self.config)?;
        let token = match said {
            Some(token) => token,
            None => {
                let file = state.join(TOKEN_FILE);
                std::fs::read_to_string(&file).map_err(|error| {
                    let file = file.display();
                    Failure(format!(
                        "the service's token {file} cannot be read: {error}; has it been started? \
                         Elsewhere, --token-file or {TOKEN_VARIABLE} says one"
                    ))
                })?
            }
        };
        Ok((token, self.reach.console.clone().unwrap_or(configured)))
    }
}

/// Parameters of a call, as they stand in its address.
pub fn encoded(query: &[(&str, String)]) -> String {
    form_urlencoded::Serializer::new(String::new()).extend_pairs(query).finish()
}

/// The state folder, and the console's address. They can be told from a configuration with mistakes as well: it is
/// just then that the service is asked about it.
pub fn whereabouts(file: &Path) -> Result<(PathBuf, String), Failure> {
    let of = |config: &Config| (config.service.state.value.clone(), config.service.console.value.to_string());
    match configuration::read(file) {
        Ok(config) => Ok(of(&config)),
        Err(failure) => {
            let text = std::fs::read_to_string(file).map_err(|_| failure)?;
            let base = file.parent().unwrap_or(Path::new(""));
            let (state, console) = exedra_answering::config::understand::whereabouts(&text, base);
            Ok((state, console.to_string()))
        }
    }
}
