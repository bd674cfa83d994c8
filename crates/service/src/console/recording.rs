//! Every change that is made by the API is written down, with who made it: the calls need not think of it.

use super::caller::{Caller, Console};
use super::peer::Peer;
use axum::extract::{Request, State};
use axum::middleware::Next;
use axum::response::Response;
use exedra_store::Change;
use std::net::IpAddr;
use std::sync::Arc;

/// What was changed, in words: a call adds it to its answer.
#[derive(Clone)]
pub struct ChangeDetail(pub String);

/// Writes down what comes of a change.
pub async fn recorded(
    State(console): State<Arc<Console>>,
    caller: Caller,
    request: Request,
    next: Next,
) -> Response {
    if request.method().is_safe() {
        return next.run(request).await;
    }
    let what = format!("{} {}", request.method(), request.uri().path());
    let client = request.extensions().get::<Peer>().map(|peer| peer.0);
    let response = next.run(request).await;
    write_down(&console, caller.name(), client, what, &response);
    response
}

/// Writes down what somebody did by a call. That it cannot be is said in the error log, and undoes nothing.
pub fn write_down(
    console: &Arc<Console>,
    who: String,
    client: Option<IpAddr>,
    what: String,
    response: &Response,
) {
    let detail = response.extensions().get::<ChangeDetail>().map_or(String::new(), |told| told.0.clone());
    let change = Change {
        number: 0,
        made: jiff::Timestamp::now().as_second(),
        who,
        client: client.map_or(String::new(), |client| client.to_string()),
        what,
        status: response.status().as_u16(),
        detail,
    };
    let console = Arc::clone(console);
    tokio::task::spawn_blocking(move || {
        if let Err(error) = console.record.add(&change) {
            tracing::error!("{} by {} could not be written down: {error}", change.what, change.who);
        }
    });
}
