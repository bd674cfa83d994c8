//! What is configured: sites, their rules, what is wrong, what was in force.

use crate::explaining::Setting;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A site as it is configured.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Site {
    /// Its name.
    pub name: String,
    /// Host names it answers to.
    pub hosts: Vec<Host>,
    /// Its folder, where it has one.
    pub folder: Option<String>,
    /// Addresses at which it can be looked at from this machine, or from anywhere.
    pub addresses: Vec<String>,
    /// Whether it answers for unknown hosts.
    pub is_default: bool,
    /// Whether who asks without HTTPS is sent there.
    pub requires_https: bool,
    /// Its settings, and where each is written.
    pub settings: Vec<Setting>,
    /// Its rules, in order; of many redirects the first.
    pub rules: Vec<Rule>,
    /// How many rules there are in all.
    pub rule_count: usize,
}

/// A host name.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Host {
    /// The name.
    pub name: String,
    /// Whether it is the one that the site is known by.
    pub is_main: bool,
    /// Its certificate, where anything answers by HTTPS.
    pub certificate: Option<Certificate>,
}

/// A certificate.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Certificate {
    /// Whether it was made here, for development.
    pub is_made: bool,
    /// Who vouches for it.
    pub issuer: String,
    /// When it ends (RFC 3339).
    pub ends: String,
    /// In how many days that is.
    pub days: i64,
}

/// A rule.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Rule {
    /// What it is called.
    pub name: String,
    /// The paths it is about, where it names any.
    pub path: Option<String>,
    /// What it asks for besides.
    pub when: Vec<String>,
    /// What happens.
    pub effects: Vec<Effect>,
    /// The file it is written in.
    pub file: String,
    /// The line in it.
    pub line: usize,
    /// How often it has fitted since the configuration came into force.
    pub fired: u64,
}

/// Something that a rule does.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Effect {
    /// The word for it.
    pub name: String,
    /// What with.
    pub value: String,
}

/// All sites, and the configuration that they come from.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Sites {
    /// The configuration's file.
    pub file: String,
    /// The number of its revision.
    pub revision: i32,
    /// When it came into force (RFC 3339).
    pub since: String,
    /// The sites.
    pub sites: Vec<Site>,
}

/// What is wrong, or worth knowing, with its place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConfigDiagnostic {
    /// `error` or `remark`.
    pub severity: String,
    /// What is wrong.
    pub message: String,
    /// Why.
    pub reason: String,
    /// What to write instead.
    pub remedy: Option<String>,
    /// How many more there are like it, which are not listed.
    #[serde(default)]
    pub also: usize,
    /// The file.
    pub file: String,
    /// The line in it, counted from 1.
    pub line: usize,
    /// The column where it begins, counted from 1 in characters.
    pub column: usize,
    /// The line's text.
    pub text: String,
}

/// What came of bringing a configuration into force.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Changed {
    /// Whether it is in force.
    pub in_force: bool,
    /// The number of its revision.
    pub revision: Option<i32>,
    /// Whether it is another than before.
    pub is_new: bool,
    /// What will only change when the service starts anew.
    pub later: Vec<String>,
    /// What is wrong with it, or worth knowing.
    pub found: Vec<ConfigDiagnostic>,
    /// Why nothing has changed, where that is so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// The same, drawn for a terminal, and why nothing has changed where that is so.
    pub drawn: String,
}

/// A configuration that was in force.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Revision {
    /// Its number.
    pub number: i32,
    /// When it came into force (RFC 3339).
    pub made: String,
    /// Whether it is in force now.
    pub in_force: bool,
    /// Names of its files.
    pub files: Vec<String>,
    /// Lines that it has and the one before had not.
    pub added: usize,
    /// Lines that the one before had and it has not.
    pub removed: usize,
}
