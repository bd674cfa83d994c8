//! A socket that writes down what passes through it, and answers what it has answered before.
//!
//! Between two requests, octets that are exactly a head whose answer is remembered are answered on the spot:
//! whoever reads from the socket never sees them. Whoever polls it sees to it that the activity can wake them.

use super::activity::{Activity, Phase};
use super::refusal::Refusal;
use crate::active::Current;
use crate::request::response_cache::{CachedResponse, recall};
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

/// What is small enough to be copied.
const SMALL: usize = 2048;
/// How many requests are answered in a row before other connections have their turn.
const IN_A_ROW: usize = 32;
/// How much of a request is read before there is a buffer for the whole.
const BEGINNING: usize = 4096;
/// What HTTP/2 begins with (RFC 9113 §3.4).
const PREFACE: &[u8] = b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n";
/// How much a client may still send that has been refused.
const MOST_PASSED_OVER: usize = 1 << 20;

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

/// A connection's socket, with its activity.
pub struct FastPath<S> {
    stream: S,
    activity: Arc<Activity>,
    current: Arc<Current>,
    client: IpAddr,
    sending: Option<Box<Sending>>,
    /// What is still to be sent of the refusal of something that was no request.
    refusal: Bytes,
    /// How much has come in since.
    passed_over: usize,
    /// What has come in and was not read by anybody yet.
    ahead: Bytes,
}

/// A remembered answer that the socket could not take all at once.
struct Sending {
    answer: Arc<CachedResponse>,
    time: i64,
    began: Instant,
    octets: Vec<u8>,
    sent: usize,
}

