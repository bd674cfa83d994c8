//! The console's connections: few, each with time-outs, and none that keeps the service from stopping.
//!
//! The console may not be turned against the sites: it has a share of the descriptors of its own, and takes no more.

use super::caller::Console;
use super::peer::{Peer, SECURED};
use super::routes::router;
use crate::access::certificates::handshake::secured;
use crate::access::descriptors::CONSOLE;
use crate::access::limits::network;
use crate::active::Tls;
use axum::Router;
use axum::body::Body;
use axum::extract::Request;
use axum::http::HeaderValue;
use axum::response::Response;
use foldhash::fast::RandomState;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper_util::rt::{TokioIo, TokioTimer};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::convert::Infallible;
use std::future::Future;
use std::io::{self, IoSlice};
use std::net::IpAddr;
use std::pin::{Pin, pin};
use std::sync::Arc;
use std::task::{Context, Poll, ready};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, watch};
use tokio::task::JoinSet;
use tokio::time::{Sleep, sleep, timeout};
use tower::ServiceExt;

/// How long the head of a request may take, and how long a connection may wait for the next.
const HEAD_TIME: Duration = Duration::from_secs(20);
/// How long a handshake of TLS may take.
const HANDSHAKE_TIME: Duration = Duration::from_secs(10);
/// The first octet of such a handshake (RFC 8446 §5.1).
const HANDSHAKE_RECORD: u8 = 22;
/// How much of plain HTTP is read that should be HTTPS.
const MOST_UNREAD: u64 = 64 << 10;
/// How long a client may take none of an answer.
const STUCK_TIME: Duration = Duration::from_secs(30);
/// How long requests under way may take when the service stops.
const LAST_TIME: Duration = Duration::from_secs(5);
/// The most connections of one client.
const OF_CLIENT: usize = CONSOLE / 2;
/// How long accepting waits when it fails: most failures are about all connections.
const AGAIN: Duration = Duration::from_millis(100);

/// Serves the console until told to stop.
pub async fn serve(socket: TcpListener, console: Arc<Console>, mut stop: watch::Receiver<bool>) {
    let service = router(Arc::clone(&console));
    let places = Arc::new(Semaphore::new(CONSOLE));
    let clients = Arc::new(Clients::default());
    let (ending, ends) = watch::channel(false);
    let mut connections = JoinSet::new();
    loop {
        let accepted = tokio::select! {
            _ = stop.wait_for(|stop| *stop) => break,
            // Those that have ended are forgotten meanwhile.
            Some(_) = connections.join_next(), if !connections.is_empty() => continue,
            accepted = accept(&socket, &places) => accepted,
        };
        let (stream, peer, place) = match accepted {
            Ok(accepted) => accepted,
            Err(error) => {
                tracing::warn!("a connection to the console could not be accepted: {error}");
                sleep(AGAIN).await;
                continue;
            }
        };
        let Some(share) = clients.share(peer) else { continue };
        let (service, mut ends) = (service.clone(), ends.clone());
        let tls = console.tls();
        connections.spawn(async move {
            let _held = (place, share);
            let secured = timeout(HANDSHAKE_TIME, secure(tls, stream));
            let (stream, is_secured) = match secured.await.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into())) {
                Ok(secured) => secured,
                Err(error) => return tracing::debug!(%peer, "a connection to the console could not be secured: {error}"),
            };
            let mut http = http1::Builder::new();
            http.timer(TokioTimer::new()).header_read_timeout(HEAD_TIME).max_buf_size(64 << 10);
            let io = TokioIo::new(Unstuck { stream, patience: None });
            let mut connection = pin!(http.serve_connection(io, of_client(service, peer, is_secured)));
            let ended = tokio::select! {
                ended = connection.as_mut() => Some(ended),
                _ = ends.changed() => None,
            };
            let ended = match ended {
                Some(ended) => ended,
                None => {
                    connection.as_mut().graceful_shutdown();
                    connection.await
                }
            };
            if let Err(error) = ended {
                tracing::debug!(%peer, "a connection to the console ended early: {error}");
            }
        });
    }
    let _ = ending.send(true);
    // Half a request is not waited for.
    let all = async { while connections.join_next().await.is_some() {} };
    if timeout(LAST_TIME, all).await.is_err() {
        tracing::warn!(
            "some requests to the console took longer than {LAST_TIME:?} to finish and were cut off"
        );
    }
}

