//! Bringing changed configurations into force, and keeping each that was.
//!
//! A configuration is read, checked as `exedra check` does, and brought into force as a whole; or it is refused, and what
//! was in force stays. Each one that comes into force is a revision, with the text of all its files.

use super::start_error::StartError;
use crate::control::checking::{self, Checked};
use crate::control::configuration::{self, Refused};
use crate::control::runtime::Runtime;
use crate::system::whole::{self, Mode};
use exedra_answering::config::diagnostic::draw;
use exedra_answering::config::recipients::Way;
use exedra_answering::config::{Config, Diagnostic, Sources};
use exedra_store::{Revision, Revisions, StoreError};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread::JoinHandle;
use thiserror::Error;

/// What brings configurations into force.
pub struct Changes {
    runtime: Arc<Runtime>,
    revisions: Revisions,
    /// The configuration's file.
    pub file: PathBuf,
    /// One change after the other.
    busy: Mutex<()>,
}

/// A configuration that has come into force.
#[derive(Debug)]
pub struct Changed {
    /// The number of its revision.
    pub revision: i32,
    /// Whether it is another than before.
    pub is_new: bool,
    /// What was remarked on it.
    pub remarks: Vec<Diagnostic>,
    /// The files that these are in.
    pub sources: Sources,
    /// What will only change when the service starts anew.
    pub later: Vec<String>,
}

/// A file of the configuration as it might be.
#[derive(Debug, Clone)]
pub struct Draft {
    /// Which one.
    pub path: PathBuf,
    /// What is to be written in it.
    pub text: String,
    /// What was written in it when somebody began, by [`configuration::version`]; not looked at where there is none.
    pub version: Option<String>,
}

/// Why nothing has changed.
#[derive(Debug, Error)]
pub enum ChangeError {
    /// The configuration was refused.
    #[error(transparent)]
    Refused(#[from] Refused),
    /// Something that it asks for cannot be had.
    #[error("{0}")]
    Start(#[from] StartError),
    /// What was in force cannot be kept or found.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// There is no such revision.
    #[error("there is no revision {0}: `exedra revisions` lists them")]
    NoRevision(i32),
    /// Something of it is lost.
    #[error(
        "revision {0} is damaged: not all of its files are as they were; nothing has been changed, restore another"
    )]
    Damaged(i32),
    /// A file has been changed by somebody else.
    #[error("{} has been changed since it was opened here: nothing was written. Open it anew and make the change again", .0.display())]
    Stale(PathBuf),
    /// A file that is none of the configuration's.
    #[error("{} is no file of the configuration", .0.display())]
    NoFile(PathBuf),
    /// A file cannot be written.
    #[error("{} cannot be written: {error}", path.display())]
    Write {
        /// Which one.
        path: PathBuf,
        /// What the system says.
        error: std::io::Error,
    },
}

impl ChangeError {
    /// What is wrong, drawn where it is wrong.
    pub fn drawn(&self, colour: bool) -> String {
        match self {
            ChangeError::Refused(Refused::Mistaken { found, sources }) => {
                format!("{}{self}", draw(found, sources, colour))
            }
            other => other.to_string(),
        }
    }
}

impl Changes {
    /// Changes by a file.
    pub fn new(runtime: Arc<Runtime>, revisions: Revisions, file: &Path) -> Self {
        // Whoever asks for a revision may do so from elsewhere.
        let file = std::path::absolute(file).unwrap_or_else(|_| file.to_owned());
        Changes { runtime, revisions, file, busy: Mutex::default() }
    }

    /// Brings the first configuration into force, which has been checked. Gives the threads of the workers.
    pub fn begin(&self, config: Config) -> Result<Vec<JoinHandle<()>>, StartError> {
        let sources = config.sources.clone();
        let threads = self.runtime.change(config)?;
        // Sites come up also where nothing can be kept.
        if let Err(error) = self.keep(&sources) {
            tracing::error!("this configuration is not kept as a revision: {error}");
        }
        Ok(threads)
    }

    /// Reads the configuration anew and brings it into force.
    pub fn reload(&self) -> Result<Changed, ChangeError> {
        let _busy = self.busy.lock();
        self.reload_alone()
    }

