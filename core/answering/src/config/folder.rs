//! What a folder says of itself in its `.exedra.toml`: for what lies in it and in the folders below.
//!
//! It can ask for less than the site allows, or for something else; it can not reach out of its folder. All its paths begin
//! at that folder.

use super::diagnostic::Diagnostic;
use super::{Config, ErrorPages, SiteId};
use crate::rules::effects::CompressChange;
use crate::rules::{Lifetime, RuleSet, Template};
use http::{HeaderName, StatusCode};
use std::ops::Range;

/// The name of the file.
pub const FILE_NAME: &str = ".exedra.toml";
/// The largest such file that is read, in bytes.
pub const MOST_OCTETS: u64 = 256 << 10;

/// Settings of one folder.
#[derive(Debug, Clone, Default)]
pub struct FolderSettings {
    /// Whether folders without an index file are listed.
    pub listing: Option<Placed<bool>>,
    /// Files that stand for their folder.
    pub index: Option<Placed<Vec<String>>>,
    /// Pages of its own for errors.
    pub error_pages: ErrorPages,
    /// How answers are compressed.
    pub compress: Option<Placed<CompressChange>>,
    /// How long answers may be kept.
    pub cache: Option<Placed<Lifetime>>,
    /// Header fields of answers; `None` takes one away.
    pub headers: Vec<(HeaderName, Option<Template>)>,
    /// Where those are written.
    pub headers_place: Option<Range<usize>>,
    /// Whom it lets in: the number of a realm.
    pub login: Option<Placed<usize>>,
    /// Nobody at all.
    pub refuse: Option<Placed<StatusCode>>,
    /// Its rules.
    pub rules: RuleSet,
}

/// A value and where it is written.
pub type Placed<T> = (T, Range<usize>);

impl FolderSettings {
    /// Understands the settings of a folder of a site, by the realms of the configuration.
    pub fn understand(text: &str, config: &Config, site: SiteId) -> Result<Self, Vec<Diagnostic>> {
        super::understand::folder_settings(text, config, site)
    }
}
