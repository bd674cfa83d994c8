//! One request: its facts to the core, the core's questions to the disk, the core's answer to the wire.
//!
//! Most requests need nothing that is not in memory: they are answered at once, in one go. When something is
//! lacking it is fetched on a thread that may block, and the request is decided anew.

use crate::attempt::{Fetched, Lack, Ready, attempt, ready};
use crate::authority::{self, authority, host, split};
use crate::body::{Content, LoggedBody};
use crate::connections::activity::Activity;
use crate::finished::{Failure, Finished, protocol};
use crate::forwarded;
use crate::limits::TooMany;
use crate::memory::{self, Draft};
use crate::site::{Current, Site};
use exedra_core::answer::{
    Answer, Body, Entry, Malformed, Password, Reply, Step, Trace, Want, answer_traced,
};
use exedra_core::classify::agents;
use exedra_core::config::SiteId;
use exedra_core::facts::{AgentPart, Facts, Fields, Known, Scheme};
use http::header::{self, HeaderValue};
use http::{HeaderMap, Request, Response, StatusCode};
use hyper::body::Incoming;
use hyper::service::Service;
use std::convert::Infallible;
use std::future::Future;
use std::net::{IpAddr, SocketAddr};
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
        let polled = match self.get_mut() {
            Responding::Now(response) => {
                response.take().map_or(Poll::Pending, |response| Poll::Ready(Ok(response)))
            }
            Responding::Later(response) => response.as_mut().poll(context).map(Ok),
        };
        if polled.is_pending() {
            crate::connections::streams::note_waiting();
        }
        polled
    }
}

/// Whom a connection comes from, and how.
#[derive(Debug, Clone)]
pub struct Peer {
    /// Address of whoever connected, or was announced.
    pub address: IpAddr,
    /// How.
    pub scheme: Scheme,
    /// Address and port of ours that it came to.
    pub server: Option<SocketAddr>,
    /// How it was secured.
    pub tls: Option<Arc<Secured>>,
}

/// How a connection was secured.
#[derive(Debug)]
pub struct Secured {
    /// Version of TLS.
    pub version: Option<&'static str>,
    /// The name that was asked for, in lower case.
    pub name: Option<String>,
    /// The first name of the certificate that was shown.
    pub certificate: Option<String>,
}

/// Answers the requests of one connection.
#[derive(Clone)]
pub struct Responder {
    /// By what.
    pub current: Arc<Current>,
    /// Whose they are.
    pub peer: Peer,
    /// What the connection is doing.
    pub activity: Arc<Activity>,
}

impl Service<Request<Incoming>> for Responder {
    type Response = Response<LoggedBody>;
    type Error = Infallible;
    type Future = Responding;

    fn call(&self, request: Request<Incoming>) -> Responding {
        respond(&self.current, request, &self.peer, &self.activity)
    }
}

fn respond(
    current: &Arc<Current>,
    request: Request<Incoming>,
    peer: &Peer,
    activity: &Arc<Activity>,
) -> Responding {
    let site = &current.load_full();
    // Requests that come beside each other end when their connection does.
    let is_last = activity.answering() >= site.config.limits.requests && !activity.is_shared();
    let (request, _body) = request.into_parts();
    if !memory::stands_alone(&request) {
        activity.has_more();
    }
    let service = &site.config.service;
    let origin = forwarded::origin(peer.address, &request.headers, &service.forwarders, service.forwarded_by);
    let scheme = origin.scheme.unwrap_or(peer.scheme);
    let finished = Box::new(Finished {
        service: Arc::clone(site),
        activity: Arc::clone(activity),
        time: jiff::Timestamp::now().as_millisecond(),
        began: Instant::now(),
        client: origin.client,
        country: site.country(origin.client).value().map(Into::into),
        scheme,
        server: peer.server,
        tls: peer.tls.clone(),
        is_bare: peer.tls.is_none() && scheme == Scheme::Http,
        request,
        site: None,
        status: StatusCode::OK,
        encoding: "",
        full_bytes: None,
        bound: None,
        passage: None,
        bytes: 0,
        failure: None,
    });
    if let Some(told) = site.tokens.told(finished.request.uri.path()) {
        return Responding::Now(Some(tell(told, finished)));
    }
    if let Some(why) = authority::fault(&finished.request) {
        return Responding::Later(Box::pin(respond_malformed(why, finished, is_last)));
    }
    let mut fetched = Fetched::of(finished.client, activity.is_shared());
    match attempt(site, facts(&finished), &mut fetched) {
        Ok(ready) if ready.answer.bound.is_none() => Responding::Now(Some(send(ready, finished, is_last))),
        Ok(ready) => match pass(&ready.answer, finished) {
            Ok(finished) => Responding::Now(Some(send(ready, finished, is_last))),
            Err((finished, too_many)) => {
                Responding::Later(Box::pin(respond_too_many(ready.answer, too_many, finished, is_last)))
            }
        },
        Err(lack) => Responding::Later(Box::pin(respond_later(lack, finished, is_last))),
    }
}

