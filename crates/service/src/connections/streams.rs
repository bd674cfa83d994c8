//! The streams of an HTTP/2 connection, each with a time-out of its own.
//!
//! HTTP/2 lets a client hold back each stream by itself (RFC 9113 §5.2): the connection lives on, and nothing that is written
//! or read on its socket tells that an answer stands still. Whoever drives the streams is told by the bodies themselves: one
//! that was not asked for anything although it had something is held back by its client. After `body_time` the stream is
//! reset, and with it goes all that it held.

use super::activity::Activity;
use crate::request::progress::{Progress, note, noted};
use hyper::rt::Executor;
use std::future::{Future, poll_fn};
use std::pin::{Pin, pin};
use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;
use tokio::time::{Instant, Sleep};

/// Drives the streams of one connection.
#[derive(Clone)]
pub struct Streams {
    /// What the connection is doing.
    pub activity: Arc<Activity>,
    /// How long a client may take none of an answer.
    pub patience: Duration,
}

impl<F: Future<Output = ()> + Send + 'static> Executor<F> for Streams {
    fn execute(&self, stream: F) {
        let Streams { activity, patience } = self.clone();
        tokio::spawn(async move {
            let mut stream = pin!(stream);
            let mut moved = Instant::now();
            // Most answers go out at once and need no timer.
            let mut timer: Option<Pin<Box<Sleep>>> = None;
            poll_fn(|context| {
                note(Progress::HeldBack);
                if stream.as_mut().poll(context).is_ready() {
                    return Poll::Ready(());
                }
                if noted() != Progress::HeldBack {
                    moved = Instant::now();
                    activity.moved();
                }
                let timer = timer.get_or_insert_with(|| Box::pin(tokio::time::sleep_until(moved + patience)));
                while timer.as_mut().poll(context).is_ready() {
                    // What waits for us is driven again as soon as we are ready, and may take its time until then.
                    if moved.elapsed() >= patience && noted() == Progress::HeldBack {
                        return Poll::Ready(());
                    }
                    timer.as_mut().reset(moved + patience);
                }
                Poll::Pending
            })
            .await;
        });
    }
}
