//! The sites' folders for rehearsals: what stands there now, as anybody who may sign in sees it, and how large files are once encoded.

use super::on_disk::OnDisk;
use exedra_acting::rehearsal::SiteFolders;
use exedra_answering::answer::listing::Listed;
use exedra_answering::answer::{
    Credentials, Encodings, Entry, Folder, FolderChain, Form, Found, Password, Question, SitePath, Want,
};
use exedra_answering::config::SiteId;
use exedra_answering::encode::{Codec, Effort};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::convert::Infallible;
use std::sync::Arc;

/// The largest file that is encoded to know how large it gets, and how many octets of all files together are.
const LARGEST: u64 = 4 << 20;
const MOST: u64 = 64 << 20;

/// What is known of places.
type ByPlace<T> = HashMap<(SiteId, SitePath), T>;

/// Folders as they are on the disk, each place looked at once.
pub struct RehearsedSites<'c> {
    disk: OnDisk<'c>,
    entries: Mutex<ByPlace<Found>>,
    chains: Mutex<ByPlace<Option<Arc<FolderChain>>>>,
    sizes: Mutex<HashMap<(SiteId, SitePath, Codec), Option<u64>>>,
    left: Mutex<u64>,
}

/// How many places are remembered.
const MOST_PLACES: usize = 200_000;

impl<'c> RehearsedSites<'c> {
    /// Those that `disk` looks at.
    pub fn new(disk: OnDisk<'c>) -> Self {
        RehearsedSites {
            disk,
            entries: Mutex::default(),
            chains: Mutex::default(),
            sizes: Mutex::default(),
            left: Mutex::new(MOST),
        }
    }

    fn encoded(&self, question: &Question, codec: Codec) -> Option<u64> {
        let key = (question.site, question.path.clone(), codec);
        if let Some(known) = self.sizes.lock().get(&key) {
            return *known;
        }
        let content = self.disk.content(question, LARGEST).filter(|content| {
            let mut left = self.left.lock();
            let is_within = content.len() as u64 <= *left;
            *left = left.saturating_sub(content.len() as u64);
            is_within
        });
        let size = content.and_then(|content| {
            let encoded = codec.encode(Effort::Quick, &content).ok()?;
            Some(encoded.len().min(content.len()) as u64)
        });
        self.sizes.lock().insert(key, size);
        size
    }
}

impl Folder for RehearsedSites<'_> {
    type Missing = Infallible;

    fn entry(&self, question: &Question) -> Result<Found, Infallible> {
        let key = (question.site, question.path.clone());
        if let Some(known) = self.entries.lock().get(&key) {
            return Ok(known.clone());
        }
        let found = self.disk.entry(question)?;
        let mut entries = self.entries.lock();
        if entries.len() < MOST_PLACES {
            entries.insert(key, found.clone());
        }
        Ok(found)
    }

    fn names(&self, question: &Question) -> Result<Result<Arc<[Listed]>, Entry>, Infallible> {
        self.disk.names(question)
    }

    fn encodings(&self, question: &Question) -> Result<Encodings, Infallible> {
        self.disk.encodings(question)
    }

    fn settings(&self, question: &Question) -> Result<Option<Arc<FolderChain>>, Infallible> {
        let key = (question.site, question.path.clone());
        if let Some(known) = self.chains.lock().get(&key) {
            return Ok(known.clone());
        }
        let chain = self.disk.settings(question)?;
        let mut chains = self.chains.lock();
        if chains.len() < MOST_PLACES {
            chains.insert(key, chain.clone());
        }
        Ok(chain)
    }

    /// Whoever has a user in the log had signed in.
    fn login(&self, _: &Credentials) -> Result<Password, Infallible> {
        Ok(Password::Right)
    }
}

impl SiteFolders for RehearsedSites<'_> {
    fn size(&self, question: &Question, form: Form) -> Option<u64> {
        let question = Question { want: Want::Entry, ..question.clone() };
        let Ok(found) = self.entry(&question);
        let Entry::File(facts) = found.entry() else { return None };
        match form.codec() {
            None => Some(facts.size),
            Some(codec) => self.encoded(&question, codec),
        }
    }
}
