//! One request: its facts to the core, the core's questions to the disk, the core's answer to the wire.
//!
//! Most requests need nothing that is not in memory: they are answered at once, in one go. When something is
//! lacking it is fetched on a thread that may block, and the request is decided anew.

use crate::attempt::{Fetched, Lack, Ready, attempt};
use crate::authority::{authority, host, split};
use crate::body::{Content, LoggedBody};
use crate::connections::pulse::Pulse;
use crate::finished::{Failure, Finished};
use crate::forwarded;
use crate::memory::{self, Draft};
use crate::site::Site;
use exedra_core::answer::{Answer, Body, Entry, Step, answer_traced};
use exedra_core::config::SiteId;
use exedra_core::facts::{Facts, Fields, Known, Scheme};
use http::header::{self, HeaderValue};
use http::{HeaderMap, Request, Response, StatusCode};
use hyper::body::Incoming;
use std::convert::Infallible;
use std::future::Future;
use std::net::IpAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Instant;

/// An answer: here already, or on its way.
pub enum Responding {
    /// Here.
    Now(Option<Response<LoggedBody>>),
    /// On its way.
    Later(Pin<Box<dyn Future<Output = Response<LoggedBody>> + Send>>),
}

impl Future for Responding {
    type Output = Result<Response<LoggedBody>, Infallible>;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Self::Output> {
        match self.get_mut() {
            Responding::Now(response) => {
                response.take().map_or(Poll::Pending, |response| Poll::Ready(Ok(response)))
            }
            Responding::Later(response) => response.as_mut().poll(context).map(Ok),
        }
    }
}

/// Answers one request that came from an address.
pub fn respond(site: &Arc<Site>, request: Request<Incoming>, peer: IpAddr, pulse: &Arc<Pulse>) -> Responding {
    let is_last = pulse.answering() >= site.config.limits.requests;
    let (request, _body) = request.into_parts();
    if !memory::stands_alone(&request) {
        pulse.has_more();
    }
    let finished = Box::new(Finished {
        service: Arc::clone(site),
        pulse: Arc::clone(pulse),
        time: jiff::Timestamp::now().as_millisecond(),
        began: Instant::now(),
        client: forwarded::client(peer, &request.headers, &site.config.service.forwarders),
        request,
        site: None,
        status: StatusCode::OK,
        encoding: "",
        full_bytes: None,
        bytes: 0,
        failure: None,
    });
    match attempt(site, facts(&finished), &mut Fetched::default()) {
        Ok(ready) => Responding::Now(Some(send(ready, finished, is_last))),
        Err(lack) => Responding::Later(Box::pin(respond_later(lack, finished, is_last))),
    }
}

/// How often something may be fetched for one request before it is given up.
const MOST_FETCHES: usize = 64;
/// How often a request is decided anew because what it was decided by has changed meanwhile.
const MOST_CHANGES: usize = 3;

async fn respond_later(mut lack: Lack, finished: Box<Finished>, is_last: bool) -> Response<LoggedBody> {
    let site = Arc::clone(&finished.service);
    let mut fetched = Fetched::default();
    let mut changes = 0;
    for _ in 0..MOST_FETCHES {
        changes += usize::from(!fetched.supply(&site, lack).await);
        if changes >= MOST_CHANGES {
            break;
        }
        lack = match attempt(&site, facts(&finished), &mut fetched) {
            Ok(ready) => return send(ready, finished, is_last),
            Err(lack) => lack,
        };
    }
    changing(finished)
}

/// The facts of a request.
fn facts(finished: &Finished) -> Facts<'_> {
    let request = &finished.request;
    let authority = authority(request);
    let (host, port) = authority.map_or(("", None), split);
    Facts {
        client: Known::Is(finished.client),
        scheme: Known::Is(Scheme::Http),
        host: authority.map(|_| host).into(),
        port: port.into(),
        method: Known::Is(request.method.as_str()),
        path: Known::Is(request.uri.path()),
        query: request.uri.query().into(),
        fields: Fields::All(&request.headers),
    }
}