/// A connection of the console, and whether it is secured. Whoever speaks plain HTTP to one that should be is told so.
async fn secure(tls: Option<Tls>, mut stream: TcpStream) -> io::Result<(Connection, bool)> {
    let Some(tls) = tls else { return Ok((Box::pin(stream), false)) };
    let mut first = [0];
    if stream.peek(&mut first).await? > 0 && first[0] != HANDSHAKE_RECORD {
        let words = "The console answers by HTTPS: write https:// in place of http://\n";
        let answer = format!(
            "HTTP/1.1 400 Bad Request\r\nContent-Type: text/plain\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{words}",
            words.len()
        );
        stream.write_all(answer.as_bytes()).await?;
        stream.shutdown().await?;
        // Closed with octets unread, the client would not see it.
        let mut unread = (&mut stream).take(MOST_UNREAD);
        tokio::io::copy(&mut unread, &mut tokio::io::sink()).await?;
        return Err(io::Error::other("plain HTTP"));
    }
    let (stream, _) = secured(&tls.certificates, &tls.console, stream).await?;
    Ok((Box::pin(stream), true))
}

/// Whoever answers, told who asks.
fn of_client(
    router: Router,
    client: IpAddr,
    is_secured: bool,
) -> impl hyper::service::Service<
    hyper::Request<Incoming>,
    Response = Response,
    Error = Infallible,
    Future: Future<Output = Result<Response, Infallible>> + Send,
> {
    hyper::service::service_fn(move |mut request: hyper::Request<Incoming>| {
        request.headers_mut().remove(SECURED);
        if is_secured {
            request.headers_mut().insert(SECURED, HeaderValue::from_static("1"));
        }
        request.extensions_mut().insert(Peer(client));
        let request: Request = request.map(Body::new);
        router.clone().oneshot(request)
    })
}

/// A connection, once there is a place for it.
async fn accept(
    socket: &TcpListener,
    places: &Arc<Semaphore>,
) -> io::Result<(TcpStream, IpAddr, tokio::sync::OwnedSemaphorePermit)> {
    let place = Arc::clone(places).acquire_owned().await.map_err(io::Error::other)?;
    let (stream, peer) = socket.accept().await?;
    Ok((stream, peer.ip(), place))
}

/// A connection, secured or not.
type Connection = Pin<Box<dyn Stream>>;

/// What connections are read from and written to.
trait Stream: AsyncRead + AsyncWrite + Send {}

impl<S: AsyncRead + AsyncWrite + Send> Stream for S {}

/// How many connections each client has.
#[derive(Default)]
struct Clients(Mutex<HashMap<IpAddr, usize, RandomState>>);

/// One of them.
struct Share(Arc<Clients>, IpAddr);

impl Clients {
    fn share(self: &Arc<Self>, client: IpAddr) -> Option<Share> {
        let client = network(client);
        let mut counts = self.0.lock();
        let count = counts.entry(client).or_default();
        if *count >= OF_CLIENT {
            return None;
        }
        *count += 1;
        Some(Share(Arc::clone(self), client))
    }
}

impl Drop for Share {
    fn drop(&mut self) {
        let mut counts = self.0.0.lock();
        if let Some(count) = counts.get_mut(&self.1) {
            *count -= 1;
            if *count == 0 {
                counts.remove(&self.1);
            }
        }
    }
}

/// A socket whose writing ends when nothing is taken for too long.
struct Unstuck {
    stream: Connection,
    patience: Option<Pin<Box<Sleep>>>,
}

impl Unstuck {
    fn judge<T>(&mut self, result: Poll<io::Result<T>>, context: &mut Context<'_>) -> Poll<io::Result<T>> {
        if result.is_ready() {
            self.patience = None;
            return result;
        }
        let patience = self.patience.get_or_insert_with(|| Box::pin(sleep(STUCK_TIME)));
        ready!(patience.as_mut().poll(context));
        Poll::Ready(Err(io::ErrorKind::TimedOut.into()))
    }
}

impl AsyncRead for Unstuck {
    fn poll_read(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        self.get_mut().stream.as_mut().poll_read(context, buffer)
    }
}

impl AsyncWrite for Unstuck {
    fn poll_write(self: Pin<&mut Self>, context: &mut Context<'_>, octets: &[u8]) -> Poll<io::Result<usize>> {
        let unstuck = self.get_mut();
        let result = unstuck.stream.as_mut().poll_write(context, octets);
        unstuck.judge(result, context)
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        pieces: &[IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let unstuck = self.get_mut();
        let result = unstuck.stream.as_mut().poll_write_vectored(context, pieces);
        unstuck.judge(result, context)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.get_mut().stream.as_mut().poll_flush(context)
    }

    fn poll_shutdown(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.get_mut().stream.as_mut().poll_shutdown(context)
    }
}
