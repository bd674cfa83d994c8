//! A socket that writes down what passes through it, and answers what it has answered before.
//!
//! Between two requests, octets that are exactly a head whose answer is remembered are answered on the spot:
//! whoever reads from the socket never sees them. Whoever polls it sees to it that the pulse can wake them.

use super::pulse::{Phase, Pulse};
use crate::memory::{Remembered, recall};
use crate::site::Current;
use bytes::Bytes;
use std::io::{self, IoSlice};
use std::mem::MaybeUninit;
use std::net::IpAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};
use std::time::Instant;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio_rustls::server::TlsStream;

/// What a client is told that takes too long over its request (RFC 9110 §15.5.9).
const TOO_SLOW: &[u8] = b"HTTP/1.1 408 Request Timeout\r\nConnection: close\r\nContent-Length: 0\r\n\r\n";
/// What is small enough to be copied.
const SMALL: usize = 2048;
/// How many requests are answered in a row before other connections have their turn.
const IN_A_ROW: usize = 32;
/// How much of a request is read before there is a buffer for the whole.
const BEGINNING: usize = 4096;

/// What octets come and go by.
pub trait Socket: AsyncRead + AsyncWrite + Unpin {
    /// Whether whole answers may be given on the spot: what comes in is just what a client wrote, over HTTP.
    const IS_BARE: bool;

    /// Writes as much as there is room for at the moment.
    fn try_write(&self, octets: &[u8]) -> io::Result<usize>;
}

impl Socket for TcpStream {
    const IS_BARE: bool = true;

    fn try_write(&self, octets: &[u8]) -> io::Result<usize> {
        TcpStream::try_write(self, octets)
    }
}

impl Socket for TlsStream<TcpStream> {
    const IS_BARE: bool = false;

    /// What goes out has to be encrypted first, which is nothing to be done in passing.
    fn try_write(&self, _: &[u8]) -> io::Result<usize> {
        Err(io::ErrorKind::WouldBlock.into())
    }
}

/// A connection's socket, with its pulse.
pub struct Watched<S> {
    stream: S,
    pulse: Arc<Pulse>,
    current: Arc<Current>,
    client: IpAddr,
    sending: Option<Box<Sending>>,
    /// What has come in and was not read by anybody yet.
    ahead: Bytes,
}

/// A remembered answer that the socket could not take all at once.
struct Sending {
    answer: Arc<Remembered>,
    time: i64,
    began: Instant,
    octets: Vec<u8>,
    sent: usize,
}

impl<S: Socket> Watched<S> {
    /// Watches a socket.
    pub fn new(stream: S, pulse: Arc<Pulse>, current: Arc<Current>, client: IpAddr) -> Self {
        Watched { stream, pulse, current, client: client.to_canonical(), sending: None, ahead: Bytes::new() }
    }

    /// Waits for the beginning of a request that cannot be answered on the spot. Gives whether there is one: not
    /// when the client has gone.
    pub fn poll_beginning(&mut self, context: &mut Context<'_>) -> Poll<io::Result<bool>> {
        if self.ahead.is_empty() {
            let mut octets = [MaybeUninit::uninit(); BEGINNING];
            let mut buffer = ReadBuf::uninit(&mut octets);
            ready!(Pin::new(&mut *self).poll_read(context, &mut buffer))?;
            self.ahead = Bytes::copy_from_slice(buffer.filled());
        }
        Poll::Ready(Ok(!self.ahead.is_empty()))
    }

    /// Takes back what was read between two requests and belongs to the next.
    pub fn put_back(&mut self, octets: Bytes) {
        if !octets.is_empty() {
            self.pulse.came(&octets);
            self.ahead = octets;
        }
    }

    fn went(&self, octets: &[u8], result: Poll<io::Result<usize>>) -> Poll<io::Result<usize>> {
        match &result {
            Poll::Ready(Ok(0) | Err(_)) => {}
            Poll::Ready(Ok(_)) => self.pulse.went(octets),
            Poll::Pending if self.pulse.has_expired() => {
                return Poll::Ready(Err(io::ErrorKind::TimedOut.into()));
            }
            Poll::Pending => self.pulse.stuck(),
        }
        result
    }

    /// The answer to what has come in, where that is a head whose answer is remembered.
    fn recalled(&self, came: &[u8]) -> Option<Arc<Remembered>> {
        if !S::IS_BARE || !came.ends_with(b"\r\n\r\n") {
            return None;
        }
        let site = self.current.load();
        let possible = self.pulse.is_between_requests(site.config.limits.requests);
        if possible { recall(site.owner, came, &site.disk) } else { None }
    }

