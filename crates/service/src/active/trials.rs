//! Addresses of the sites that are opened once, so that somebody sees what their own browser's request is and what it would be
//! answered: `/.trial/TOKEN/tides/` is tried as `/tides/`.
//!
//! A request is explained by whoever knows how ([`Explain`]); here only the addresses are kept, and what came by them.

use exedra_api::explaining::Explanation;
use http::HeaderMap;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use super::Active;
use exedra_answering::facts::Scheme;

/// Where such addresses begin.
pub const TRIALS: &str = "/.trial/";
/// How long one waits to be opened, and what came is kept.
pub const PATIENCE: Duration = Duration::from_secs(600);
/// How many there are at a time; the oldest gives way.
const MOST: usize = 64;

/// A request as it came in.
#[derive(Debug, Clone)]
pub struct RealRequest {
    /// Method.
    pub method: String,
    /// Scheme.
    pub scheme: Scheme,
    /// Host and port.
    pub authority: String,
    /// Path, without what stands before the one that is tried.
    pub path: String,
    /// Query, where there is one.
    pub query: Option<String>,
    /// Address of the client.
    pub client: IpAddr,
    /// Header fields.
    pub headers: HeaderMap,
    /// Protocol.
    pub protocol: &'static str,
    /// Version of TLS.
    pub tls: Option<&'static str>,
    /// The name that was asked for by TLS.
    pub tls_name: Option<String>,
    /// The first name of the certificate that was shown.
    pub certificate: Option<String>,
    /// Address and port of ours that was asked.
    pub server: Option<SocketAddr>,
}

/// Whoever knows how a request would be answered.
pub trait Explain: Send + Sync {
    /// What it would be answered, and a page that tells so.
    fn explain(&self, active: &Active, request: &RealRequest) -> (Explanation, String);
}

/// One address.
struct Trial {
    until: Instant,
    explanation: Option<Explanation>,
}

/// All of them.
#[derive(Default)]
pub struct Trials {
    known: Mutex<HashMap<String, Trial>>,
    /// How many wait: asked for each request.
    waiting: AtomicUsize,
    explainer: OnceLock<Box<dyn Explain>>,
}

impl Trials {
    /// Who explains from now on; the first one stays.
    pub fn explained_by(&self, explainer: Box<dyn Explain>) {
        let _ = self.explainer.set(explainer);
    }

    /// Waits for a request under a token.
    pub fn wait_for(&self, token: &str) {
        let mut known = self.known.lock();
        let now = Instant::now();
        known.retain(|_, trial| trial.until > now);
        if known.len() >= MOST {
            let oldest = known.iter().min_by_key(|(_, trial)| trial.until).map(|(token, _)| token.clone());
            oldest.map(|token| known.remove(&token));
        }
        known.insert(token.to_owned(), Trial { until: now + PATIENCE, explanation: None });
        self.count(&known);
    }

    /// What came under a token; nothing where none such waits or is kept any more.
    pub fn found(&self, token: &str) -> Option<Option<Explanation>> {
        let known = self.known.lock();
        known.get(token).filter(|trial| trial.until > Instant::now()).map(|trial| trial.explanation.clone())
    }

    /// Whether a path is that of an address that waits: its token, and the path that is tried.
    pub fn token_of<'p>(&self, path: &'p str) -> Option<(&'p str, &'p str)> {
        if self.waiting.load(Ordering::Relaxed) == 0 {
            return None;
        }
        let rest = path.strip_prefix(TRIALS)?;
        let end = rest.find('/').unwrap_or(rest.len());
        let (token, tried) = rest.split_at(end);
        let known = self.known.lock();
        let waits =
            known.get(token).is_some_and(|trial| trial.explanation.is_none() && trial.until > Instant::now());
        waits.then_some((token, if tried.is_empty() { "/" } else { tried }))
    }

    /// A request has come under a token: it is explained, and kept for whoever asks. Gives the page that tells so; nothing where
    /// somebody else has been before.
    pub fn take(&self, token: &str, active: &Active, request: &RealRequest) -> Option<String> {
        let (explanation, page) = self.explainer.get()?.explain(active, request);
        let mut known = self.known.lock();
        let trial = known.get_mut(token).filter(|trial| trial.explanation.is_none())?;
        trial.explanation = Some(explanation);
        trial.until = Instant::now() + PATIENCE;
        self.count(&known);
        Some(page)
    }

    fn count(&self, known: &HashMap<String, Trial>) {
        let waiting = known.values().filter(|trial| trial.explanation.is_none()).count();
        self.waiting.store(waiting, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_wait_until_they_are_opened_and_the_oldest_gives_way() {
        let trials = Trials::default();
        assert_eq!(trials.token_of("/.trial/a/tides/"), None, "nobody waits");
        trials.wait_for("a");
        assert_eq!(trials.token_of("/.trial/a/tides/?"), Some(("a", "/tides/?")));
        assert_eq!(trials.token_of("/.trial/a"), Some(("a", "/")));
        assert_eq!(trials.token_of("/.trial/b/tides/"), None);
        assert_eq!(trials.token_of("/trial/a/"), None);
        assert!(matches!(trials.found("a"), Some(None)), "nothing has come yet");
        assert!(trials.found("b").is_none());
        for nth in 0..MOST {
            trials.wait_for(&nth.to_string());
        }
        assert_eq!(trials.known.lock().len(), MOST);
        assert_eq!(trials.token_of("/.trial/a/"), None, "there are so many at a time");
        assert!(trials.token_of("/.trial/0/").is_some());
    }
}
