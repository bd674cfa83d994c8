//! What is wrong with a configuration that can be understood: found by trying, before visitors do.
//!
//! - [`probe`]: requests made from rules' own patterns and conditions; [`sample`]: paths that a pattern fits
//! - [`follow`]: where redirects lead: in circles, on and on, or to nothing; [`moved`]: very many from files
//! - [`trying`]: one rule tried; [`journey`]: one visitor followed
//! - [`rules`]: rules that can never fire, and those that do something else than they seem to
//! - [`guards`]: guards that guard nothing
//! - [`pages`]: error pages that could not be shown
//! - [`patterns`]: types and agents that fit nothing
//!
//! All of it runs the pure core, on questions that somebody else answers. Whether files and certificates are there is
//! for the service to see.
//!
//! ```
//! use exedra_answering::config::understand;
//! let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n";
//! let config = understand(text, std::path::Path::new("")).unwrap();
//! use exedra_answering::answer::Tree;
//! use exedra_answering::check::check;
//! let wrong = format!("{text}[[site.rules]]\npath = \"/staff/{{*}}\"\nrefuse = 403\n");
//! let config = understand(&wrong, std::path::Path::new("")).unwrap();
//! let found = check(&config, &Tree::default().file("index.html", 100), &[], None);
//! assert!(found.iter().any(|one| one.message.contains("protects nothing")));
//! ```

pub mod follow;
pub mod guards;
pub mod journey;
pub mod moved;
pub mod pages;
pub mod patterns;
pub mod probe;
pub mod rules;
pub mod sample;
pub mod trying;

use crate::answer::{Folder, SitePath};
use crate::config::{Config, Diagnostic, FolderSettings, SiteId};
use std::convert::Infallible;
use std::sync::Arc;

/// Whoever knows the folders of the sites, and need not be waited for.
pub type Disk<'d> = dyn Folder<Missing = Infallible> + 'd;

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
    disk: &Disk<'_>,
    folders: &[Spoken],
    before: Option<&Config>,
) -> Vec<Diagnostic> {
    let mut found = rules::check(config, before);
    found.extend(follow::check(config, disk, folders));
    found.extend(guards::check(config, disk, folders));
    found.extend(pages::check(config, disk, folders));
    found.extend(patterns::check(config));
    found.sort_by_key(|diagnostic| diagnostic.span.start);
    found
}
