//! A socket that writes down what passes through it.

use super::pulse::{Phase, Pulse};
use std::io::{self, IoSlice};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;

/// What a client is told that takes too long over its request (RFC 9110 §15.5.9).
const TOO_SLOW: &[u8] = b"HTTP/1.1 408 Request Timeout\r\nConnection: close\r\nContent-Length: 0\r\n\r\n";

/// What is small enough to be copied.
const SMALL: usize = 2048;

/// A connection's socket, with its pulse.
pub struct Watched {
    stream: TcpStream,
    pulse: Arc<Pulse>,
}

impl Watched {
    /// Watches a socket.
    pub fn new(stream: TcpStream, pulse: Arc<Pulse>) -> Self {
        Watched { stream, pulse }
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
}

impl AsyncRead for Watched {
    fn poll_read(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let watched = self.get_mut();
        let before = buffer.filled().len();
        let read = Pin::new(&mut watched.stream).poll_read(context, buffer);
        match &read {
            Poll::Ready(Ok(())) => {
                let came = &buffer.filled()[before..];
                if !came.is_empty() {
                    watched.pulse.came(came);
                }
            }
            Poll::Ready(Err(_)) => {}
            Poll::Pending => {
                watched.pulse.waits(context.waker());
                if watched.pulse.has_expired() {
                    if watched.pulse.phase() == Phase::Head {
                        // Nothing is under way on this connection; if it does not fit, it is not sent.
                        let _ = watched.stream.try_write(TOO_SLOW);
                    }
                    return Poll::Ready(Err(io::ErrorKind::TimedOut.into()));
                }
            }
        }
        read
    }
}

impl AsyncWrite for Watched {
    fn poll_write(self: Pin<&mut Self>, context: &mut Context<'_>, octets: &[u8]) -> Poll<io::Result<usize>> {
        let watched = self.get_mut();
        let result = Pin::new(&mut watched.stream).poll_write(context, octets);
        if result.is_pending() {
            watched.pulse.waits(context.waker());
        }
        watched.went(octets, result)
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        pieces: &[IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let watched = self.get_mut();
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
        let result = Pin::new(&mut watched.stream).poll_write_vectored(context, pieces);
        if result.is_pending() {
            watched.pulse.waits(context.waker());
        }
        watched.went(pieces.first().map_or(&[], |piece| piece), result)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.get_mut().stream).poll_flush(context)
    }

    fn poll_shutdown(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.get_mut().stream).poll_shutdown(context)
    }
}
