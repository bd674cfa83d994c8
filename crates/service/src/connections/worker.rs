//! A thread with its own event loop, which serves the connections it was given to their end.

use super::activity::{Activity, TICK};
use super::announced::announced;
use super::fast_path::{FastPath, Socket};
use super::hibernation::{Ended, Hibernating};
use super::listener::ListenerOptions;
use super::refusal::Refusal;
use super::streams::Streams;
use crate::access::certificates::first_name;
use crate::access::certificates::handshake::secured;
use crate::access::limits::network;
use crate::active::{Active, Current, Tls};
use crate::request::connection::{Peer, Secured};
use crate::request::respond::Responder;
use crate::system::Clock;
use crate::system::Counters;
use crate::system::threads::keep_on;
use exedra_answering::facts::Scheme;
use foldhash::fast::RandomState;
use http::StatusCode;
use hyper::server::conn::{http1, http2};
use hyper_util::rt::TokioIo;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::future::poll_fn;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::pin::pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::task::Poll;
use std::thread::JoinHandle;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc, watch};
use tokio::time::MissedTickBehavior;
use tokio_rustls::server::TlsStream;

/// How long requests that are under way may take when the service stops.
const LAST_TIME: Duration = Duration::from_secs(20);
/// How many files a worker's threads read, or encode, at a time.
const BLOCKING_THREADS: usize = 32;
/// How much is read of what a client sends that did not say whom it comes from, and for how long.
const MOST_UNREAD: u64 = 64 << 10;
const TIME_TO_READ: Duration = Duration::from_secs(1);
/// How many requests a client may have under way on one connection (HTTP/2).
const MOST_STREAMS: u32 = 128;

/// A connection on its way to a worker.
pub struct Accepted {
    /// Its socket.
    pub stream: std::net::TcpStream,
    /// Whoever connected.
    pub peer: SocketAddr,
    /// How it begins.
    pub options: ListenerOptions,
    /// Its place among those that may be open.
    pub place: OwnedSemaphorePermit,
}

/// All workers.
pub struct Workers {
    all: Vec<Worker>,
    /// How many more connections may be open.
    pub places: Arc<Semaphore>,
    /// How many may be open in all.
    allowed: Mutex<usize>,
}

/// One worker, from outside.
pub struct Worker {
    newcomers: mpsc::UnboundedSender<Accepted>,
    open: Arc<Open>,
    current: Arc<Current>,
}

/// The open connections of a worker.
struct Open {
    count: AtomicU64,
    activities: Mutex<Vec<Arc<Activity>>>,
}

impl Workers {
    /// Starts so many workers. They end when told to stop, after what is under way.
    pub fn start(
        count: usize,
        site: &Active,
        counters: &Counters,
        clock: &Arc<Clock>,
        stop: &watch::Receiver<bool>,
    ) -> io::Result<(Arc<Workers>, Vec<JoinHandle<()>>)> {
        let (mut all, mut threads) = (Vec::new(), Vec::new());
        for number in 1..=count {
            let runtime = tokio::runtime::Builder::new_current_thread()
                .enable_all()
                .max_blocking_threads(BLOCKING_THREADS)
                .thread_name("disk")
                .build()?;
            let (newcomers, coming) = mpsc::unbounded_channel();
            let open = Arc::new(Open { count: AtomicU64::new(0), activities: Mutex::default() });
            let own = Arc::new(Active { counter: counters.add(), ..site.clone() });
            let current = Arc::new(Current::new(own));
            let serving = Serving {
                current: Arc::clone(&current),
                clock: Arc::clone(clock),
                open: Arc::clone(&open),
                ended: watch::Sender::new(()),
            };
            let stop = stop.clone();
            let mut coming = coming;
            // Connections live on in the event loop, whatever becomes of the one who lets them in.
            let serve = move || runtime.block_on(serving.serve(&mut coming, stop.clone()));
            threads.push(keep_on(&format!("worker {number}"), serve)?);
            all.push(Worker { newcomers, open, current });
        }
        let places = site.division.connections.min(Semaphore::MAX_PERMITS);
        let (allowed, places) = (Mutex::new(places), Arc::new(Semaphore::new(places)));
        Ok((Arc::new(Workers { all, places, allowed }), threads))
    }

    /// From now on requests are answered by this. Those under way finish by what they began with.
    pub fn change(&self, site: &Active) {
        for worker in &self.all {
            let counter = Arc::clone(&worker.current.load().counter);
            worker.current.store(Arc::new(Active { counter, ..site.clone() }));
        }
        let wanted = site.division.connections.min(Semaphore::MAX_PERMITS);
        let mut allowed = self.allowed.lock();
        if wanted > *allowed {
            self.places.add_permits(wanted - *allowed);
            *allowed = wanted;
        } else {
            // Connections that are open keep their places; fewer newcomers get one.
            *allowed -= self.places.forget_permits(*allowed - wanted);
        }
    }

