//! Logs of elsewhere whose requests are brought into the records.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A log that was brought in, or is being.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Import {
    /// What it is known by here.
    pub id: String,
    /// The site that its requests went to.
    pub site: String,
    /// As it was named by whoever brought it.
    pub name: String,
    /// By what whoever brings it knows it again; nobody else understands it.
    pub known: String,
    /// When it was begun (RFC 3339).
    pub made: String,
    /// Who began it.
    pub made_by: String,
    /// Octets of it, before compression, that are in the records.
    pub octets: u64,
    /// Requests of it that are.
    pub requests: u64,
    /// Lines of it that could not be read.
    pub unread: u64,
    /// Whether some of it was damaged since: bringing the log again brings it again.
    pub incomplete: bool,
}

/// A log that is to be brought in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewImport {
    /// The site that its requests went to.
    pub site: String,
    /// What it is called.
    pub name: String,
    /// By what it is known again.
    pub known: String,
}

/// A client that is to be erased.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Erase {
    /// Its address, or a network as in `192.0.2.0/24`.
    pub client: String,
}

/// What was erased of a client.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Erasure {
    /// Requests that were taken out of the records.
    pub requests: u64,
    /// Lines of access logs that were overwritten.
    pub log_lines: u64,
    /// Lines of the log of errors that were overwritten.
    pub error_lines: u64,
    /// Files of logs that had any.
    pub files: u64,
    /// What may hold more of it, and was not erased: in words.
    pub remains: Vec<String>,
}
