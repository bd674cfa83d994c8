//! The listening socket, and how many may come in.

use super::activity::TICK;
use super::listener::ListenerOptions;
use super::worker::{Accepted, Workers};
use std::io;
use std::pin::pin;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::{AcquireError, OwnedSemaphorePermit, watch};

/// Accepts connections until told to stop. Where there are as many as may be, one that has nothing to show for its place
/// makes room; when all are busy, newcomers wait. `options` may change meanwhile.
pub async fn accept(
    listener: &TcpListener,
    workers: Arc<Workers>,
    options: watch::Receiver<ListenerOptions>,
    mut stop: watch::Receiver<bool>,
) {
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            _ = stop.wait_for(|stop| *stop) => break,
        };
        let (stream, peer) = match accepted {
            Ok(accepted) => accepted,
            Err(error) => {
                out_of_descriptors(&workers, &error).await;
                continue;
            }
        };
        let place = match Arc::clone(&workers.places).try_acquire_owned() {
            Ok(place) => place,
            Err(_) => {
                let place = tokio::select! {
                    place = place_after_others(&workers) => place,
                    _ = stop.wait_for(|stop| *stop) => break,
                };
                match place {
                    Ok(place) => place,
                    Err(_) => break,
                }
            }
        };
        // Small answers go out in one segment anyway, and nothing should wait for more.
        let _ = stream.set_nodelay(true);
        match stream.into_std() {
            Ok(stream) => workers.hand_over(Accepted { stream, peer, options: *options.borrow(), place }),
            Err(error) => tracing::debug!(%peer, "a connection ended before it began: {error}"),
        }
    }
}

/// A place, for which others make room. It is asked for until there is one: those that could make room may come only now.
async fn place_after_others(workers: &Workers) -> Result<OwnedSemaphorePermit, AcquireError> {
    let mut place = pin!(Arc::clone(&workers.places).acquire_owned());
    loop {
        workers.make_room();
        if let Ok(place) = tokio::time::timeout(TICK, place.as_mut()).await {
            return place;
        }
    }
}

/// Most failures to accept are about one connection. Running out of descriptors is about all of them: the
/// next attempt would fail at once, so it waits until some connection has had time to end.
async fn out_of_descriptors(workers: &Workers, error: &io::Error) {
    if matches!(error.kind(), io::ErrorKind::ConnectionAborted | io::ErrorKind::ConnectionReset) {
        return;
    }
    tracing::warn!("a connection could not be accepted: {error}");
    workers.make_room();
    tokio::time::sleep(Duration::from_millis(50)).await;
}
