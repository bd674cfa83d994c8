//! The calls about logs of elsewhere: their requests are brought by a client that reads them, stretch by stretch.
//!
//! A stretch is taken in with how far the log has been read, in one transaction, and only if it follows what was read before. So
//! whoever sends one twice, or dies in between, is told where to go on.

use super::blocking::blocking;
use super::caller::Caller;
use super::failure::{Failure, Named, Sent};
use super::query::{ImportsQuery, Parameters, RangeQuery};
use super::recording::ChangeDetail;
use axum::body::Bytes;
use axum::extract::rejection::BytesRejection;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use exedra_api::Problem;
use exedra_api::imports::{Import, NewImport};
use exedra_store::records::{LogRange, wire};
use std::sync::Arc;

/// The most octets of a stretch, packed.
pub const MOST_OCTETS: usize = 64 << 20;
/// The longest stretch, and the longest log, in octets before compression.
const LONGEST_STRETCH: u64 = 4 << 30;
const LONGEST_LOG: u64 = 1 << 60;
/// Times that a request may have: the years 1 to 9998, in milliseconds since 1970 UTC.
const TIMES: std::ops::Range<i64> = -62_135_596_800_000..253_370_764_800_000;
/// How many are listed at a time.
const IMPORTS: usize = 200;
/// The longest name of a log, and of what it is known again by.
const LONGEST: usize = 4096;

/// Logs that were brought in, the newest first: two hundred at a time.
#[utoipa::path(get, path = "/imports", params(ImportsQuery),
    responses((status = 200, body = Vec<Import>), (status = 404, body = Problem)))]
pub async fn imports(
    caller: Caller,
    Parameters(query): Parameters<ImportsQuery>,
) -> Result<Json<Vec<Import>>, Failure> {
    blocking(move || {
        let behind = query.behind.as_deref();
        let page = caller.console().imports.page(behind, IMPORTS)?;
        let page = page.ok_or_else(|| missing(behind.unwrap_or_default()))?;
        Ok(page.into_iter().map(|one| shown(one, &caller)).collect())
    })
    .await
}

/// One of them: how far it is.
#[utoipa::path(get, path = "/imports/{id}", params(("id" = String, Path)),
    responses((status = 200, body = Import), (status = 404, body = Problem)))]
pub async fn import(caller: Caller, Named(id): Named<String>) -> Result<Json<Import>, Failure> {
    blocking(move || Ok(shown(found(&caller, &id)?, &caller))).await
}

/// Begins with a log.
#[utoipa::path(post, path = "/imports", request_body = NewImport,
    responses((status = 201, body = Import), (status = 409, body = Problem)))]
pub async fn begin(caller: Caller, Sent(new): Sent<NewImport>) -> Result<Response, Failure> {
    let told = ChangeDetail(format!("{} into {}", new.name, new.site));
    let Json(begun) = blocking(move || {
        let console = caller.console();
        caller.sites(vec![new.site.clone()], &console.site()?.config)?;
        if new.name.len() > LONGEST || new.known.len() > LONGEST {
            return Err(Failure::Wrong(format!("a log is named and known by {LONGEST} octets at most")));
        }
        let import = exedra_store::Import {
            id: String::new(),
            site: new.site,
            name: new.name,
            known: new.known,
            made: jiff::Timestamp::now().as_second(),
            made_by: caller.name(),
        };
        let begun = console.imports.begin(import)?;
        let begun = begun.ok_or_else(|| Failure::Conflict("there are too many imports".to_owned()))?;
        Ok(shown(begun, &caller))
    })
    .await?;
    Ok((StatusCode::CREATED, Extension(told), Json(begun)).into_response())
}

/// Takes in a range of a log: its requests, as a client packs them. After an empty range, everything that was sent before is on the
/// disk. Where it does not follow what was read before, 409, and the
/// import says where to go on.
#[utoipa::path(post, path = "/imports/{id}/requests", params(("id" = String, Path), RangeQuery),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, body = Import), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn take_in(
    caller: Caller,
    Named(id): Named<String>,
    Parameters(query): Parameters<RangeQuery>,
    body: Result<Bytes, BytesRejection>,
) -> Result<Json<Import>, Failure> {
    let body = body.map_err(|refused| Failure::Body(refused.status(), refused.body_text()))?;
    blocking(move || {
        let import = found(&caller, &id)?;
        let stretch = LogRange { from: query.from, until: query.until, unread: query.unread };
        let length = stretch.until.checked_sub(stretch.from);
        if !length.is_some_and(|length| length <= LONGEST_STRETCH && stretch.unread <= length)
            || stretch.until > LONGEST_LOG
        {
            let words = "a stretch ends behind its beginning, is 4 GiB long at most, and has no more unread lines than octets";
            return Err(Failure::Wrong(words.to_owned()));
        }
        let (requests, texts) = match body.is_empty() {
            // Lines that are no requests take room in a log too.
            true => Default::default(),
            false => wire::unpack(&body)
                .ok_or_else(|| Failure::Wrong("malformed body: not a batch of requests as `exedra import` sends them".to_owned()))?,
        };
        if requests.time.iter().any(|time| !TIMES.contains(time)) {
            let words = "requests without a time, or of no year from 1 to 9998, have no place in the records";
            return Err(Failure::Wrong(words.to_owned()));
        }
        let site: Arc<str> = import.site.as_str().into();
        let source = import.source();
        caller.take_in(&site, &source, requests, texts, stretch)?;
        if stretch.from == stretch.until {
            caller.commit()?;
        }
        Ok(shown(import, &caller))
    })
    .await
}

/// Takes a log out of the records again.
#[utoipa::path(delete, path = "/imports/{id}", params(("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn take_out(caller: Caller, Named(id): Named<String>) -> Result<Response, Failure> {
    let Json(told) = blocking(move || {
        let import = found(&caller, &id)?;
        caller.take_out(&import.source())?;
        caller.console().imports.forget(&id)?;
        Ok(format!("{} out of {}", import.name, import.site))
    })
    .await?;
    Ok((StatusCode::NO_CONTENT, Extension(ChangeDetail(told))).into_response())
}

fn found(caller: &Caller, id: &str) -> Result<exedra_store::Import, Failure> {
    caller.console().imports.get(id)?.ok_or_else(|| missing(id))
}

fn missing(id: &str) -> Failure {
    Failure::Missing(format!("there is no import `{id}`"))
}

fn shown(import: exedra_store::Import, caller: &Caller) -> Import {
    let checkpoint = caller.checkpoint(&import.source());
    Import {
        made: jiff::Timestamp::from_second(import.made).unwrap_or_default().to_string(),
        octets: checkpoint.octets,
        requests: checkpoint.lines,
        unread: checkpoint.unread,
        incomplete: checkpoint.incomplete,
        id: import.id,
        site: import.site,
        name: import.name,
        known: import.known,
        made_by: import.made_by,
    }
}
