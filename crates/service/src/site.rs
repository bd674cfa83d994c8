//! What answering needs, and what is written down of what never became a request.

use crate::Counter;
use crate::access_log::{AccessLog, client_text};
use crate::disk::Disk;
use crate::encodings::Encodings;
use crate::error_log::ErrorLog;
use exedra_core::config::Config;
use exedra_core::facts::Scheme;
use exedra_core::logs::LoggedRequest;
use std::borrow::Cow;
use std::net::IpAddr;
use std::sync::Arc;

/// What answering needs: the configuration in force, and what it opened. Each worker has its own, so that
/// counting who holds it stays on one processor.
#[derive(Clone)]
pub struct Site {
    /// The configuration.
    pub config: Arc<Config>,
    /// The folders.
    pub disk: Arc<Disk>,
    /// What is kept of their encodings.
    pub encodings: Arc<Encodings>,
    /// The log of each site.
    pub logs: Vec<AccessLog>,
    /// The log of what no site answers.
    pub no_site: AccessLog,
    /// The log of errors.
    pub errors: ErrorLog,
    /// What is counted.
    pub counter: Arc<Counter>,
}

impl Site {
    /// Writes down what came in but never became a request: malformed, too large, too slow, or cut off.
    pub fn record_unfinished(&self, client: IpAddr, status: u16, head: &[u8]) {
        let line = head.split(|octet| *octet == b'\n').next().unwrap_or_default();
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        let text = String::from_utf8_lossy(line);
        let mut words = text.splitn(3, ' ');
        let (method, target, protocol) = (words.next(), words.next(), words.next());
        let client = client_text(client.to_canonical(), self.no_site.masks_clients);
        let request = LoggedRequest {
            time: jiff::Timestamp::now().as_millisecond(),
            status,
            bytes: 0,
            full_bytes: 0,
            duration: 0,
            client: client.as_str(),
            user: "",
            method: method.unwrap_or_default(),
            target: Cow::Owned(target.unwrap_or_default().as_bytes().to_vec()),
            protocol: protocol.unwrap_or_default(),
            referrer: b"",
            agent: b"",
            scheme: Scheme::Http.as_str(),
            host: "",
            encoding: "",
            rule: "",
        };
        self.no_site.record(&request);
        self.counter.count(0);
    }
}
