//! What there is to say of a body that is not sent: how long it would be, and what was passed over for it.

use crate::control::on_disk::OnDisk;
use exedra_answering::answer;
use exedra_answering::answer::{Body, Entry, Folder, Form, Piece, Question, SitePath, Want};
use exedra_answering::config::SiteId;
use exedra_answering::encode::{Codec, Effort};

/// The longest body that is encoded to find out its length.
const MOST_TO_ENCODE: u64 = 64 << 20;

/// Why what lies beside a file as if it were that file encoded is not sent, where there is such a thing.
pub fn passed_over(disk: &OnDisk<'_>, site: SiteId, path: &SitePath, codec: Codec) -> Option<String> {
    let question = Question { site, path: path.clone(), want: Want::Entry };
    let kept = disk.look(&question);
    let (Entry::File(file), None) = (kept.entry, kept.ready(codec)) else { return None };
    let beside = path.with_extension(codec.extension()?);
    let name = beside.as_str().rsplit('/').next().unwrap_or_default().to_owned();
    let why = match disk.look(&Question { path: beside, ..question }).entry {
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
pub fn body(disk: &OnDisk<'_>, answer: &answer::Answer) -> (Option<u64>, Option<String>) {
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
    let kept = disk.look(&question);
    let Entry::File(facts) = kept.entry else { return (None, None) };
    let bytes = match form {
        Form::Plain => Some(facts.size),
        Form::Ready(codec) => kept.ready(codec).map(|beside| beside.size),
        Form::Settled(codec) => {
            let Ok(known) = disk.encodings(&Question { want: Want::Encodings, ..question });
            match known[codec as usize] {
                answer::Encoded::Settled(size) => Some(size),
                _ => None,
            }
        }
        // A small one is encoded before its head goes out; of a large one nobody knows the length then.
        Form::Quick(codec) if kept.content.is_some() => {
            let effort = disk.config.site(site).compress.effort[codec as usize];
            let plain = disk.content(&question, MOST_TO_ENCODE);
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
