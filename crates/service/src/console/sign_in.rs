//! Who is let in: a browser with a session, made by a one-time link or by a name and a password; a program with a token.

use super::caller::{Caller, Console};
use super::failure::{Failure, Sent, problem};
use super::hosts::port;
use super::peer::{Peer, SECURED};
use super::recording::{ChangeDetail, write_down};
use crate::access::guards::login_throttle::Who;
use crate::access::guards::password_check::Checked;
use crate::access::guards::{nobody, verify};
use axum::Extension;
use axum::extract::rejection::QueryRejection;
use axum::extract::{Query, Request, State};
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Redirect, Response};
use exedra_api::Problem;
use exedra_api::accounts::SignIn;
use exedra_common::grant::Role;
use exedra_common::text::clean;
use exedra_store::{Holder, Purpose, Secrets, StoreError};
use serde::Deserialize;
use std::sync::Arc;

/// How long a session lasts, in seconds.
const SESSION_TIME: i64 = 7 * 24 * 3600;

/// The name of the cookie. Browsers send cookies to all ports of a host: another console's must not be taken for ours.
fn cookie(headers: &HeaderMap) -> String {
    format!("exedra_session_{}", port(headers))
}

/// What a one-time link says.
#[derive(Deserialize)]
pub struct Link {
    key: String,
}

/// Uses a one-time link up and opens a session.
pub async fn sign_in(
    State(console): State<Arc<Console>>,
    method: Method,
    headers: HeaderMap,
    link: Result<Query<Link>, QueryRejection>,
) -> Result<Response, Failure> {
    let key = link.ok().map(|Query(link)| link.key);
    let now = jiff::Timestamp::now().as_second();
    // A preview that only asks for the head must not use the link up.
    let opened = match key {
        Some(key) if method == Method::GET => {
            with(&console, move |secrets| {
                let opened = secrets.use_up(&key, Purpose::Link, now)?;
                let session =
                    || secrets.make(Purpose::Session, &Holder::this_machine(), now, now + SESSION_TIME);
                opened.then(session).transpose()
            })
            .await?
        }
        _ => None,
    };
    let Some(session) = opened else { return Ok(Redirect::to("/?link=used").into_response()) };
    with_session(&session, &headers, Redirect::to("/").into_response())
}

/// An answer after which a browser has a session.
fn with_session(session: &str, headers: &HeaderMap, mut response: Response) -> Result<Response, Failure> {
    let name = cookie(headers);
    let secure = if headers.contains_key(SECURED) { "; Secure" } else { "" };
    let cookie =
        format!("{name}={session}; HttpOnly; SameSite=Strict; Path=/; Max-Age={SESSION_TIME}{secure}");
    response
        .headers_mut()
        .insert(header::SET_COOKIE, HeaderValue::from_str(&cookie).map_err(|_| Failure::Internal)?);
    Ok(response)
}

/// Opens a session for whoever knows the name and the password of an account. Whoever has failed lately waits first.
#[utoipa::path(post, path = "/sign-in", request_body = SignIn,
    responses((status = 204), (status = 401, body = Problem), (status = 403, body = Problem), (status = 429, body = Problem)))]
pub async fn sign_in_by_name(
    State(console): State<Arc<Console>>,
    Extension(Peer(client)): Extension<Peer>,
    headers: HeaderMap,
    Sent(SignIn { name, password }): Sent<SignIn>,
) -> Result<Response, Failure> {
    if !is_our_own(&headers) {
        return Ok(foreign());
    }
    let (accounts, wanted) = (Arc::clone(&console.accounts), name.clone());
    let account = tokio::task::spawn_blocking(move || accounts.get(&wanted)).await;
    let account = account.map_err(|_| Failure::Internal)??;
    let who = Who::new(client, account.as_ref().map(|account| (usize::MAX, &account.name)));
    let (is_known, kept) = match account {
        Some(account) => (true, account.password),
        // It takes as long where there is no such account.
        None => (false, nobody().to_owned()),
    };
    match console.passwords.check(who, move || verify(&password, &kept) && is_known).await {
        Checked::Right => {
            let (now, made_for) = (jiff::Timestamp::now().as_second(), Holder::account(&name));
            let session = with(&console, move |secrets| {
                secrets.make(Purpose::Session, &made_for, now, now + SESSION_TIME)
            });
            let mut response =
                with_session(&session.await?, &headers, StatusCode::NO_CONTENT.into_response())?;
            response.extensions_mut().insert(ChangeDetail("signed in".to_owned()));
            let what = "POST /api/v1/sign-in".to_owned();
            write_down(&console, name, Some(client), what, &response);
            Ok(response)
        }
        Checked::Wrong => {
            // Not among the changes: strangers would write so many there that nothing else is left.
            let shown: String = name.chars().take(100).collect();
            tracing::warn!(%client, "sign-in to the console failed for `{}`", clean(&shown));
            let detail = "There is no account of this name, or it has another password.";
            Ok(problem(StatusCode::UNAUTHORIZED, "Not signed in", detail))
        }
        Checked::Later { seconds } => {
            let detail = format!("Too many attempts at a time: try again in {seconds} s.");
            let mut response = problem(StatusCode::TOO_MANY_REQUESTS, "Too many attempts", &detail);
            response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from(seconds));
            Ok(response)
        }
    }
}

