//! What blocks, away from the threads that serve; it ends when whoever asked has left, or when it takes too long.

use super::failure::Failure;
use axum::Json;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::Semaphore;

/// How long one call may work, and one that changes much.
const MOST_TIME: Duration = Duration::from_secs(60);
const MOST_TIME_TO_CHANGE: Duration = Duration::from_secs(3600);
/// How many calls work at a time: each may need memory, and all need processors that the sites need too.
const AT_A_TIME: usize = 4;
static PLACES: Semaphore = Semaphore::const_new(AT_A_TIME);

/// Work that a call has begun.
pub(super) struct Work {
    until: Instant,
    has_left: Arc<AtomicBool>,
}

impl Work {
    /// Whether it is still wanted: asked between any two parts of it, each of which takes much less than a tenth of a second.
    pub fn goes_on(&self) -> Result<(), Failure> {
        if self.has_left.load(Ordering::Relaxed) {
            return Err(Failure::Left);
        }
        if Instant::now() > self.until {
            return Err(Failure::TooLong);
        }
        Ok(())
    }
}

/// Tells work that whoever wanted it has left, as the future is dropped that waits for it.
struct Leaving(Arc<AtomicBool>);

impl Drop for Leaving {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// Runs something that is short: a look into a database or a file.
pub(super) async fn blocking<T: Send + 'static>(
    run: impl FnOnce() -> Result<T, Failure> + Send + 'static,
) -> Result<Json<T>, Failure> {
    tokio::task::spawn_blocking(run).await.map_err(|_| Failure::Internal)?.map(Json)
}

/// Runs something that may take long, once there is a place for it.
pub(super) async fn working<T: Send + 'static>(
    run: impl FnOnce(&Work) -> Result<T, Failure> + Send + 'static,
) -> Result<Json<T>, Failure> {
    working_for(MOST_TIME, run).await
}

/// The same, of something that goes through everything there is.
pub(super) async fn changing_much<T: Send + 'static>(
    run: impl FnOnce(&Work) -> Result<T, Failure> + Send + 'static,
) -> Result<Json<T>, Failure> {
    working_for(MOST_TIME_TO_CHANGE, run).await
}

async fn working_for<T: Send + 'static>(
    most: Duration,
    run: impl FnOnce(&Work) -> Result<T, Failure> + Send + 'static,
) -> Result<Json<T>, Failure> {
    let place = PLACES.acquire().await.map_err(|_| Failure::Internal)?;
    let has_left = Arc::new(AtomicBool::new(false));
    let leaving = Leaving(Arc::clone(&has_left));
    let work = Work { until: Instant::now() + most, has_left };
    let done = tokio::task::spawn_blocking(move || {
        // The place is free when the work has ended, and not when whoever asked has left.
        let _place = place;
        run(&work)
    });
    let done = done.await;
    drop(leaving);
    done.map_err(|_| Failure::Internal)?.map(Json)
}
