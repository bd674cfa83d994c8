//! What is to be read, and a source as it was understood.

use super::bookmark::Begun;
use exedra_common::Origin;
use exedra_common::columns::Unit;
use exedra_reading::logs::Layout;
use serde::Serialize;
use utoipa::ToSchema;

/// A source, as it was understood.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Source {
    /// Its name as it was given.
    pub name: String,
    /// The layout that was found.
    pub layout: String,
    /// The site whose log it is, where that is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
    /// The machine that wrote it, where that is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub server: Option<String>,
    /// What was guessed about its lines, in words.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub remarks: Vec<String>,
    /// Requests of it that are within the scope.
    pub requests: u64,
    /// Their body bytes.
    pub bytes: u64,
}

impl Source {
    /// What people know it by: the site whose log it is, or else the file without its folders.
    pub fn short_name(&self) -> &str {
        let file = || self.name.rsplit('/').next().unwrap_or(&self.name);
        self.site.as_deref().unwrap_or_else(file)
    }

    /// What all its lines share.
    pub fn origin(&self) -> Origin {
        Origin { site: self.site.clone(), server: self.server.clone(), source: Some(self.name.clone()) }
    }
}

/// What is to be read, and how.
pub struct Asked {
    /// The files, each from an octet on (before compression).
    pub files: Vec<Begun>,
    /// Layouts of which one is to be found; with just one, no other is tried.
    pub layouts: Vec<Layout>,
    /// What durations count that do not say it, where somebody has said it.
    pub durations: Option<Unit>,
    /// Whether a last line without its end is left for later.
    pub leaves_open_line: bool,
    /// How many threads read.
    pub threads: usize,
}
