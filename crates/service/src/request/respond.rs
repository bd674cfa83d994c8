//! One request: its facts to the core, the core's questions to the disk, the core's answer to the wire.
//!
//! Most requests need nothing that is not in memory: they are answered at once, in one go. When something is
//! lacking it is fetched on a thread that may block, and the request is decided anew.

use super::connection::{Connection, Peer};
use super::progress::{Progress, note};
use crate::access::authority::{self, authority, host, split};
use crate::access::forwarded;
use crate::access::limits::{LimitPermit, TooMany};
use crate::active::trials::RealRequest;
use crate::active::{Active, Current};
use crate::request::body::{Content, LoggedBody};
use crate::request::in_flight::{Failure, InFlight, protocol};
use crate::request::resolve::{Fetched, Missing, Resolved, ready, resolve};
use crate::request::response_cache::{self, Candidate};
use exedra_answering::answer::{Answer, Body, Malformed};
use exedra_answering::config::SiteId;
use exedra_answering::config::allowance::AtAllowance;
use exedra_answering::facts::{Facts, Fields, Known, Scheme, read_agent};
use http::header::{self, HeaderValue};
use http::{HeaderMap, Request, Response, StatusCode};
use hyper::body::Incoming;
use hyper::service::Service;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::convert::Infallible;
use std::future::Future;
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
            note(Progress::Waits);
        }
        polled
    }
}

/// Answers the requests of one connection.
pub struct Responder<C> {
    /// By what.
    pub current: Arc<Current>,
    /// Whose they are.
    pub peer: Peer,
    /// What the connection is doing.
    pub activity: Arc<C>,
}

impl<C> Clone for Responder<C> {
    fn clone(&self) -> Self {
        let (current, peer) = (Arc::clone(&self.current), self.peer.clone());
        Responder { current, peer, activity: Arc::clone(&self.activity) }
    }
}

impl<C: Connection + 'static> Service<Request<Incoming>> for Responder<C> {
    type Response = Response<LoggedBody>;
    type Error = Infallible;
    type Future = Responding;

    fn call(&self, request: Request<Incoming>) -> Responding {
        let activity: Arc<dyn Connection> = Arc::clone(&self.activity) as _;
        respond(&self.current, request, &self.peer, activity)
    }
}

fn respond(
    current: &Arc<Current>,
    request: Request<Incoming>,
    peer: &Peer,
    activity: Arc<dyn Connection>,
) -> Responding {
    let site = &current.load_full();
    // Requests that come beside each other end when their connection does.
    let is_last = activity.answering() >= site.config.limits.requests && !activity.is_shared();
    let (request, _body) = request.into_parts();
    if !response_cache::stands_alone(&request) {
        activity.has_more();
    }
    let service = &site.config.service;
    let origin = forwarded::origin(peer.address, &request.headers, &service.forwarders, service.forwarded_by);
    let scheme = origin.scheme.unwrap_or(peer.scheme);
    let in_flight = Box::new(InFlight {
        service: Arc::clone(site),
        activity: Arc::clone(&activity),
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
        obligations: None,
        permit: None,
        bytes: 0,
        failure: None,
    });
    if let Some(reply) = site.tokens.reply_to(in_flight.request.uri.path()) {
        return Responding::Now(Some(reply_to_authority(reply, in_flight)));
    }
    if let Some((token, path)) = site.trials.token_of(in_flight.request.uri.path()) {
        let (token, request) = (token.to_owned(), real_request(&in_flight, path));
        return Responding::Later(Box::pin(respond_to_trial(token, request, in_flight, is_last)));
    }
    if let Some(why) = authority::fault(&in_flight.request) {
        return Responding::Later(Box::pin(respond_malformed(why, in_flight, is_last)));
    }
    let mut fetched = Fetched::of(in_flight.client, activity.is_shared());
    match resolve(site, facts(&in_flight), &mut fetched) {
        Ok(ready) if ready.answer.obligations.is_none() => {
            Responding::Now(Some(send(ready, in_flight, is_last)))
        }
        Ok(ready) => match pass(&ready.answer, in_flight) {
            Ok(in_flight) => Responding::Now(Some(send(ready, in_flight, is_last))),
            Err((in_flight, why)) => {
                Responding::Later(Box::pin(respond_held_back(ready.answer, why, in_flight, is_last)))
            }
        },
        Err(missing) => Responding::Later(Box::pin(respond_later(missing, in_flight, is_last))),
    }
}

