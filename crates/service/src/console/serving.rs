//! The console's connections: few, each with time-outs, and none that keeps the service from stopping.
//!
//! The console may not be turned against the sites: it has a share of the descriptors of its own, and takes no more.

use super::caller::Console;
use super::peer::Peer;
use super::routes::router;
use super::sign_in::SECURED;
use crate::access::descriptors::CONSOLE;
use crate::access::limits::network;
use axum::Router;
use axum::body::Body;
use axum::extract::Request;
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
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, watch};
use tokio::task::JoinSet;
use tokio::time::{Sleep, sleep, timeout};
use tower::ServiceExt;

/// How long the head of a request may take, and how long a connection may wait for the next.
const HEAD_TIME: Duration = Duration::from_secs(20);
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
    let service = router(console);
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
        connections.spawn(async move {
            let _held = (place, share);
            let mut http = http1::Builder::new();
            http.timer(TokioTimer::new()).header_read_timeout(HEAD_TIME).max_buf_size(64 << 10);
            let io = TokioIo::new(Unstuck { stream, patience: None });
            let mut connection = pin!(http.serve_connection(io, of_client(service, peer)));
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

/// Whoever answers, told who asks.
fn of_client(
    router: Router,
    client: IpAddr,
) -> impl hyper::service::Service<
    hyper::Request<Incoming>,
    Response = Response,
    Error = Infallible,
    Future: Future<Output = Result<Response, Infallible>> + Send,
> {
    hyper::service::service_fn(move |mut request: hyper::Request<Incoming>| {
        request.headers_mut().remove(SECURED);
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
    stream: TcpStream,
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
        Pin::new(&mut self.get_mut().stream).poll_read(context, buffer)
    }
}

impl AsyncWrite for Unstuck {
    fn poll_write(self: Pin<&mut Self>, context: &mut Context<'_>, octets: &[u8]) -> Poll<io::Result<usize>> {
        let unstuck = self.get_mut();
        let result = Pin::new(&mut unstuck.stream).poll_write(context, octets);
        unstuck.judge(result, context)
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        pieces: &[IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let unstuck = self.get_mut();
        let result = Pin::new(&mut unstuck.stream).poll_write_vectored(context, pieces);
        unstuck.judge(result, context)
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
