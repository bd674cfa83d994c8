//! What answering a request needs of the connection that it came in by.

use exedra_answering::facts::Scheme;
use parking_lot::MappedMutexGuard;
use std::fmt::Debug;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

/// A connection, as those see it that answer its requests.
pub trait Connection: Debug + Send + Sync {
    /// A request is about to be answered. Gives how many that makes.
    fn answering(&self) -> u64;

    /// A request has been answered.
    fn answered(&self);

    /// The request that is answered has a body that still comes in.
    fn has_more(&self);

    /// Whether requests come beside each other (HTTP/2), so that octets say nothing of any one of them.
    fn is_shared(&self) -> bool;

    /// The octets of the request that is answered, where they are known to be its own and nothing else.
    fn own_head(&self) -> Option<MappedMutexGuard<'_, Vec<u8>>>;
}

/// Whom a connection comes from, and how.
#[derive(Debug, Clone)]
pub struct Peer {
    /// Address of whoever connected, or was announced.
    pub address: IpAddr,
    /// How.
    pub scheme: Scheme,
    /// Address and port of ours that it came to.
    pub server: Option<SocketAddr>,
    /// How it was secured.
    pub tls: Option<Arc<Secured>>,
}

/// How a connection was secured.
#[derive(Debug)]
pub struct Secured {
    /// Version of TLS.
    pub version: Option<&'static str>,
    /// The name that was asked for, in lower case.
    pub name: Option<String>,
    /// The first name of the certificate that was shown.
    pub certificate: Option<String>,
}