/// What an authority wants to hear before it makes a certificate, whatever rules say.
fn reply_to_authority(reply: String, mut in_flight: Box<InFlight>) -> Response<LoggedBody> {
    let host = host(&in_flight.request).unwrap_or_default();
    in_flight.site =
        exedra_answering::answer::home::site_for(&in_flight.service.config, host).map(|(id, _)| id);
    let mut headers = HeaderMap::new();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/octet-stream"));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    assemble(StatusCode::OK, headers, LoggedBody::new(Content::Whole(reply.into()), in_flight))
}

/// A request as whoever explains it sees it, for another path.
fn real_request(in_flight: &InFlight, path: &str) -> RealRequest {
    let request = &in_flight.request;
    let tls = in_flight.tls.as_deref();
    RealRequest {
        method: request.method.to_string(),
        scheme: in_flight.scheme,
        authority: authority(request).unwrap_or_default().to_owned(),
        path: path.to_owned(),
        query: request.uri.query().map(str::to_owned),
        client: in_flight.client,
        headers: request.headers.clone(),
        protocol: protocol(request.version),
        tls: tls.and_then(|tls| tls.version),
        tls_name: tls.and_then(|tls| tls.name.clone()),
        certificate: tls.and_then(|tls| tls.certificate.clone()),
        server: in_flight.server,
    }
}

/// Somebody has opened an address to see what becomes of their request: they are told.
async fn respond_to_trial(
    token: String,
    request: RealRequest,
    mut in_flight: Box<InFlight>,
    is_last: bool,
) -> Response<LoggedBody> {
    let host = host(&in_flight.request).unwrap_or_default();
    in_flight.site =
        exedra_answering::answer::home::site_for(&in_flight.service.config, host).map(|(id, _)| id);
    let site = Arc::clone(&in_flight.service);
    let told = tokio::task::spawn_blocking(move || site.trials.take(&token, &site, &request));
    // Somebody else has been quicker by a moment, and may be told that by asking again.
    let Ok(Some(page)) = told.await else { return changing(in_flight) };
    let mut headers = HeaderMap::new();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8"));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    headers.insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    let policy = "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'";
    headers.insert(header::CONTENT_SECURITY_POLICY, HeaderValue::from_static(policy));
    if is_last {
        headers.insert(header::CONNECTION, HeaderValue::from_static("close"));
    }
    assemble(StatusCode::OK, headers, LoggedBody::new(Content::Whole(page.into()), in_flight))
}

/// Why a request that could be answered is not.
enum HeldBack {
    /// The client has used up what a rule allows it.
    Client(TooMany),
    /// The site has used up what it may send this month.
    Site,
}

/// Lets a request pass by the limits that rules oblige it to, and by the month's allowance.
fn pass(answer: &Answer, mut in_flight: Box<InFlight>) -> Result<Box<InFlight>, (Box<InFlight>, HeldBack)> {
    let Some(obligations) = &answer.obligations else { return Ok(in_flight) };
    let service = Arc::clone(&in_flight.service);
    let site = answer.site.filter(|_| obligations.within_allowance);
    let in_force = site.map_or(AtAllowance::Tell, |site| service.allowance.in_force(&service.config, site));
    if in_force == AtAllowance::Refuse {
        return Err((in_flight, HeldBack::Site));
    }
    match service.limits.pass(obligations, in_flight.client, in_flight.began) {
        Ok(permit) => {
            in_flight.permit = match in_force {
                AtAllowance::Slow(speed) => Some(LimitPermit::slowed(permit, &service.limits, speed)),
                _ => permit,
            };
            Ok(in_flight)
        }
        Err(too_many) => Err((in_flight, HeldBack::Client(too_many))),
    }
}

/// How often something may be fetched for one request before it is given up.
const MOST_FETCHES: usize = 64;
/// How often a request is decided anew because what it was decided by has changed meanwhile.
const MOST_CHANGES: usize = 3;

async fn respond_later(missing: Missing, in_flight: Box<InFlight>, is_last: bool) -> Response<LoggedBody> {
    let (found, in_flight) =
        fetch(missing, in_flight, |site, in_flight, fetched| resolve(site, facts(in_flight), fetched)).await;
    let Some(ready) = found else { return changing(in_flight) };
    match pass(&ready.answer, in_flight) {
        Ok(in_flight) => send(ready, in_flight, is_last),
        Err((in_flight, why)) => respond_held_back(ready.answer, why, in_flight, is_last).await,
    }
}