impl<S: Socket> FastPath<S> {
    /// Watches a socket.
    pub fn new(stream: S, activity: Arc<Activity>, current: Arc<Current>, client: IpAddr) -> Self {
        let client = client.to_canonical();
        FastPath {
            stream,
            activity,
            current,
            client,
            sending: None,
            refusal: Bytes::new(),
            passed_over: 0,
            ahead: Bytes::new(),
        }
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
            self.activity.came(&octets);
            self.ahead = octets;
        }
    }

    /// Whether what has come in announces HTTP/2 by prior knowledge (RFC 9113 §3.4); `None` while it may yet.
    pub fn announces_streams(&self) -> Option<bool> {
        match self.ahead.len() < PREFACE.len() {
            true if PREFACE.starts_with(&self.ahead) => None,
            true => Some(false),
            false => Some(self.ahead.starts_with(PREFACE)),
        }
    }

    /// Reads more of what may announce HTTP/2.
    pub fn poll_announcement(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let mut octets = [MaybeUninit::uninit(); BEGINNING];
        let mut buffer = ReadBuf::uninit(&mut octets);
        let read = Pin::new(&mut self.stream).poll_read(context, &mut buffer)?;
        if read.is_pending() {
            return self.wait();
        }
        if buffer.filled().is_empty() {
            return Poll::Ready(Err(io::ErrorKind::UnexpectedEof.into()));
        }
        self.activity.came(buffer.filled());
        self.ahead = [&self.ahead, buffer.filled()].concat().into();
        Poll::Ready(Ok(()))
    }

    /// Passes over what a client that was refused still sends: to close the connection at once would take the refusal from
    /// it before it has read it (RFC 9112 §9.6).
    pub fn poll_rest_of_refused(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        loop {
            let mut octets = [MaybeUninit::uninit(); BEGINNING];
            let mut buffer = ReadBuf::uninit(&mut octets);
            if self.activity.has_expired() || self.passed_over > MOST_PASSED_OVER {
                return Poll::Ready(Ok(()));
            }
            ready!(Pin::new(&mut self.stream).poll_read(context, &mut buffer))?;
            if buffer.filled().is_empty() {
                return Poll::Ready(Ok(()));
            }
            self.passed_over += buffer.filled().len();
        }
    }

    /// Puts words of ours in place of what the reader of HTTP says about something that it could not read.
    fn refuse(&mut self, octets: &[u8]) {
        let (head, is_line_whole) = self.activity.refused_head();
        let status = octets.get(9..12).and_then(|digits| std::str::from_utf8(digits).ok()?.parse().ok());
        let refusal = Refusal::of(status.unwrap_or(400), &head, is_line_whole);
        self.activity.refuse(refusal.status.as_u16(), refusal.bytes);
        self.refusal = refusal.octets.into();
    }

    fn went(&self, result: Poll<io::Result<usize>>) -> Poll<io::Result<usize>> {
        match &result {
            Poll::Ready(Ok(0) | Err(_)) => {}
            Poll::Ready(Ok(_)) => self.activity.went(),
            Poll::Pending if self.activity.has_expired() => {
                return Poll::Ready(Err(io::ErrorKind::TimedOut.into()));
            }
            Poll::Pending => self.activity.stuck(),
        }
        result
    }

    /// The answer to what has come in, where that is a head whose answer is remembered.
    fn recalled(&self, came: &[u8]) -> Option<Arc<CachedResponse>> {
        if !S::IS_BARE || !came.ends_with(b"\r\n\r\n") {
            return None;
        }
        let site = self.current.load();
        let possible = self.activity.is_between_requests(site.config.limits.requests);
        if possible { recall(site.owner, came, &site.disk) } else { None }
    }

    /// Sends a remembered answer, or as much of it as the socket takes.
    fn answer(&mut self, answer: Arc<CachedResponse>) -> io::Result<()> {
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
        self.activity.answered_at_once();
        match sent == octets.len() {
            true => self.record(&answer, time, began, 0),
            false => self.sending = Some(Box::new(Sending { answer, time, began, octets, sent })),
        }
        Ok(())
    }

    /// Sends what is left of a remembered answer, or of a refusal.
    fn poll_rest(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        while !self.refusal.is_empty() {
            let result = Pin::new(&mut self.stream).poll_write(context, &self.refusal);
            match ready!(self.went(result))? {
                0 => return Poll::Ready(Err(io::ErrorKind::WriteZero.into())),
                sent => _ = self.refusal.split_to(sent),
            }
        }
        while let Some(sending) = &mut self.sending {
            let rest = &sending.octets[sending.sent..];
            let result = Pin::new(&mut self.stream).poll_write(context, rest);
            if result.is_pending() {
                self.activity.stuck();
                if self.activity.has_expired() {
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
            self.activity.went();
        }
        Poll::Ready(Ok(()))
    }
}

impl<S> FastPath<S> {
    fn record(&self, answer: &CachedResponse, time: i64, began: Instant, unsent: usize) {
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

impl<S> Drop for FastPath<S> {
    fn drop(&mut self) {
        self.finish_rest();
    }
}

impl<S: Socket> AsyncRead for FastPath<S> {
    fn poll_read(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let fast_path = self.get_mut();
        if !fast_path.ahead.is_empty() {
            let read = fast_path.ahead.split_to(fast_path.ahead.len().min(buffer.remaining()));
            buffer.put_slice(&read);
            return Poll::Ready(Ok(()));
        }
        for _ in 0..IN_A_ROW {
            ready!(fast_path.poll_rest(context))?;
            let before = buffer.filled().len();
            if Pin::new(&mut fast_path.stream).poll_read(context, buffer)?.is_pending() {
                return fast_path.wait();
            }
            let came = &buffer.filled()[before..];
            match fast_path.recalled(came) {
                Some(answer) => {
                    buffer.set_filled(before);
                    fast_path.answer(answer)?;
                }
                None => {
                    if !came.is_empty() {
                        fast_path.activity.came(came);
                    }
                    return Poll::Ready(Ok(()));
                }
            }
        }
        context.waker().wake_by_ref();
        Poll::Pending
    }
}

impl<S: Socket> FastPath<S> {
    /// Nothing has come in: waits, unless time is up.
    fn wait(&self) -> Poll<io::Result<()>> {
        if !self.activity.has_expired() {
            return Poll::Pending;
        }
        if self.activity.phase() == Phase::Head && S::IS_BARE {
            // Nothing is under way on this connection; if it does not fit, it is not sent (RFC 9110 §15.5.9).
            let refusal = Refusal::of(408, &[], true);
            if self.stream.try_write(&refusal.octets).is_ok() {
                self.activity.refuse(408, refusal.bytes);
            }
        }
        Poll::Ready(Err(io::ErrorKind::TimedOut.into()))
    }
}

impl<S: Socket> AsyncWrite for FastPath<S> {
    fn poll_write(self: Pin<&mut Self>, context: &mut Context<'_>, octets: &[u8]) -> Poll<io::Result<usize>> {
        let fast_path = self.get_mut();
        ready!(fast_path.poll_rest(context))?;
        if fast_path.activity.is_refusing() {
            fast_path.refuse(octets);
            fast_path.activity.set_flushed(false);
            return Poll::Ready(Ok(octets.len()));
        }
        fast_path.activity.set_flushed(false);
        let result = Pin::new(&mut fast_path.stream).poll_write(context, octets);
        fast_path.went(result)
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        pieces: &[IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let fast_path = self.get_mut();
        ready!(fast_path.poll_rest(context))?;
        let length: usize = pieces.iter().map(|piece| piece.len()).sum();
        if length <= SMALL {
            // Copied together, a small answer goes out by the cheaper call.
            let mut together = [0; SMALL];
            let mut at = 0;
            for piece in pieces {
                together[at..at + piece.len()].copy_from_slice(piece);
                at += piece.len();
            }
            return Pin::new(fast_path).poll_write(context, &together[..length]);
        }
        fast_path.activity.set_flushed(false);
        let result = Pin::new(&mut fast_path.stream).poll_write_vectored(context, pieces);
        fast_path.went(result)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    /// Asked for when everything has been written.
    fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let fast_path = self.get_mut();
        ready!(fast_path.poll_rest(context))?;
        ready!(Pin::new(&mut fast_path.stream).poll_flush(context))?;
        fast_path.activity.set_flushed(true);
        Poll::Ready(Ok(()))
    }

    fn poll_shutdown(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let fast_path = self.get_mut();
        ready!(fast_path.poll_rest(context))?;
        Pin::new(&mut fast_path.stream).poll_shutdown(context)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::request::connection::Connection;
    use crate::request::response_cache::{Candidate, remember};
    use crate::system::Clock;
    use crate::testing::{ONE_SITE, TestService, until};
    use exedra_answering::answer::path::resolve;
    use exedra_answering::answer::{Form, Question, Want};
    use exedra_answering::config::SiteId;
    use http::{HeaderMap, Request, StatusCode};
    use std::net::Ipv4Addr;
    use tokio::io::{AsyncReadExt, AsyncWriteExt, DuplexStream, duplex};

    /// A pipe, of which never anything can be told without waiting.
    impl Socket for DuplexStream {
        const IS_BARE: bool = true;

        fn try_write(&self, _: &[u8]) -> io::Result<usize> {
            Err(io::ErrorKind::WouldBlock.into())
        }
    }

    const CLIENT: IpAddr = IpAddr::V4(Ipv4Addr::new(192, 0, 2, 7));
    const HEAD: &[u8] = b"GET / HTTP/1.1\r\nhost: harbour.example\r\n\r\n";
    const PAGE: &str = "<h1>Harbour</h1>";

    /// A fast path, its client with room for so many octets on the way, and its activity.
    fn pair(service: &TestService, room: usize) -> (FastPath<DuplexStream>, DuplexStream, Arc<Activity>) {
        let (ours, client) = duplex(room);
        let activity = Activity::new(Clock::new(), CLIENT);
        let current = Arc::new(Current::new(service.active()));
        (FastPath::new(ours, Arc::clone(&activity), current, CLIENT), client, activity)
    }

    /// Has this thread remember what the page of the site answers to [`HEAD`].
    fn remember_page(service: &TestService) {
        let active = service.active();
        let path = resolve("/index.html").unwrap().place;
        let question = Question { site: SiteId(0), path, want: Want::Entry };
        let request = Request::get("/").header("host", "harbour.example").body(()).unwrap().into_parts().0;
        for _ in 0..2 {
            let kept = active.disk.look(&question);
            let candidate = Candidate::of(question.clone(), kept, Form::Plain, None).unwrap();
            let (headers, content) = (HeaderMap::new(), Bytes::from_static(PAGE.as_bytes()));
            let answer = (StatusCode::OK, &headers, &content);
            remember(active.owner, HEAD, &request, candidate, answer, (SiteId(0), "", None), None);
        }
    }

    async fn answer_of(client: &mut DuplexStream) -> String {
        let mut all = Vec::new();
        while !all.ends_with(PAGE.as_bytes()) {
            all.push(client.read_u8().await.unwrap());
        }
        String::from_utf8(all).unwrap()
    }

    #[test]
    fn what_is_no_remembered_head_passes_through_as_it_came() {
        let service = TestService::new(ONE_SITE);
        service.executor.block_on(async {
            let (mut fast_path, mut client, activity) = pair(&service, 1000);
            let mut octets = [0; 100];
            for piece in [&b"GET /a HT"[..], b"TP/1.1\r\n", b"\r\n"] {
                client.write_all(piece).await.unwrap();
                let length = fast_path.read(&mut octets).await.unwrap();
                assert_eq!(&octets[..length], piece);
                assert_eq!(activity.phase(), Phase::Head);
            }
            activity.answering();
            fast_path.write_all(b"HTTP/1.1 204 No Content\r\n\r\n").await.unwrap();
            drop(fast_path);
            let mut answer = String::new();
            client.read_to_string(&mut answer).await.unwrap();
            assert!(answer.ends_with("\r\n\r\n"));
        });
    }

    #[test]
    fn a_remembered_head_is_answered_and_its_reader_never_sees_it() {
        let service = TestService::new(ONE_SITE);
        remember_page(&service);
        service.executor.block_on(async {
            let (mut fast_path, mut client, activity) = pair(&service, 1000);
            let asked = async {
                for _ in 0..3 {
                    client.write_all(HEAD).await.unwrap();
                    let answer = answer_of(&mut client).await;
                    assert!(
                        answer.starts_with("HTTP/1.1 200 OK\r\ncontent-length: 16\r\ndate: "),
                        "{answer}"
                    );
                }
                client.write_all(b"POST / HTTP/1.1\r\n").await.unwrap();
            };
            let mut octets = [0; 100];
            let (length, ()) = tokio::join!(fast_path.read(&mut octets), asked);
            assert_eq!(&octets[..length.unwrap()], b"POST / HTTP/1.1\r\n");
            assert_eq!(activity.phase(), Phase::Head);
        });
        until("three lines", || service.logged("harbour").concat().lines().count() == 3);
        assert!(
            service
                .logged("harbour")
                .concat()
                .lines()
                .all(|line| line.contains("\"GET / HTTP/1.1\" 200 16 "))
        );
    }

    #[test]
    fn an_answer_larger_than_the_way_goes_out_in_pieces_and_what_nobody_takes_is_not_counted() {
        let service = TestService::new(ONE_SITE);
        remember_page(&service);
        service.executor.block_on(async {
            let (mut fast_path, mut client, _) = pair(&service, 50);
            let asked = async {
                client.write_all(HEAD).await.unwrap();
                answer_of(&mut client).await;
                client.write_all(HEAD).await.unwrap();
                // The head of the answer and five octets of its body, and then nothing any longer.
                let mut some = vec![0; 0];
                while !some.ends_with(b"\r\n\r\n") {
                    some.push(client.read_u8().await.unwrap());
                }
                drop(client);
            };
            let mut octets = [0; 100];
            let (read, ()) = tokio::join!(fast_path.read(&mut octets), asked);
            assert!(read.is_err() || read.unwrap() == 0);
        });
        until("both lines", || service.logged("harbour").concat().lines().count() == 2);
        let bytes = |line: &str| -> u64 {
            line.split("\" 200 ").nth(1).unwrap().split(' ').next().unwrap().parse().unwrap()
        };
        let counted: Vec<u64> = service.logged("harbour").concat().lines().map(bytes).collect();
        assert_eq!(counted[0], 16);
        assert!(counted[1] <= 16, "{counted:?}");
    }

    #[test]
    fn the_last_request_that_a_connection_may_bring_is_not_answered_in_passing() {
        let service = TestService::new(&format!("[limits]\nrequests = 2\n{ONE_SITE}"));
        remember_page(&service);
        service.executor.block_on(async {
            let (mut fast_path, mut client, _) = pair(&service, 1000);
            let asked = async {
                client.write_all(HEAD).await.unwrap();
                answer_of(&mut client).await;
                client.write_all(HEAD).await.unwrap();
            };
            let mut octets = [0; 100];
            let (length, ()) = tokio::join!(fast_path.read(&mut octets), asked);
            assert_eq!(&octets[..length.unwrap()], HEAD, "whoever closes the connection has to say so");
        });
    }

    #[test]
    fn streams_are_announced_by_their_preface_alone() {
        let service = TestService::new(ONE_SITE);
        service.executor.block_on(async {
            let (mut fast_path, mut client, _) = pair(&service, 1000);
            let (first, second) = PREFACE.split_at(10);
            client.write_all(first).await.unwrap();
            std::future::poll_fn(|context| fast_path.poll_beginning(context)).await.unwrap();
            assert_eq!(fast_path.announces_streams(), None, "it may yet");
            client.write_all(second).await.unwrap();
            while fast_path.announces_streams().is_none() {
                std::future::poll_fn(|context| fast_path.poll_announcement(context)).await.unwrap();
            }
            assert_eq!(fast_path.announces_streams(), Some(true));
            let mut octets = [0; 100];
            let length = fast_path.read(&mut octets).await.unwrap();
            assert_eq!(&octets[..length], PREFACE, "whoever speaks HTTP/2 reads it again");

            let (mut other, mut client, _) = pair(&service, 1000);
            client.write_all(b"GET / HTTP/1.1\r\n\r\n").await.unwrap();
            std::future::poll_fn(|context| other.poll_beginning(context)).await.unwrap();
            assert_eq!(other.announces_streams(), Some(false));
        });
    }

    #[test]
    fn whoever_waits_longer_than_allowed_is_let_go() {
        let service = TestService::new(ONE_SITE);
        service.executor.block_on(async {
            let (mut fast_path, client, activity) = pair(&service, 1000);
            activity.expire();
            let error = fast_path.read(&mut [0; 10]).await.unwrap_err();
            assert_eq!(error.kind(), io::ErrorKind::TimedOut);
            drop(client);
        });
    }
}
