//! The streams of an HTTP/2 connection, each with a time-out of its own.
//!
//! HTTP/2 lets a client hold back each stream by itself (RFC 9113 §5.2): the connection lives on, and nothing that is written
//! or read on its socket tells that an answer stands still. Whoever drives the streams is told by the bodies themselves: one
//! that was not asked for anything although it had something is held back by its client. After `body_time` the stream is
//! reset, and with it goes all that it held.

use super::activity::Activity;
use hyper::rt::Executor;
use std::cell::Cell;
use std::future::{Future, poll_fn};
use std::pin::{Pin, pin};
use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;
use tokio::time::{Instant, Sleep};

/// What became of the answer while its stream was driven.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Driven {
    /// Nobody asked it for anything.
    HeldBack,
    /// It was asked, and waits for the disk, or for its pace.
    Waits,
    /// It gave something.
    Moved,
}

thread_local! {
    static DRIVEN: Cell<Driven> = const { Cell::new(Driven::HeldBack) };
}

/// The answer of the stream that is driven waits for something of ours.
pub fn note_waiting() {
    DRIVEN.set(Driven::Waits);
}

/// The answer of the stream that is driven has given something.
pub fn note_moved() {
    DRIVEN.set(Driven::Moved);
}

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
                DRIVEN.set(Driven::HeldBack);
                if stream.as_mut().poll(context).is_ready() {
                    return Poll::Ready(());
                }
                if DRIVEN.get() != Driven::HeldBack {
                    moved = Instant::now();
                    activity.moved();
                }
                let timer = timer.get_or_insert_with(|| Box::pin(tokio::time::sleep_until(moved + patience)));
                while timer.as_mut().poll(context).is_ready() {
                    // What waits for us is driven again as soon as we are ready, and may take its time until then.
                    if moved.elapsed() >= patience && DRIVEN.get() == Driven::HeldBack {
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