    /// Sends a remembered answer, or as much of it as the socket takes.
    fn answer(&mut self, answer: Arc<Remembered>) -> io::Result<()> {
        let (time, began) = (jiff::Timestamp::now().as_millisecond(), Instant::now());
        let mut octets = Vec::with_capacity(answer.length());
        answer.write(time, &mut octets);
        let sent = match self.stream.try_write(&octets) {
            Ok(sent) => sent,
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => 0,
            Err(error) => {
                self.record(&answer, time, began, octets.len());
                return Err(error);
            }
        };
        self.pulse.answered_at_once();
        match sent == octets.len() {
            true => self.record(&answer, time, began, 0),
            false => self.sending = Some(Box::new(Sending { answer, time, began, octets, sent })),
        }
        Ok(())
    }

    /// Sends what is left of a remembered answer.
    fn poll_rest(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        while let Some(sending) = &mut self.sending {
            let rest = &sending.octets[sending.sent..];
            let result = Pin::new(&mut self.stream).poll_write(context, rest);
            if result.is_pending() {
                self.pulse.stuck();
                if self.pulse.has_expired() {
                    return Poll::Ready(Err(io::ErrorKind::TimedOut.into()));
                }
            }
            sending.sent += match ready!(result)? {
                0 => return Poll::Ready(Err(io::ErrorKind::WriteZero.into())),
                sent => sent,
            };
            if sending.sent == sending.octets.len() {
                self.finish_rest();
            }
            self.pulse.unstuck();
        }
        Poll::Ready(Ok(()))
    }
}

impl<S> Watched<S> {
    fn record(&self, answer: &Remembered, time: i64, began: Instant, unsent: usize) {
        let site = self.current.load();
        if let Some(bytes) = answer.record(&site, self.client, time, began, unsent) {
            site.counter.count(bytes);
        }
    }

    fn finish_rest(&mut self) {
        if let Some(sending) = self.sending.take() {
            let Sending { answer, time, began, octets, sent } = *sending;
            self.record(&answer, time, began, octets.len() - sent);
        }
    }
}

impl<S> Drop for Watched<S> {
    fn drop(&mut self) {
        self.finish_rest();
    }
}

impl<S: Socket> AsyncRead for Watched<S> {
    fn poll_read(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let watched = self.get_mut();
        if !watched.ahead.is_empty() {
            let read = watched.ahead.split_to(watched.ahead.len().min(buffer.remaining()));
            buffer.put_slice(&read);
            return Poll::Ready(Ok(()));
        }
        for _ in 0..IN_A_ROW {
            ready!(watched.poll_rest(context))?;
            let before = buffer.filled().len();
            if Pin::new(&mut watched.stream).poll_read(context, buffer)?.is_pending() {
                return watched.wait();
            }
            let came = &buffer.filled()[before..];
            match watched.recalled(came) {
                Some(answer) => {
                    buffer.set_filled(before);
                    watched.answer(answer)?;
                }
                None => {
                    if !came.is_empty() {
                        watched.pulse.came(came);
                    }
                    return Poll::Ready(Ok(()));
                }
            }
        }
        context.waker().wake_by_ref();
        Poll::Pending
    }
}

impl<S: Socket> Watched<S> {
    /// Nothing has come in: waits, unless time is up.
    fn wait(&self) -> Poll<io::Result<()>> {
        if !self.pulse.has_expired() {
            return Poll::Pending;
        }
        if self.pulse.phase() == Phase::Head && S::IS_BARE {
            // Nothing is under way on this connection; if it does not fit, it is not sent.
            let _ = self.stream.try_write(TOO_SLOW);
        }
        Poll::Ready(Err(io::ErrorKind::TimedOut.into()))
    }
}

impl<S: Socket> AsyncWrite for Watched<S> {
    fn poll_write(self: Pin<&mut Self>, context: &mut Context<'_>, octets: &[u8]) -> Poll<io::Result<usize>> {
        let watched = self.get_mut();
        ready!(watched.poll_rest(context))?;
        watched.pulse.set_flushed(false);
        let result = Pin::new(&mut watched.stream).poll_write(context, octets);
        watched.went(octets, result)
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        pieces: &[IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let watched = self.get_mut();
        ready!(watched.poll_rest(context))?;
        let length: usize = pieces.iter().map(|piece| piece.len()).sum();
        if length <= SMALL {
            // Copied together, a small answer goes out by the cheaper call.
            let mut together = [0; SMALL];
            let mut at = 0;
            for piece in pieces {
                together[at..at + piece.len()].copy_from_slice(piece);
                at += piece.len();
            }
            return Pin::new(watched).poll_write(context, &together[..length]);
        }
        watched.pulse.set_flushed(false);
        let result = Pin::new(&mut watched.stream).poll_write_vectored(context, pieces);
        watched.went(pieces.first().map_or(&[], |piece| piece), result)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    /// Asked for when everything has been written.
    fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let watched = self.get_mut();
        ready!(watched.poll_rest(context))?;
        ready!(Pin::new(&mut watched.stream).poll_flush(context))?;
        watched.pulse.set_flushed(true);
        Poll::Ready(Ok(()))
    }

    fn poll_shutdown(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let watched = self.get_mut();
        ready!(watched.poll_rest(context))?;
        Pin::new(&mut watched.stream).poll_shutdown(context)
    }
}
