//! What a call is answered when it cannot be: a problem in the form of RFC 9457.

use axum::Json;
use axum::extract::{FromRequest, FromRequestParts, Path, Request};
use axum::http::request::Parts;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use exedra_api::Problem;
use exedra_api::queries::Mistake;
use exedra_store::StoreError;
use serde::de::DeserializeOwned;

/// Why a call could not be answered.
#[derive(Debug)]
pub enum Failure {
    /// The call is wrong.
    Wrong(String),
    /// What it sends cannot be taken: the status that says why, and what is wrong with it.
    Body(StatusCode, String),
    /// The statement that it sends is wrong.
    Mistake(Mistake),
    /// It needs more than it may have, in a sentence that says what to do.
    TooMuch(String),
    /// There is no such thing.
    Missing(String),
    /// It cannot be done as things are.
    Conflict(String),
    /// There is no place for it at the moment.
    Busy(String),
    /// It would take too long.
    TooLong,
    /// Whoever asked has left.
    Left,
    /// A file could not be read.
    Unreadable(String),
    /// The records failed.
    Store(StoreError),
    /// Something else did.
    Internal,
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        Failure::Store(error)
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        tracing::error!("the console could not answer: {error}");
        Failure::Unreadable(error.to_string())
    }
}

impl IntoResponse for Failure {
    fn into_response(self) -> Response {
        match self {
            Failure::Wrong(detail) => problem(StatusCode::BAD_REQUEST, "The call is not understood", &detail),
            Failure::Body(status, detail) => {
                problem(status, "The body of the call is not understood", &detail)
            }
            Failure::Mistake(mistake) => {
                let detail = match &mistake.instead {
                    Some(instead) => format!("{}: {instead}", mistake.what),
                    None => mistake.what.clone(),
                };
                let status = StatusCode::BAD_REQUEST;
                let title = "The statement is not understood".to_owned();
                respond(status, Problem { status: status.as_u16(), title, detail, mistake: Some(mistake) })
            }
            Failure::TooMuch(detail) => {
                problem(StatusCode::UNPROCESSABLE_ENTITY, "The question is too large", &detail)
            }
            Failure::Missing(detail) => problem(StatusCode::NOT_FOUND, "Not found", &detail),
            Failure::Conflict(detail) => problem(StatusCode::CONFLICT, "Conflict", &detail),
            Failure::Busy(detail) => problem(StatusCode::SERVICE_UNAVAILABLE, "Try again later", &detail),
            Failure::TooLong => problem(
                StatusCode::GATEWAY_TIMEOUT,
                "Timed out",
                "Ask for a shorter time, fewer sites, or fewer tables (`show`).",
            ),
            Failure::Unreadable(detail) => problem(StatusCode::INTERNAL_SERVER_ERROR, "I/O error", &detail),
            // Nobody reads it.
            Failure::Left => problem(StatusCode::SERVICE_UNAVAILABLE, "The client closed the connection", ""),
            Failure::Store(error @ StoreError::Behind) => problem(
                StatusCode::SERVICE_UNAVAILABLE,
                "The records are being made again",
                &error.to_string(),
            ),
            Failure::Store(error) => {
                tracing::error!("the console could not answer: {error}");
                problem(StatusCode::INTERNAL_SERVER_ERROR, "The records cannot be read", &error.to_string())
            }
            Failure::Internal => {
                problem(StatusCode::INTERNAL_SERVER_ERROR, "Something went wrong", "See the error log.")
            }
        }
    }
}

/// What a call sends, as JSON.
#[derive(Debug)]
pub struct Sent<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Sent<T> {
    type Rejection = Failure;

    async fn from_request(request: Request, state: &S) -> Result<Self, Failure> {
        match Json::from_request(request, state).await {
            Ok(Json(sent)) => Ok(Sent(sent)),
            Err(refused) => Err(Failure::Body(refused.status(), refused.body_text())),
        }
    }
}

/// What a call names in its path.
#[derive(Debug)]
pub struct Named<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned + Send> FromRequestParts<S> for Named<T> {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Failure> {
        match Path::from_request_parts(parts, state).await {
            Ok(Path(named)) => Ok(Named(named)),
            Err(refused) => Err(Failure::Wrong(refused.body_text())),
        }
    }
}

/// A problem in the form of RFC 9457.
pub fn problem(status: StatusCode, title: &str, detail: &str) -> Response {
    let (title, detail) = (title.to_owned(), detail.to_owned());
    respond(status, Problem { status: status.as_u16(), title, detail, mistake: None })
}

fn respond(status: StatusCode, body: Problem) -> Response {
    let mut response = (status, Json(body)).into_response();
    let media_type = HeaderValue::from_static("application/problem+json");
    response.headers_mut().insert(header::CONTENT_TYPE, media_type);
    response
}
