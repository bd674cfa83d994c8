//! The threads that carry statements out, and waiting for them: until there is something, until the time is over, or until nobody waits
//! any more.
//!
//! The engine is asynchronous and whoever asks is not: both meet here.

use crate::diagnostic::QueryError;
use std::time::{Duration, Instant};
use tokio::runtime::{Builder, Runtime};

/// How often whoever waits looks whether it is still wanted.
const LOOKS: Duration = Duration::from_millis(40);

/// Threads of an engine.
pub struct QueryThreads {
    /// Taken only to be put down without waiting.
    runtime: Option<Runtime>,
}

/// When a question must have been answered.
#[derive(Debug, Clone, Copy, Default)]
pub struct Ends {
    at: Option<Instant>,
    time: Duration,
}

impl Ends {
    /// So long from now; never, where no time is given.
    pub fn after(time: Option<Duration>) -> Self {
        Ends { at: time.map(|time| Instant::now() + time), time: time.unwrap_or_default() }
    }
}

impl QueryThreads {
    /// Starts so many; each runs `begin_thread` first.
    ///
    /// # Errors
    /// When the system gives no more threads.
    pub fn start(
        threads: usize,
        begin_thread: impl Fn() + Send + Sync + 'static,
    ) -> Result<Self, QueryError> {
        let started = Builder::new_multi_thread()
            .worker_threads(threads)
            .thread_name("query")
            .thread_stack_size(8 << 20)
            .on_thread_start(begin_thread)
            .enable_time()
            .build();
        let failed = |error| QueryError::Source(format!("no threads could be started: {error}"));
        Ok(QueryThreads { runtime: Some(started.map_err(failed)?) })
    }

    /// Waits for something until its time is over or `goes_on` says that nobody waits for it any more.
    pub fn wait<T>(
        &self,
        ends: Ends,
        goes_on: &dyn Fn() -> bool,
        work: impl Future<Output = T>,
    ) -> Result<T, QueryError> {
        let Some(runtime) = &self.runtime else { return Err(QueryError::Stopped) };
        runtime.block_on(async {
            let mut work = std::pin::pin!(work);
            loop {
                match tokio::time::timeout(LOOKS, &mut work).await {
                    Ok(done) => return Ok(done),
                    Err(_) if !goes_on() => return Err(QueryError::Stopped),
                    Err(_) if ends.at.is_some_and(|at| Instant::now() >= at) => {
                        return Err(QueryError::TooMuch(format!(
                            "The question took longer than the {} seconds it may take: narrow it by time or by a condition.",
                            ends.time.as_secs()
                        )));
                    }
                    Err(_) => {}
                }
            }
        })
    }
}

impl Drop for QueryThreads {
    fn drop(&mut self) {
        // Whoever drops it may be in the middle of something that must not wait.
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}
