//! One request: its facts to the core, the core's questions to the disk, the core's answer to the wire.

use crate::Counters;
use crate::access_log::{AccessLog, Finished};
use crate::body::{LoggedBody, Pieces};
use crate::disk::{Disk, Kept};
use crate::forwarded;
use bytes::Bytes;
use exedra_core::answer::{Answer, Body, Entry, Piece, Question, Reply, SitePath, Turn, Want, answer};
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
    let mut seen: Vec<(SitePath, Arc<Kept>)> = Vec::new();
    let mut turn = answer(&site.config, facts);
    let answer = loop {
        match turn {
            Turn::Done(answer) => break answer,
            Turn::Ask(question, waiting) => {
                let kept = look(&site, &question).await;
                let reply = kept.as_ref().map_or(Reply::Entry(Entry::Failed), |kept| kept.reply());
                if let Some(kept) = kept {
                    seen.push((question.path, kept));
                }
                turn = waiting.told(reply);
            }
        }
    };
    let finished = answer.site.map(|id| Finished {
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
    send(&site, answer, seen, finished).await
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
    Pieces(Pieces, u64),
    Gone,
}

async fn send(
    site: &Arc<Site>,
    answer: Answer,
    seen: Vec<(SitePath, Arc<Kept>)>,
    mut finished: Option<Finished>,
) -> Response<LoggedBody> {
    let Answer { status, mut headers, body, head_only, site: id } = answer;
    let announced = !matches!(body, Body::None);
    let kept_of = |path: &SitePath| {
        seen.iter().rev().find(|(known, _)| known == path).map(|(_, kept)| Arc::clone(kept))
    };
    let found = match (body, id) {
        (Body::File { path, codec }, Some(id)) => {
            let kept = kept_of(&path);
            let entry = kept.as_ref().map(|kept| kept.entry);
            if let (Some(finished), Some(codec), Some(Entry::File(facts))) = (&mut finished, codec, entry) {
                finished.encoding = codec.name();
                finished.full_bytes = Some(facts.size);
            }
            file(site, Question { site: id, path, want: Want::Entry }, kept, codec).await
        }
        (Body::Parts { path, pieces }, Some(id)) => {
            let kept = kept_of(&path);
            parts(site, Question { site: id, path, want: Want::Entry }, kept, pieces).await
        }
        (Body::Page(page), _) => Found::Whole(page.into()),
        (Body::None | Body::File { .. } | Body::Parts { .. }, _) => Found::Whole(Bytes::new()),
    };
    let (length, content) = match found {
        Found::Gone => return gone(finished),
        Found::Whole(content) => (Some(content.len() as u64), Ok(content)),
        Found::Pieces(pieces, size) => {
            let streamed = headers.contains_key(header::CONTENT_ENCODING);
            ((!streamed).then_some(size), Err(pieces))
        }
    };
    if let (Some(length), true) = (length, announced) {
        headers.insert(header::CONTENT_LENGTH, HeaderValue::from(length));
    }
    if head_only && let Some(finished) = &mut finished {
        finished.full_bytes = Some(0);
    }
    let body = match (content, head_only) {
        (_, true) => LoggedBody::whole(Bytes::new(), finished),
        (Ok(content), false) => LoggedBody::whole(content, finished),
        (Err(pieces), false) => LoggedBody::pieces(pieces, finished),
    };
    assemble(status, headers, body)
}

async fn file(site: &Arc<Site>, question: Question, kept: Option<Arc<Kept>>, codec: Option<Codec>) -> Found {
    let Some(kept) = kept else { return Found::Gone };
    if let Some(content) = &kept.content {
        let Some(codec) = codec else { return Found::Whole(content.clone()) };
        if let Some(encoded) = kept.encoded(codec) {
            return Found::Whole(encoded);
        }
        let made = tokio::task::spawn_blocking(move || kept.encode(codec)).await;
        return made.ok().and_then(Result::ok).map_or(Found::Gone, Found::Whole);
    }
    match opened(site, question, &kept).await {
        Some((file, size)) => Found::Pieces(Pieces::new(file, size, codec), size),
        None => Found::Gone,
    }
}

/// Parts of a file: from memory, or from an opened file piece by piece.
async fn parts(site: &Arc<Site>, question: Question, kept: Option<Arc<Kept>>, pieces: Vec<Piece>) -> Found {
    let Some(kept) = kept else { return Found::Gone };
    let length = pieces.iter().map(length_of).sum();
    if let Some(content) = &kept.content {
        let mut out = Vec::with_capacity(length as usize);
        for piece in &pieces {
            match piece {
                Piece::Octets(octets) => out.extend_from_slice(octets),
                Piece::File(part) => match content.get(part.start as usize..part.end as usize) {
                    Some(part) => out.extend_from_slice(part),
                    None => return Found::Gone,
                },
            }
        }
        return Found::Whole(out.into());
    }
    match opened(site, question, &kept).await {
        Some((file, _)) => Found::Pieces(Pieces::of_parts(file, pieces), length),
        None => Found::Gone,
    }
}

fn length_of(piece: &Piece) -> u64 {
    match piece {
        Piece::Octets(octets) => octets.len() as u64,
        Piece::File(part) => part.end - part.start,
    }
}

/// The file, if it still is what the headers promise.
async fn opened(site: &Arc<Site>, question: Question, kept: &Kept) -> Option<(std::fs::File, u64)> {
    let Entry::File(promised) = kept.entry else { return None };
    let disk = Arc::clone(&site.disk);
    let opened = tokio::task::spawn_blocking(move || disk.open_file(&question)).await;
    match opened {
        Ok(Ok((file, facts))) if facts == promised => Some((file, facts.size)),
        _ => None,
    }
}

/// A file changed between the look and the sending. The client may ask again at once.
fn gone(mut finished: Option<Finished>) -> Response<LoggedBody> {
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
