//! A request decided by the configuration and the disk, every step written down.

use super::asked::{Asked, fields};
use crate::Failure;
use exedra_core::answer::{self, Body, Encodings, Entry, Form, Piece, Question, Reply, Want, answer_traced};
use exedra_core::config::Config;
use exedra_core::encode::Effort;
use exedra_service::connections::Clock;
use exedra_service::disk::Disk;
use exedra_service::encodings::{MOST_TO_SETTLE, kept_on_disk};
use http::{HeaderMap, HeaderValue, header};
use serde::Serialize;
use std::io::Read;

/// The longest body that is encoded to find out its length.
const MOST_TO_ENCODE: u64 = 64 << 20;

/// One step of the decision.
#[derive(Serialize)]
pub struct Step {
    /// What was decided about.
    pub about: &'static str,
    /// The step in words.
    pub words: String,
    /// The configuration's file, where the cause is written there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The line in it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
}

/// What became of a codec.
#[derive(Serialize)]
pub struct Codec {
    /// Its name in `Content-Encoding`.
    pub codec: &'static str,
    /// Whether it is used.
    pub used: bool,
    /// Why, or why not.
    pub why: String,
}

/// What would go out.
#[derive(Serialize)]
pub struct Outcome {
    /// Status.
    pub status: u16,
    /// Its reason phrase.
    pub reason: &'static str,
    /// Header fields.
    #[serde(serialize_with = "fields")]
    pub headers: HeaderMap,
    /// Octets of the body, where they can be told.
    pub bytes: Option<u64>,
    /// The file that the body comes from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
}

type Decided = (Option<String>, Vec<Step>, Vec<Codec>, Outcome);

/// Decides a request.
pub fn decide(config: &Config, asked: &Asked, name: &str, text: &str) -> Result<Decided, Failure> {
    let disk = Disk::open(config, Clock::new())?;
    let looking = Looking { config, disk };
    let (answer, trace) = answer_traced(config, asked.facts()).finish(|question| looking.reply(question));
    let site = answer.site.map(|id| config.site(id));
    let (mut steps, mut codecs) = (Vec::new(), Vec::new());
    for step in &trace.0 {
        if let answer::Step::Codec { codec, verdict } = step {
            codecs.push(Codec { codec: codec.name(), used: verdict.is_chosen(), why: verdict.words() });
            continue;
        }
        let line = step.place().map(|place| 1 + text[..place.start.min(text.len())].matches('\n').count());
        let file = line.is_some().then(|| name.to_owned());
        steps.push(Step { about: step.about(), words: step.words(), file, line });
    }
    let (bytes, path) = looking.body(&answer);
    let mut headers = answer.headers;
    let has_body = answer.body != Body::None;
    if let Some(bytes) = bytes.filter(|_| has_body) {
        headers.insert(header::CONTENT_LENGTH, HeaderValue::from(bytes));
    }
    let file = path.zip(site).map(|(path, site)| site.folder.value.join(path).display().to_string());
    let reason = answer.status.canonical_reason().unwrap_or("");
    let bytes = if answer.head_only { Some(0) } else { bytes };
    let outcome = Outcome { status: answer.status.as_u16(), reason, headers, bytes, file };
    Ok((site.map(|site| site.name.value.clone()), steps, codecs, outcome))
}

/// Whoever answers the core's questions, without changing anything.
struct Looking<'c> {
    config: &'c Config,
    disk: Disk,
}

impl Looking<'_> {
    fn reply(&self, question: &Question) -> Reply {
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
        for codec in exedra_core::encode::Codec::ALL {
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

    /// Length of a body, where it can be told, and the file it comes from.
    fn body(&self, answer: &answer::Answer) -> (Option<u64>, Option<String>) {
        let (path, form) = match &answer.body {
            Body::None => return (Some(0), None),
            Body::Page(page) => return (Some(page.len() as u64), None),
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