/// The client or the site has used up what it may take: that is told, by the site's own page where there is one.
async fn respond_held_back(
    refused: Answer,
    why: HeldBack,
    in_flight: Box<InFlight>,
    is_last: bool,
) -> Response<LoggedBody> {
    let decide = |site: &Active, in_flight: &InFlight, fetched: &mut Fetched| {
        let (config, facts) = (&site.config, facts(in_flight));
        let decision = match &why {
            HeldBack::Client(too_many) => {
                exedra_answering::answer::too_many(config, facts, &refused, too_many.seconds)
            }
            HeldBack::Site => {
                let seconds = until_next_month(&config.service.time_zone);
                exedra_answering::answer::over_allowance(config, facts, &refused, seconds)
            }
        };
        ready(site, decision, fetched)
    };
    let cause = match &why {
        HeldBack::Client(_) => {
            let rule = refused.obligations.as_ref().and_then(|obligations| obligations.rule.as_deref());
            format!("`{}` allows this client no more for now", rule.unwrap_or_default())
        }
        HeldBack::Site => "the month's allowance is used up, and downloads are refused then".to_owned(),
    };
    let (found, in_flight) = respond_instead(in_flight, cause, decide).await;
    let Some(mut ready) = found else { return changing(in_flight) };
    ready.answer.obligations = refused.obligations;
    send(ready, in_flight, is_last)
}

/// In how many seconds the next month begins.
fn until_next_month(zone: &TimeZone) -> u64 {
    let now = Timestamp::now();
    let next = now.to_zoned(zone.clone()).last_of_month().and_then(|day| day.tomorrow()?.start_of_day());
    next.map_or(0, |next| u64::try_from((next.timestamp() - now).get_seconds()).unwrap_or(0))
}

/// What asks for nothing that could be: it is told so, by the site's own page where there is one.
async fn respond_malformed(why: Malformed, in_flight: Box<InFlight>, is_last: bool) -> Response<LoggedBody> {
    let decide = |site: &Active, in_flight: &InFlight, fetched: &mut Fetched| {
        let decision = exedra_answering::answer::malformed(&site.config, facts(in_flight), &why, ());
        ready(site, decision, fetched)
    };
    match respond_instead(in_flight, why.words(), decide).await {
        (Some(ready), in_flight) => send(ready, in_flight, is_last),
        (None, in_flight) => changing(in_flight),
    }
}

/// An answer that was decided upon before anything was asked for, fetched like any other.
async fn respond_instead(
    in_flight: Box<InFlight>,
    cause: String,
    decide: impl Fn(&Active, &InFlight, &mut Fetched) -> Result<Resolved, Missing>,
) -> (Option<Resolved>, Box<InFlight>) {
    let site = Arc::clone(&in_flight.service);
    let (found, mut in_flight) = match decide(&site, &in_flight, &mut Fetched::default()) {
        Ok(ready) => (Some(ready), in_flight),
        Err(missing) => fetch(missing, in_flight, decide).await,
    };
    in_flight.failure.get_or_insert(Failure { file: None, cause });
    (found, in_flight)
}

/// Fetches what is lacking until there is an answer. There is none when what it rests upon keeps changing.
async fn fetch(
    mut missing: Missing,
    in_flight: Box<InFlight>,
    again: impl Fn(&Active, &InFlight, &mut Fetched) -> Result<Resolved, Missing>,
) -> (Option<Resolved>, Box<InFlight>) {
    let site = Arc::clone(&in_flight.service);
    let mut fetched = Fetched::of(in_flight.client, in_flight.activity.is_shared());
    let mut changes = 0;
    for _ in 0..MOST_FETCHES {
        changes += usize::from(!fetched.supply(&site, in_flight.client, missing).await);
        if fetched.refused {
            return (None, Box::new(InFlight { failure: Some(no_descriptor()), ..*in_flight }));
        }
        if changes >= MOST_CHANGES {
            break;
        }
        missing = match again(&site, &in_flight, &mut fetched) {
            Ok(ready) => return (Some(ready), in_flight),
            Err(missing) => missing,
        };
    }
    (None, in_flight)
}

