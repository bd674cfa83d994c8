//! Certificates obtained from an authority (RFC 8555) and renewed in time, or brought by a command of one's own.
//!
//! Control over a host is shown over HTTP (RFC 8555 §8.3): the authority asks for a token under `/.well-known/`, and is
//! given what only whoever asked for the certificate can know. That is answered before any rule is asked.

use super::{files, obtained};
use crate::system::whole::{make_private_folder, write_private};
use exedra_answering::config::{Authority, CertificateOrigin, Config};
use instant_acme::{
    Account, AccountCredentials, AuthorizationStatus, ChallengeType, Identifier, NewAccount, NewOrder,
    OrderStatus, RetryPolicy,
};
use parking_lot::Mutex;
use rcgen::{CertificateParams, KeyPair};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use x509_parser::prelude::{FromDer, X509Certificate};

/// Below which path an authority asks for tokens (RFC 8555 §8.3).
pub const TOKENS: &str = "/.well-known/acme-challenge/";
/// How often somebody looks what is due.
const EVERY: Duration = Duration::from_secs(10);
/// How long an authority that failed is left alone.
const PAUSE: Duration = Duration::from_secs(3600);
/// How often a command is run.
const COMMANDED: Duration = Duration::from_secs(24 * 3600);
/// How long a command may take.
const PATIENCE: Duration = Duration::from_secs(600);

/// What authorities are told under which token, while they are expected to ask.
#[derive(Debug, Default)]
pub struct Tokens {
    known: Mutex<HashMap<String, String>>,
    count: AtomicUsize,
}

impl Tokens {
    /// What is told under a path, where it is that of a token.
    pub fn reply_to(&self, path: &str) -> Option<String> {
        if self.count.load(Ordering::Relaxed) == 0 {
            return None;
        }
        let token = path.strip_prefix(TOKENS)?;
        self.known.lock().get(token).cloned()
    }

    fn tell(&self, token: &str, what: Option<String>) {
        let mut known = self.known.lock();
        match what {
            Some(what) => _ = known.insert(token.to_owned(), what),
            None => _ = known.remove(token),
        }
        self.count.store(known.len(), Ordering::Relaxed);
    }
}

/// What has been tried, so that it is not tried too often.
#[derive(Default)]
pub struct Tried {
    last: HashMap<PathBuf, Instant>,
}

/// Obtains what is due, again and again, by whatever configuration is in force. Ends when `config` gives none.
pub async fn obtain_all(config: impl Fn() -> Option<Arc<Config>>, tokens: Arc<Tokens>) {
    let mut tried = Tried::default();
    while let Some(config) = config() {
        tried.look(&config, &tokens).await;
        drop(config);
        tokio::time::sleep(EVERY).await;
    }
}

impl Tried {
    async fn look(&mut self, config: &Config, tokens: &Tokens) {
        for certificate in &config.certificates {
            let hosts: Vec<String> = certificate.hosts.iter().map(|host| host.value.clone()).collect();
            let (chain, key, pause) = match &certificate.origin {
                CertificateOrigin::Files { .. } => continue,
                CertificateOrigin::Command { chain, key, .. } => {
                    (chain.value.clone(), key.value.clone(), COMMANDED)
                }
                CertificateOrigin::Authority => {
                    let first = hosts.first().map_or("", String::as_str);
                    let (chain, key) = obtained(&config.service.state.value, first);
                    (chain, key, PAUSE)
                }
            };
            if self.last.get(&chain).is_some_and(|last| last.elapsed() < pause) {
                continue;
            }
            let result = match (&certificate.origin, &config.authority) {
                (CertificateOrigin::Command { command, .. }, _) => run(command).await,
                (_, Some(authority)) if is_due(&chain, &hosts) => {
                    obtain(authority, &config.service.state.value, &hosts, (&chain, &key), tokens).await
                }
                _ => continue,
            };
            self.last.insert(chain.clone(), Instant::now());
            match result {
                Ok(()) => tracing::info!(hosts = hosts.join(" "), "a certificate was brought up to date"),
                Err(reason) => {
                    tracing::error!(hosts = hosts.join(" "), "no certificate was obtained: {reason}")
                }
            }
        }
    }
}

/// Whether a certificate is not there, not for these hosts, or in the last third of its time.
fn is_due(chain: &Path, hosts: &[String]) -> bool {
    let Ok(certificates) = files::chain_of(chain) else { return true };
    let Some((_, first)) = certificates.first().and_then(|first| X509Certificate::from_der(first).ok())
    else {
        return true;
    };
    let names = super::names(&first);
    let (from, until) = (first.validity().not_before.timestamp(), first.validity().not_after.timestamp());
    let left = until - jiff::Timestamp::now().as_second();
    hosts.iter().any(|host| !names.contains(host)) || left < (until - from) / 3
}

