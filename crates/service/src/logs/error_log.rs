//! What went wrong, one JSON object a line: who asked for what, which file was looked for, which page linked
//! there, and the cause in words.

use crate::logs::journal::Appender;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::sync::Arc;

/// Name of the log's files.
pub const ERRORS: &str = "service_errors";

/// One line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ErrorLine<'a> {
    /// When the request came in (RFC 3339).
    pub time: Cow<'a, str>,
    /// The site, where one was found.
    #[serde(borrow, skip_serializing_if = "Option::is_none")]
    pub site: Option<Cow<'a, str>>,
    /// Address of the client, cut to its network where the site says so.
    pub client: Cow<'a, str>,
    /// Method.
    pub method: Cow<'a, str>,
    /// Host asked for.
    pub host: Cow<'a, str>,
    /// Path and query asked for.
    pub target: Cow<'a, str>,
    /// Status of the answer.
    pub status: u16,
    /// The file that was looked for, where it came to that.
    #[serde(borrow, skip_serializing_if = "Option::is_none")]
    pub file: Option<Cow<'a, str>>,
    /// The page that linked there.
    #[serde(borrow, skip_serializing_if = "Option::is_none")]
    pub referrer: Option<Cow<'a, str>>,
    /// The cause in words.
    pub cause: Cow<'a, str>,
}

/// The log of errors of the service.
#[derive(Clone)]
pub struct ErrorLog {
    /// Where its lines go.
    pub appender: Arc<Appender>,
}

impl ErrorLog {
    /// Writes one error down.
    pub fn record(&self, line: &ErrorLine<'_>) {
        self.appender.put(|out| {
            let before = out.len();
            match serde_json::to_writer(&mut *out, line) {
                Ok(()) => out.push(b'\n'),
                // Texts and numbers always become JSON; should they not, no half line stays.
                Err(_) => out.truncate(before),
            }
        });
    }
}