    /// Gives a connection to the worker that has fewest.
    pub fn hand_over(&self, newcomer: Accepted) {
        let fewest = self.all.iter().min_by_key(|worker| worker.open.count.load(Ordering::Relaxed));
        if let Some(worker) = fewest {
            worker.open.count.fetch_add(1, Ordering::Relaxed);
            // A worker that has ended takes nobody: the connection is closed by being dropped.
            let _ = worker.newcomers.send(newcomer);
        }
    }

    /// Closes a connection that has nothing to show for its place: of the client that holds most of such, the one that has
    /// been so for longest. So no client keeps the others out by half requests, silent handshakes or answers that it does not
    /// take.
    pub fn make_room(&self) {
        let mut spare: HashMap<IpAddr, (usize, u64, Arc<Activity>), RandomState> = HashMap::default();
        for worker in &self.all {
            for activity in worker.open.activities.lock().iter() {
                let Some(since) = activity.spare_since() else { continue };
                match spare.entry(network(activity.peer)) {
                    Entry::Vacant(place) => _ = place.insert((1, since, Arc::clone(activity))),
                    Entry::Occupied(mut place) => {
                        let (count, longest, first) = place.get_mut();
                        *count += 1;
                        if since < *longest {
                            (*longest, *first) = (since, Arc::clone(activity));
                        }
                    }
                }
            }
        }
        let most = spare.into_values().max_by_key(|(count, since, _)| (*count, std::cmp::Reverse(*since)));
        if let Some((_, _, activity)) = most {
            activity.expire();
        }
    }

    /// Connections that are open.
    pub fn open(&self) -> u64 {
        self.all.iter().map(|worker| worker.open.count.load(Ordering::Relaxed)).sum()
    }
}

/// A worker, from inside.
struct Serving {
    current: Arc<Current>,
    clock: Arc<Clock>,
    open: Arc<Open>,
    /// Each connection holds a receiver as long as it is there.
    ended: watch::Sender<()>,
}

impl Serving {
    async fn serve(&self, coming: &mut mpsc::UnboundedReceiver<Accepted>, mut stop: watch::Receiver<bool>) {
        let mut ticks = tokio::time::interval(TICK);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                newcomer = coming.recv() => match newcomer {
                    Some(newcomer) => self.take(newcomer),
                    None => break,
                },
                _ = ticks.tick() => {
                    self.clock.tick();
                    let limits = self.current.load().config.limits;
                    let mut activities = self.open.activities.lock();
                    // The connection itself holds one, its task another.
                    activities.retain(|activity| Arc::strong_count(activity) > 1);
                    activities.iter().for_each(|activity| activity.judge(&limits));
                }
                _ = stop.wait_for(|stop| *stop) => break,
            }
        }
        while let Ok(newcomer) = coming.try_recv() {
            self.take(newcomer);
        }
        self.open.activities.lock().iter().for_each(|activity| activity.end());
        if tokio::time::timeout(LAST_TIME, self.ended.closed()).await.is_err() {
            tracing::warn!("some requests took longer than {LAST_TIME:?} to finish and were cut off");
        }
    }

    fn take(&self, newcomer: Accepted) {
        let Accepted { stream, peer, options, place } = newcomer;
        let stream = match TcpStream::from_std(stream) {
            Ok(stream) => stream,
            Err(error) => {
                self.open.count.fetch_sub(1, Ordering::Relaxed);
                tracing::warn!(%peer, "a connection could not be taken: {error}");
                return;
            }
        };
        let activity = Activity::new(Arc::clone(&self.clock), peer.ip());
        self.open.activities.lock().push(Arc::clone(&activity));
        let connection = Connection(Responder {
            current: Arc::clone(&self.current),
            peer: Peer {
                address: peer.ip(),
                scheme: Scheme::Http,
                server: stream.local_addr().ok(),
                tls: None,
            },
            activity,
        });
        let (open, present) = (Arc::clone(&self.open), self.ended.subscribe());
        tokio::spawn(async move {
            if let Err(error) = connection.serve(stream, options).await {
                tracing::debug!(%peer, "a connection ended early: {error}");
            }
            open.count.fetch_sub(1, Ordering::Relaxed);
            drop((place, present));
        });
    }
}

/// A connection that is served to its end.
struct Connection(Responder<Activity>);