fn send(ready: Ready, mut finished: Box<Finished>, is_last: bool) -> Response<LoggedBody> {
    let Ready { answer, content, full, draft } = ready;
    finished.site = answer.site;
    finished.status = answer.status;
    if answer.status.is_client_error() || answer.status.is_server_error() {
        finished.failure = Some(failure(&finished, &answer));
    }
    let Answer { status, mut headers, body, head_only, site } = answer;
    if let Some((codec, size)) = full {
        finished.encoding = codec.name();
        finished.full_bytes = Some(if head_only { 0 } else { size });
    }
    if let (Some(draft), Some(site), false) = (draft, site, is_last) {
        keep_in_mind(&finished, draft, (status, &headers, &content), site);
    }
    // Where the body itself goes out, whoever writes the message adds its length.
    if let (Some(length), true) = (content.length(), head_only && body != Body::None) {
        headers.insert(header::CONTENT_LENGTH, HeaderValue::from(length));
    }
    if is_last {
        headers.insert(header::CONNECTION, HeaderValue::from_static("close"));
    }
    let content = if head_only { Content::none() } else { content };
    assemble(status, headers, LoggedBody::new(content, finished))
}

/// Remembers an answer where the octets of its request are all that it depends on.
fn keep_in_mind(
    finished: &Finished,
    draft: Draft,
    (status, headers, content): (StatusCode, &HeaderMap, &Content),
    site: SiteId,
) {
    let Content::Whole(content) = content else { return };
    let facts = (site, finished.encoding, finished.full_bytes);
    if memory::stands_alone(&finished.request)
        && let Some(head) = finished.pulse.own_head()
    {
        let owner = finished.service.disk.owner();
        memory::remember(owner, &head, &finished.request, draft, (status, headers, content), facts);
    }
}

/// Why a request failed: it is decided once more, every step written down.
fn failure(finished: &Finished, answer: &Answer) -> Failure {
    let service = &finished.service;
    let (_, trace) = answer_traced(&service.config, facts(finished)).finish(|question| {
        let known = service.disk.remembered(question);
        known.map_or(exedra_core::answer::Reply::Entry(Entry::Failed), |kept| kept.reply())
    });
    let told = |step: &&Step| !matches!(step, Step::ErrorPage { .. } | Step::BuiltIn { .. });
    let before_pages = trace.0.iter().take_while(told);
    let mut failure = Failure { file: None, cause: String::new() };
    for step in before_pages.filter(|step| !matches!(step, Step::Site { .. } | Step::Codec { .. })) {
        if let (Step::Looked { at, .. }, Some(id)) = (step, answer.site) {
            let folder = &service.config.site(id).folder.value;
            failure.file = Some(folder.join(at.as_str()).display().to_string());
        }
        failure.cause = step.words();
    }
    failure
}

/// A file changes faster than it can be sent. The client may ask again at once.
fn changing(mut finished: Box<Finished>) -> Response<LoggedBody> {
    let status = StatusCode::SERVICE_UNAVAILABLE;
    finished.status = status;
    let cause = "what is to be sent changes faster than it can be sent".to_owned();
    finished.failure = Some(Failure { file: None, cause });
    if let Some(host) = host(&finished.request) {
        finished.site =
            exedra_core::answer::decide::site_for(&finished.service.config, host).map(|(id, _)| id);
    }
    let mut headers = HeaderMap::new();
    headers.insert(header::RETRY_AFTER, HeaderValue::from_static("1"));
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8"));
    let page = exedra_core::answer::pages::built_in(status);
    assemble(status, headers, LoggedBody::new(Content::Whole(page.into()), finished))
}

fn assemble(status: StatusCode, headers: HeaderMap, body: LoggedBody) -> Response<LoggedBody> {
    let mut response = Response::new(body);
    *response.status_mut() = status;
    *response.headers_mut() = headers;
    response
}
