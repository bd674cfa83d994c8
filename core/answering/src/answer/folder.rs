//! The folder of a site, as a decision asks about it: the one face that whoever knows a folder has.
//!
//! Each question has a reply of its own type, which is there or *missing*. The service's caches may miss something: it is
//! fetched, and the request decided anew. A disk that may be waited for misses nothing, nor does a [`Tree`] in memory, by
//! which tests and rehearsals decide.
//!
//! ```
//! use exedra_answering::answer::{Tree, answer};
//! use exedra_answering::config::understand;
//! use exedra_answering::facts::{Facts, Known};
//! let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n";
//! let config = understand(text, std::path::Path::new("")).unwrap();
//! let (host, method) = (Known::Is("a.example"), Known::Is("GET"));
//! let facts = Facts { host, method, path: Known::Is("/tides.html"), ..Facts::UNKNOWN };
//! let folder = Tree::default().file("tides.html", 5000);
//! let Ok((answer, ())) = answer(&config, facts).by(&folder);
//! assert_eq!(answer.status, 200);
//! ```

use super::listing::{Kind, Listed};
use super::represent::FileMetadata;
use super::{Credentials, Encodings, Entry, FileFacts, FolderChain, Password, Question, SitePath};
use std::collections::BTreeMap;
use std::convert::Infallible;
use std::sync::Arc;

/// Whoever knows the folder of a site.
pub trait Folder {
    /// What has to be fetched before there is a reply; `Infallible` for whoever always has one.
    type Missing;

    /// What stands at a place.
    fn entry(&self, question: &Question) -> Result<Found, Self::Missing>;

    /// What is in the folder at a place, as far as visitors may see it; what stands there where that is no folder.
    fn names(&self, _: &Question) -> Result<Result<Arc<[Listed]>, Entry>, Self::Missing> {
        Ok(Err(Entry::Missing))
    }

    /// What is known of the encodings of the file at a place.
    fn encodings(&self, _: &Question) -> Result<Encodings, Self::Missing> {
        Ok(Encodings::default())
    }

    /// What the folders on the way to a place say of themselves, and the one there; nothing where none of them does.
    fn settings(&self, _: &Question) -> Result<Option<Arc<FolderChain>>, Self::Missing> {
        Ok(None)
    }

    /// Whether a name and a password are right.
    fn login(&self, _: &Credentials) -> Result<Password, Self::Missing> {
        Ok(Password::Wrong)
    }
}

/// What stands at a place.
#[derive(Debug, Clone)]
pub enum Found {
    /// A file whose metadata has been made before.
    File(Arc<FileMetadata>),
    /// This.
    Entry(Entry),
}

impl Found {
    /// What stands there.
    pub fn entry(&self) -> Entry {
        match self {
            Found::File(metadata) => Entry::File(metadata.facts),
            Found::Entry(entry) => *entry,
        }
    }
}

/// The same folder, with every password right: where would somebody come who may sign in?
#[derive(Debug)]
pub struct LettingIn<'f, F: ?Sized>(pub &'f F);

impl<F: Folder + ?Sized> Folder for LettingIn<'_, F> {
    type Missing = F::Missing;

    fn entry(&self, question: &Question) -> Result<Found, Self::Missing> {
        self.0.entry(question)
    }

    fn names(&self, question: &Question) -> Result<Result<Arc<[Listed]>, Entry>, Self::Missing> {
        self.0.names(question)
    }

    fn encodings(&self, question: &Question) -> Result<Encodings, Self::Missing> {
        self.0.encodings(question)
    }

    fn settings(&self, question: &Question) -> Result<Option<Arc<FolderChain>>, Self::Missing> {
        self.0.settings(question)
    }

    fn login(&self, _: &Credentials) -> Result<Password, Self::Missing> {
        Ok(Password::Right)
    }
}

/// A folder in memory, the same for every site.
#[derive(Debug, Clone, Default)]
pub struct Tree {
    entries: BTreeMap<String, Entry>,
    chain: Option<Arc<FolderChain>>,
    users: Vec<(String, String)>,
}

impl Tree {
    /// With a file of so many bytes, and the folders it is in.
    pub fn file(self, path: &str, size: u64) -> Self {
        let facts = FileFacts { size, modified: 1_000_000_000_000_000_000, stamp: 0 };
        let folders = path.match_indices('/').map(|(at, _)| path[..at].to_owned()).collect::<Vec<_>>();
        folders
            .into_iter()
            .fold(self, |tree, folder| tree.entry_at(&folder, Entry::Folder))
            .entry_at(path, Entry::File(facts))
    }

    /// With something at a place.
    pub fn entry_at(mut self, path: &str, entry: Entry) -> Self {
        self.entries.insert(path.to_owned(), entry);
        self
    }

    /// With what its folders say of themselves.
    pub fn saying(mut self, chain: Option<Arc<FolderChain>>) -> Self {
        self.chain = chain;
        self
    }

    /// With somebody who may sign in.
    pub fn user(mut self, name: &str, password: &str) -> Self {
        self.users.push((name.to_owned(), password.to_owned()));
        self
    }

    fn at(&self, path: &SitePath) -> Entry {
        match path.as_str() {
            "" => Entry::Folder,
            path => self.entries.get(path).copied().unwrap_or(Entry::Missing),
        }
    }
}

impl Folder for Tree {
    type Missing = Infallible;

    fn entry(&self, question: &Question) -> Result<Found, Infallible> {
        Ok(Found::Entry(self.at(&question.path)))
    }

    fn names(&self, question: &Question) -> Result<Result<Arc<[Listed]>, Entry>, Infallible> {
        if self.at(&question.path) != Entry::Folder {
            return Ok(Err(self.at(&question.path)));
        }
        let begins = match question.path.as_str() {
            "" => String::new(),
            folder => format!("{folder}/"),
        };
        let inside =
            self.entries.iter().filter_map(|(path, entry)| Some((path.strip_prefix(&begins)?, entry)));
        let listed = inside.filter(|(name, _)| !name.contains('/')).filter_map(|(name, entry)| {
            let (kind, bytes, changed) = match entry {
                Entry::File(facts) => (Kind::File, facts.size, facts.changed()),
                Entry::Folder => (Kind::Folder, 0, 0),
                Entry::Missing | Entry::Forbidden | Entry::Failed => return None,
            };
            Some(Listed { name: name.to_owned(), kind, bytes, changed })
        });
        Ok(Ok(listed.collect()))
    }

    fn settings(&self, _: &Question) -> Result<Option<Arc<FolderChain>>, Infallible> {
        Ok(self.chain.clone())
    }

    fn login(&self, credentials: &Credentials) -> Result<Password, Infallible> {
        let known = |(name, password): &(String, String)| {
            *name == credentials.user && *password == credentials.password
        };
        Ok(self.users.iter().any(known).into())
    }
}
