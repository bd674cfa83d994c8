//! The console and its API: who may use them, what they answer.
//!
//! - [`sign_in`]: one-time links, sessions, tokens; [`hosts`]: by which names it is reached
//! - [`calls`]: the API; [`sites`]: what of it is about configurations; [`failure`]: what it says when it cannot answer
//! - [`query`]: the scope of a call, from its address
//! - [`serving`]: its connections
//! - [`assets`]: the pages, from inside the program

pub mod assets;
mod blocking;
pub mod calls;
pub mod failure;
mod hosts;
pub mod query;
mod serving;
pub mod sign_in;
pub mod sites;

use crate::active::Active;
use crate::control::changes::Changes;
use crate::control::runtime::Runtime;
use axum::Router;
use axum::extract::Request;
use axum::http::{HeaderValue, header};
use axum::middleware::{self, Next};
use axum::response::Response;
use axum::routing::{get, post};
use exedra_reading::survey::VisitorKey;
use exedra_store::{Records, Secrets};
use failure::Failure;
pub use serving::serve;
use std::sync::Arc;

/// What the console shows, and who is let in.
pub struct Console {
    runtime: Arc<Runtime>,
    changes: Arc<Changes>,
    records: Arc<Records>,
    secrets: Arc<Secrets>,
    started: jiff::Timestamp,
    key: VisitorKey,
}

impl Console {
    /// A console for a service that has just started.
    pub fn new(
        runtime: Arc<Runtime>,
        changes: Arc<Changes>,
        records: Arc<Records>,
        secrets: Arc<Secrets>,
    ) -> Arc<Self> {
        let key = VisitorKey([rand::random(), rand::random()]);
        let started = jiff::Timestamp::now();
        Arc::new(Console { runtime, changes, records, secrets, started, key })
    }

    /// What is in force.
    pub fn site(&self) -> Result<Arc<Active>, Failure> {
        self.runtime.site().ok_or(Failure::Internal)
    }
}

fn router(console: Arc<Console>) -> Router {
    let calls = Router::new()
        .route("/status", get(calls::status))
        .route("/now", get(calls::now))
        .route("/survey", get(calls::survey))
        .route("/sites", get(sites::sites))
        .route("/explain", post(sites::explain))
        .route("/check", get(sites::check))
        .route("/reload", post(sites::reload))
        .route("/revisions", get(sites::revisions))
        .route("/revisions/{number}/restore", post(sites::restore))
        .route("/sign-out", post(sign_in::sign_out))
        .fallback(calls::unknown)
        .layer(middleware::from_fn_with_state(Arc::clone(&console), sign_in::only_known));
    Router::new()
        .nest("/api", calls)
        .route("/api/openapi.json", get(calls::openapi))
        .route("/sign-in", get(sign_in::sign_in))
        .fallback(assets::asset)
        .layer(middleware::from_fn_with_state(Arc::clone(&console), hosts::only_our_hosts))
        .layer(middleware::from_fn(guard))
        .with_state(console)
}

/// What every answer says: nothing from elsewhere, in no one's frame, no address passed on.
async fn guard(request: Request, next: Next) -> Response {
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
    let policy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; \
                  frame-ancestors 'none'; base-uri 'none'; form-action 'self'";
    headers.insert(header::CONTENT_SECURITY_POLICY, HeaderValue::from_static(policy));
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    headers.insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    if !headers.contains_key(header::CACHE_CONTROL) {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    response
}
