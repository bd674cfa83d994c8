//! What a folder says of itself in its `.exedra.toml`: for what lies in it and in the folders below.
//!
//! It can ask for less than the site allows, or for something else; it can not reach out of its folder. All its paths begin
//! at that folder.
//!
//! ```
//! use exedra_answering::config::understand;
//! let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n";
//! let config = understand(text, std::path::Path::new("")).unwrap();
//! use exedra_answering::config::{FolderSettings, SiteId};
//! let said = FolderSettings::understand("listing = true\ncache = \"1 hour\"\n", &config, SiteId(0)).unwrap();
//! assert_eq!(said.effects.changes.listing, Some(true));
//! let wrong = FolderSettings::understand("lsting = true\n", &config, SiteId(0)).unwrap_err();
//! assert_eq!(wrong[0].remedy.as_deref(), Some("did you mean `listing`?"));
//! ```

use super::diagnostic::Diagnostic;
use super::{Config, ErrorPages, SiteId};
use crate::rules::{Effects, RuleSet};
use std::collections::BTreeMap;
use std::ops::Range;

/// The name of the file.
pub const FILE_NAME: &str = ".exedra.toml";
/// The largest such file that is read, in bytes.
pub const MOST_OCTETS: u64 = 256 << 10;

/// Settings of one folder.
#[derive(Debug, Clone, Default)]
pub struct FolderSettings {
    /// Files that stand for their folder.
    pub index: Option<Vec<String>>,
    /// Pages of its own for errors.
    pub error_pages: ErrorPages,
    /// What happens to every request for something in it, as if by a rule without a path.
    pub effects: Effects,
    /// Where settings are written, by their keys.
    pub places: BTreeMap<&'static str, Range<usize>>,
    /// Its rules.
    pub rules: RuleSet,
}

impl FolderSettings {
    /// Understands the settings of a folder of a site, by the realms of the configuration.
    pub fn understand(text: &str, config: &Config, site: SiteId) -> Result<Self, Vec<Diagnostic>> {
        super::understand::folder_settings(text, config, site)
    }
}
