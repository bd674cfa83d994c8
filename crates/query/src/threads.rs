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

/// How long a question may still take. What counts is the time that it is waited for: not how long whoever asks needs for what has come.
#[derive(Debug, Clone, Copy, Default)]
pub struct TimeLeft {
    /// Of so much in all.
    of: Duration,
    /// As long as it likes, where there is nothing here.
    left: Option<Duration>,
}

impl TimeLeft {
    /// So long; as long as it likes, where no time is given.
    pub fn of(time: Option<Duration>) -> Self {
        TimeLeft { of: time.unwrap_or_default(), left: time }
    }

    fn spend(&mut self, spent: Duration) {
        self.left = self.left.map(|left| left.saturating_sub(spent));
    }

    fn is_used_up_in(self, spent: Duration) -> bool {
        self.left.is_some_and(|left| spent >= left)
    }

    fn used_up(self) -> QueryError {
        QueryError::TooMuch(format!(
            "The question took longer than the {} seconds it may take: narrow it by time or by a condition.",
            self.of.as_secs()
        ))
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
        time: &mut TimeLeft,
        goes_on: &dyn Fn() -> bool,
        work: impl Future<Output = T>,
    ) -> Result<T, QueryError> {
        let Some(runtime) = &self.runtime else { return Err(QueryError::Stopped) };
        let began = Instant::now();
        // Also what comes at once, and again and again, has an end.
        if time.is_used_up_in(Duration::ZERO) {
            return Err(time.used_up());
        }
        let done = runtime.block_on(async {
            let mut work = std::pin::pin!(work);
            loop {
                match tokio::time::timeout(LOOKS, &mut work).await {
                    Ok(done) => return Ok(done),
                    Err(_) if !goes_on() => return Err(QueryError::Stopped),
                    Err(_) if time.is_used_up_in(began.elapsed()) => return Err(time.used_up()),
                    Err(_) => {}
                }
            }
        });
        time.spend(began.elapsed());
        done
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