/// The facts of a request.
fn facts(in_flight: &InFlight) -> Facts<'_> {
    let request = &in_flight.request;
    let (authority, tls) = (authority(request), in_flight.tls.as_deref());
    let (host, port) = authority.map_or(("", None), split);
    Facts {
        client: Known::Is(in_flight.client),
        country: match in_flight.service.config.asks.country {
            true => in_flight.country.as_deref().into(),
            false => Known::Unknown,
        },
        scheme: Known::Is(in_flight.scheme),
        tls: tls.and_then(|tls| tls.version).into(),
        tls_name: tls.and_then(|tls| tls.name.as_deref()).into(),
        certificate: tls.and_then(|tls| tls.certificate.as_deref()).into(),
        server: in_flight.server.into(),
        agents: Some(read_agent),
        protocol: Known::Is(protocol(request.version)),
        host: authority.map(|_| host).into(),
        port: port.into(),
        method: Known::Is(request.method.as_str()),
        path: Known::Is(request.uri.path()),
        query: request.uri.query().into(),
        fields: Fields::All(&request.headers),
        time: in_flight.service.local_time(in_flight.time),
        now: Known::Is(in_flight.time.div_euclid(1000)),
    }
}

fn send(ready: Resolved, mut in_flight: Box<InFlight>, is_last: bool) -> Response<LoggedBody> {
    let Resolved { answer, content, full, candidate } = ready;
    in_flight.site = answer.site;
    in_flight.status = answer.status;
    if in_flight.failure.is_none() && (answer.status.is_client_error() || answer.status.is_server_error()) {
        in_flight.failure = Some(failure(&in_flight, &answer));
    }
    let Answer { status, mut headers, body, head_only, site, obligations, .. } = answer;
    in_flight.obligations = obligations;
    if let Some((codec, size)) = full {
        in_flight.encoding = codec.name();
        in_flight.full_bytes = Some(if head_only { 0 } else { size });
    }
    if let (Some(candidate), Some(site), false) = (candidate, site, is_last) {
        keep_in_mind(&in_flight, candidate, (status, &headers, &content), site);
    }
    // Where the body itself goes out, whoever writes the message adds its length.
    if let (Some(length), true) = (content.length(), head_only && body != Body::None) {
        headers.insert(header::CONTENT_LENGTH, HeaderValue::from(length));
    }
    if is_last {
        headers.insert(header::CONNECTION, HeaderValue::from_static("close"));
    }
    let content = if head_only { Content::none() } else { content };
    assemble(status, headers, LoggedBody::new(content, in_flight))
}

/// Remembers an answer where the octets of its request are all that it depends on.
fn keep_in_mind(
    in_flight: &InFlight,
    candidate: Candidate,
    (status, headers, content): (StatusCode, &HeaderMap, &Content),
    site: SiteId,
) {
    let Content::Whole(content) = content else { return };
    let facts = (site, in_flight.encoding, in_flight.full_bytes);
    if in_flight.is_bare
        && response_cache::stands_alone(&in_flight.request)
        && let Some(head) = in_flight.activity.own_head()
    {
        let (owner, obligations) = (in_flight.service.owner, in_flight.obligations.as_deref());
        response_cache::remember(
            owner,
            &head,
            &in_flight.request,
            candidate,
            (status, headers, content),
            facts,
            obligations,
        );
    }
}

/// Why a request failed.
fn failure(in_flight: &InFlight, answer: &Answer) -> Failure {
    let Some(cause) = &answer.cause else { return Failure { file: None, cause: String::new() } };
    let root = answer.site.and_then(|id| in_flight.service.config.site(id).root());
    let file = root.zip(cause.at.as_ref()).map(|(root, at)| root.join(at.as_str()).display().to_string());
    Failure { file, cause: cause.step.words() }
}

/// Why a client is sent no file for now.
fn no_descriptor() -> Failure {
    let cause = "too many files are open at once, in all or by this client: see `files` in `exedra status`";
    Failure { file: None, cause: cause.to_owned() }
}

/// A file changes faster than it can be sent, or may not be opened just now. The client may ask again at once.
fn changing(mut in_flight: Box<InFlight>) -> Response<LoggedBody> {
    let status = StatusCode::SERVICE_UNAVAILABLE;
    in_flight.status = status;
    let cause = "what is to be sent changes faster than it can be sent".to_owned();
    in_flight.failure.get_or_insert(Failure { file: None, cause });
    if let Some(host) = host(&in_flight.request) {
        in_flight.site =
            exedra_answering::answer::home::site_for(&in_flight.service.config, host).map(|(id, _)| id);
    }
    let mut headers = HeaderMap::new();
    headers.insert(header::RETRY_AFTER, HeaderValue::from_static("1"));
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8"));
    let page = exedra_answering::answer::pages::built_in(status, None);
    assemble(status, headers, LoggedBody::new(Content::Whole(page.into()), in_flight))
}

fn assemble(status: StatusCode, headers: HeaderMap, body: LoggedBody) -> Response<LoggedBody> {
    let mut response = Response::new(body);
    *response.status_mut() = status;
    *response.headers_mut() = headers;
    response
}
