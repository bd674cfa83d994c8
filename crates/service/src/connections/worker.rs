//! A thread with its own event loop, which serves the connections it was given to their end.

use super::pulse::{Clock, Pulse, TICK};
use super::watched::Watched;
use crate::Counters;
use crate::respond::respond;
use crate::site::Site;
use exedra_core::config::Limits;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::TokioIo;
use hyper_util::server::graceful::GracefulShutdown;
use std::io;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;
use tokio::net::TcpStream;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc, watch};
use tokio::time::MissedTickBehavior;

/// How long requests that are under way may take when the service stops.
const LAST_TIME: Duration = Duration::from_secs(20);
/// How many files a worker's threads read, or encode, at a time.
const BLOCKING_THREADS: usize = 32;

/// A connection on its way to a worker.
type Newcomer = (std::net::TcpStream, SocketAddr, OwnedSemaphorePermit);

/// All workers.
pub struct Workers {
    all: Vec<Worker>,
    /// How many more connections may be open.
    pub places: Arc<Semaphore>,
}

/// One worker, from outside.
pub struct Worker {
    newcomers: mpsc::UnboundedSender<Newcomer>,
    open: Arc<Open>,
}

/// The open connections of a worker.
struct Open {
    count: AtomicU64,
    pulses: Mutex<Vec<Arc<Pulse>>>,
}

impl Workers {
    /// Starts so many workers. They end when told to stop, after what is under way.
    pub fn start(
        count: usize,
        site: &Site,
        counters: &Counters,
        clock: &Arc<Clock>,
        stop: &watch::Receiver<bool>,
    ) -> io::Result<(Arc<Workers>, Vec<JoinHandle<()>>)> {
        let limits = site.config.limits;
        let (mut all, mut threads) = (Vec::new(), Vec::new());
        for number in 1..=count {
            let runtime = tokio::runtime::Builder::new_current_thread()
                .enable_all()
                .max_blocking_threads(BLOCKING_THREADS)
                .thread_name("disk")
                .build()?;
            let (newcomers, coming) = mpsc::unbounded_channel();
            let open = Arc::new(Open { count: AtomicU64::new(0), pulses: Mutex::default() });
            let serving = Serving {
                site: Arc::new(Site { counter: counters.add(), ..site.clone() }),
                clock: Arc::clone(clock),
                open: Arc::clone(&open),
                graceful: GracefulShutdown::new(),
                http: builder(&limits),
            };
            let stop = stop.clone();
            let thread = std::thread::Builder::new().name(format!("worker {number}"));
            threads.push(thread.spawn(move || runtime.block_on(serving.serve(coming, stop)))?);
            all.push(Worker { newcomers, open });
        }
        let places = usize::try_from(limits.connections).unwrap_or(usize::MAX).min(Semaphore::MAX_PERMITS);
        Ok((Arc::new(Workers { all, places: Arc::new(Semaphore::new(places)) }), threads))
    }

    /// Gives a connection to the worker that has fewest.
    pub fn hand_over(&self, stream: std::net::TcpStream, peer: SocketAddr, place: OwnedSemaphorePermit) {
        let fewest = self.all.iter().min_by_key(|worker| worker.open.count.load(Ordering::Relaxed));
        if let Some(worker) = fewest {
            worker.open.count.fetch_add(1, Ordering::Relaxed);
            // A worker that has ended takes nobody: the connection is closed by being dropped.
            let _ = worker.newcomers.send((stream, peer, place));
        }
    }

    /// Closes the connection on which nothing has happened for longest, if there is any such.
    pub fn close_idlest(&self) {
        let mut idlest: Option<(u64, Arc<Pulse>)> = None;
        for worker in &self.all {
            for pulse in worker.open.pulses().iter() {
                if let Some(since) = pulse.idle_since()
                    && idlest.as_ref().is_none_or(|(longest, _)| since < *longest)
                {
                    idlest = Some((since, Arc::clone(pulse)));
                }
            }
        }
        if let Some((_, pulse)) = idlest {
            pulse.expire();
        }
    }

    /// Connections that are open.
    pub fn open(&self) -> u64 {
        self.all.iter().map(|worker| worker.open.count.load(Ordering::Relaxed)).sum()
    }
}

impl Open {
    fn pulses(&self) -> MutexGuard<'_, Vec<Arc<Pulse>>> {
        self.pulses.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn builder(limits: &Limits) -> http1::Builder {
    let mut http = http1::Builder::new();
    // Time-outs are ours: a timer for each request is what costs most about them.
    http.header_read_timeout(None).max_buf_size(usize::try_from(limits.head_size).unwrap_or(64 << 10));
    http
}

/// A worker, from inside.
struct Serving {
    site: Arc<Site>,
    clock: Arc<Clock>,
    open: Arc<Open>,
    graceful: GracefulShutdown,
    http: http1::Builder,
}

impl Serving {
    async fn serve(self, mut coming: mpsc::UnboundedReceiver<Newcomer>, mut stop: watch::Receiver<bool>) {
        let mut ticks = tokio::time::interval(TICK);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let limits = self.site.config.limits;
        loop {
            tokio::select! {
                newcomer = coming.recv() => match newcomer {
                    Some((stream, peer, place)) => self.take(stream, peer, place),
                    None => break,
                },
                _ = ticks.tick() => {
                    self.clock.tick();
                    let mut pulses = self.open.pulses();
                    // The connection itself holds one, its task another.
                    pulses.retain(|pulse| Arc::strong_count(pulse) > 1);
                    pulses.iter().for_each(|pulse| pulse.judge(&limits));
                }
                _ = stop.wait_for(|stop| *stop) => break,
            }
        }
        while let Ok((stream, peer, place)) = coming.try_recv() {
            self.take(stream, peer, place);
        }
        if tokio::time::timeout(LAST_TIME, self.graceful.shutdown()).await.is_err() {
            tracing::warn!("some requests took longer than {LAST_TIME:?} to finish and were cut off");
        }
    }

    fn take(&self, stream: std::net::TcpStream, peer: SocketAddr, place: OwnedSemaphorePermit) {
        let stream = match TcpStream::from_std(stream) {
            Ok(stream) => stream,
            Err(error) => {
                self.open.count.fetch_sub(1, Ordering::Relaxed);
                tracing::warn!(%peer, "a connection could not be taken: {error}");
                return;
            }
        };
        let pulse = Pulse::new(Arc::clone(&self.clock));
        self.open.pulses().push(Arc::clone(&pulse));
        let (site, beating) = (Arc::clone(&self.site), Arc::clone(&pulse));
        let service = service_fn(move |request| respond(&site, request, peer.ip(), &beating));
        let watched = Watched::new(stream, Arc::clone(&pulse), Arc::clone(&self.site), peer.ip());
        let connection = self.http.serve_connection(TokioIo::new(watched), service);
        let connection = self.graceful.watch(connection);
        let (site, open) = (Arc::clone(&self.site), Arc::clone(&self.open));
        tokio::spawn(async move {
            if let Err(error) = connection.await {
                tracing::debug!(%peer, "a connection ended early: {error}");
            }
            if let Some((status, head)) = pulse.unfinished() {
                site.record_unfinished(peer.ip(), status, &head);
            }
            open.count.fetch_sub(1, Ordering::Relaxed);
            drop(place);
        });
    }
}