async fn run(command: &[String]) -> Result<(), String> {
    let Some((program, arguments)) = command.split_first() else {
        return Err("the command is empty".to_owned());
    };
    let mut child = tokio::process::Command::new(program);
    child.args(arguments).stdin(Stdio::null()).kill_on_drop(true);
    let output = tokio::time::timeout(PATIENCE, child.output()).await;
    let output = output.map_err(|_| format!("`{program}` took longer than {PATIENCE:?}"))?;
    let output = output.map_err(|error| format!("`{program}` cannot be run: {error}"))?;
    match output.status.success() {
        true => Ok(()),
        false => {
            let words = String::from_utf8_lossy(&output.stderr);
            Err(format!(
                "`{program}` ended with {}: {}",
                output.status,
                words.trim().lines().last().unwrap_or("no words")
            ))
        }
    }
}

async fn obtain(
    authority: &Authority,
    state: &Path,
    hosts: &[String],
    (chain, key): (&Path, &Path),
    tokens: &Tokens,
) -> Result<(), String> {
    let words = |error: instant_acme::Error| error.to_string();
    let account = account(authority, state).await?;
    let identifiers: Vec<Identifier> = hosts.iter().map(|host| Identifier::Dns(host.clone())).collect();
    let mut order = account.new_order(&NewOrder::new(&identifiers)).await.map_err(words)?;
    let mut given = Vec::new();
    let shown = async {
        let mut authorizations = order.authorizations();
        while let Some(authorization) = authorizations.next().await {
            let mut authorization = authorization.map_err(words)?;
            if authorization.status == AuthorizationStatus::Valid {
                continue;
            }
            let challenge = authorization.challenge(ChallengeType::Http01);
            let mut challenge = challenge.ok_or_else(|| "it does not ask over HTTP".to_owned())?;
            tokens.tell(&challenge.token, Some(challenge.key_authorization().as_str().to_owned()));
            given.push(challenge.token.clone());
            challenge.set_ready().await.map_err(words)?;
        }
        let status = order.poll_ready(&RetryPolicy::default()).await.map_err(words)?;
        if status != OrderStatus::Ready && status != OrderStatus::Valid {
            return Err(format!("the authority does not believe that the hosts are ours ({status:?})"));
        }
        let secret = KeyPair::generate().map_err(|error| error.to_string())?;
        let params = CertificateParams::new(hosts.to_vec()).map_err(|error| error.to_string())?;
        let request = params.serialize_request(&secret).map_err(|error| error.to_string())?;
        order.finalize_csr(request.der()).await.map_err(words)?;
        let certificates = order.poll_certificate(&RetryPolicy::default()).await.map_err(words)?;
        Ok((certificates, secret.serialize_pem()))
    }
    .await;
    given.iter().for_each(|token| tokens.tell(token, None));
    let (certificates, secret) = shown?;
    let kept = chain.parent().map_or(Ok(()), make_private_folder);
    let kept =
        kept.and_then(|()| write_private(key, &secret)).and_then(|()| write_private(chain, &certificates));
    kept.map_err(|error| format!("{} cannot be written: {error}", chain.display()))
}

/// The account with the authority: the one that is kept, or a new one.
async fn account(authority: &Authority, state: &Path) -> Result<Account, String> {
    let words = |error: instant_acme::Error| error.to_string();
    let builder = || match &authority.trusted {
        Some(trusted) => Account::builder_with_root(&trusted.value),
        None => Account::builder(),
    };
    let file = state.join("certificates").join("account.json");
    // One that belongs to another authority is of no use.
    let known = std::fs::read_to_string(&file).ok();
    let known = known.and_then(|text| serde_json::from_str::<(String, AccountCredentials)>(&text).ok());
    if let Some((directory, credentials)) = known
        && directory == authority.directory.value
    {
        return builder().map_err(words)?.from_credentials(credentials).await.map_err(words);
    }
    let contact = authority.contact.as_ref().map(|contact| match contact.contains(':') {
        true => contact.clone(),
        false => format!("mailto:{contact}"),
    });
    let contact: Vec<&str> = contact.iter().map(String::as_str).collect();
    let fresh = NewAccount { contact: &contact, terms_of_service_agreed: true, only_return_existing: false };
    let directory = authority.directory.value.clone();
    let (account, credentials) =
        builder().map_err(words)?.create(&fresh, directory.clone(), None).await.map_err(words)?;
    let text = serde_json::to_string(&(directory, credentials)).map_err(|error| error.to_string())?;
    let kept = file.parent().map_or(Ok(()), make_private_folder).and_then(|()| write_private(&file, &text));
    kept.map_err(|error| format!("{} cannot be written: {error}", file.display()))?;
    Ok(account)
}
