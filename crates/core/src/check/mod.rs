//! What is wrong with a configuration that can be understood: found by trying, before visitors do.
//!
//! - [`probe`]: requests made from rules' own patterns and conditions; [`sample`]: paths that a pattern fits
//! - [`follow`]: where redirects lead: in circles, on and on, or to nothing; [`moved`]: very many from files
//! - [`rules`]: rules that can never fire, and those that do something else than they seem to
//! - [`guards`]: guards that guard nothing
//! - [`pages`]: error pages that could not be shown
//! - [`patterns`]: types and agents that fit nothing
//!
//! All of it runs the pure core, on questions that somebody else answers. Whether files and certificates are there is
//! for the service to see.

pub mod follow;
pub mod guards;
pub mod moved;
pub mod pages;
pub mod patterns;
pub mod probe;
pub mod rules;
pub mod sample;

use crate::answer::{Question, Reply, SitePath};
use crate::config::{Config, Diagnostic, FolderSettings, SiteId};
use std::sync::Arc;

/// Whoever knows the disk.
pub type Looking<'l> = &'l dyn Fn(&Question) -> Reply;

/// A folder that says something of itself.
#[derive(Debug, Clone)]
pub struct Spoken {
    /// The site it belongs to.
    pub site: SiteId,
    /// Which one.
    pub folder: SitePath,
    /// What it says.
    pub settings: Arc<FolderSettings>,
}

/// Finds everything. `before` is what was in force last, by which rules are known as new; `folders` are those that say
/// something of themselves. What is found in a folder's own file is placed at the site's `folder`.
pub fn check(
    config: &Config,
    looking: Looking<'_>,
    folders: &[Spoken],
    before: Option<&Config>,
) -> Vec<Diagnostic> {
    let mut found = rules::check(config, before);
    found.extend(follow::check(config, looking, folders));
    found.extend(guards::check(config, looking, folders));
    found.extend(pages::check(config, looking, folders));
    found.extend(patterns::check(config));
    found.sort_by_key(|diagnostic| diagnostic.span.start);
    found
}
