//! One request: its facts to the core, the core's questions to the disk, the core's answer to the wire.

use crate::Counters;
use crate::access_log::{AccessLog, Finished};
use crate::body::{LoggedBody, Pieces};
use crate::disk::{Disk, Kept};
use crate::encodings::{Encodings, Quick};
use crate::forwarded;
use bytes::Bytes;
use exedra_core::answer::{
    Answer, Body, Entry, FileFacts, Form, Piece, Question, Reply, SitePath, Turn, Want, answer,
};
use exedra_core::config::Config;
use exedra_core::encode::Codec;
use exedra_core::facts::{Facts, Fields, Known, Scheme};
use http::header::{self, HeaderValue};
use http::{HeaderMap, Request, Response, StatusCode, Version};
use hyper::body::Incoming;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Instant;

/// What answering needs: the configuration in force, and what it opened.
pub struct Site {
    /// The configuration.
    pub config: Arc<Config>,
    /// The folders.
    pub disk: Arc<Disk>,
    /// What is kept of their encodings.
    pub encodings: Arc<Encodings>,
    /// The log of each site.
    pub logs: Vec<Arc<AccessLog>>,
    /// What is counted.
    pub counters: Arc<Counters>,
}

/// Answers one request that came from an address.
pub async fn respond(site: Arc<Site>, request: Request<Incoming>, peer: IpAddr) -> Response<LoggedBody> {
    let began = Instant::now();
    let time = jiff::Timestamp::now().as_millisecond();
    let (request, _body) = request.into_parts();
    let client = forwarded::client(peer, &request.headers, &site.config.service.forwarders);
    let authority = authority(&request);
    let (host, port) = match authority {
        Some(authority) => split(authority),
        None => ("", None),
    };
    let facts = Facts {
        client: Known::Is(client),
        scheme: Known::Is(Scheme::Http),
        host: authority.map(|_| host).into(),
        port: port.into(),
        method: Known::Is(request.method.as_str()),
        path: Known::Is(request.uri.path()),
        query: request.uri.query().into(),
        fields: Fields::All(&request.headers),
    };
    let mut finished = None;
    for attempt in 1.. {
        let (answer, seen) = decide(&site, facts).await;
        finished = answer.site.map(|id| Finished {
            log: Arc::clone(&site.logs[id.0]),
            counters: Arc::clone(&site.counters),
            time,
            began,
            client,
            method: request.method.clone(),
            target: request.uri.clone(),
            version: request.version,
            host: host.to_ascii_lowercase(),
            scheme: Scheme::Http,
            referrer: request.headers.get(header::REFERER).cloned(),
            agent: request.headers.get(header::USER_AGENT).cloned(),
            status: answer.status,
            encoding: "",
            full_bytes: None,
            bytes: 0,
        });
        match find(&site, &answer, &seen).await {
            Found::Changed if attempt < ATTEMPTS => {}
            Found::Changed => break,
            found => return send(answer, found, &seen, finished),
        }
    }
    changing(finished)
}

/// How often a request is decided anew because what it was decided by has changed meanwhile.
const ATTEMPTS: usize = 3;

/// What was found at the places that were asked about.
type Seen = Vec<(SitePath, Arc<Kept>)>;

/// Puts the facts to the core, and its questions to the disk.
async fn decide(site: &Arc<Site>, facts: Facts<'_>) -> (Answer, Seen) {
    let mut seen: Seen = Vec::new();
    let mut turn = answer(&site.config, facts);
    loop {
        match turn {
            Turn::Done(answer) => return (answer, seen),
            Turn::Ask(question, waiting) if question.want == Want::Encodings => {
                let known = match kept_of(&seen, &question.path).map(|kept| (kept, kept.entry)) {
                    Some((kept, Entry::File(facts))) => site.encodings.known(&question, kept, facts),
                    _ => Default::default(),
                };
                turn = waiting.told(Reply::Encodings(known));
            }
            Turn::Ask(question, waiting) => {
                let kept = look(site, &question).await;
                let reply = kept.as_ref().map_or(Reply::Entry(Entry::Failed), |kept| kept.reply());
                if let Some(kept) = kept {
                    seen.push((question.path, kept));
                }
                turn = waiting.told(reply);
            }
        }
    }
}

