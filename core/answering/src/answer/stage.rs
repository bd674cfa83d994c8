//! How far a decision has come when it waits for a reply.

use super::negotiate::Codings;
use super::{Credentials, FileMetadata, SitePath};
use http::StatusCode;
use std::sync::Arc;

/// What comes next: everything of the site up to a rule has been seen to, or of its folders up to one of theirs.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Next {
    /// Whether the site's own rules are done with.
    pub in_folders: bool,
    /// Which of the folders that have settings.
    pub level: usize,
    /// Whether its guards have been passed.
    pub inside: bool,
    /// Which rule.
    pub rule: usize,
}

/// What was asked about, and why.
#[derive(Debug)]
pub(super) enum Stage {
    /// What the folders on the way say of themselves, and what comes after that.
    Settings(Next),
    /// Whether a password is right, and what comes after that.
    Login(Next, Credentials),
    /// The place that the path means.
    Path,
    /// A file that may stand for its folder: which of the list.
    Index(SitePath, usize),
    /// What is in a folder.
    Listing(SitePath),
    /// The encodings of a file that is to be sent, in one of these codings, perhaps for a status.
    Encodings(Arc<FileMetadata>, Codings, Option<StatusCode>),
    /// The site's own page for a status.
    ErrorPage(StatusCode),
}