/// What an authority wants to hear before it makes a certificate, whatever rules say.
fn tell(told: String, mut finished: Box<Finished>) -> Response<LoggedBody> {
    let host = host(&finished.request).unwrap_or_default();
    finished.site = exedra_core::answer::home::site_for(&finished.service.config, host).map(|(id, _)| id);
    let mut headers = HeaderMap::new();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/octet-stream"));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    assemble(StatusCode::OK, headers, LoggedBody::new(Content::Whole(told.into()), finished))
}

/// Lets a request pass by the limits that rules oblige it to.
fn pass(answer: &Answer, mut finished: Box<Finished>) -> Result<Box<Finished>, (Box<Finished>, TooMany)> {
    let Some(bound) = &answer.bound else { return Ok(finished) };
    match finished.service.limits.pass(bound, finished.client, finished.began) {
        Ok(passage) => {
            finished.passage = passage;
            Ok(finished)
        }
        Err(too_many) => Err((finished, too_many)),
    }
}

/// How often something may be fetched for one request before it is given up.
const MOST_FETCHES: usize = 64;
/// How often a request is decided anew because what it was decided by has changed meanwhile.
const MOST_CHANGES: usize = 3;

async fn respond_later(lack: Lack, finished: Box<Finished>, is_last: bool) -> Response<LoggedBody> {
    let (found, finished) =
        fetch(lack, finished, |site, finished, fetched| attempt(site, facts(finished), fetched)).await;
    let Some(ready) = found else { return changing(finished) };
    match pass(&ready.answer, finished) {
        Ok(finished) => send(ready, finished, is_last),
        Err((finished, too_many)) => respond_too_many(ready.answer, too_many, finished, is_last).await,
    }
}

/// The client has used up what it may take: it is told so, by the site's own page where there is one.
async fn respond_too_many(
    refused: Answer,
    too_many: TooMany,
    finished: Box<Finished>,
    is_last: bool,
) -> Response<LoggedBody> {
    let decide = |site: &Site, finished: &Finished, fetched: &mut Fetched| {
        let turn = exedra_core::answer::too_many(&site.config, facts(finished), &refused, too_many.seconds);
        ready(site, turn, fetched)
    };
    let rule = refused.bound.as_ref().and_then(|bound| bound.rule.as_deref()).unwrap_or_default();
    let cause = format!("`{rule}` allows this client no more for now");
    let (found, finished) = respond_instead(finished, cause, decide).await;
    let Some(mut ready) = found else { return changing(finished) };
    ready.answer.bound = refused.bound;
    send(ready, finished, is_last)
}

/// What asks for nothing that could be: it is told so, by the site's own page where there is one.
async fn respond_malformed(why: Malformed, finished: Box<Finished>, is_last: bool) -> Response<LoggedBody> {
    let decide = |site: &Site, finished: &Finished, fetched: &mut Fetched| {
        let turn = exedra_core::answer::malformed(&site.config, facts(finished), &why, ());
        ready(site, turn, fetched)
    };
    match respond_instead(finished, why.words(), decide).await {
        (Some(ready), finished) => send(ready, finished, is_last),
        (None, finished) => changing(finished),
    }
}

/// An answer that was decided upon before anything was asked for, fetched like any other.
async fn respond_instead(
    finished: Box<Finished>,
    cause: String,
    decide: impl Fn(&Site, &Finished, &mut Fetched) -> Result<Ready, Lack>,
) -> (Option<Ready>, Box<Finished>) {
    let site = Arc::clone(&finished.service);
    let (found, mut finished) = match decide(&site, &finished, &mut Fetched::default()) {
        Ok(ready) => (Some(ready), finished),
        Err(lack) => fetch(lack, finished, decide).await,
    };
    finished.failure.get_or_insert(Failure { file: None, cause });
    (found, finished)
}

/// Fetches what is lacking until there is an answer. There is none when what it rests upon keeps changing.
async fn fetch(
    mut lack: Lack,
    finished: Box<Finished>,
    again: impl Fn(&Site, &Finished, &mut Fetched) -> Result<Ready, Lack>,
) -> (Option<Ready>, Box<Finished>) {
    let site = Arc::clone(&finished.service);
    let mut fetched = Fetched::of(finished.client, finished.activity.is_shared());
    let mut changes = 0;
    for _ in 0..MOST_FETCHES {
        changes += usize::from(!fetched.supply(&site, finished.client, lack).await);
        if fetched.refused {
            return (None, Box::new(Finished { failure: Some(no_descriptor()), ..*finished }));
        }
        if changes >= MOST_CHANGES {
            break;
        }
        lack = match again(&site, &finished, &mut fetched) {
            Ok(ready) => return (Some(ready), finished),
            Err(lack) => lack,
        };
    }
    (None, finished)
}

