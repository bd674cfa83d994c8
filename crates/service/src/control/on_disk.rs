//! The folders of the sites for whoever can wait for the disk: explaining, checking, looking for exposures. One for all of
//! them, so that what they say of an answer is what the service would answer.

use crate::access::guards::Guards;
use crate::active::Active;
use crate::content::disk::{Disk, Kept};
use crate::content::encodings::{MOST_TO_SETTLE, kept_on_disk};
use crate::content::folders::Folders;
use crate::system::Clock;
use exedra_answering::answer;
use exedra_answering::answer::listing::Listed;
use exedra_answering::answer::{
    Credentials, Encodings, Entry, Folder, FolderChain, Found, Password, Question, Want,
};
use exedra_answering::config::Config;
use exedra_answering::encode::Codec;
use std::convert::Infallible;
use std::io::Read;
use std::sync::Arc;

/// The folders of a configuration's sites, as they are on the disk now.
pub struct OnDisk<'c> {
    /// The configuration.
    pub config: &'c Config,
    /// Its folders.
    pub disk: Arc<Disk>,
    /// What they say of themselves.
    pub folders: Arc<Folders>,
    /// Who may sign in; nobody where that is not to be known.
    pub guards: Option<Arc<Guards>>,
    /// Whether what was seen a moment ago will do: very many questions are asked.
    pub is_lenient: bool,
}

impl OnDisk<'_> {
    /// By a configuration alone, when no service runs.
    pub fn alone(config: &'_ Config) -> std::io::Result<OnDisk<'_>> {
        Ok(OnDisk {
            config,
            disk: Arc::new(Disk::open(config, Clock::new())?),
            folders: Arc::default(),
            guards: Some(Arc::new(Guards::new(config, Arc::default()))),
            is_lenient: false,
        })
    }

    /// As a service sees it that runs.
    pub fn of(site: &Active) -> OnDisk<'_> {
        OnDisk {
            config: &site.config,
            disk: Arc::clone(&site.disk),
            folders: Arc::clone(&site.folders),
            guards: Some(Arc::clone(&site.guards)),
            is_lenient: false,
        }
    }

    /// As strangers see it, for whoever asks very many questions.
    pub fn of_strangers(config: &'_ Config, disk: Arc<Disk>) -> OnDisk<'_> {
        OnDisk { config, disk, folders: Arc::default(), guards: None, is_lenient: true }
    }

    /// What is at a place.
    pub fn look(&self, question: &Question) -> Arc<Kept> {
        let remembered = self.is_lenient.then(|| self.disk.remembered(question)).flatten();
        remembered.unwrap_or_else(|| self.disk.look(question))
    }

    /// The content of a file, where it is no longer than so many octets.
    pub fn content(&self, question: &Question, most: u64) -> Option<Vec<u8>> {
        let (file, facts) = self.disk.open_file(question).ok().filter(|(_, facts)| facts.size <= most)?;
        let mut plain = Vec::new();
        file.take(most).read_to_end(&mut plain).ok()?;
        (plain.len() as u64 == facts.size).then_some(plain)
    }
}

impl Folder for OnDisk<'_> {
    type Missing = Infallible;

    fn entry(&self, question: &Question) -> Result<Found, Infallible> {
        Ok(self.look(question).found())
    }

    fn names(&self, question: &Question) -> Result<Result<Arc<[Listed]>, Entry>, Infallible> {
        Ok(self.folders.look_listed(question, &self.disk, self.config).names())
    }

    fn encodings(&self, question: &Question) -> Result<Encodings, Infallible> {
        // Whether something is compressed makes no difference to whether it is there.
        if self.is_lenient {
            return Ok(Encodings::default());
        }
        let entry = Question { want: Want::Entry, ..question.clone() };
        let kept = self.look(&entry);
        let mut known = match self.content(&entry, MOST_TO_SETTLE) {
            Some(plain) => {
                let folder = self.config.service.state.value.join("encodings");
                kept_on_disk(&folder, self.config.site(question.site), &plain)
            }
            None => Encodings::default(),
        };
        for codec in Codec::ALL {
            if let Some(beside) = kept.ready(codec) {
                known[codec as usize] = answer::Encoded::Ready(beside);
            }
        }
        Ok(known)
    }

    fn settings(&self, question: &Question) -> Result<Option<Arc<FolderChain>>, Infallible> {
        let remembered = self.is_lenient.then(|| self.folders.remembered(question, &self.disk)).flatten();
        let known = remembered.unwrap_or_else(|| self.folders.look(question, &self.disk, self.config));
        Ok(known.chain.clone())
    }

    fn login(&self, credentials: &Credentials) -> Result<Password, Infallible> {
        let guards = self.guards.as_ref();
        Ok(guards.is_some_and(|guards| guards.is_right(credentials)).into())
    }
}