fn kept_of<'s>(seen: &'s Seen, path: &SitePath) -> Option<&'s Arc<Kept>> {
    seen.iter().rev().find(|(known, _)| known == path).map(|(_, kept)| kept)
}

async fn look(site: &Arc<Site>, question: &Question) -> Option<Arc<Kept>> {
    if let Some(kept) = site.disk.remembered(question) {
        return Some(kept);
    }
    let (disk, question) = (Arc::clone(&site.disk), question.clone());
    tokio::task::spawn_blocking(move || disk.look(&question)).await.ok()
}

/// The host that a request names: in its target, or in exactly one field (RFC 9112 §3.2).
fn authority(request: &http::request::Parts) -> Option<&str> {
    if let Some(authority) = request.uri.authority() {
        return Some(authority.as_str().rsplit('@').next().unwrap_or_default());
    }
    let mut fields = request.headers.get_all(header::HOST).iter();
    match (fields.next(), fields.next()) {
        (Some(host), None) => host.to_str().ok(),
        (None, _) if request.version == Version::HTTP_10 => Some(""),
        _ => None,
    }
}

fn split(authority: &str) -> (&str, Option<u16>) {
    match authority.rsplit_once(':') {
        Some((host, port)) if !port.contains(']') && (port.is_empty() || port.parse::<u16>().is_ok()) => {
            (host, port.parse().ok())
        }
        _ => (authority, None),
    }
}

/// What is to go out, found.
enum Found {
    Whole(Bytes),
    Pieces(Pieces, Option<u64>),
    /// Something that the decision rests upon has changed: decide again.
    Changed,
}

/// Finds the body of an answer.
async fn find(site: &Arc<Site>, answer: &Answer, seen: &Seen) -> Found {
    let (path, form, pieces) = match &answer.body {
        Body::None => return Found::Whole(Bytes::new()),
        Body::Page(page) => return Found::Whole(page.clone().into()),
        Body::File { path, form } => (path, *form, None),
        Body::Parts { path, form, pieces } => (path, *form, Some(pieces)),
    };
    let (Some(id), Some(kept)) = (answer.site, kept_of(seen, path)) else { return Found::Changed };
    let Entry::File(facts) = kept.entry else { return Found::Changed };
    let mut question = Question { site: id, path: path.clone(), want: Want::Entry };
    let (whole, facts) = match form {
        Form::Plain => (kept.content.clone(), facts),
        Form::Quick(codec) => return quick(site, question, kept, facts, codec).await,
        Form::Settled(codec) => match site.encodings.settled(&question, facts, codec) {
            Some(body) => (Some(body), facts),
            None => return Found::Changed,
        },
        Form::Ready(codec) => {
            let (Some(promised), Some(extension)) = (kept.ready(codec), codec.extension()) else {
                return Found::Changed;
            };
            question.path = question.path.with_extension(extension);
            match look(site, &question).await {
                Some(beside) if beside.entry == Entry::File(promised) => (beside.content.clone(), promised),
                _ => {
                    site.disk.forget(&Question { path: path.clone(), ..question });
                    return Found::Changed;
                }
            }
        }
    };
    match (whole, pieces) {
        (Some(whole), None) => Found::Whole(whole),
        (Some(whole), Some(pieces)) => put_together(&whole, pieces),
        (None, pieces) => match opened(site, &question, facts).await {
            Some(file) => match pieces {
                None => pieces_of(Pieces::new(file, facts.size, None), Some(facts.size)),
                Some(pieces) => Found::Pieces(
                    Pieces::of_parts(file, pieces.clone()),
                    Some(pieces.iter().map(length_of).sum()),
                ),
            },
            None => Found::Changed,
        },
    }
}

