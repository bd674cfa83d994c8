//! The console and its API: who may use them, what they answer.
//!
//! - [`sign_in`]: one-time links, sessions, tokens; [`hosts`]: by which names it is reached
//! - [`calls`]: the API; [`sites`]: what of it is about configurations; [`failure`]: what it says when it cannot answer
//! - [`query`]: what a call asks for, from its address
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
use axum::routing::get;
use exedra_reading::survey::VisitorKey;
use exedra_store::{Records, Secrets};
use failure::Failure;
pub use serving::serve;
use std::sync::Arc;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

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

/// The calls of the API with their description, from which the console's types are made: a call that is not in this list
/// neither answers nor is described.
fn calls() -> OpenApiRouter<Arc<Console>> {
    OpenApiRouter::new()
        .routes(routes!(calls::status))
        .routes(routes!(calls::now))
        .routes(routes!(calls::survey))
        .routes(routes!(sites::sites))
        .routes(routes!(sites::explain))
        .routes(routes!(sites::check))
        .routes(routes!(sites::reload))
        .routes(routes!(sites::revisions))
        .routes(routes!(sites::restore))
        .routes(routes!(sign_in::sign_out))
}

/// What the description of the API says of itself.
#[derive(OpenApi)]
#[openapi(info(title = "Exedra", description = "The API of the console"))]
struct Description;

/// All calls below `/api`, and their description as JSON.
fn described(calls: OpenApiRouter<Arc<Console>>) -> (Router<Arc<Console>>, String) {
    let all = OpenApiRouter::with_openapi(Description::openapi()).nest("/api", calls);
    let (router, description) = all.split_for_parts();
    (router, description.to_pretty_json().unwrap_or_default() + "\n")
}

fn router(console: Arc<Console>) -> Router {
    let calls = calls()
        .fallback(calls::unknown)
        .layer(middleware::from_fn_with_state(Arc::clone(&console), sign_in::only_known));
    let (calls, description) = described(calls);
    let description = move || async { ([(header::CONTENT_TYPE, "application/json")], description) };
    calls
        .route("/api/openapi.json", get(description))
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

#[cfg(test)]
mod tests {
    use super::*;

    /// The console's types are made from this file: `cargo xtask types` writes both anew.
    #[test]
    fn the_description_is_the_one_the_console_was_made_from() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/openapi.json");
        let now = described(calls()).1;
        if std::env::var_os("EXEDRA_WRITE_DESCRIPTION").is_some() {
            std::fs::write(path, &now).unwrap();
        }
        assert!(std::fs::read_to_string(path).unwrap() == now, "run `cargo xtask types`");
    }
}