/// Ends a session.
#[utoipa::path(post, path = "/sign-out", responses((status = 204)))]
pub async fn sign_out(State(console): State<Arc<Console>>, headers: HeaderMap) -> Result<Response, Failure> {
    if let Some(session) = session(&headers) {
        let (session, now) = (session.to_owned(), jiff::Timestamp::now().as_second());
        with(&console, move |secrets| secrets.use_up(&session, Purpose::Session, now)).await?;
    }
    let mut response = StatusCode::NO_CONTENT.into_response();
    let forget = format!("{}=; HttpOnly; SameSite=Strict; Path=/; Max-Age=0", cookie(&headers));
    response
        .headers_mut()
        .insert(header::SET_COOKIE, HeaderValue::from_str(&forget).map_err(|_| Failure::Internal)?);
    Ok(response)
}

/// Whoever asks, if they are known by what they send.
pub async fn known(console: &Arc<Console>, headers: &HeaderMap) -> Result<Option<Caller>, Failure> {
    let now = jiff::Timestamp::now().as_second();
    let (secret, purpose) = match (token(headers), session(headers)) {
        (Some(token), _) => (token.to_owned(), Purpose::Token),
        (None, Some(session)) => (session.to_owned(), Purpose::Session),
        (None, None) => return Ok(None),
    };
    let known = with(console, move |secrets| secrets.opens(&secret, purpose, now)).await?;
    Ok(known.map(|known| Caller::new(Arc::clone(console), known, purpose)))
}

/// Lets through only who is known, and changes only from our own pages. What comes behind knows who asks.
pub async fn only_known(State(console): State<Arc<Console>>, mut request: Request, next: Next) -> Response {
    let headers = request.headers();
    let caller = match known(&console, headers).await {
        Err(failure) => return failure.into_response(),
        Ok(Some(caller)) => caller,
        Ok(None) => return not_signed_in(),
    };
    if !request.method().is_safe() && token(headers).is_none() && !is_our_own(headers) {
        return foreign();
    }
    request.extensions_mut().insert(caller);
    next.run(request).await
}

/// What whoever is not known is told.
pub fn not_signed_in() -> Response {
    let detail = "Sign in by name and password, or open a sign-in link: `exedra sign-in` on the server prints a fresh one. \
                  Programs send a token.";
    problem(StatusCode::UNAUTHORIZED, "Not signed in", detail)
}

fn foreign() -> Response {
    let detail = "Changes are taken only from the console's own pages.";
    problem(StatusCode::FORBIDDEN, "From a foreign page", detail)
}

/// Lets through only who changes.
pub async fn only_operators(caller: Caller, request: Request, next: Next) -> Response {
    if caller.may(Role::Operator) && caller.sees_all() {
        return next.run(request).await;
    }
    let detail = match caller.may(Role::Operator) {
        true => "This call is about all sites: it is for operators who see all of them.",
        false => "Only operators may make this call, and this is a viewer.",
    };
    problem(StatusCode::FORBIDDEN, "For operators only", detail)
}

/// Does something with what opens the console, which is in a database: not on the thread that others wait for.
async fn with<T: Send + 'static>(
    console: &Console,
    run: impl FnOnce(&Secrets) -> Result<T, StoreError> + Send + 'static,
) -> Result<T, Failure> {
    let secrets = Arc::clone(&console.secrets);
    let done = tokio::task::spawn_blocking(move || run(&secrets)).await;
    Ok(done.map_err(|_| Failure::Internal)??)
}

fn token(headers: &HeaderMap) -> Option<&str> {
    headers.get(header::AUTHORIZATION)?.to_str().ok()?.strip_prefix("Bearer ")
}

fn session(headers: &HeaderMap) -> Option<&str> {
    let lines = headers.get_all(header::COOKIE).iter().filter_map(|line| line.to_str().ok());
    let mut pairs = lines.flat_map(|line| line.split(';')).filter_map(|pair| pair.trim().split_once('='));
    let wanted = cookie(headers);
    pairs.find(|(name, _)| *name == wanted).map(|(_, value)| value)
}

/// Browsers say where a change comes from (the `Origin` field); it must be this very console.
fn is_our_own(headers: &HeaderMap) -> bool {
    let text = |name| headers.get(name).and_then(|value: &HeaderValue| value.to_str().ok());
    match (text(header::ORIGIN), text(header::HOST)) {
        (Some(origin), Some(host)) => origin.split_once("://").is_some_and(|(_, from)| from == host),
        _ => false,
    }
}
