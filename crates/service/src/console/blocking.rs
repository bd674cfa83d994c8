//! What blocks, away from the threads that serve.

use super::failure::Failure;
use axum::Json;

/// Runs something that reads records or files.
pub(super) async fn blocking<T: Send + 'static>(
    run: impl FnOnce() -> Result<T, Failure> + Send + 'static,
) -> Result<Json<T>, Failure> {
    tokio::task::spawn_blocking(run).await.map_err(|_| Failure::Internal)?.map(Json)
}
