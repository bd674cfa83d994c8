//! Who is let in: a browser with a session, made by a one-time link; a program with a token.

use super::Console;
use super::failure::{Failure, problem};
use super::hosts::port;
use axum::extract::rejection::QueryRejection;
use axum::extract::{Query, Request, State};
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Redirect, Response};
use exedra_api::Problem;
use exedra_store::{Purpose, Secrets, StoreError};
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
                opened.then(|| secrets.make(Purpose::Session, now, now + SESSION_TIME)).transpose()
            })
            .await?
        }
        _ => None,
    };
    let Some(session) = opened else { return Ok(Redirect::to("/?link=used").into_response()) };
    let name = cookie(&headers);
    let cookie = format!("{name}={session}; HttpOnly; SameSite=Strict; Path=/; Max-Age={SESSION_TIME}");
    let mut response = Redirect::to("/").into_response();
    response
        .headers_mut()
        .insert(header::SET_COOKIE, HeaderValue::from_str(&cookie).map_err(|_| Failure::Internal)?);
    Ok(response)
}

/// Ends a session.
#[utoipa::path(post, path = "/sign-out", responses((status = 204), (status = 401, body = Problem)))]
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

/// Lets through only who is known, and changes only from our own pages.
pub async fn only_known(State(console): State<Arc<Console>>, request: Request, next: Next) -> Response {
    let headers = request.headers();
    let now = jiff::Timestamp::now().as_second();
    let known = match (token(headers), session(headers)) {
        (Some(token), _) => Some((token.to_owned(), Purpose::Token)),
        (None, Some(session)) => Some((session.to_owned(), Purpose::Session)),
        (None, None) => None,
    };
    let known = match known {
        Some((secret, purpose)) => with(&console, move |secrets| secrets.opens(&secret, purpose, now)).await,
        None => Ok(false),
    };
    match known {
        Err(failure) => return failure.into_response(),
        Ok(false) => {
            let detail = "Open a sign-in link; `exedra sign-in` on the server prints a fresh one. Programs send a token.";
            return problem(StatusCode::UNAUTHORIZED, "Not signed in", detail);
        }
        Ok(true) => {}
    }
    if !request.method().is_safe() && token(headers).is_none() && !is_our_own(headers) {
        let detail = "Changes are taken only from the console's own pages.";
        return problem(StatusCode::FORBIDDEN, "From a foreign page", detail);
    }
    next.run(request).await
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
