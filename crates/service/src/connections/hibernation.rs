//! A connection of HTTP/1 that costs next to nothing while nothing happens on it.
//!
//! Reading and writing HTTP takes some 20 KB of buffers and states for each connection, and most connections do
//! nothing most of the time. So a connection gets them when octets have come in that need them, and gives them
//! back when it has been idle for a moment; what stays is its socket. Answers that are remembered whole need
//! none of it at all.

use super::activity::Activity;
use super::fast_path::{FastPath, Socket};
use crate::request::respond::Responder;
use hyper::server::conn::http1;
use hyper_util::rt::TokioIo;
use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use tokio::io::AsyncWrite;

/// How a connection of HTTP/1 has ended.
pub enum Ended<S> {
    /// There is no connection any longer.
    Closed,
    /// It goes on as one of HTTP/2.
    AsStreams(Box<(Responder<Activity>, FastPath<S>)>),
}

/// A connection, to its end.
pub struct Hibernating<S> {
    http: http1::Builder,
    responder: Responder<Activity>,
    state: State<S>,
    /// Whether nothing has come in yet that was a request.
    is_new: bool,
}

enum State<S> {
    /// Waits for the next request.
    Resting(FastPath<S>),
    /// Reads and writes HTTP.
    Serving(Box<http1::Connection<TokioIo<FastPath<S>>, Responder<Activity>>>),
    /// Says goodbye.
    Leaving(FastPath<S>),
    /// Lets the client read why it was refused.
    Refused(FastPath<S>),
    /// There is no connection any longer.
    Ended,
}

impl<S: Socket + Send + 'static> Hibernating<S> {
    /// A connection on which nothing has happened yet.
    pub fn new(http: http1::Builder, responder: Responder<Activity>, stream: FastPath<S>) -> Self {
        Hibernating { http, responder, state: State::Resting(stream), is_new: true }
    }

    fn poll_state(&mut self, context: &mut Context<'_>) -> Poll<io::Result<Ended<S>>> {
        loop {
            match &mut self.state {
                State::Resting(stream) => {
                    let begun = match stream.poll_beginning(context) {
                        // The last request has been answered.
                        Poll::Pending if self.responder.activity.is_ending() => false,
                        begun => ready!(begun)?,
                    };
                    if begun && self.is_new && S::IS_BARE {
                        let announces = loop {
                            match stream.announces_streams() {
                                Some(announces) => break announces,
                                None => ready!(stream.poll_announcement(context))?,
                            }
                        };
                        if announces {
                            return Poll::Ready(Ok(self.go_on_as_streams()));
                        }
                    }
                    self.is_new = false;
                    match begun {
                        true => self.serve(),
                        false => self.leave(),
                    }
                }
                State::Serving(connection) => {
                    let mut connection = Pin::new(&mut **connection);
                    if self.responder.activity.is_ending() {
                        connection.as_mut().graceful_shutdown();
                    }
                    if let Poll::Ready(ended) = connection.poll(context) {
                        if let Err(error) = &ended
                            && error.is_parse()
                            && !self.responder.activity.has_refused()
                        {
                            let status = if error.is_parse_too_large() { 431 } else { 400 };
                            self.responder.activity.refuse_behind_others(status);
                        }
                        if self.responder.activity.has_refused() {
                            self.rest();
                            continue;
                        }
                        return Poll::Ready(ended.map(|()| Ended::Closed).map_err(io::Error::other));
                    }
                    if !self.responder.activity.hibernates() {
                        return Poll::Pending;
                    }
                    self.rest();
                }
                State::Leaving(stream) => {
                    match Pin::new(stream).poll_shutdown(context) {
                        // Whoever does not take it is not waited for.
                        Poll::Pending if self.responder.activity.has_expired() => {}
                        said => ready!(said)?,
                    }
                    self.state = State::Ended;
                }
                State::Refused(stream) => {
                    ready!(stream.poll_rest_of_refused(context))?;
                    self.state = State::Ended;
                }
                State::Ended => return Poll::Ready(Ok(Ended::Closed)),
            }
        }
    }

    fn serve(&mut self) {
        if let State::Resting(stream) = std::mem::replace(&mut self.state, State::Ended) {
            let connection = self.http.serve_connection(TokioIo::new(stream), self.responder.clone());
            self.state = State::Serving(Box::new(connection));
            self.responder.activity.wakes_up();
        }
    }

    fn leave(&mut self) {
        if let State::Resting(stream) = std::mem::replace(&mut self.state, State::Ended) {
            self.state = State::Leaving(stream);
        }
    }

    fn rest(&mut self) {
        if let State::Serving(connection) = std::mem::replace(&mut self.state, State::Ended) {
            let parts = connection.into_parts();
            let mut stream = parts.io.into_inner();
            if self.responder.activity.has_refused() {
                self.state = State::Refused(stream);
                return;
            }
            stream.put_back(parts.read_buf);
            self.state = State::Resting(stream);
        }
    }

    fn go_on_as_streams(&mut self) -> Ended<S> {
        match std::mem::replace(&mut self.state, State::Ended) {
            State::Resting(stream) => Ended::AsStreams(Box::new((self.responder.clone(), stream))),
            _ => Ended::Closed,
        }
    }
}

impl<S: Socket + Send + 'static> Future for Hibernating<S> {
    type Output = io::Result<Ended<S>>;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Self::Output> {
        let hibernating = self.get_mut();
        hibernating.responder.activity.waits(context.waker());
        hibernating.poll_state(context)
    }
}
