//! Answering the core's questions for somebody who only wants to know: nothing is sent, kept or counted.

use crate::connections::Clock;
use crate::disk::Disk;
use crate::encodings::{MOST_TO_SETTLE, kept_on_disk};
use crate::folders::Folders;
use crate::guards::Guards;
use crate::site::Site;
use exedra_core::answer::{self, Body, Encodings, Entry, Form, Piece, Question, Reply, SitePath, Want};
use exedra_core::config::{Config, SiteId};
use exedra_core::encode::{Codec, Effort};
use std::io::Read;
use std::sync::Arc;

/// The longest body that is encoded to find out its length.
const MOST_TO_ENCODE: u64 = 64 << 20;

/// Whoever answers the core's questions, without changing anything.
pub struct Looking<'c> {
    /// The configuration.
    pub config: &'c Config,
    /// Its folders.
    pub disk: Arc<Disk>,
    /// What they say of themselves.
    pub folders: Arc<Folders>,
    /// Who may sign in.
    pub guards: Arc<Guards>,
}

impl Looking<'_> {
    /// By a configuration alone, when no service runs.
    pub fn alone(config: &'_ Config) -> std::io::Result<Looking<'_>> {
        Ok(Looking {
            config,
            disk: Arc::new(Disk::open(config, Clock::new())?),
            folders: Arc::default(),
            guards: Arc::new(Guards::new(config, Arc::default())),
        })
    }

    /// As a service sees it that runs.
    pub fn of(site: &Site) -> Looking<'_> {
        Looking {
            config: &site.config,
            disk: Arc::clone(&site.disk),
            folders: Arc::clone(&site.folders),
            guards: Arc::clone(&site.guards),
        }
    }

    /// The reply to a question.
    pub fn reply(&self, question: &Question) -> Reply {
        if question.want == Want::Settings {
            return Reply::Settings(self.folders.look(question, &self.disk, self.config).chain.clone());
        }
        if question.want == Want::Names {
            return self.folders.look_listed(question, &self.disk, self.config).reply();
        }
        if question.want != Want::Encodings {
            return self.disk.look(question).reply();
        }
        let entry = Question { want: Want::Entry, ..question.clone() };
        let kept = self.disk.look(&entry);
        let mut known = match self.plain(&entry, MOST_TO_SETTLE) {
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
        Reply::Encodings(known)
    }

    fn plain(&self, question: &Question, most: u64) -> Option<Vec<u8>> {
        let (file, facts) = self.disk.open_file(question).ok().filter(|(_, facts)| facts.size <= most)?;
        let mut plain = Vec::new();
        file.take(most).read_to_end(&mut plain).ok()?;
        (plain.len() as u64 == facts.size).then_some(plain)
    }

    /// Why what lies beside a file as if it were that file encoded is not sent, where there is such a thing.
    pub fn passed_over(&self, site: SiteId, path: &SitePath, codec: Codec) -> Option<String> {
        let question = Question { site, path: path.clone(), want: Want::Entry };
        let kept = self.disk.look(&question);
        let (Entry::File(file), None) = (kept.entry, kept.ready(codec)) else { return None };
        let beside = path.with_extension(codec.extension()?);
        let name = beside.as_str().rsplit('/').next().unwrap_or_default().to_owned();
        let why = match self.disk.look(&Question { path: beside, ..question }).entry {
            Entry::File(beside) => {
                let older = file.changed().saturating_sub(beside.changed());
                format!("it is {older} s older than the file itself: make it anew, or touch it")
            }
            Entry::Forbidden => "the service may not read it".to_owned(),
            Entry::Folder => "it is a folder".to_owned(),
            Entry::Failed => "I/O error".to_owned(),
            Entry::Missing => return None,
        };
        Some(format!("{name} beside it is not used: {why}"))
    }

    /// Length of a body, where it can be told, and the file it comes from.
    pub fn body(&self, answer: &answer::Answer) -> (Option<u64>, Option<String>) {
        let (path, form) = match &answer.body {
            Body::None => return (Some(0), None),
            Body::Page(page) => return (Some(page.len() as u64), None),
            Body::PageEncoded(page, codec) => {
                let encoded = codec.encode(Effort::Quick, page.as_bytes());
                return (encoded.ok().map(|encoded| encoded.len() as u64), None);
            }
            Body::Parts { path, pieces, .. } => {
                let length = |piece: &Piece| match piece {
                    Piece::Octets(octets) => octets.len() as u64,
                    Piece::File(part) => part.end - part.start,
                };
                return (Some(pieces.iter().map(length).sum()), Some(path.as_str().to_owned()));
            }
            Body::File { path, form } => (path, *form),
        };
        let Some(site) = answer.site else { return (None, None) };
        let question = Question { site, path: path.clone(), want: Want::Entry };
        let kept = self.disk.look(&question);
        let Entry::File(facts) = kept.entry else { return (None, None) };
        let bytes = match form {
            Form::Plain => Some(facts.size),
            Form::Ready(codec) => kept.ready(codec).map(|beside| beside.size),
            Form::Settled(codec) => match self.reply(&Question { want: Want::Encodings, ..question }) {
                Reply::Encodings(known) => match known[codec as usize] {
                    answer::Encoded::Settled(size) => Some(size),
                    _ => None,
                },
                _ => None,
            },
            // A small one is encoded before its head goes out; of a large one nobody knows the length then.
            Form::Quick(codec) if kept.content.is_some() => {
                let effort = self.config.site(site).compress.effort[codec as usize];
                let plain = self.plain(&question, MOST_TO_ENCODE);
                plain
                    .and_then(|plain| codec.encode(effort.map_or(Effort::Quick, Effort::Level), &plain).ok())
                    .map(|encoded| encoded.len() as u64)
            }
            Form::Quick(_) => None,
        };
        let name = match form {
            Form::Ready(codec) => {
                codec.extension().map_or(path.clone(), |extension| path.with_extension(extension))
            }
            _ => path.clone(),
        };
        (bytes, Some(name.as_str().to_owned()))
    }
}
