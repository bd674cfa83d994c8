//! The calls about the service itself: whether it is well, and what it does in the background.

use super::blocking::blocking;
use super::caller::{Caller, Console};
use super::calls::troubles;
use super::failure::Failure;
use crate::system::threads;
use axum::Json;
use axum::extract::State;
use exedra_api::{Health, HealthState, Job};
use std::sync::Arc;

/// Whether the service is well. What is the matter is told to whoever is signed in, by `/status`.
#[utoipa::path(get, path = "/health", responses((status = 200, body = Health)))]
pub async fn health(State(console): State<Arc<Console>>) -> Result<Json<Health>, Failure> {
    blocking(move || {
        let troubles = troubles(&console, &*console.site()?).len() as u64;
        let state = if troubles == 0 { HealthState::Well } else { HealthState::Attention };
        Ok(Health { state, troubles })
    })
    .await
}

/// What goes on in the background.
#[utoipa::path(get, path = "/jobs", responses((status = 200, body = Vec<Job>)))]
pub async fn jobs(_caller: Caller) -> Json<Vec<Job>> {
    let all = threads::jobs().into_iter().map(|job| Job {
        name: job.name,
        since: job.since.to_string(),
        doing: job.doing,
        failures: job.failures,
        last_failure: job.last_failure,
    });
    Json(all.collect())
}
