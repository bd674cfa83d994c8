//! Which address a call comes from.

use std::net::IpAddr;

/// Whoever is at the other end of a connection; each request of it says so.
#[derive(Debug, Clone, Copy)]
pub struct Peer(pub IpAddr);