/// A file encoded in passing: a small one as a whole, a large one as a stream. Either way the thorough
/// encoding is on its way afterwards.
async fn quick(
    site: &Arc<Site>,
    question: Question,
    kept: &Arc<Kept>,
    facts: FileFacts,
    codec: Codec,
) -> Found {
    if let Some(body) = site.encodings.quick(&question, facts, codec) {
        return Found::Whole(body);
    }
    if kept.content.is_none() {
        site.encodings.settle(&question, facts, codec);
        return match opened(site, &question, facts).await {
            Some(file) => pieces_of(Pieces::new(file, facts.size, Some(codec)), None),
            None => Found::Changed,
        };
    }
    let (encodings, kept) = (Arc::clone(&site.encodings), Arc::clone(kept));
    let made = tokio::task::spawn_blocking(move || {
        encodings.make_quick(&question, facts, codec, kept.content.as_deref().unwrap_or_default())
    });
    match made.await {
        Ok(Ok(Quick::Body(body))) => Found::Whole(body),
        _ => Found::Changed,
    }
}

fn pieces_of(pieces: std::io::Result<Pieces>, length: Option<u64>) -> Found {
    pieces.map_or(Found::Changed, |pieces| Found::Pieces(pieces, length))
}

fn put_together(whole: &Bytes, pieces: &[Piece]) -> Found {
    if let [Piece::File(part)] = pieces
        && part.end <= whole.len() as u64
    {
        return Found::Whole(whole.slice(part.start as usize..part.end as usize));
    }
    let mut out = Vec::with_capacity(pieces.iter().map(length_of).sum::<u64>() as usize);
    for piece in pieces {
        match piece {
            Piece::Octets(octets) => out.extend_from_slice(octets),
            Piece::File(part) => match whole.get(part.start as usize..part.end as usize) {
                Some(part) => out.extend_from_slice(part),
                None => return Found::Changed,
            },
        }
    }
    Found::Whole(out.into())
}

fn length_of(piece: &Piece) -> u64 {
    match piece {
        Piece::Octets(octets) => octets.len() as u64,
        Piece::File(part) => part.end - part.start,
    }
}

/// The file, if it still is what the headers promise; otherwise what was known of it is forgotten.
async fn opened(site: &Arc<Site>, question: &Question, promised: FileFacts) -> Option<std::fs::File> {
    let (disk, asked) = (Arc::clone(&site.disk), question.clone());
    match tokio::task::spawn_blocking(move || disk.open_file(&asked)).await {
        Ok(Ok((file, facts))) if facts == promised => Some(file),
        _ => {
            site.disk.forget(question);
            None
        }
    }
}

fn send(answer: Answer, found: Found, seen: &Seen, mut finished: Option<Finished>) -> Response<LoggedBody> {
    let Answer { status, mut headers, body, head_only, .. } = answer;
    if let (Some(finished), Body::File { path, form } | Body::Parts { path, form, .. }) =
        (&mut finished, &body)
        && let (Some(codec), Some(Entry::File(facts))) =
            (form.codec(), kept_of(seen, path).map(|kept| kept.entry))
    {
        finished.encoding = codec.name();
        finished.full_bytes = Some(if head_only { 0 } else { facts.size });
    }
    let (length, content) = match found {
        Found::Whole(content) => (Some(content.len() as u64), Ok(content)),
        Found::Pieces(pieces, length) => (length, Err(pieces)),
        Found::Changed => return changing(finished),
    };
    if let (Some(length), false) = (length, body == Body::None) {
        headers.insert(header::CONTENT_LENGTH, HeaderValue::from(length));
    }
    let body = match (content, head_only) {
        (_, true) => LoggedBody::whole(Bytes::new(), finished),
        (Ok(content), false) => LoggedBody::whole(content, finished),
        (Err(pieces), false) => LoggedBody::pieces(pieces, finished),
    };
    assemble(status, headers, body)
}

/// A file changes faster than it can be sent. The client may ask again at once.
fn changing(mut finished: Option<Finished>) -> Response<LoggedBody> {
    let status = StatusCode::SERVICE_UNAVAILABLE;
    if let Some(finished) = &mut finished {
        finished.status = status;
        finished.encoding = "";
        finished.full_bytes = None;
    }
    let mut headers = HeaderMap::new();
    headers.insert(header::RETRY_AFTER, HeaderValue::from_static("1"));
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8"));
    let page = exedra_core::answer::pages::built_in(status);
    assemble(status, headers, LoggedBody::whole(page.into(), finished))
}

fn assemble(status: StatusCode, headers: HeaderMap, body: LoggedBody) -> Response<LoggedBody> {
    let mut response = Response::new(body);
    *response.status_mut() = status;
    *response.headers_mut() = headers;
    response
}