impl Connection {
    async fn serve(mut self, mut stream: TcpStream, options: ListenerOptions) -> io::Result<()> {
        let site = self.0.current.load_full();
        let patience = site.config.limits.head_time;
        let beginning = async {
            if options.announced {
                let forwarders = &site.config.service.forwarders;
                match announced(&mut stream, self.0.peer.address, forwarders).await {
                    Ok(client) => self.0.peer.address = client,
                    Err(error) => {
                        let cause = format!("this listener expects the PROXY protocol: {error}");
                        let said = Some(cause.as_str()).filter(|_| !options.https);
                        refuse(&site, self.0.peer.address, &mut stream, said, &cause).await;
                        return Err(error);
                    }
                }
            }
            match (options.https, &site.tls) {
                (false, _) => Ok(Either::Bare(stream)),
                (true, None) => Err(io::Error::other("nobody answers by HTTPS any longer")),
                (true, Some(tls)) => {
                    if is_plain(&stream).await? {
                        let cause = "plain HTTP was sent to an HTTPS port: use https://";
                        refuse(&site, self.0.peer.address, &mut stream, Some(cause), cause).await;
                        return Err(io::ErrorKind::InvalidData.into());
                    }
                    secure(tls, stream).await
                }
            }
        };
        // The beginning needs far more room than what follows, which is there for as long as the connection.
        let activity = Arc::clone(&self.0.activity);
        let unless_expired = poll_fn(move |context| {
            activity.waits(context.waker());
            if activity.has_expired() { Poll::Ready(()) } else { Poll::Pending }
        });
        let begun = Box::pin(async {
            tokio::select! {
                biased;
                begun = tokio::time::timeout(patience, beginning) => begun.map_err(io::Error::from).flatten(),
                () = unless_expired => Err(io::ErrorKind::TimedOut.into()),
            }
        });
        let begun = begun.await;
        // What a connection is served by is looked up for each request; nothing keeps an old configuration alive.
        drop(site);
        let is_secured = options.https;
        if is_secured {
            self.0.peer.scheme = Scheme::Https;
        }
        match begun? {
            Either::Bare(stream) => self.serve_one_by_one(stream).await,
            Either::Secured(stream, secured) => {
                let (_, session) = stream.get_ref();
                self.0.peer.tls = Some(secured);
                match session.alpn_protocol() {
                    Some(b"h2") => Box::pin(self.serve_beside_each_other(*stream)).await,
                    // In a box, so that a connection without TLS has no room for one with it.
                    _ => Box::pin(self.serve_one_by_one(*stream)).await,
                }
            }
        }
    }

    /// HTTP/1.
    async fn serve_one_by_one<S: Socket + Send + 'static>(self, stream: S) -> io::Result<()> {
        let most = usize::try_from(self.0.current.load().config.limits.head_size).unwrap_or(64 << 10);
        let mut http = http1::Builder::new();
        // Time-outs are ours: a timer for each request is what costs most about them.
        // A client that sends no more still waits for what it has asked for.
        http.header_read_timeout(None).max_buf_size(most).half_close(true);
        let responder = self.0;
        let (current, activity) = (Arc::clone(&responder.current), Arc::clone(&responder.activity));
        let (client, scheme) = (responder.peer.address, responder.peer.scheme);
        let fast_path = FastPath::new(stream, Arc::clone(&activity), Arc::clone(&current), client);
        let ended = Hibernating::new(http, responder, fast_path).await;
        if let Ok(Ended::AsStreams(boxed)) = ended {
            let (responder, fast_path) = *boxed;
            return Box::pin(Connection(responder).serve_streams(fast_path)).await;
        }
        if let Some((status, bytes, head)) = activity.unfinished() {
            current.load().record_unfinished(client, scheme, (status, bytes), &head);
        }
        ended.map(|_| ())
    }

    /// HTTP/2, agreed upon while the connection was secured.
    async fn serve_beside_each_other(self, stream: TlsStream<TcpStream>) -> io::Result<()> {
        let (current, client) = (Arc::clone(&self.0.current), self.0.peer.address);
        let fast_path = FastPath::new(stream, Arc::clone(&self.0.activity), current, client);
        self.serve_streams(fast_path).await
    }

    /// HTTP/2.
    async fn serve_streams<S: Socket + Send + 'static>(self, fast_path: FastPath<S>) -> io::Result<()> {
        let responder = self.0;
        let most = u32::try_from(responder.current.load().config.limits.head_size).unwrap_or(u32::MAX);
        let activity = Arc::clone(&responder.activity);
        activity.share();
        let patience = responder.current.load().config.limits.body_time;
        let mut http = http2::Builder::new(Streams { activity: Arc::clone(&activity), patience });
        http.max_concurrent_streams(MOST_STREAMS).max_header_list_size(most);
        let mut connection = pin!(http.serve_connection(TokioIo::new(fast_path), responder));
        let ended = poll_fn(|context| {
            activity.waits(context.waker());
            if activity.is_ending() {
                connection.as_mut().graceful_shutdown();
            }
            connection.as_mut().poll(context)
        });
        ended.await.map_err(io::Error::other)
    }
}