    fn reload_alone(&self) -> Result<Changed, ChangeError> {
        let before = self.runtime.site().map(|site| Arc::clone(&site.config));
        let Checked { config, found: remarks } =
            checking::read(&self.file, checking::Depth::ToServe, before.as_deref())?;
        drop(before);
        let later = self.runtime.site().map(|site| later(&site.config, &config)).unwrap_or_default();
        let sources = config.sources.clone();
        // Kept first: what could not be taken back does not come into force.
        let (revision, is_new) = self.keep(&sources)?;
        if let Err(error) = self.runtime.change(config) {
            if is_new {
                self.revisions.take_back(revision)?;
            }
            return Err(error.into());
        }
        tracing::info!(revision, "the configuration {} is in force", self.file.display());
        Ok(Changed { revision, is_new, remarks, sources, later })
    }

    /// All revisions, the newest first.
    pub fn revisions(&self, before: Option<i32>, count: usize) -> Result<Vec<Revision>, StoreError> {
        self.revisions.latest(before, count)
    }

    /// One revision, its texts held against their hashes.
    pub fn revision(&self, number: i32) -> Result<Option<Revision>, StoreError> {
        self.revisions.get(number)
    }

    /// The newest revision.
    pub fn newest(&self) -> Result<Option<Revision>, StoreError> {
        self.revisions.newest()
    }

    /// Writes the files of a revision back and brings it into force. Where it is refused, the files stay as they were.
    pub fn restore(&self, number: i32) -> Result<Changed, ChangeError> {
        let _busy = self.busy.lock();
        let revision = self.revisions.get(number)?.ok_or(ChangeError::NoRevision(number))?;
        if revision.damaged {
            return Err(ChangeError::Damaged(number));
        }
        let files: Vec<(PathBuf, &str)> = revision
            .files
            .iter()
            .enumerate()
            .map(|(nth, (name, text))| (self.place_of(nth, name), &**text))
            .collect();
        self.write_and_reload(&files)
    }

    /// The configuration's files as they are now, by their whole paths, the configuration itself first. Where it cannot be understood
    /// now, those that are in force are its files.
    pub fn files(&self) -> Result<Vec<(PathBuf, String)>, ChangeError> {
        let sources = match configuration::read(&self.file) {
            Ok(config) => config.sources,
            Err(Refused::Mistaken { sources, .. }) => sources,
            Err(unreadable) => return Err(unreadable.into()),
        };
        let whole = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let mut files: Vec<(PathBuf, String)> = Vec::new();
        for source in sources.files() {
            files.push((whole(Path::new(&source.name)), source.text.to_string()));
        }
        let in_force = self.runtime.site().map(|site| site.config.sources.clone()).unwrap_or_default();
        for source in in_force.files() {
            let path = whole(Path::new(&source.name));
            if !files.iter().any(|(known, _)| *known == path)
                && let Ok(text) = std::fs::read_to_string(&path)
            {
                files.push((path, text));
            }
        }
        Ok(files)
    }

    /// Texts of files as they might be, by their whole paths: they are files of the configuration, and nobody has changed them.
    pub fn drafted(&self, drafts: &[Draft]) -> Result<HashMap<PathBuf, String>, ChangeError> {
        let files = self.files()?;
        let mut texts = HashMap::new();
        for draft in drafts {
            let Some((path, text)) = files.iter().find(|(path, _)| *path == draft.path) else {
                return Err(ChangeError::NoFile(draft.path.clone()));
            };
            if draft.version.as_ref().is_some_and(|version| *version != configuration::version(text)) {
                return Err(ChangeError::Stale(path.clone()));
            }
            texts.insert(path.clone(), draft.text.clone());
        }
        Ok(texts)
    }

    /// Writes files of the configuration and brings them into force. Where they are refused, the files stay as they were.
    pub fn publish(&self, drafts: &[Draft]) -> Result<Changed, ChangeError> {
        let _busy = self.busy.lock();
        let texts = self.drafted(drafts)?;
        // Understood before anything is written: whoever reads the files meanwhile finds no mistakes in them.
        let config = configuration::drafted(&self.file, &texts)?;
        let found = self.new_commands(&config);
        if !found.is_empty() {
            return Err(Refused::Mistaken { found, sources: config.sources }.into());
        }
        let files: Vec<(PathBuf, &str)> =
            texts.iter().map(|(path, text)| (path.clone(), text.as_str())).collect();
        self.write_and_reload(&files)
    }