/// The facts of a request.
fn facts(finished: &Finished) -> Facts<'_> {
    let request = &finished.request;
    let (authority, tls) = (authority(request), finished.tls.as_deref());
    let (host, port) = authority.map_or(("", None), split);
    Facts {
        client: Known::Is(finished.client),
        country: match finished.service.config.asks.country {
            true => finished.country.as_deref().into(),
            false => Known::Unknown,
        },
        scheme: Known::Is(finished.scheme),
        tls: tls.and_then(|tls| tls.version).into(),
        tls_name: tls.and_then(|tls| tls.name.as_deref()).into(),
        certificate: tls.and_then(|tls| tls.certificate.as_deref()).into(),
        server: finished.server.into(),
        agents: Some(read_agent),
        protocol: Known::Is(protocol(request.version)),
        host: authority.map(|_| host).into(),
        port: port.into(),
        method: Known::Is(request.method.as_str()),
        path: Known::Is(request.uri.path()),
        query: request.uri.query().into(),
        fields: Fields::All(&request.headers),
        time: finished.service.local_time(finished.time),
        now: Known::Is(finished.time.div_euclid(1000)),
    }
}

/// What an agent says of itself, as reports understand it.
pub fn read_agent(agent: &str, part: AgentPart) -> Option<String> {
    let read = agents::read(agent);
    match part {
        AgentPart::Browser => read.browser.clone(),
        AgentPart::System => read.system.clone(),
        AgentPart::Device => read.device.map(str::to_owned),
    }
}

fn send(ready: Ready, mut finished: Box<Finished>, is_last: bool) -> Response<LoggedBody> {
    let Ready { answer, content, full, draft } = ready;
    finished.site = answer.site;
    finished.status = answer.status;
    if finished.failure.is_none() && (answer.status.is_client_error() || answer.status.is_server_error()) {
        finished.failure = Some(failure(&finished, &answer));
    }
    let Answer { status, mut headers, body, head_only, site, bound, .. } = answer;
    finished.bound = bound;
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
    if finished.is_bare
        && memory::stands_alone(&finished.request)
        && let Some(head) = finished.activity.own_head()
    {
        let (owner, bound) = (finished.service.owner, finished.bound.as_deref());
        memory::remember(owner, &head, &finished.request, draft, (status, headers, content), facts, bound);
    }
}

/// Why a request failed: it is decided once more, every step written down.
fn failure(finished: &Finished, answer: &Answer) -> Failure {
    let service = &finished.service;
    let trace = Trace::default();
    let (_, trace) = answer_traced(&service.config, facts(finished), trace).finish_with(
        |question| match question.want {
            Want::Settings => {
                let known = service.folders.remembered(question, &service.disk);
                Reply::Settings(known.and_then(|known| known.chain.clone()))
            }
            _ => {
                let known = service.disk.remembered(question);
                known.map_or(Reply::Entry(Entry::Failed), |kept| kept.reply())
            }
        },
        |credentials| match answer.status {
            // Limits have said so themselves; otherwise it was the login.
            StatusCode::TOO_MANY_REQUESTS => Password::Unchecked { seconds: 0 },
            _ => service.guards.remembers(credentials).into(),
        },
    );
    let told = |step: &&Step| !matches!(step, Step::ErrorPage { .. } | Step::BuiltIn { .. });
    let before_pages = trace.steps.iter().take_while(told);
    let mut failure = Failure { file: None, cause: String::new() };
    for step in before_pages.filter(|step| !matches!(step, Step::Site { .. } | Step::Codec { .. })) {
        if let (Step::Looked { at, .. }, Some(id)) = (step, answer.site) {
            let folder = service.config.site(id).root();
            failure.file = folder.map(|folder| folder.join(at.as_str()).display().to_string());
        }
        failure.cause = step.words();
    }
    failure
}

/// Why a client is sent no file for now.
fn no_descriptor() -> Failure {
    let cause = "too many files are open at once, in all or by this client: see `files` in `exedra status`";
    Failure { file: None, cause: cause.to_owned() }
}

/// A file changes faster than it can be sent, or may not be opened just now. The client may ask again at once.
fn changing(mut finished: Box<Finished>) -> Response<LoggedBody> {
    let status = StatusCode::SERVICE_UNAVAILABLE;
    finished.status = status;
    let cause = "what is to be sent changes faster than it can be sent".to_owned();
    finished.failure.get_or_insert(Failure { file: None, cause });
    if let Some(host) = host(&finished.request) {
        finished.site = exedra_core::answer::home::site_for(&finished.service.config, host).map(|(id, _)| id);
    }
    let mut headers = HeaderMap::new();
    headers.insert(header::RETRY_AFTER, HeaderValue::from_static("1"));
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8"));
    let page = exedra_core::answer::pages::built_in(status, None);
    assemble(status, headers, LoggedBody::new(Content::Whole(page.into()), finished))
}

fn assemble(status: StatusCode, headers: HeaderMap, body: LoggedBody) -> Response<LoggedBody> {
    let mut response = Response::new(body);
    *response.status_mut() = status;
    *response.headers_mut() = headers;
    response
}
