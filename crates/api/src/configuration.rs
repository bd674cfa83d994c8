//! The files of the configuration, read and changed by the console.

use crate::sites::ConfigDiagnostic;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The configuration as its files are now.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConfigurationFiles {
    /// The number of the revision that is in force.
    pub revision: i32,
    /// Its files, the configuration itself first.
    pub files: Vec<ConfigurationFile>,
}

/// A file of the configuration.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConfigurationFile {
    /// Its name.
    pub name: String,
    /// What is written in it; absent where it is too large to be changed here.
    pub text: Option<String>,
    /// What was written in it when the configuration came into force; absent where it was none of its files.
    pub in_force: Option<String>,
    /// Changes whenever the file does: sent back with a change, so that nobody's change is lost.
    pub version: String,
}

/// Files as they might be.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct DraftFiles {
    /// Those that are to differ.
    pub files: Vec<DraftFile>,
    /// Why, for whoever comes after; of those that are published.
    #[serde(default)]
    pub reason: Option<String>,
}

/// A file as it might be.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DraftFile {
    /// Its name.
    pub name: String,
    /// What is to be written in it.
    pub text: String,
    /// The version that this was made from. A file that has changed since is not written over; needed to publish.
    #[serde(default)]
    pub version: Option<String>,
}

/// What a configuration would be, were its files as they might be.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Checked {
    /// Whether it could come into force.
    pub is_sound: bool,
    /// What is wrong with it, or worth knowing.
    pub found: Vec<ConfigDiagnostic>,
}

/// A rule that is to be written.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NewRule {
    /// The site.
    pub site: String,
    /// What the rule is to be called; may be empty.
    #[serde(default)]
    pub name: String,
    /// The paths it is about, as in `/mariners/{rest*}`.
    pub path: String,
    /// What it does.
    pub does: RuleEffect,
    /// Whether it goes before all other rules of the site, and not after them.
    #[serde(default)]
    pub is_first: bool,
    /// The files as they might be, where they differ from those on the disk.
    #[serde(default)]
    pub files: Vec<DraftFile>,
}

/// What a rule does: what people change most.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum RuleEffect {
    /// Sends to another address.
    Redirect {
        /// Where to.
        to: String,
        /// 301, 302, 307 or 308.
        status: u16,
    },
    /// Adds a header field to answers.
    Header {
        /// Its name.
        name: String,
        /// Its value.
        value: String,
    },
    /// Answers 403.
    Refuse,
    /// Answers 410.
    Gone,
    /// Asks for a name and a password.
    Login {
        /// The realm.
        realm: String,
    },
}

/// A file with a rule written into it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WrittenRule {
    /// The file's name.
    pub name: String,
    /// Its whole text.
    pub text: String,
    /// The line where the rule begins, counted from 1.
    pub line: usize,
}

/// The files of a revision.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RevisionFiles {
    /// Its number.
    pub number: i32,
    /// They.
    pub files: Vec<DraftFile>,
}

/// A setting there is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct KnownSetting {
    /// The section it stands in: empty at the top.
    pub section: String,
    /// Its key.
    pub key: String,
    /// How it is written, as an example.
    pub example: String,
    /// What it does.
    pub about: String,
    /// Whether it must be there.
    pub required: bool,
}