    /// Programs that a configuration would have run, and the one in force does not: whoever may change a configuration by the API is not
    /// thereby somebody who may run programs on this machine.
    pub fn new_commands(&self, config: &Config) -> Vec<Diagnostic> {
        let active = self.runtime.site();
        let in_force: Vec<Vec<&str>> =
            active.iter().flat_map(|active| commands(&active.config)).map(|(_, words)| words).collect();
        let new = commands(config).filter(|(_, words)| !in_force.contains(words));
        let refused = |(place, _): (Range<usize>, Vec<&str>)| {
            let message = "a command can be set in the files only";
            let reason = "it is new or changed, and is not taken from a browser or a program";
            let remedy = "write it into the file on the machine, then: exedra reload";
            Diagnostic::error(place, message, reason).remedy(remedy)
        };
        new.map(refused).collect()
    }

    /// Writes files and brings them into force, one change at a time. Where they are refused, the files stay as they were.
    fn write_and_reload(&self, files: &[(PathBuf, &str)]) -> Result<Changed, ChangeError> {
        let now: Vec<(PathBuf, Option<String>)> =
            files.iter().map(|(path, _)| (path.clone(), std::fs::read_to_string(path).ok())).collect();
        let put = |path: &Path, text: &str| {
            whole::replace(path, text.as_bytes(), Mode::Kept)
                .map_err(|error| ChangeError::Write { path: path.to_owned(), error })
        };
        let written = || -> Result<Changed, ChangeError> {
            for (path, text) in files {
                put(path, text)?;
            }
            self.reload_alone()
        };
        written().inspect_err(|_| {
            for (path, text) in &now {
                let undone = match text {
                    Some(text) => put(path, text).map_err(|error| error.to_string()),
                    None => std::fs::remove_file(path).map_err(|error| error.to_string()),
                };
                if let Err(reason) = undone {
                    tracing::error!("{} could not be put back as it was: {reason}", path.display());
                }
            }
        })
    }

    /// Where a file of a revision lies. The first is the configuration itself, whatever it was called; of others that were
    /// named from some folder, that one is taken to be the configuration's.
    fn place_of(&self, nth: usize, name: &str) -> PathBuf {
        match Path::new(name) {
            _ if nth == 0 => self.file.clone(),
            path if path.is_absolute() => path.to_owned(),
            path => self.file.parent().unwrap_or(Path::new("")).join(path),
        }
    }

    fn keep(&self, sources: &Sources) -> Result<(i32, bool), StoreError> {
        let whole = |name: &str| {
            std::path::absolute(name).map_or_else(|_| name.to_owned(), |path| path.display().to_string())
        };
        let files = sources.files().iter().map(|file| (whole(&file.name), file.text.as_str()));
        self.revisions.keep(&files.collect::<Vec<_>>(), jiff::Timestamp::now().as_second())
    }
}

/// What of a configuration only a start brings into force.
fn later(before: &Config, after: &Config) -> Vec<String> {
    let (old, new) = (&before.service, &after.service);
    let mut later = Vec::new();
    // The file may have been named from elsewhere.
    let whole = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let mut differs = |differs: bool, what: &str| {
        if differs {
            later.push(what.to_owned());
        }
    };
    differs(old.console.value != new.console.value, "`console` in [service]");
    differs(whole(&old.state.value) != whole(&new.state.value), "`state` in [service]");
    differs(whole(&old.logs.value) != whole(&new.logs.value), "`logs` in [service]");
    differs(old.records != new.records, "`records` in [service]");
    differs(
        old.user.as_ref().map(|user| &user.value) != new.user.as_ref().map(|user| &user.value),
        "`user` in [service]",
    );
    later
}

/// The programs that a configuration has run, and where it says so.
fn commands(config: &Config) -> impl Iterator<Item = (Range<usize>, Vec<&str>)> {
    config.recipients.iter().filter_map(|recipient| match &recipient.way {
        Way::Command(words) => {
            let place = words.first().map_or(recipient.name.span.clone(), |word| word.span.clone());
            Some((place, words.iter().map(|word| word.value.as_str()).collect()))
        }
        Way::Mail(_) | Way::Webhook { .. } => None,
    })
}