enum Either {
    Bare(TcpStream),
    Secured(Box<TlsStream<TcpStream>>, Arc<Secured>),
}

/// Whether what comes in is a request without TLS: it begins with a letter, and a handshake does not (RFC 8446 §5.1).
async fn is_plain(stream: &TcpStream) -> io::Result<bool> {
    let mut first = [0];
    Ok(stream.peek(&mut first).await? == 1 && first[0].is_ascii_uppercase())
}

/// Says why a connection is closed that did not begin as its listener wants it: in the log of errors, and to the client
/// where it can read that.
async fn refuse(site: &Active, peer: IpAddr, stream: &mut TcpStream, said: Option<&str>, cause: &str) {
    site.record_refused(peer, StatusCode::BAD_REQUEST, cause);
    if said.is_none() {
        return;
    }
    let refusal = Refusal::because(StatusCode::BAD_REQUEST, said);
    let saying = async {
        stream.write_all(&refusal.octets).await?;
        stream.shutdown().await?;
        // Closed with octets unread, the client would not see it.
        tokio::io::copy(&mut stream.take(MOST_UNREAD), &mut tokio::io::sink()).await
    };
    let _ = tokio::time::timeout(TIME_TO_READ, saying).await;
}

/// Secures a connection.
async fn secure(tls: &Tls, stream: TcpStream) -> io::Result<Either> {
    let (stream, asked) = secured(&tls.certificates, &tls.server, stream).await?;
    let name = asked.as_deref().unwrap_or_default();
    let certificate = tls.certificates.known(name).and_then(|key| first_name(&key));
    let version = stream.get_ref().1.protocol_version().and_then(version);
    Ok(Either::Secured(Box::new(stream), Arc::new(Secured { version, name: asked, certificate })))
}

/// A version of TLS, as rules name it.
fn version(version: rustls::ProtocolVersion) -> Option<&'static str> {
    match version {
        rustls::ProtocolVersion::TLSv1_2 => Some("1.2"),
        rustls::ProtocolVersion::TLSv1_3 => Some("1.3"),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{ONE_SITE, TestService, until};
    use std::net::SocketAddr;
    use tokio::net::TcpSocket;

    /// A connection from an address of this machine.
    fn connect_from(service: &TestService, address: &str) -> std::net::TcpStream {
        let to = service.runtime.addresses()[0];
        let stream = service.executor.block_on(async {
            let socket = TcpSocket::new_v4().unwrap();
            socket.bind(SocketAddr::new(address.parse().unwrap(), 0)).unwrap();
            socket.connect(to).await.unwrap().into_std().unwrap()
        });
        stream.set_nonblocking(true).unwrap();
        stream
    }

    fn is_closed(stream: &std::net::TcpStream) -> bool {
        matches!(std::io::Read::read(&mut &*stream, &mut [0; 10]), Ok(0))
    }

    #[test]
    fn newcomers_go_to_the_worker_with_fewest_and_make_room_at_the_cost_of_whoever_holds_most() {
        let service = TestService::new(ONE_SITE);
        let workers = service.runtime.workers().unwrap();
        let crowd: Vec<_> = (0..5).map(|_| connect_from(&service, "127.0.0.1")).collect();
        let alone = connect_from(&service, "127.0.0.3");
        // They are counted when they are handed over, and take part once their worker has begun with them.
        let spare = |worker: &Worker| {
            let activities = worker.open.activities.lock();
            activities.iter().filter(|activity| activity.spare_since().is_some()).count()
        };
        until("all are there", || workers.all.iter().map(spare).sum::<usize>() == 6);
        let counts: Vec<u64> =
            workers.all.iter().map(|worker| worker.open.count.load(Ordering::Relaxed)).collect();
        let (least, most) = (counts.iter().min().unwrap(), counts.iter().max().unwrap());
        assert!(most - least <= 1, "{counts:?}");

        for left in [4_u32, 3, 2] {
            workers.make_room();
            until("one is closed", || {
                crowd.iter().filter(|stream| !is_closed(stream)).count() == left as usize
            });
            until("it is counted", || workers.open() == u64::from(left) + 1);
        }
        assert!(!is_closed(&alone), "it holds one place only");
    }
}
