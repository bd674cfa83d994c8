//! Connections: accepted, served, and on the way down let finish.

use crate::respond::{Site, respond};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::GracefulShutdown;
use std::convert::Infallible;
use std::io;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::watch;

/// How long a client may take to send the head of a request.
const HEAD_TIME: Duration = Duration::from_secs(20);
/// How long requests that are under way may take when the service stops.
const LAST_TIME: Duration = Duration::from_secs(20);

/// Accepts connections until told to stop, then lets those that are busy finish.
pub async fn listen(listener: TcpListener, site: Arc<Site>, mut stop: watch::Receiver<bool>) {
    let graceful = GracefulShutdown::new();
    let mut http = http1::Builder::new();
    http.timer(TokioTimer::new()).header_read_timeout(HEAD_TIME).max_buf_size(64 << 10);
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            _ = stop.wait_for(|stop| *stop) => break,
        };
        let (stream, peer) = match accepted {
            Ok(accepted) => accepted,
            Err(error) => {
                out_of_descriptors(&error).await;
                continue;
            }
        };
        // Small answers go out in one segment anyway, and nothing should wait for more.
        let _ = stream.set_nodelay(true);
        let site = Arc::clone(&site);
        let service = service_fn(move |request| {
            let site = Arc::clone(&site);
            async move { Ok::<_, Infallible>(respond(site, request, peer.ip()).await) }
        });
        let connection = graceful.watch(http.serve_connection(TokioIo::new(stream), service));
        tokio::spawn(async move {
            if let Err(error) = connection.await {
                tracing::debug!(%peer, "connection ended early: {error}");
            }
        });
    }
    drop(listener);
    if tokio::time::timeout(LAST_TIME, graceful.shutdown()).await.is_err() {
        tracing::warn!("some requests took longer than {LAST_TIME:?} to finish and were cut off");
    }
}

/// Most failures to accept are about one connection. Running out of descriptors is about all of them: the
/// next attempt would fail at once, so it waits until some connection has had time to end.
async fn out_of_descriptors(error: &io::Error) {
    tracing::warn!("a connection could not be accepted: {error}");
    if !matches!(error.kind(), io::ErrorKind::ConnectionAborted | io::ErrorKind::ConnectionReset) {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}
